"""Which files are open, and by which program, as far as this user can see."""

from __future__ import annotations

import os
from functools import cached_property
from typing import NamedTuple

from frugal_sorter.filesystem.record import Identity, is_inside
from frugal_sorter.platforms import disk, processes

_Inode = tuple[int, int]


class _Found(NamedTuple):
    """The programs by the entries that they have open: by inode, those that write alone, and by path."""

    holders: dict[_Inode, str]
    writers: dict[_Inode, str]
    paths: dict[str, str]


class OpenFiles:
    """Asks the system once, when first asked."""

    def __init__(self) -> None:
        self.unseen = 0

    def holder(self, was: Identity, path: str) -> str | None:
        """Return the program that has an entry open, such as `writer (process 12)`, or None."""
        if processes.ASKED_BY_PATH:
            return processes.holder_of(path, False)
        return self._found.holders.get((was.dev, was.ino))

    def writer(self, was: Identity, path: str) -> str | None:
        """Return the program that has an entry open for writing, or None."""
        if processes.ASKED_BY_PATH:
            return processes.holder_of(path, True)
        return self._found.writers.get((was.dev, was.ino))

    def holder_below(self, folder: str) -> str | None:
        """Return a program that has a file open somewhere below a folder, or None."""
        if processes.ASKED_BY_PATH:
            paths = (f"{at}/{name}" for at, _, names in disk.walk(folder) for name in names)
            return next((who for path in paths if (who := processes.holder_of(path, False))), None)
        return next((who for path, who in self._found.paths.items() if is_inside(path, folder)), None)

    @cached_property
    def _found(self) -> _Found:
        import psutil

        found = _Found({}, {}, {})
        own = os.getpid()
        for process in psutil.process_iter(["name"]):
            # What this program has open itself, such as the log, is in nobody's way.
            if process.pid == own:
                continue
            try:
                opened = process.open_files()
            except (psutil.Error, OSError):
                # Programs of other accounts do not say what they have open; how many is told.
                self.unseen += 1
                continue
            for one in opened:
                # By inode, since a program may have opened it by another of its names.
                try:
                    status = disk.stat(one.path)
                except OSError:
                    continue
                who = f"{process.info['name']} (process {process.pid})"
                found.holders[status.st_dev, status.st_ino] = who
                if getattr(one, "mode", "w") != "r":  # not every system tells
                    found.writers[status.st_dev, status.st_ino] = who
                # By path as well: whether a folder is in use is asked of all that is below it.
                found.paths[one.path] = who
        return found
