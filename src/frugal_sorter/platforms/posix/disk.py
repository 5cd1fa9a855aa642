"""The functions of `os`, and what that does not have everywhere."""

from __future__ import annotations

import errno
import os
import sys
from collections.abc import Callable, Iterable
from operator import attrgetter
from typing import TypeVar

assert sys.platform != "win32"

from os import (
    O_APPEND,
    O_CLOEXEC,
    O_CREAT,
    O_DIRECTORY,
    O_EXCL,
    O_NOCTTY,
    O_NOFOLLOW,
    O_NONBLOCK,
    O_RDONLY,
    O_RDWR,
    O_TRUNC,
    O_WRONLY,
    access,
    close,
    fchmod,
    fchown,
    fstat,
    fsync,
    link,
    listdir,
    lstat,
    mkdir,
    open,
    pread,
    pwrite,
    readlink,
    readv,
    replace,
    rmdir,
    scandir,
    stat,
    symlink,
    unlink,
    utime,
    walk,
)  # fmt: skip
from os.path import exists, isdir, isfile, islink, ismount, lexists

O_PATH: int = getattr(os, "O_PATH", os.O_RDONLY)
O_NOATIME: int = getattr(os, "O_NOATIME", 0)
BLOCK_BYTES = 512
# Whether an attribute can hide an entry, whatever its name.
HAS_HIDING_ATTRIBUTE = False
Entry = os.DirEntry[str]
Named = TypeVar("Named")


def hidden_among(entries: Iterable[Named]) -> tuple[list[Named], list[str]]:
    """Return the entries of a folder that no attribute hides, and the names of those that one does: none here."""
    return list(entries), []


# How many blocks of 512 bytes an entry takes on its disk.
blocks_of: Callable[[os.stat_result], int] = attrgetter("st_blocks")


def used_bytes(found: os.stat_result) -> int:
    """Return how many bytes an entry takes on its disk."""
    return found.st_blocks * BLOCK_BYTES


def copy_range(source: int, target: int, count: int, at: int) -> int:
    """Have the system copy bytes from one open file to the same place of another; return how many.

    Raises:
        OSError: EXDEV, EINVAL, ENOSYS or EOPNOTSUPP where it cannot.
    """
    if sys.platform == "linux":
        return os.copy_file_range(source, target, count, at, at)
    return 0


def forget_cached(descriptor: int) -> None:
    """Have what was written to a file read from the disk again, as far as the system heeds that."""
    if sys.platform == "linux":
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)


def reserve(descriptor: int, size: int) -> None:
    """Give an open empty file so many bytes of the disk.

    Raises:
        OSError: ENOSPC.
    """
    if sys.platform == "linux":
        os.posix_fallocate(descriptor, 0, size)
    else:
        os.pwrite(descriptor, bytes(size), 0)


def next_data(descriptor: int, at: int, size: int) -> tuple[int, int] | None:
    """Return where the next bytes of a file that are no hole begin and end; None where nothing but a hole is left.

    Args:
        descriptor: of the file.
        at: where to begin.
        size: of the file, in bytes.
    """
    try:
        begin = os.lseek(descriptor, at, os.SEEK_DATA)
        return begin, min(os.lseek(descriptor, begin, os.SEEK_HOLE), size)
    except OSError as error:
        return None if error.errno == errno.ENXIO else (at, size)
