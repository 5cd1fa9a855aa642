"""Writers of tables, and documents made by other libraries."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable, Iterable

from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.platforms import disk
from frugal_sorter.reports.inventory import Entry, owner_name
from frugal_sorter.values import field, mutable

_HOUR_NS = 3_600_000_000_000
# What changes from one file of a series to the next: numbers, also long ones in hexadecimal.
_SERIAL = re.compile(r"(?i)\b(?=[0-9a-f]*[0-9])[0-9a-f]{8,}\b|\d+")
_MARK = "#"


@mutable
class Maker:
    """Files of one owner whose names follow one pattern.

    Args:
        pattern: the name with `#` for what changes.
        owner: the account they belong to.
        files: how many.
        bytes: and their bytes.
        first_ns: when the first was last written, in ns since the epoch.
        last_ns: and the last.
    """

    pattern: str
    owner: str
    files: int = 0
    bytes: int = 0
    first_ns: int = 0
    last_ns: int = 0

    @property
    def an_hour(self) -> float | None:
        """How many came an hour, on average; None where they were not watched for an hour."""
        span = self.last_ns - self.first_ns
        return None if self.files < 2 or span < _HOUR_NS else (self.files - 1) / (span / _HOUR_NS)


def pattern_of(name: str) -> str:
    """Return a name with `#` for every number in it."""
    return _SERIAL.sub(_MARK, name)


def makers(entries: Iterable[Entry], most: int) -> list[Maker]:
    """Return the commonest name patterns by owner, the most files first; single files make no pattern.

    Args:
        entries: files and folders; folders do not count.
        most: how many to return.
    """
    found: dict[tuple[str, int], Maker] = {}
    for one in entries:
        if one.kind != "file":
            continue
        key = (pattern_of(one.path.rpartition("/")[2]), one.uid)
        maker = found.get(key)
        if maker is None:
            maker = found[key] = Maker(key[0], owner_name(one.uid), 0, 0, one.mtime_ns, one.mtime_ns)
        maker.files += 1
        maker.bytes += one.bytes
        maker.first_ns = min(maker.first_ns, one.mtime_ns)
        maker.last_ns = max(maker.last_ns, one.mtime_ns)
    several = [maker for maker in found.values() if maker.files > 1]
    return sorted(several, key=lambda maker: (-maker.files, -maker.bytes, maker.pattern))[:most]


_DELETED = " (deleted)"
# How long to wait between two looks.
EVERY_SECONDS = 0.5


@mutable
class Holder:
    """A program with files open.

    Args:
        name: of the program.
        process: its number.
        user: whose it is.
        files: the paths that it has open, with their bytes.
        writing: how many of them it has open for writing.
        deleted: files that are deleted already, with the bytes on the disk that they take until they are closed.
        first: the number of the first look that saw it with a file open there, from 0.
        last: and of the last one.
    """

    name: str
    process: int
    user: str
    files: dict[str, int] = field(default_factory=dict)
    writing: set[str] = field(default_factory=set)
    deleted: dict[str, int] = field(default_factory=dict)
    first: int = 0
    last: int = 0

    @property
    def bytes(self) -> int:
        """All bytes of the files."""
        return sum(self.files.values())


@mutable
class Holders:
    """Programs by process number, how many could not be looked into, and how often was looked."""

    programs: dict[int, Holder] = field(default_factory=dict)
    unseen: int = 0
    looks: int = 1

    def came_after(self, holder: Holder) -> float | None:
        """Return after how many seconds a program came, or None if it was there at once."""
        return holder.first * EVERY_SECONDS if holder.first else None

    def went_after(self, holder: Holder) -> float | None:
        """Return after how many seconds a program had no file open there any more, or None if it stayed."""
        return (holder.last + 1) * EVERY_SECONDS if holder.last < self.looks - 1 else None


def holders_below(folders: list[str], seconds: float, wait: Callable[[float], None]) -> Holders:
    """Return the programs that have files open below some folders.

    Args:
        folders: absolute, resolved paths.
        seconds: for how long to look, again and again; 0 for one look.
        wait: waits for some seconds; handed in, so that tests need not.
    """
    found = Holders()
    found.looks = 1 + int(seconds / EVERY_SECONDS)
    for look in range(found.looks):
        if look:
            wait(EVERY_SECONDS)
        _look(folders, found, look)
    return found


def _look(folders: list[str], found: Holders, look: int) -> None:
    import psutil

    unseen = 0
    for process in psutil.process_iter(["name", "username"]):
        if process.pid == os.getpid():
            continue
        try:
            entries = disk.listdir(f"/proc/{process.pid}/fd")
        except OSError:
            unseen += 1
            continue
        for entry in entries:
            try:
                path = disk.readlink(f"/proc/{process.pid}/fd/{entry}")
                status = disk.stat(f"/proc/{process.pid}/fd/{entry}")
                writes = _is_writing(process.pid, entry)
            except OSError:
                continue
            gone = path.endswith(_DELETED)
            plain = path.removesuffix(_DELETED) if gone else path
            if not any(is_inside(plain, folder) for folder in folders) or not stat.S_ISREG(status.st_mode):
                continue
            holder = found.programs.get(process.pid)
            if holder is None:
                holder = found.programs[process.pid] = Holder(
                    str(process.info["name"]), process.pid, str(process.info["username"] or ""), first=look
                )
            holder.last = look
            holder.files[plain] = status.st_size
            if writes:
                holder.writing.add(plain)
            if gone and status.st_nlink == 0:
                holder.deleted[plain] = disk.used_bytes(status)
    found.unseen = max(found.unseen, unseen)


def _is_writing(process: int, descriptor: str) -> bool:
    """Tell from proc(5), fdinfo, whether a descriptor was opened for writing."""
    with open(f"/proc/{process}/fdinfo/{descriptor}", encoding="ascii", errors="replace") as lines:
        for line in lines:
            if line.startswith("flags:"):
                return bool(int(line.split()[1], 8) & (disk.O_WRONLY | disk.O_RDWR))
    return False
