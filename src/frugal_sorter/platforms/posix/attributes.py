"""Extended attributes of Linux (xattr(7))."""

from __future__ import annotations

import sys

assert sys.platform == "linux"

from os import getxattr, listxattr, removexattr, setxattr

__all__ = ["ARE_KEPT", "by_descriptor", "getxattr", "listxattr", "origin_of", "removexattr", "setxattr"]

# Whether a person can give a file attributes of any name.
ARE_KEPT = True


def by_descriptor(descriptor: int) -> str | int:
    """Return how the attributes of an open entry are asked for, whatever became of its name.

    One that was opened for its path alone has none of its own.
    """
    return f"/proc/self/fd/{descriptor}"


def origin_of(path: str) -> str:
    """Return where a file came from: that is an attribute like others here."""
    return ""
