"""The witness of a removal that nobody asked for: the same bytes, which stay.

Both are compared, and looked at again after the comparison, while nobody may begin to write to
either; so the last copy of a content never goes.
"""

from __future__ import annotations

import stat
from collections.abc import Iterator
from contextlib import contextmanager

from frugal_sorter.changes.leases import Lease
from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import open_to_read, same_bytes
from frugal_sorter.filesystem.tree import LIST, Cursor, below
from frugal_sorter.platforms import disk


@contextmanager
def witnessed(fd: int, name: str, kept_fd: int, kept: str) -> Iterator[None]:
    """Compare a file with the one that stays, byte by byte; nobody begins to write to either before the block ends.

    Args:
        fd: a descriptor of the folder of the one that is to go.
        name: its name there.
        kept_fd: a descriptor of the folder of the one that stays.
        kept: its name there.

    Raises:
        NotDone: they are not the same, are one file with a single name, or somebody writes to one of them.
        OSError: one of them is not there, or cannot be read.
    """
    with Lease(fd, name) as going, Lease(kept_fd, kept) as staying:

        def heed() -> None:
            going.heed()
            staying.heed()

        first = open_to_read(Place("", name), fd)
        try:
            second = open_to_read(Place("", kept), kept_fd)
            try:
                # A lease keeps writers out from now on; a change that a program had begun shows in these.
                before = _state(first), _state(second)
                one, other = disk.fstat(first), disk.fstat(second)
                if not stat.S_ISREG(one.st_mode) or not stat.S_ISREG(other.st_mode):
                    raise NotDone(Outcome.SKIPPED, "the other one is no file any more")
                # Two names of one file are compared with themselves: the same bytes, and gone with the last name.
                if (one.st_dev, one.st_ino) == (other.st_dev, other.st_ino) and one.st_nlink < 2:
                    raise NotDone(Outcome.SKIPPED, "both names are one file, which would be gone")
                if one.st_size != other.st_size or not same_bytes(first, second, heed):
                    raise NotDone(Outcome.SKIPPED, "it holds other bytes by now")
                if before != (_state(first), _state(second)):
                    raise NotDone(Outcome.NOT_RUN, "one of the two was written to while they were compared")
                yield
            finally:
                disk.close(second)
        finally:
            disk.close(first)


def _state(descriptor: int) -> tuple[int, int, int]:
    found = disk.fstat(descriptor)
    return found.st_size, found.st_mtime_ns, found.st_ctime_ns


def same_tree(fd: int, name: str, kept_fd: int, kept: str) -> dict[tuple[int, int], tuple[int, int, int]]:
    """Compare a folder with one that stays, file by file; more may lie in the other one.

    Args:
        fd: a descriptor of the folder that the first one lies in.
        name: its name there.
        kept_fd: a descriptor of the folder that the other one lies in.
        kept: its name there.

    Returns:
        the state of each file of the first folder as it was compared, by device and inode.

    Raises:
        NotDone: something in the first one is not in the other one, or holds other bytes.
        OSError: one of them cannot be read.
    """
    states: dict[tuple[int, int], tuple[int, int, int]] = {}
    first = disk.open(name, LIST, dir_fd=fd)
    try:
        second = disk.open(kept, LIST, dir_fd=kept_fd)
        try:
            with Cursor(second) as cursor:
                for met in below(first):
                    if met.how == "enter":
                        cursor.enter(met.name)
                    elif met.how == "leave":
                        disk.close(cursor.leave())
                    elif stat.S_ISLNK(met.status.st_mode):
                        if disk.readlink(met.name, dir_fd=met.fd) != disk.readlink(met.name, dir_fd=cursor.fd):
                            raise NotDone(Outcome.SKIPPED, f"{met.name} inside leads elsewhere by now")
                    else:
                        with witnessed(met.fd, met.name, cursor.fd, met.name):
                            found = disk.stat(met.name, dir_fd=met.fd, follow_symlinks=False)
                            states[found.st_dev, found.st_ino] = (found.st_size, found.st_mtime_ns, found.st_ctime_ns)
        except FileNotFoundError as error:
            raise NotDone(Outcome.SKIPPED, f"{error.filename} inside is not there any more") from None
        finally:
            disk.close(second)
    finally:
        disk.close(first)
    return states
