"""Mounts after getfsstat(2), by the library that knows it."""

from __future__ import annotations

import os
import sys
from contextlib import suppress

assert sys.platform == "darwin"

from frugal_sorter.platforms.posix.volumes import changes_of_mounts as changes_of_mounts
from frugal_sorter.platforms.posix.volumes import free_names as free_names
from frugal_sorter.platforms.posix.volumes import room as room
from frugal_sorter.platforms.volume_values import Keeping, Mount

# These keep when a file was opened only if it was changed since, unless a mount asks for more.
_LAZY = frozenset({"apfs", "hfs"})


def mounts() -> list[Mount]:
    """Return every mount, in the order of the table."""
    import psutil

    found = []
    for one in psutil.disk_partitions(all=True):
        with suppress(OSError):  # a share that is away
            found.append(Mount(os.stat(one.mountpoint).st_dev, one.mountpoint, one.fstype))
    return found


def mount_of(path: str | int) -> int:
    """Return the number of the mount that a folder, named or open, is on: that of its device.

    Raises:
        OSError: there is no such folder.
    """
    return os.stat(path).st_dev


def read_times(folder: str) -> Keeping:
    """Return how the volume of a folder keeps when files were opened.

    Raises:
        OSError: the folder cannot be reached.
    """
    import psutil

    dev = os.stat(folder).st_dev
    for one in psutil.disk_partitions(all=True):
        with suppress(OSError):
            if os.stat(one.mountpoint).st_dev == dev:
                options = one.opts.split(",")
                lazy = one.fstype in _LAZY and "strictatime" not in options
                return "never" if lazy or "noatime" in options else "always"
    return "never"
