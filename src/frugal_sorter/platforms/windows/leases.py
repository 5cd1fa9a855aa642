"""A file that is open unshared for writing: nobody else can open it to write until it is closed."""

from __future__ import annotations

import sys

assert sys.platform == "win32"

from frugal_sorter.platforms.windows.disk import open_alone

__all__ = ["CAN_LEASE", "is_broken", "lease", "open_alone"]

CAN_LEASE = True


def lease(descriptor: int) -> None:
    """Lease an open file: it is, since it was opened."""


def is_broken(descriptor: int) -> bool:
    """Return True if somebody waits to write: who tries is refused instead."""
    return False
