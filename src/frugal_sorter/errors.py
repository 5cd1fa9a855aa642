"""What a person can cause: each error knows its message, the next step, and its exit code."""

from __future__ import annotations

import re

_JOINER = "\u200d"  # joins the parts of one emoji; harmless, though not "printable"
_LINE_BREAKS = r"\s*[\n\r\v\f\x1c-\x1e\x85\u2028\u2029]+\s*"


def one_line(text: str) -> str:
    """Return a text with a space in place of each line break, so that whatever it quotes it is one line."""
    return re.sub(_LINE_BREAKS, " ", text)


def printable(text: str) -> str:
    """Return a text fit for a terminal or a log: control characters and stray bytes are escaped."""
    if text.isprintable():
        return text
    return "".join(letter if letter.isprintable() or letter == _JOINER else _escaped(letter) for letter in text)


def _escaped(letter: str) -> str:
    code = ord(letter)
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    return letter.encode("unicode_escape", "backslashreplace").decode("ascii")


class FrugalError(Exception):
    """An error that is shown as one line, never as a traceback.

    `message` says what and where; `hint` says what to do about it.
    """

    exit_code = 2

    def __init__(self, message: str, hint: str = "") -> None:
        self.message = one_line(message)
        self.hint = one_line(hint)
        super().__init__(self.message)

    @property
    def text(self) -> str:
        """What, where, and what to do about it, in one line."""
        return f"{self.message}; {self.hint}" if self.hint else self.message


class UsageError(FrugalError):
    """The command line asks for something that does not exist or does not fit."""


class StateError(FrugalError):
    """The tool's own folder or journal cannot be used."""


class RefusedError(FrugalError):
    """The tool will not do this: guarded place, not confirmed, or another writer."""

    exit_code = 3
