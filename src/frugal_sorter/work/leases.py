"""Whether somebody is writing to a file: asked of the kernel, which knows for certain.

A read lease (fcntl(2), F_SETLEASE) is granted only while nobody has the file open for writing.
Where the system or the rights do not allow to ask, nobody is taken to be writing.

Whoever opens a file for writing while it is leased waits until the lease is given back, and its holder gets a
signal: by default SIGIO, which ends a process. So another one is asked for, which is ignored by default.
"""

from __future__ import annotations

import errno
import fcntl
import os
import signal
from collections.abc import Iterator
from contextlib import contextmanager

from frugal_sorter.files.fingerprint import READ, open_to_read
from frugal_sorter.files.open_files import OpenFiles
from frugal_sorter.files.record import Identity, Place
from frugal_sorter.files.status import is_unchanged

_CAN_LEASE = hasattr(fcntl, "F_SETLEASE")


def is_free(name: str, dir_fd: int, was: Identity, seen_ns: int) -> bool:
    """Tell whether a name in an open folder is a certain file, and nobody is writing to it.

    This is `leased` and `is_same_file`, for the many: False says only that a closer look is needed.

    Args:
        name: its name.
        dir_fd: a descriptor of its folder.
        was: what it must be.
        seen_ns: a moment after which it was seen, in ns since the epoch.
    """
    if not _CAN_LEASE:
        return False
    try:
        descriptor = os.open(name, READ, dir_fd=dir_fd)
    except OSError:
        return False
    try:
        _lease(descriptor)
        return is_unchanged(os.fstat(descriptor), was, seen_ns)
    except OSError:
        return False
    finally:
        os.close(descriptor)


@contextmanager
def leased(place: Place, dir_fd: int | None) -> Iterator[str]:
    """Let nobody begin to write to a file, and yield by whom it is open for writing, or an empty text.

    What is seen of the file meanwhile is true of it while nobody writes.

    Args:
        place: the file.
        dir_fd: a descriptor of its folder.
    """
    if not _CAN_LEASE:
        yield ""
        return
    try:
        descriptor = open_to_read(place, dir_fd)
    except OSError:
        yield ""
        return
    try:
        yield _writer_of(descriptor)
    finally:
        os.close(descriptor)  # gives the lease back


def _writer_of(descriptor: int) -> str:
    try:
        _lease(descriptor)
    except OSError as error:
        if error.errno not in (errno.EAGAIN, errno.EBUSY):
            return ""
        found = os.fstat(descriptor)
        who = OpenFiles().holder(found.st_dev, found.st_ino)
        return f"open for writing in {who}" if who else "open for writing in a program that this account cannot see"
    return ""


def _lease(descriptor: int) -> None:
    """Lease an open file; closing it gives the lease back.

    Raises:
        OSError: EAGAIN where somebody has it open for writing; another one where that cannot be asked.
    """
    fcntl.fcntl(descriptor, fcntl.F_SETSIG, signal.SIGURG)
    fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_RDLCK)
