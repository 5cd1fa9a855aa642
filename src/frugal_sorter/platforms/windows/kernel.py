"""Renaming without replacing, by the one call that knows it; and what need not be asked for here."""

from __future__ import annotations

import sys
from typing import Any

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import disk


def rename_exclusively(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry of one open folder into another, never over anything.

    Raises:
        OSError: EEXIST where the name is taken.
    """
    disk.rename(disk._full(source, source_fd), disk._full(target, target_fd), 0)


def sync_volume(descriptor: int) -> None:
    """Wait for a volume: only an administrator may ask for that; its journal keeps names in order."""


def sync_folder(descriptor: int) -> None:
    """Wait for the names in a folder: that cannot be asked for."""


def statx() -> Any | None:
    """Return nothing: a status has its birth."""
    return None


def device(major: int, minor: int) -> int:
    """Return the number of a device, as a status has it."""
    return 0
