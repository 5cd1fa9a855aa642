"""Room kept in the state folder, so that a clean-up can be written down also on a full disk."""

from __future__ import annotations

import errno
import os
from contextlib import suppress

from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path

# Several files, since a disk can be out of files (inodes) as well as out of bytes.
PARTS = 8
PART_BYTES = 512 * 1024


class Reserve:
    """Some files that are only there to be removed when writing fails.

    Args:
        folder: the state folder.
    """

    def __init__(self, folder: Path) -> None:
        self._parts = [folder / f"reserve-{number}" for number in range(1, PARTS + 1)]

    def keep(self) -> None:
        """Make what is missing of it, as far as there is room; that there is none is no failure."""
        # Made again after each command: the next full disk may be a year away.
        for part in self._parts:
            if part.exists():
                continue
            try:
                descriptor = disk.open(part, disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC, 0o600)
            except OSError:
                return
            try:
                _fill(descriptor)
            except OSError:
                # A part that holds nothing still holds an inode, but it must not take the last room.
                with suppress(OSError):
                    os.ftruncate(descriptor, 0)
                return
            finally:
                disk.close(descriptor)

    def release(self) -> bool:
        """Give its room back to the disk; tell whether there was any."""
        found = False
        for part in self._parts:
            with suppress(FileNotFoundError):
                part.unlink()
                found = True
        return found


def _fill(descriptor: int) -> None:
    try:
        disk.reserve(descriptor, PART_BYTES)
    except OSError as error:
        if error.errno == errno.ENOSPC:
            raise
        os.write(descriptor, bytes(PART_BYTES))
