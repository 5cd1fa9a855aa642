"""Extended attributes of Linux (xattr(7))."""

from __future__ import annotations

import sys

if sys.platform == "linux":
    from os import getxattr, listxattr, removexattr, setxattr

__all__ = ["ARE_KEPT", "getxattr", "listxattr", "removexattr", "setxattr"]

# Whether a person can give a file attributes of any name.
ARE_KEPT = True
