"""One writer at a time for each user; the others are told who it is."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from frugal_sorter.errors import RefusedError, StateError
from frugal_sorter.platforms import disk, processes
from frugal_sorter.platforms.slashed import Path

_AGAIN_SECONDS = 0.1


@contextmanager
def writer_lock(folder: Path, what: str, patience: float = 0) -> Iterator[None]:
    """Hold the only right to change files, for as long as the block runs.

    The lock is the kernel's, so a killed writer leaves none behind.

    Args:
        folder: the state folder.
        what: what this writer does, shown to others, such as "tidy".
        patience: for how many seconds it is waited for.

    Raises:
        RefusedError: another process holds it.
        StateError: the lock cannot be had for another reason.
    """
    path = folder / "writer.lock"
    try:
        descriptor = disk.open(path, disk.O_RDWR | disk.O_CREAT | disk.O_NOFOLLOW | disk.O_CLOEXEC, 0o600)
    except OSError as error:
        raise _unusable(path, error) from None
    try:
        try:
            until = time.monotonic() + patience
            while not (is_held := processes.try_lock(descriptor)) and time.monotonic() < until:
                time.sleep(_AGAIN_SECONDS)
            if not is_held:
                holder = disk.pread(descriptor, 200, 0).decode(errors="replace").strip() or "another process"
                raise RefusedError(f"another run is changing files: {holder}", "wait until it has ended")
        except OSError as error:
            raise _unusable(path, error) from None
        with suppress(OSError):  # on a full disk others are not told who it is
            os.ftruncate(descriptor, 0)
            disk.pwrite(descriptor, f"frugal {what} (process {os.getpid()})".encode(), 0)
        yield
    finally:
        disk.close(descriptor)


def _unusable(path: Path, error: OSError) -> StateError:
    return StateError(
        f"{path}: the lock cannot be used ({(error.strerror or 'unknown error').lower()})",
        "free disk space there, or move aside what stands in its place",
    )


def writer_is_active(folder: Path) -> bool:
    """Return True if some process holds the writer lock now."""
    try:
        descriptor = disk.open(folder / "writer.lock", disk.O_RDWR | disk.O_CLOEXEC)
    except OSError:
        return False
    try:
        return not processes.try_lock(descriptor)
    except OSError:
        return False
    finally:
        disk.close(descriptor)
