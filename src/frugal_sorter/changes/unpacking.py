"""Writing what comes out of an archive into a new folder: by descriptor, and never with wider rights."""

from __future__ import annotations

import os
from collections import OrderedDict
from collections.abc import Callable, Iterable
from contextlib import suppress

from frugal_sorter.changes.copier import Narrowing, opened
from frugal_sorter.changes.descriptors import NEW_FILE
from frugal_sorter.filesystem.archive import Member
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.platforms import accounts, disk

_MOST_OPEN = 64


class Writer:
    """Writes members of an archive below an open folder that this run has made.

    Nobody but this account may go into a folder before all is written; then each gets its own mode, as far as the
    archive itself could be read.

    Args:
        fd: a descriptor of the folder; it is not closed.
        archive: the status of the archive.
        heed: called before each block; it raises to give up.
    """

    def __init__(self, fd: int, archive: os.stat_result, heed: Callable[[], None] = lambda: None) -> None:
        self._fd = fd
        self._heed = heed
        self._rights = Narrowing()
        self._rights.status(archive)
        self._mask = 0o777 & ~accounts.umask()
        self._modes: dict[str, tuple[int, float | None]] = {}
        self._open: OrderedDict[str, int] = OrderedDict()

    def __enter__(self) -> Writer:
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        try:
            if kind is None and self._modes:
                self._finish_folders()
        finally:
            while self._open:
                disk.close(self._open.popitem()[1])

    def folder(self, path: str) -> int:
        """Return a descriptor of a folder below, good until others have been asked for.

        Raises:
            OSError: it is not there, or is a link by now.
        """
        return self._folder(path, make=False)

    def _folder(self, path: str, make: bool) -> int:
        if not path:
            return self._fd
        if path in self._open:
            self._open.move_to_end(path)
            return self._open[path]
        known, missing = path, []
        while known and known not in self._open:
            known, _, last = known.rpartition("/")
            missing.append(last)
        fd = os.dup(self._open[known] if known else self._fd)
        for name in reversed(missing):
            known = f"{known}/{name}" if known else name
            try:
                if make and known not in self._modes:
                    with suppress(FileExistsError):
                        disk.mkdir(name, 0o700, dir_fd=fd)
                    self._modes[known] = 0o777, None
                below = disk.open(name, LIST, dir_fd=fd)
            finally:
                disk.close(fd)
            fd = below
        self._open[path] = fd
        while len(self._open) > _MOST_OPEN:
            disk.close(self._open.popitem(last=False)[1])
        return fd

    def write(self, path: str, member: Member, blocks: Iterable[bytes]) -> None:
        """Write one member.

        Args:
            path: where, below the folder; known to be harmless.
            member: what it is.
            blocks: its contents.

        Raises:
            OSError: it cannot be written.
        """
        if member.kind == "folder":
            self._folder(path, make=True)
            self._modes[path] = 0o777 if member.mode is None else member.mode | 0o700, member.mtime
            return
        above, name = os.path.split(path)
        fd = self._folder(above, make=True)
        if member.kind == "link":
            disk.symlink(member.link, name, dir_fd=fd)
            return
        descriptor = disk.open(name, NEW_FILE, 0o600, dir_fd=fd)
        with open(descriptor, "wb") as file:
            for block in blocks:
                self._heed()
                file.write(block)
            file.flush()
            mode = 0o666 if member.mode is None else member.mode | 0o600
            self._rights.give(descriptor, mode & self._mask)
            with suppress(OSError, OverflowError, ValueError):
                disk.utime(descriptor, (member.mtime, member.mtime))

    def _finish_folders(self) -> None:
        """Give the folders their modes and times, the innermost first."""
        way: list[str] = []
        for met in below(self._fd):
            if met.how == "enter":
                way.append(met.name)
            elif met.how == "leave":
                mode, mtime = self._modes.get("/".join(way), (0o777, None))
                way.pop()
                with opened(met.name, LIST, met.fd) as folder:
                    self._give(folder, mode, mtime)
        self._give(self._fd, 0o777, None)

    def _give(self, fd: int, mode: int, mtime: float | None) -> None:
        self._rights.give(fd, (mode & self._mask) | 0o700)
        if mtime is not None:
            with suppress(OSError, OverflowError, ValueError):
                disk.utime(fd, (mtime, mtime))
