"""List files beside the rules: one path a line."""

from __future__ import annotations

from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.state.inputs import read_input

LARGEST_LIST = 50_000_000


def read_list(name: str, path: str) -> frozenset[str]:
    """Return the folded paths that a list holds.

    Args:
        name: the list as written, for mistakes.
        path: where it is.

    Raises:
        InvalidValue: it cannot be read.
    """
    try:
        text = read_input(path, LARGEST_LIST).decode("utf-8-sig")
    except OSError as error:
        raise InvalidValue(
            f'the list "{name}" cannot be read ({(error.strerror or "").lower()})',
            "lists stand beside the rule file",
        ) from None
    except UnicodeDecodeError:
        raise InvalidValue(f'the list "{name}" is not UTF-8', "save it as UTF-8") from None
    lines = (line.strip() for line in text.splitlines())
    named = (line.replace("\\", "/").removeprefix("./") for line in lines if line and not line.startswith("#"))
    return frozenset(map(fold, named))
