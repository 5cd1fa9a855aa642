"""Single values of a rule file, each checked; what is wrong with one says what would be right."""

from __future__ import annotations

from typing import Any, cast

from frugal_sorter.rules.file.keys import DEFAULT_KEEP, DOS, KEEPS, Do, Keep
from frugal_sorter.rules.file.mistakes import InvalidValue, nearest
from frugal_sorter.rules.model import DuplicatePolicy


def one_text(value: Any) -> str:
    """Return a text."""
    if not isinstance(value, str):
        raise InvalidValue(f"the value must be a text, not {value!r}", "put it in quotes")
    return value


def rule_name(value: Any) -> str:
    """Return the name of a rule."""
    text = one_text(value)
    if not text.strip():
        raise InvalidValue("the name is empty", "it is shown in every preview, so say what the rule is for")
    return text


def texts(value: Any) -> list[str]:
    """Return a text or a list of texts as a list."""
    values = value if isinstance(value, list) else [value]
    if not values:
        raise InvalidValue("the list is empty", "name a folder")
    return [one_text(one) for one in values]


def truth(value: Any) -> bool:
    """Return true or false."""
    if not isinstance(value, bool):
        raise InvalidValue(f"the value must be true or false, not {value!r}", "write it without quotes")
    return value


def levels(value: Any) -> int | None:
    """Return a number of levels, None for all."""
    if value == "all":
        return None
    if isinstance(value, bool) or not isinstance(value, int) or value < 1:
        raise InvalidValue(f"{value!r} is no number of levels", 'say 1 for the folder itself, a number, or "all"')
    return value


def one_of(value: Any, known: tuple[str, ...]) -> str:
    """Return one of some words."""
    text = one_text(value)
    if text not in known:
        raise InvalidValue(f'"{text}" cannot stand here', nearest(text, known) or f"known are {', '.join(known)}")
    return text


def count(value: Any) -> int:
    """Return a number of entries."""
    if isinstance(value, bool) or not isinstance(value, int) or value < 0:
        raise InvalidValue(f"{value!r} is no number of entries", "write it without quotes, such as 500")
    return value


def of_same(value: Any) -> DuplicatePolicy:
    """Return what becomes of files that hold the same."""
    example = 'such as duplicates = {keep = "oldest", do = "trash"}'
    if not isinstance(value, dict) or "do" not in value:
        raise InvalidValue("say what becomes of files that hold the same", example)
    for key in value:
        if key not in ("keep", "do"):
            raise InvalidValue(f"there is no key `{key}` in it", nearest(key, ("keep", "do")) or example)
    keep = tuple(one_of(one, KEEPS) for one in texts(value["keep"])) if "keep" in value else DEFAULT_KEEP
    return DuplicatePolicy(cast("tuple[Keep, ...]", keep), cast(Do, one_of(value["do"], DOS)))
