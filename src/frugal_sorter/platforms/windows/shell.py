"""For the command prompt and PowerShell, which both know double quotes."""

from __future__ import annotations

import shlex
from collections.abc import Iterable
from subprocess import list2cmdline

__all__ = ["join", "quote", "split"]


def join(words: Iterable[str]) -> str:
    """Return a line that gives a program these words."""
    return list2cmdline(list(words))


def quote(word: str) -> str:
    """Return a word as it stands in a line."""
    return list2cmdline([word])


def split(line: str) -> list[str]:
    """Return the words of a line."""
    return [word.strip('"') for word in shlex.split(line, posix=False)]
