"""Paths as they are."""

from __future__ import annotations

from os.path import abspath, expanduser, isabs, join, normpath, realpath, relpath
from pathlib import Path

__all__ = [
    "Path",
    "abspath", "expanduser", "is_absolute", "is_top", "join", "native", "normpath", "realpath", "relpath", "slashed",
    "top_and_names",
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


def top_and_names(path: str) -> tuple[str, list[str]]:
    """Return the top of an absolute path, and the names on the way down."""
    return "/", [name for name in path.split("/") if name]
