"""Extended attributes of Linux (xattr(7))."""

from __future__ import annotations

import sys

if sys.platform == "linux":
    from os import getxattr, listxattr, removexattr, setxattr

__all__ = ["ARE_KEPT", "getxattr", "listxattr", "origin_of", "removexattr", "setxattr"]

# Whether a person can give a file attributes of any name.
ARE_KEPT = True


def origin_of(path: str) -> str:
    """Return where a file came from: that is an attribute like others here."""
    return ""
