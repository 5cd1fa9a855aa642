"""Where a name stops fitting a pattern: what was read of it, what was expected then, and what was found."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Sequence
from typing import NamedTuple

_SECONDS = 0.2
_END = "the end of the name"


class Part(NamedTuple):
    """One part of a pattern.

    Args:
        looks: a regular expression, without groups.
        says: what it stands for, as a person says it.
        open: it takes any length of any text.
        letters: what it is, letter by letter, if it is that.
    """

    looks: str
    says: str
    open: bool = False
    letters: str = ""


def literal(letters: str) -> Part:
    """Return the part that is just these letters."""
    return Part(re.escape(letters), f"`{letters}`", letters=letters)


class Stopped(NamedTuple):
    """How far a name was read, what would have had to follow, and what does."""

    read: str
    expected: str
    found: str

    @property
    def text(self) -> str:
        """The same as a sentence."""
        read = f"read `{self.read}`, then expected" if self.read else "expected"
        return f"{read} {self.expected}, found {f'`{self.found}`' if self.found else 'nothing more'}"


def where_stopped(parts: Sequence[Part], text: str, exactly: bool) -> Stopped | None:
    """Return where a text stops fitting the parts of a pattern; None where it fits, or that takes too long.

    Args:
        parts: of the pattern, in order.
        text: what should fit.
        exactly: letters must agree in case.
    """
    import regex

    flags = regex.DOTALL | (0 if exactly else regex.IGNORECASE)
    fitting = 0
    ends = [0]
    try:
        while fitting < len(parts):
            expression = "".join(f"({part.looks})" for part in parts[: fitting + 1])
            found = regex.match(expression, text, flags, timeout=_SECONDS)
            if found is None:
                break
            fitting += 1
            ends = [0, *(found.end(group) for group in range(1, fitting + 1))]
        if fitting == len(parts) and regex.fullmatch(
            "".join(part.looks for part in parts), text, flags, timeout=_SECONDS
        ):
            return None
    except TimeoutError:
        return None
    at = ends[-1]
    expected = parts[fitting].says if fitting < len(parts) else _END
    if fitting and parts[fitting - 1].open:
        return Stopped(text[: ends[-2]], f"{expected} further on", text[ends[-2] :])
    if fitting < len(parts) and (letters := parts[fitting].letters):
        while letters and text[at : at + 1] and _same(letters[0], text[at], exactly):
            letters, at = letters[1:], at + 1
        expected = f"`{letters}`"
    return Stopped(text[:at], expected, text[at:])


def _same(one: str, other: str, exactly: bool) -> bool:
    return one == other or (not exactly and one.casefold() == other.casefold())


def parts_of_like(pattern: str) -> list[Part]:
    """Return the parts of a pattern with shell wildcards."""
    parts = []
    for stars, one, group, letters in re.findall(r"(\*+)|(\?)|(\[!?+\]?+[^\]]*\])|([^*?\[]+|\[)", pattern):
        if stars:
            parts.append(Part(".*?", "some text", True))
        elif one:
            parts.append(Part(".", "one letter"))
        elif group:
            looks = re.sub(r"^\(\?s:(.*)\)\\[zZ]$", r"\1", fnmatch.translate(group), flags=re.DOTALL)
            parts.append(Part(looks, f"one of {group}"))
        else:
            parts.append(literal(letters))
    return parts
