"""Digests of contents, and those that are kept from before."""

from __future__ import annotations

import os
import sqlite3
import struct
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from operator import itemgetter
from typing import NamedTuple

from blake3 import blake3

from frugal_sorter.filesystem.parallel import OnProgress, in_two
from frugal_sorter.filesystem.record import storable_ns
from frugal_sorter.filesystem.status import READ
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.values import field, mutable

# Up to this size a file is read whole at once: its two ends would be most of it.
WHOLE_BYTES = 16_384
END_BYTES = 4_096
_BUFFER_BYTES = 1 << 17
_READ_WITHOUT_TRACE = READ | disk.O_NOATIME
# A digest of a large file is of the size, too, so that files with the same one have the same size.
_SIZE = struct.Struct("<Q")
# Enough that no two files share one by chance.
_DIGEST_BYTES = 16
_NONE = bytes(_DIGEST_BYTES)
_TOLD_EVERY = 500
# What opening, looking at and closing a file costs, as bytes that could be read meanwhile.
_OPENING_BYTES = 30_000


class Found(NamedTuple):
    """A file as a walk found it: its path, and what says whether it is the same one still."""

    path: str
    dev: int
    ino: int
    size: int
    mtime_ns: int
    ctime_ns: int


@mutable
class Digests:
    """What was read of some files.

    Args:
        rows: the digests, one after the other; where there is none, zeros.
        problems: why there is none, by the number of the file.
        read: how many bytes were read in all.
    """

    rows: bytearray = field(default_factory=bytearray)
    problems: dict[int, str] = field(default_factory=dict)
    read: int = 0

    def __len__(self) -> int:
        return len(self.rows) // _DIGEST_BYTES

    def __getitem__(self, number: int) -> bytes | None:
        if number in self.problems:
            return None
        return bytes(self.rows[number * _DIGEST_BYTES : (number + 1) * _DIGEST_BYTES])

    def extend(self, other: Digests) -> None:
        """Append those of further files."""
        before = len(self)
        self.rows += other.rows
        self.problems |= {before + number: why for number, why in other.problems.items()}
        self.read += other.read


def ends_digests(files: Sequence[Found], on_progress: OnProgress) -> Digests:
    """Return for each file a digest of its first and last 4 KiB; of a small one, of the whole."""
    return _in_two(files, [_OPENING_BYTES + 2 * END_BYTES] * len(files), _ends, on_progress)


def whole_digests(files: Sequence[Found], sizes: Iterable[int], on_progress: OnProgress) -> Digests:
    """Return for each file a digest of all its bytes; the sizes are those of the files."""
    return _in_two(files, [_OPENING_BYTES + size for size in sizes], _wholes, on_progress)


def _in_two(
    files: Sequence[Found], costs: Sequence[int], read: Callable[[Iterable[Found], OnProgress], Digests], on_progress: OnProgress
) -> Digests:
    digests = Digests()
    for part in in_two(files, costs, read, on_progress):
        digests.extend(part)
    return digests


def _ends(files: Iterable[Found], on_progress: OnProgress) -> Digests:
    return _each(files, _digest_ends, on_progress)


def _wholes(files: Iterable[Found], on_progress: OnProgress) -> Digests:
    buffer = memoryview(bytearray(_BUFFER_BYTES))

    def digest(descriptor: int, size: int) -> tuple[bytes, int]:
        hasher, done = blake3(_SIZE.pack(size)), 0
        while done < size and (count := disk.readv(descriptor, [buffer])):
            hasher.update(buffer[:count])
            done += count
        return hasher.digest(_DIGEST_BYTES), done

    return _each(files, digest, on_progress)


def _digest_ends(descriptor: int, size: int) -> tuple[bytes, int]:
    if size <= WHOLE_BYTES:
        body = os.read(descriptor, size + 1)
        return blake3(body).digest(_DIGEST_BYTES), len(body)
    body = disk.pread(descriptor, END_BYTES, 0) + disk.pread(descriptor, END_BYTES, size - END_BYTES)
    return blake3(_SIZE.pack(size) + body).digest(_DIGEST_BYTES), len(body)


def _each(files: Iterable[Found], digest: Callable[[int, int], tuple[bytes, int]], on_progress: OnProgress) -> Digests:
    rows, problems, read = bytearray(), dict[int, str](), 0
    for number, (path, dev, ino, size, mtime_ns, ctime_ns) in enumerate(files):
        row, problem = _NONE, ""
        try:
            try:
                descriptor = disk.open(path, _READ_WITHOUT_TRACE)
            except PermissionError:
                descriptor = disk.open(path, READ)  # only owners may read without a trace
            try:
                row, done = digest(descriptor, size)
                read += done
                now = disk.fstat(descriptor)
            finally:
                disk.close(descriptor)
            if (
                now.st_ino != ino
                or storable_ns(now.st_ctime_ns) != ctime_ns
                or storable_ns(now.st_mtime_ns) != mtime_ns
                or now.st_size != size
                or now.st_dev != dev
            ):
                problem = "changed while it was read"
        except OSError as error:
            problem = (error.strerror or "cannot be read").lower()
        if problem:
            problems[number] = problem
        rows += row
        if size > _BUFFER_BYTES or not (number + 1) % _TOLD_EVERY:
            on_progress(number + 1)
    return Digests(rows, problems, read)


FILE_NAME = "digests.sqlite"
# About 100 bytes a row.
MOST_ROWS = 500_000
# A smaller file is read about as quickly as it is looked up.
CACHED_BYTES = 65_536
Key = tuple[int, int, int, int, int, int]


class DigestCache:
    """Digests by what a file was when they were made; where it cannot be used, nothing is known.

    Args:
        folder: the state folder; None for no cache.
    """

    def __init__(self, folder: Path | None) -> None:
        self._db: sqlite3.Connection | None = None
        if folder is None:
            return
        with suppress(sqlite3.Error, OSError):
            (folder / FILE_NAME).touch(0o600)
            db = sqlite3.connect(folder / FILE_NAME, isolation_level=None, timeout=5)
            db.execute("PRAGMA journal_mode = WAL")
            db.execute("PRAGMA synchronous = OFF")
            db.execute(
                "CREATE TABLE IF NOT EXISTS digests (dev INTEGER, ino INTEGER, born_ns INTEGER, size INTEGER,"
                " mtime_ns INTEGER, ctime_ns INTEGER, ends BLOB, whole BLOB, used INTEGER,"
                " PRIMARY KEY (dev, ino, born_ns, size, mtime_ns, ctime_ns)) WITHOUT ROWID"
            )
            self._db = db

    def __enter__(self) -> DigestCache:
        return self

    def __exit__(self, *_: object) -> None:
        if self._db is not None:
            self._db.close()

    def known(self, keys: Iterable[Key]) -> dict[Key, tuple[bytes | None, bytes | None]]:
        """Return what is known of some files: the digest of the ends, and of the whole."""
        found: dict[Key, tuple[bytes | None, bytes | None]] = {}
        if self._db is None:
            return found
        with suppress(sqlite3.Error):
            if self._db.execute("SELECT 1 FROM digests LIMIT 1").fetchone() is None:
                return found
            for key in keys:
                row = self._db.execute(
                    "SELECT ends, whole FROM digests WHERE dev = ? AND ino = ? AND born_ns = ? AND size = ?"
                    " AND mtime_ns = ? AND ctime_ns = ?",
                    key,
                ).fetchone()
                if row is not None:
                    found[key] = row
        return found

    def keep(self, digests: Iterable[tuple[Key, bytes | None, bytes | None]], now_ns: int) -> None:
        """Keep digests; the ones that were used longest ago make room."""
        if self._db is None:
            return
        with suppress(sqlite3.Error):
            self._db.execute("BEGIN IMMEDIATE")
            self._db.executemany(
                "INSERT OR REPLACE INTO digests VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                ((*key, ends, whole, now_ns) for key, ends, whole in sorted(digests, key=itemgetter(0))),
            )
            (rows,) = self._db.execute("SELECT COUNT(*) FROM digests").fetchone()
            if rows > MOST_ROWS:
                self._db.execute(
                    "DELETE FROM digests WHERE used <= (SELECT used FROM digests ORDER BY used LIMIT 1 OFFSET ?)",
                    (rows - MOST_ROWS,),
                )
            self._db.execute("COMMIT")
