"""Reading files that a person wrote or names: by one descriptor, of a sane size, and nothing but regular files."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable
from typing import BinaryIO

from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path

Check = Callable[[os.stat_result], None]


def read_input(path: str | Path, largest: int, check: Check = lambda _found: None) -> bytes:
    """Return what a file holds.

    What is looked at is what is read: nobody can put another file in its place in between. A pipe, a device or
    an endless file ends it at once.

    Args:
        path: the file; a symbolic link is followed.
        largest: how many bytes it may have.
        check: given the status of the open file; it raises to refuse it.

    Raises:
        OSError: it cannot be read, is no regular file (EINVAL), or is larger (EFBIG).
    """
    with open_input(path, check) as file:
        raw = file.read(largest + 1)
    if len(raw) > largest:
        raise OSError(errno.EFBIG, f"larger than {largest:,} bytes", str(path))
    return raw


def open_input(path: str | Path, check: Check = lambda _found: None) -> BinaryIO:
    """Open a regular file to read it; see `read_input`.

    Raises:
        OSError: it cannot be read, or is no regular file (EINVAL).
    """
    descriptor = disk.open(path, disk.O_RDONLY | disk.O_NONBLOCK | disk.O_CLOEXEC | disk.O_NOCTTY)
    try:
        found = disk.fstat(descriptor)
        if stat.S_ISDIR(found.st_mode):
            raise IsADirectoryError(errno.EISDIR, "it is a folder", str(path))
        if not stat.S_ISREG(found.st_mode):
            raise OSError(errno.EINVAL, "it is no regular file", str(path))
        check(found)
        return open(descriptor, "rb")
    except BaseException:
        disk.close(descriptor)
        raise
