"""Extended attributes where Python cannot reach them (macOS): none are found, and none can be given."""

from __future__ import annotations

import errno
import os

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
