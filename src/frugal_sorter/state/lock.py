"""One writer at a time for each user; the others are told who it is."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from frugal_sorter.errors import RefusedError


def _try(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


@contextmanager
def writer_lock(folder: Path, what: str) -> Iterator[None]:
    """Hold the only right to change files, for as long as the block runs.

    The lock is the kernel's, so a killed writer leaves none behind.

    Args:
        folder: the state folder.
        what: what this writer does, shown to others, such as "tidy".

    Raises:
        RefusedError: another process holds it.
    """
    path = folder / "writer.lock"
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        if not _try(descriptor):
            holder = os.pread(descriptor, 200, 0).decode(errors="replace").strip() or "another process"
            raise RefusedError(f"another run is changing files: {holder}", "wait until it has ended")
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, f"frugal {what} (process {os.getpid()})".encode(), 0)
        yield
    finally:
        os.close(descriptor)


def writer_is_active(folder: Path) -> bool:
    """Tell whether some process holds the writer lock now."""
    try:
        descriptor = os.open(folder / "writer.lock", os.O_RDWR | os.O_CLOEXEC)
    except FileNotFoundError:
        return False
    try:
        return not _try(descriptor)
    finally:
        os.close(descriptor)
