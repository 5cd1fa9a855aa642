"""What is wrong with a rule file, and where."""

from __future__ import annotations

import re
from collections.abc import Iterable

from frugal_sorter.errors import FrugalError, UsageError, one_line
from frugal_sorter.values import frozen

_TRUTHS = {"yes": "true", "on": "true", "y": "true", "no": "false", "off": "false", "n": "false"}


class InvalidValue(UsageError):
    """A value that does not fit; whoever knows the place turns it into a `Mistake`.

    `others` are more things that are wrong with the same value.
    """

    def __init__(self, message: str, hint: str) -> None:
        super().__init__(message, hint)
        self.message, self.hint = message, hint
        self.others: list[InvalidValue] = []


@frozen(order=True)
class Mistake:
    """One thing that is wrong in a rule file, with what would be right."""

    file: str
    line: int
    rule: str
    message: str
    hint: str

    def __str__(self) -> str:
        rule = f'rule "{self.rule}": ' if self.rule else ""
        hint = f"; {self.hint}" if self.hint else ""
        return one_line(f"{self.file}:{self.line}: {rule}{self.message}{hint}")


class Mistakes(FrugalError):
    """All that is wrong in a rule file, in the order of its lines. Nothing runs from it."""

    def __init__(self, mistakes: Iterable[Mistake]) -> None:
        self.all = sorted(mistakes)
        super().__init__("")
        self.message = "\n".join(str(mistake) for mistake in self.all)

    def __str__(self) -> str:
        return self.message


def nearest(word: str, known: Iterable[str]) -> str:
    """Return `did you mean ...?` with the closest known word, or an empty text."""
    import difflib

    close = difflib.get_close_matches(word.lower(), list(known), n=1, cutoff=0.6)
    return f"did you mean `{close[0]}`?" if close else ""


def syntax_mistake(file: str, text: str, message: str) -> Mistake:
    """Return what tomllib says of a file as a mistake with its line, and what probably caused it."""
    place = re.search(r"\(at line (\d+), column (\d+)\)|\(at end of document\)", message)
    what = re.sub(r"\s*\(at .*\)$", "", message)
    line = int(place[1]) if place and place[1] else text.count("\n") + 1
    hint = "mind the quotes and brackets before this place"
    if "Unescaped '\\'" in message or "hex value" in message.lower():
        hint = "write '...' instead of \"...\" around a text with backslashes, or / instead of \\"
    written = text.split("\n")[line - 1] if line <= text.count("\n") + 1 else ""
    value = written.partition("=")[2].strip()
    if written.count('"') > 2 and re.search(r'=\s*"[^"]*"[^"\s,\]}#]', written):
        hint = "a text in which double quotes stand goes into single ones: '...'"
    elif "overwrite" in message or "twice" in message:
        hint = "each key may stand once"
    elif "Invalid value" in message and value.lower() in _TRUTHS:
        hint = f"say {_TRUTHS[value.lower()]}"
    elif "Invalid value" in message:
        hint = "a text needs quotes"
    return Mistake(file, line, "", f"this is not TOML: {what[:1].lower()}{what[1:]}", hint)
