"""Extended attributes of Linux (xattr(7)); Python cannot reach those of macOS: none are found there, and none can be given."""

from __future__ import annotations

import errno
import os
import sys

__all__ = ["ARE_KEPT", "getxattr", "listxattr", "origin_of", "removexattr", "setxattr"]

if sys.platform == "linux":
    from os import getxattr, listxattr, removexattr, setxattr

    # Whether a person can give a file attributes of any name.
    ARE_KEPT = True

    def origin_of(path: str) -> str:
        """Return where a file came from: that is an attribute like others here."""
        return ""

else:
    ARE_KEPT = False

    def listxattr(path: str | int, *, follow_symlinks: bool = True) -> list[str]:
        """Return no names."""
        return []

    def getxattr(path: str | int, name: str, *, follow_symlinks: bool = True) -> bytes:
        """Refuse.

        Raises:
            OSError: always.
        """
        raise OSError(errno.ENOTSUP, os.strerror(errno.ENOTSUP))

    def setxattr(path: str | int, name: str, value: bytes) -> None:
        """Refuse.

        Raises:
            OSError: always.
        """
        raise OSError(errno.ENOTSUP, os.strerror(errno.ENOTSUP))

    def removexattr(path: str | int, name: str) -> None:
        """Refuse.

        Raises:
            OSError: always.
        """
        raise OSError(errno.ENOTSUP, os.strerror(errno.ENOTSUP))

    def origin_of(path: str) -> str:
        """Refuse.

        Raises:
            OSError: always.
        """
        raise OSError(errno.ENOTSUP, os.strerror(errno.ENOTSUP))
