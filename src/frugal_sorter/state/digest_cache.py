"""Digests that were made before, so that a second search reads next to nothing; never trusted for a removal.

A digest is known by device, inode, birth time, size and both times in ns: whoever changes a file changes
at least the last of these.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from contextlib import suppress
from operator import itemgetter

from frugal_sorter.platforms.slashed import Path

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
                    " AND mtime_ns = ? AND ctime_ns = ?", key,
                ).fetchone()  # fmt: skip
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
