"""Drives, and what on them belongs to Windows itself."""

from __future__ import annotations

import ctypes
import ntpath
import os
import shutil
import string
import sys
from collections.abc import Iterator, Sequence

assert sys.platform == "win32"

from frugal_sorter.platforms.volume_values import Keeping, Mount, Room
from frugal_sorter.platforms.windows import api, disk
from frugal_sorter.platforms.windows.slashed import native, realpath

_OVER_A_NETWORK = 4
_LONGEST = 240


def mounts() -> list[Mount]:
    """Return every drive with something in it."""
    found, drives = [], api.logical_drives()
    for at, letter in enumerate(string.ascii_uppercase):
        if not drives >> at & 1:
            continue
        top, kind = f"{letter}:/", ctypes.create_unicode_buffer(64)
        try:
            api.check(api.volume_information(f"{letter}:\\", None, 0, None, None, None, kind, len(kind)))
            dev = disk.stat(top).st_dev
        except OSError:
            continue  # a drive without a disk
        is_far = api.drive_type(f"{letter}:\\") == _OVER_A_NETWORK
        found.append(Mount(dev, top, "smb" if is_far else kind.value.lower()))
    return found


def mount_of(path: str | int) -> int:
    """Return the number of the drive of a folder.

    Raises:
        OSError: there is no such folder.
    """
    return disk.stat(path).st_dev


def room(path: str | int) -> Room:
    """Return the room on the volume of a folder, given by its path or a descriptor.

    Raises:
        OSError: it cannot be asked.
    """
    folder = disk.path_of(path) if isinstance(path, int) else path
    # This one function takes no long paths; a folder above is on the same drive.
    while len(folder) > _LONGEST:
        folder = ntpath.dirname(folder)
    found = shutil.disk_usage(native(folder))
    return Room(found.free, found.total)


def free_names(path: str) -> int | None:
    """Return how many more files can be made: any number."""
    return None


def read_times(folder: str) -> Keeping:
    """Return how a volume keeps when files were opened: mostly it does not, and it cannot be asked."""
    return "never"


def changes_of_mounts(stop: int) -> Iterator[None]:
    """Yield whenever a drive came or went: that is not told here."""
    return iter(())


_VARIABLES = ("SystemRoot", "ProgramFiles", "ProgramFiles(x86)", "ProgramW6432", "ProgramData")
_AT_TOPS = ("$Recycle.Bin", "System Volume Information", "Recovery", "$WinREAgent")


def trees() -> Sequence[str]:
    """Return the folders that are the system's, with everything below them."""
    named = [realpath(os.environ[name]) for name in _VARIABLES if os.environ.get(name)]
    return (*dict.fromkeys(named), *(f"{mount.top}{name}" for mount in mounts() for name in _AT_TOPS))


def open_trees() -> Sequence[str]:
    """Return places inside those trees where people do keep files."""
    return ()


def folders() -> Sequence[str]:
    """Return the folders that are the system's themselves, but not what is below them."""
    drive = f"{os.environ.get('SYSTEMDRIVE', 'C:')}/"
    return drive, f"{drive}Users"
