"""What lies below an open folder, entry by entry: by descriptor, without following a link, however deep."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from typing import Literal, NamedTuple

from frugal_sorter.platforms import disk
from frugal_sorter.platforms.volumes import mount_of

LIST = disk.O_RDONLY | disk.O_DIRECTORY | disk.O_NOFOLLOW | disk.O_CLOEXEC | disk.O_NONBLOCK
# A path of more names than this is a trap: it costs more than all the files in it.
MOST_LEVELS = 10_000


class Cursor:
    """One open folder of a tree at a time; it is entered and left again without a path.

    Only one descriptor is held, so that a tree may be deeper than a process may have files open. The way up is
    `..`, which is compared with the folder that was left: one that was moved meanwhile is noticed.

    Args:
        fd: a descriptor of the folder to begin in; it is not closed.
    """

    def __init__(self, fd: int) -> None:
        self.fd = disk.open(".", LIST, dir_fd=fd)
        self._above: list[tuple[int, int]] = []

    def __enter__(self) -> Cursor:
        return self

    def __exit__(self, *_: object) -> None:
        disk.close(self.fd)

    @property
    def depth(self) -> int:
        """How many folders deep it is below the one that it began in."""
        return len(self._above)

    def enter(self, name: str, other_volume: bool = True) -> None:
        """Go into a folder.

        Args:
            name: its name.
            other_volume: whether one that a volume is mounted at may be entered.

        Raises:
            OSError: it is missing, a link or a file by now; EXDEV where a volume is mounted at it.
        """
        if len(self._above) >= MOST_LEVELS:
            raise OSError(errno.ENAMETOOLONG, f"more than {MOST_LEVELS:,} folders deep")
        # Opened first and looked at then: what is asked by name can be another folder by the next call.
        below = disk.open(name, LIST, dir_fd=self.fd)
        own, found = disk.fstat(self.fd), disk.fstat(below)
        # A volume that is mounted at two places has one device and two mounts.
        if not other_volume and (found.st_dev != own.st_dev or mount_of(below) != mount_of(self.fd)):
            disk.close(below)
            raise OSError(errno.EXDEV, "another volume is mounted inside")
        self._above.append((own.st_dev, own.st_ino))
        disk.close(self.fd)
        self.fd = below

    def leave(self) -> int:
        """Go back to the folder above; return a descriptor of the one that was left, which the caller closes.

        Raises:
            OSError: ESTALE where the folder was moved meanwhile.
        """
        # `..` is never a link.
        above = disk.open("..", LIST & ~disk.O_NOFOLLOW, dir_fd=self.fd)
        found = disk.fstat(above)
        if (found.st_dev, found.st_ino) != self._above[-1]:
            disk.close(above)
            raise OSError(errno.ESTALE, "moved while it was worked on")
        self._above.pop()
        left, self.fd = self.fd, above
        return left


class Met(NamedTuple):
    """An entry that is met on the way through a tree.

    Args:
        how: `entry` for what is no folder, `enter` before what is in a folder, `leave` after it.
        fd: a descriptor of the folder that it lies in, good until the next one is met.
        name: its name there.
        status: as it was when its folder was read.
    """

    how: Literal["entry", "enter", "leave"]
    fd: int
    name: str
    status: os.stat_result


def below(fd: int) -> Iterator[Met]:
    """Yield all that lies below an open folder, by name; what is in a folder stands between its two ends.

    Whoever is told of an entry may remove it. Nothing is entered that another volume is mounted at.

    Raises:
        OSError: a folder cannot be read, or was moved meanwhile.
    """
    with Cursor(fd) as cursor:
        # For each folder on the way: what is left of it, and the folder itself as it was met.
        ways = [_read(cursor.fd)]
        names: list[tuple[str, os.stat_result]] = []
        while True:
            if ways[-1]:
                name, status = ways[-1].pop()
                if not stat.S_ISDIR(status.st_mode):
                    yield Met("entry", cursor.fd, name, status)
                    continue
                yield Met("enter", cursor.fd, name, status)
                # Whoever was told of it may have removed or renamed it; then this raises, and nothing is guessed.
                cursor.enter(name, other_volume=False)
                names.append((name, status))
                ways.append(_read(cursor.fd))
                continue
            ways.pop()
            if not names:
                return
            disk.close(cursor.leave())
            name, status = names.pop()
            yield Met("leave", cursor.fd, name, status)


def _read(fd: int) -> list[tuple[str, os.stat_result]]:
    """Return what is in an open folder, the last name first."""
    with disk.scandir(fd) as entries:
        # All at once: what is removed while a folder is being read can hide other names of it.
        found = [(entry.name, entry.stat(follow_symlinks=False)) for entry in entries]
    found.sort(key=lambda one: os.fsencode(one[0]), reverse=True)
    return found
