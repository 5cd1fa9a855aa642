"""Reading the values of keys, and lists of names."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, cast

from frugal_sorter.rules.conditions.tree import Node
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.file.keys import CLASHES, DEFAULT_KEEP, DOS, KEEPS, TAKES, Do, Keep
from frugal_sorter.rules.file.mistakes import InvalidValue, nearest
from frugal_sorter.rules.file.places import expand
from frugal_sorter.rules.model import DuplicatePolicy
from frugal_sorter.rules.templates.written import CaptureKind, Slot, Template, Wording, parse_template, parse_wording
from frugal_sorter.rules.units import Duration, Hours, parse_duration, parse_hours
from frugal_sorter.state.inputs import read_input


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


class Readers:
    """Reads the values of one rule; each raises `InvalidValue` where one does not fit.

    Args:
        places: the folders with a name.
        beside: the folder of the rule file.
        condition: reads a condition.
        captures: the names that the condition captures, by what they hold.
    """

    def __init__(self, places: Mapping[str, str], beside: str, condition: Callable[[Any], Node]) -> None:
        self._places, self._beside = places, beside
        self.condition = condition
        self.captures: Mapping[str, CaptureKind] = {}

    name = staticmethod(rule_name)
    truth = staticmethod(truth)
    levels = staticmethod(levels)
    count = staticmethod(count)
    duplicates = staticmethod(of_same)

    def folders(self, value: Any) -> tuple[str, ...]:
        """Return folders, with places and `~` filled in."""
        return tuple(expand(one, self._places, self._beside) for one in texts(value))

    def take(self, value: Any) -> str:
        """Return what is taken as one entry."""
        return one_of(value, TAKES)

    def clash(self, value: Any) -> str:
        """Return what happens where a name is taken."""
        return one_of(value, CLASHES)

    def duration(self, value: Any) -> Duration:
        """Return a length of time."""
        return parse_duration(one_text(value))

    def hours(self, value: Any) -> tuple[Hours, ...]:
        """Return times of the week."""
        return tuple(parse_hours(one) for one in texts(value))

    def target(self, value: Any) -> Template:
        """Return the template of a folder."""
        text = one_text(value)
        head, _, rest = text.partition("/")
        if head.startswith(("~", "$")):
            root = expand(head, self._places, self._beside)
            return parse_template(rest, self._places, root=root, captures=self.captures)
        return parse_template(text, self._places, captures=self.captures)

    def new_name(self, value: Any) -> Template:
        """Return the template of a name."""
        return parse_template(one_text(value), self._places, rename=True, captures=self.captures)

    def zip_path(self, value: Any) -> Template:
        """Return the template of the path of a zip."""
        template = self.target(value)
        if not template.text.lower().endswith(".zip"):
            raise InvalidValue(f'"{template.text}" is no path of a zip', 'such as "Packed/{modified:%Y-%m}.zip"')
        return template

    def wording(self, value: Any) -> Wording:
        """Return a text with placeholders."""
        return parse_wording(one_text(value), self._places, self.captures)

    def wordings(self, value: Any) -> tuple[Wording, ...]:
        """Return one or several texts with placeholders."""
        return tuple(parse_wording(one, self._places, self.captures) for one in texts(value))

    def command(self, value: Any) -> tuple[Wording, ...]:
        """Return a program and its arguments."""
        words = self.wordings(value) if isinstance(value, list) else ()
        if not words or not words[0].text.strip():
            raise InvalidValue(
                "`run` is a list: the program, then its arguments", 'such as ["lp", "-d", "office", "{path}"]'
            )
        if any(isinstance(part, Slot) for part in words[0].parts):
            raise InvalidValue("which program is run may not depend on a file", "write its name out")
        return words
