"""Paths as they are."""

from __future__ import annotations

from os.path import abspath, expanduser, isabs, join, normpath, realpath, relpath

__all__ = [
    "abspath", "expanduser", "is_absolute", "is_top", "join", "native", "normpath", "realpath", "relpath", "slashed", "unfit",
]  # fmt: skip

is_absolute = isabs


def is_top(path: str) -> bool:
    """Tell whether a path is one that nothing is above."""
    return path == "/"


def native(path: str) -> str:
    """Return a path as the system takes it."""
    return path


def slashed(path: str) -> str:
    """Return a path that a person wrote, or the system gave, as the program has it."""
    return path


def unfit(name: str) -> str:
    """Return why the system can hold no entry of that name, or an empty text."""
    return ""
