"""Whether an entry is named after a program: as a whole, never as a part of another word."""

from __future__ import annotations

import re
from typing import Literal

from frugal_sorter.rules.fields import fold

# Sure, or doubtful: named after it together with something else.
Likeness = Literal["sure", "doubtful", ""]
_SUFFIXES = tuple(
    f".{suffix}" for suffix in "desktop service timer socket conf cfg ini json toml yaml yml xml log db lock d".split()
)
_WORD = re.compile(r"[^\W_]+")


def words_of(name: str) -> list[str]:
    """Return the words of a name: what is between other signs, and at a change to capitals."""
    parted = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name)
    return [fold(word) for word in _WORD.findall(parted)]


def joined(name: str) -> str:
    """Return a name without any sign between its words."""
    return "".join(fold(word) for word in _WORD.findall(name))


def likeness(entry: str, program: str) -> tuple[Likeness, str]:
    """Return how surely an entry is named after a program, and why.

    Args:
        entry: its name.
        program: the name of the program.
    """
    bare = entry.lstrip(".")
    for suffix in _SUFFIXES:
        if bare.endswith(suffix) and len(bare) > len(suffix):
            bare = bare.removesuffix(suffix)
            break
    wanted = joined(program)
    if not wanted or not bare:
        return "", ""
    if joined(bare) == wanted:
        return "sure", "has its name"
    rest = joined(bare).removeprefix(wanted) if joined(bare).startswith(wanted) else ""
    if rest in ("rc", "history") or rest.isdigit():
        return "sure", "has its name, as files of settings do"
    parts = bare.split(".")
    if (
        len(parts) >= 3
        and all(part and re.fullmatch(r"[\w-]+", part) for part in parts)
        and joined(parts[-1]) == wanted
    ):
        return "sure", "has its name in reverse-domain form"
    words, own = words_of(bare), words_of(program)
    for at in range(len(words) - len(own) + 1):
        if words[at : at + len(own)] == own:
            return "doubtful", "has its name beside other words"
    if wanted in words:
        return "doubtful", "has its name beside other words"
    return "", ""
