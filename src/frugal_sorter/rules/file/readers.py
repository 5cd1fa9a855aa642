"""How the values of a rule are read: `keys.KEYS` names the method for each key."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from frugal_sorter.rules.conditions.tree import Node
from frugal_sorter.rules.file.keys import CLASHES, TAKES
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.rules.file.places import expand
from frugal_sorter.rules.file.values import count, levels, of_same, one_of, one_text, rule_name, texts, truth
from frugal_sorter.rules.templates.written import (
    CaptureKind,
    Slot,
    Template,
    Wording,
    parse_template,
    parse_wording,
)
from frugal_sorter.rules.units import Duration, Hours, parse_duration, parse_hours


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
