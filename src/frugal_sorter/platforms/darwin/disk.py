"""Calls on files and folders for macOS: those of POSIX, except for flags and the cloud."""

from __future__ import annotations

import errno
import fcntl
import os
import sys
from collections.abc import Iterable
from typing import TypeVar

assert sys.platform == "darwin"

from frugal_sorter.platforms.posix import disk as posix
from frugal_sorter.platforms.posix.disk import *

# chflags(2): shown by no program; and what is only in a cloud, from which a read would fetch it.
_HIDDEN, _ELSEWHERE = 0x8000, 0x40000000
HAS_HIDING_ATTRIBUTE = True
CAN_LEASE = False
One = TypeVar("One", bound="os.DirEntry[str]")


def hidden_among(entries: Iterable[One]) -> tuple[list[One], list[str]]:  # type: ignore[no-redef]
    """Return the entries of a folder that no flag hides, and the names of those that one does."""
    shown, hidden = [], []
    for entry in entries:
        try:
            is_hidden = bool(getattr(entry.stat(follow_symlinks=False), "st_flags", 0) & _HIDDEN)
        except OSError:
            is_hidden = False  # whoever looks at it says why it cannot be
        # What begins with a dot is hidden by its name, as on each system.
        if is_hidden and not entry.name.startswith("."):
            hidden.append(entry.name)
        else:
            shown.append(entry)
    return shown, hidden


def open(path: str | os.PathLike[str], flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:  # type: ignore[no-redef]
    """Open a file as `os.open` does; with O_NOFOLLOW, no component of an absolute path may be a link.

    Raises:
        OSError: ELOOP where one is; ENOTSUP where reading it would fetch it from a cloud.
    """
    descriptor = posix.open(path, flags, mode, dir_fd=dir_fd)
    # It is open, and nothing was read: that alone fetches it.
    if getattr(os.fstat(descriptor), "st_flags", 0) & _ELSEWHERE:
        os.close(descriptor)
        raise OSError(errno.ENOTSUP, "kept in a cloud, from which it would be fetched", path)
    return descriptor


def rename_exclusively(source_fd: int, source: str, target_fd: int, target: str) -> None:  # type: ignore[no-redef]
    """Rename by renameatx_np(2) with RENAME_EXCL; see `rename_by`."""
    posix.rename_by("renameatx_np", 4, source_fd, source, target_fd, target)


def fsync(descriptor: int) -> None:  # type: ignore[no-redef]
    """Wait until a file is on the disk itself, not only in the memory of the drive (fcntl(2), F_FULLFSYNC)."""
    try:
        fcntl.fcntl(descriptor, getattr(fcntl, "F_FULLFSYNC", 51))
    except OSError:
        os.fsync(descriptor)  # a volume that does not know it, such as a share


def sync_folder(descriptor: int) -> None:  # type: ignore[no-redef]
    """Wait until the names in an open folder are on the disk."""
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=descriptor)
    try:
        fsync(own)
    finally:
        os.close(own)


def sync_volume(descriptor: int) -> None:  # type: ignore[no-redef]
    """Wait until everything written to an open folder's volume is on the disk: macOS can only do that for all volumes."""
    os.sync()
    sync_folder(descriptor)
