"""Paths as they are."""

from __future__ import annotations

from collections.abc import Sequence
from os.path import abspath, commonpath, expanduser, isabs, join, normpath, realpath, relpath
from pathlib import Path

__all__ = [
    "Path",
    "abspath", "common_of", "expanduser", "is_absolute", "is_top", "join", "normpath", "realpath", "relpath", "slashed",
    "split_top", "top_and_names",
]  # fmt: skip

is_absolute = isabs


def is_top(path: str) -> bool:
    """Tell whether a path is one that nothing is above."""
    return path == "/"


def slashed(path: str) -> str:
    """Return a path that a person wrote, or the system gave, as the program has it."""
    return path


def split_top(path: str) -> tuple[str, str]:
    """Return the top of a path, empty where it has none, and the rest."""
    return ("/", path[1:]) if path.startswith("/") else ("", path)


def common_of(folders: Sequence[str]) -> str:
    """Return the folder that all of some folders lie in, `/` where there is none."""
    return commonpath(folders) if folders else "/"


def top_and_names(path: str) -> tuple[str, list[str]]:
    """Return the top of an absolute path, and the names on the way down."""
    return "/", [name for name in path.split("/") if name]
