"""Files that hold the same: the search for them, and the digests that are kept of it."""

from __future__ import annotations

import os
import sqlite3
import struct
from array import array
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import groupby, islice
from operator import add, attrgetter, itemgetter
from typing import Any, NamedTuple, TypeVar, overload

from blake3 import blake3

from frugal_sorter.filesystem.parallel import OnProgress, in_two, work_through
from frugal_sorter.filesystem.record import Listing, Unread, place_of, storable_ns
from frugal_sorter.filesystem.status import READ, birth_ns
from frugal_sorter.filesystem.walk import Reader, working
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Reason, Why, reason_of
from frugal_sorter.rules.fields import may_be_marked, unmarked_name
from frugal_sorter.trash.bins import never_entered
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
    problems: dict[int, Reason] = field(default_factory=dict)
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
    rows, problems, read = bytearray(), dict[int, Reason](), 0
    for number, (path, dev, ino, size, mtime_ns, ctime_ns) in enumerate(files):
        problem: Reason | None = None
        row = _NONE
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
                problem = Why.CHANGED_DURING_READ()
        except OSError as error:
            problem = reason_of(error)
        if problem is not None:
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


Value = TypeVar("Value")
SIZE, _INO, _MODIFIED, _CHANGED, _LINKS = map(attrgetter, ("st_size", "st_ino", "st_mtime_ns", "st_ctime_ns", "st_nlink"))


def _moments(moments: Iterable[int]) -> array[int]:
    """Return moments in ns as a column."""
    known = list(moments)
    try:
        return array("q", known)
    except OverflowError:
        return array("q", map(storable_ns, known))


class Columns:
    """All files side by side, in columns: an object a file would be many times as large."""

    def __init__(self) -> None:
        self.folders: list[str] = []
        self._starts: list[str] = []
        self.devices: list[int] = []
        self.names: list[str] = []
        self.folder = array("I")
        self.size, self.modified, self.changed = array("q"), array("q"), array("q")
        self.ino = array("Q")
        # The names that look like copies, without the mark.
        self.unmarked: dict[int, str] = {}
        # The files with several names.
        self.linked: list[int] = []

    def __len__(self) -> int:
        return len(self.names)

    def add(self, folder: str, dev: int, names: Sequence[str], statuses: Sequence[os.stat_result]) -> None:
        """Add the files of a folder."""
        self.linked += [at for at, links in enumerate(map(_LINKS, statuses), len(self)) if links > 1]
        if may_be_marked(names):
            unmarked = ((at, unmarked_name(name)) for at, name in enumerate(names, len(self)))
            self.unmarked |= {at: name for at, name in unmarked if name}
        self.folder.extend([len(self.folders)] * len(names))
        self.folders.append(folder)
        self._starts.append(f"{folder.rstrip('/')}/")
        self.devices.append(dev)
        self.names += names
        self.size.extend(map(SIZE, statuses))
        self.ino.extend(map(_INO, statuses))
        self.modified.extend(_moments(map(_MODIFIED, statuses)))
        self.changed.extend(_moments(map(_CHANGED, statuses)))

    def extend(self, other: Columns) -> None:
        """Add the files of other columns, after those that are here."""
        folders, files = len(self.folders), len(self)
        self.folder.extend(folders + folder for folder in other.folder)
        self.unmarked |= {files + at: name for at, name in other.unmarked.items()}
        self.linked += [files + at for at in other.linked]
        self.folders += other.folders
        self._starts += other._starts
        self.devices += other.devices
        self.names += other.names
        for mine, theirs in (
            (self.size, other.size),
            (self.modified, other.modified),
            (self.changed, other.changed),
            (self.ino, other.ino),
        ):
            mine.extend(theirs)

    def __getstate__(self) -> dict[str, object]:
        """Return the columns as they go through a pipe, the names as one text."""
        return {**vars(self), "names": "\0".join(self.names)}

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state, names=state["names"].split("\0") if state["names"] else [])

    def path(self, at: int) -> str:
        """Return the absolute path of a file."""
        return self._starts[self.folder[at]] + self.names[at]

    def found(self, ats: Sequence[int]) -> Iterator[Found]:
        """Yield what the walk saw of some files."""

        def of(column: Sequence[Value], numbers: Iterable[int] = ats) -> Iterator[Value]:
            return map(column.__getitem__, numbers)

        paths = map(add, of(self._starts, of(self.folder)), of(self.names))
        devices = of(self.devices, of(self.folder))
        columns = (of(column) for column in (self.ino, self.size, self.modified, self.changed))
        return map(Found._make, zip(paths, devices, *columns, strict=True))


@mutable(eq=False)
class Same:
    """A file of a group; its fields are read from the columns of the search on demand.

    Args:
        columns: all files of the search.
        at: the first of its names there.
        further: its other names (hard links), which free nothing.
    """

    columns: Columns
    at: int
    further: tuple[int, ...] = ()

    @property
    def found(self) -> Found:
        """What the walk saw of it, under the first of its names."""
        return next(self.columns.found([self.at]))

    @property
    def path(self) -> str:
        """The first of its names."""
        return self.columns.path(self.at)

    @property
    def names(self) -> tuple[str, ...]:
        """All its names."""
        return (self.path, *self.further_names)

    @property
    def further_names(self) -> tuple[str, ...]:
        """Its names after the first."""
        return tuple(map(self.columns.path, self.further))

    @property
    def mtime_ns(self) -> int:
        """When it was last written, in ns since the epoch."""
        return self.columns.modified[self.at]

    @property
    def is_marked(self) -> bool:
        """Whether each of its names has the mark of a copy."""
        unmarked = self.columns.unmarked
        return self.at in unmarked and all(at in unmarked for at in self.further)


class Files(Sequence[Found]):
    """Some files of a search, each made from its columns when its turn comes."""

    def __init__(self, columns: Columns, numbers: Sequence[int]) -> None:
        self._columns = columns
        self.numbers = numbers

    def __len__(self) -> int:
        return len(self.numbers)

    def __iter__(self) -> Iterator[Found]:
        return self._columns.found(self.numbers)

    @overload
    def __getitem__(self, which: int) -> Found: ...

    @overload
    def __getitem__(self, which: slice) -> Files: ...

    def __getitem__(self, which: int | slice) -> Found | Files:
        if isinstance(which, slice):
            return Files(self._columns, self.numbers[which])
        return next(self._columns.found([self.numbers[which]]))


@mutable
class Group:
    """Files with the same contents, at least two; `size` is that of one."""

    size: int
    files: list[Same]


_FIRST_LETTER = itemgetter(0)
_FEW = 3


@mutable
class Duplicates:
    """What a search found.

    Args:
        groups: the groups, the ones that waste most first.
        seen: how many files were looked at.
        bytes: how many bytes they have.
        read: how many bytes were read to tell.
        linked: how many names were further ones of files that have several.
        passed: how many files were too small to be compared, and how many of these are empty.
        unread: what could not be read, or changed meanwhile.
        marked: names that look like copies: the folder, the name, the name without its mark, and whether that is there.
        whole_folders: folders whose files were all seen, with how many these are and the names of the folders in
            them: for telling same folders.
    """

    groups: list[Group] = field(default_factory=list)
    seen: int = 0
    bytes: int = 0
    read: int = 0
    linked: int = 0
    passed: tuple[int, int] = (0, 0)
    unread: list[Unread] = field(default_factory=list)
    whole_folders: dict[str, tuple[int, list[str]]] = field(default_factory=dict)
    marked: list[tuple[str, str, str, bool]] = field(default_factory=list)


class _Walked:
    """What a walk, or the fork of one, has found."""

    def __init__(self) -> None:
        self.columns, self.result = Columns(), Duplicates()

    def add(self, other: _Walked) -> None:
        """Merge what another walk found."""
        self.columns.extend(other.columns)
        mine, theirs = self.result, other.result
        mine.passed = mine.passed[0] + theirs.passed[0], mine.passed[1] + theirs.passed[1]
        mine.unread += theirs.unread
        mine.marked += theirs.marked
        mine.whole_folders |= theirs.whole_folders


@mutable
class ContentSearch:
    """Searches folders for files with the same contents.

    Args:
        levels: how deep; None for all levels.
        hidden: hidden files and folders too.
        min_size: smaller files are skipped; 0 compares empty files, too.
        cache: the state folder with digests that were made before; None to do without.
        now_ns: the moment to write down in the cache.
        on_progress: called now and then with how many files, of how many (0 where that is not known), and what was done.
    """

    levels: int | None = None
    hidden: bool = False
    min_size: int = 1
    cache: Path | None = None
    now_ns: int = 0
    on_progress: Callable[[int, int, str], None] = lambda _files, _of, _what: None

    def search(self, folders: Sequence[str]) -> Duplicates:
        """Return the groups of files with the same contents below some folders.

        Args:
            folders: absolute, resolved paths; one inside another is searched once.

        Raises:
            OSError: one of the folders cannot be read at all.
        """
        walked, seen = _Walked(), set[str]()
        for folder in folders:
            self._walk(folder, walked, seen, alone=len(folders) == 1)
        result = walked.result
        result.groups = self._groups(walked.columns, result)
        result.unread.sort()
        return result

    def among(self, paths: Iterable[str]) -> Duplicates:
        """Return the groups among some files, each given by an absolute path."""
        result = Duplicates()
        columns = Columns()
        for path in paths:
            place = place_of(path)
            try:
                status = disk.lstat(path)
            except OSError as error:
                result.unread.append(Unread(path, reason_of(error)))
            else:
                columns.add(place.folder, status.st_dev, [place.name], [status])
        result.groups = self._groups(columns, result)
        return result

    # The walk

    def _walk(self, root: str, walked: _Walked, seen: set[str], alone: bool) -> None:
        """Walk a tree; if it is the only one and large, in two processes.

        Args:
            root: its root.
            walked: filled in.
            seen: the folders that were walked before; filled in.
            alone: there is no other tree that this one could overlap with.

        Raises:
            OSError: it cannot be read at all.
        """

        def descend(listing: Listing, name: str, level: int) -> int | None:
            if (name[0] == "." and not self.hidden) or never_entered(f"{listing.folder}/{name}", name):
                return None
            return level + 1 if self.levels is None or level < self.levels else None

        parent = os.getpid()

        def handle(listing: Listing, level: int, found: _Walked) -> None:
            if not alone and listing.folder in seen:
                return
            seen.add(listing.folder)
            self._listing(listing, level, found)
            if os.getpid() == parent:
                self.on_progress(len(walked.columns) + len(found.columns), 0, "files found")

        work = working(Reader(True, descend), handle, lambda found, unread: found.result.unread.append(unread), root)
        walked.add(work_through((root, 1), work, _Walked, _Walked.add, may_fork=alone))

    def _listing(self, listing: Listing, level: int, walked: _Walked) -> None:
        columns, result = walked.columns, walked.result
        names, statuses = listing.names, listing.status
        hides = not self.hidden and "." in map(_FIRST_LETTER, names)
        if hides or min(map(SIZE, statuses), default=self.min_size) < self.min_size:
            shown = [at for at, name in enumerate(names) if self.hidden or name[0] != "."]
            wanted = [at for at in shown if statuses[at].st_size >= self.min_size]
            passed, empty = result.passed
            empty_here = sum(not statuses[at].st_size for at in shown) if self.min_size else 0
            result.passed = passed + len(shown) - len(wanted), empty + empty_here
            names, statuses = [names[at] for at in wanted], [statuses[at] for at in wanted]
        marked = len(columns.unmarked)
        columns.add(listing.folder, listing.dev, names, statuses)
        if len(columns.unmarked) > marked:
            there = set(listing.names)
            for at, original in islice(columns.unmarked.items(), marked, None):
                result.marked.append((listing.folder, columns.names[at], original, original in there))
        deeper = self.levels is None or level < self.levels
        plain = not (listing.links or listing.others or listing.unread) and len(names) == len(listing.names)
        if plain and (deeper or not listing.folders) and (self.hidden or not any(name[0] == "." for name in listing.folders)):
            result.whole_folders[listing.folder] = (len(names), listing.folders)

    # The contents

    def _groups(self, columns: Columns, result: Duplicates) -> list[Group]:
        """Return the groups among all files, those that waste most first."""
        result.seen, result.bytes = len(columns.names), sum(columns.size)
        files, names = self._once(columns)
        result.linked = sum(map(len, names.values()))
        # Sorted rather than counted by size: most have a size of their own.
        files.sort(key=columns.size.__getitem__)
        alike = array("I", (at for ats in _runs(columns, files) for at in ats))
        del files
        groups = [
            Group(
                columns.size[together[0]],
                [Same(columns, at, tuple(names.get(at, ()))) for at in sorted(together, key=columns.path)],
            )
            for together in self._same(columns, alike, result)
        ]
        return sorted(groups, key=lambda group: (-group.size * (len(group.files) - 1), group.files[0].path))

    def _once(self, columns: Columns) -> tuple[list[int], dict[int, list[int]]]:
        """Return all files, those with several names once, and for these their other names."""
        linked: dict[tuple[int, int], list[int]] = defaultdict(list)
        for at in columns.linked:
            linked[columns.devices[columns.folder[at]], columns.ino[at]].append(at)
        further: dict[int, list[int]] = {}
        for ats in linked.values():
            first, *rest = sorted(ats, key=columns.path)
            if rest:
                further[first] = rest
        again = {at for rest in further.values() for at in rest}
        return [at for at in range(len(columns.names)) if at not in again], further

    def _same(self, columns: Columns, alike: Sequence[int], result: Duplicates) -> list[list[int]]:
        """Return the files that hold the same bytes, of files in the order of their sizes, each with others of its."""

        def read_whole(files: Files, on_progress: OnProgress) -> Digests:
            return whole_digests(files, [columns.size[at] for at in files.numbers], on_progress)

        with DigestCache(self.cache) as cache:
            cached = [at for at in alike if columns.size[at] > CACHED_BYTES]
            keys = _keys(columns, cached) if self.cache is not None else {}
            known = cache.known(keys.values())
            by_ends, at_once = _where_ends_pay(columns, alike)
            ends = self._digests(columns, by_ends, ends_digests, "files looked into", result, _known(keys, known, 0))
            first = ends.together(columns, by_ends)
            small = [ats for ats in first if columns.size[ats[0]] <= WHOLE_BYTES]
            large = array("I", (at for ats in first for at in ats if columns.size[at] > WHOLE_BYTES))
            large.extend(at_once)
            wholes = self._digests(columns, large, read_whole, "files read", result, _known(keys, known, 1))
            if keys:
                fresh = ((key, ends.of(at), wholes.of(at)) for at, key in keys.items())
                cache.keep((one for one in fresh if one[1] and known.get(one[0]) != one[1:]), self.now_ns)
        return small + wholes.together(columns, large)

    def _digests(
        self,
        columns: Columns,
        files: Sequence[int],
        read: Callable[[Files, OnProgress], Digests],
        what: str,
        result: Duplicates,
        known: Mapping[int, bytes],
    ) -> _Digested:
        """Return the digests of files, read in the order of their inodes; those that are known are not read."""
        missing = array("I", sorted((at for at in files if at not in known), key=columns.ino.__getitem__))
        made = read(Files(columns, missing), lambda done: self.on_progress(done, len(missing), what))
        result.read += made.read
        result.unread += [Unread(columns.path(missing[number]), why) for number, why in made.problems.items()]
        return _Digested(missing, made, known)


class _Digested:
    """Files with their digests: those that were read, and those that are known from before."""

    def __init__(self, files: Sequence[int], digests: Digests, known: Mapping[int, bytes]) -> None:
        self._digests = digests
        self._known = known
        self._numbers = array("I", bytes(4 * (max(files, default=-1) + 1)))
        for number, at in enumerate(files, 1):
            self._numbers[at] = number

    def of(self, at: int) -> bytes | None:
        """Return the digest of a file, None where there is none."""
        number = self._numbers[at] if at < len(self._numbers) else 0
        return self._digests[number - 1] if number else self._known.get(at)

    def together(self, columns: Columns, files: Sequence[int]) -> list[list[int]]:
        """Return those of some files, in the order of their sizes, that share their digest with another one."""
        found: list[list[int]] = []
        for ats in _runs(columns, files):
            by_digest: dict[bytes | None, list[int]] = {}
            for at in ats:
                by_digest.setdefault(self.of(at), []).append(at)
            by_digest.pop(None, None)
            found += [same for same in by_digest.values() if len(same) > 1]
        return found


def _runs(columns: Columns, files: Sequence[int]) -> Iterator[list[int]]:
    """Yield those of some files, in the order of their sizes, together that share it with another one."""
    for _, run in groupby(files, key=columns.size.__getitem__):
        together = list(run)
        if len(together) > 1:
            yield together


def _where_ends_pay(columns: Columns, files: Sequence[int]) -> tuple[array[int], array[int]]:
    """Return those of some files whose ends are worth a look, and those that are quicker read whole.

    Few files of one size mostly hold the same; many often are of a kind that has one size.
    """
    by_ends, at_once = array("I"), array("I")
    for ats in _runs(columns, files):
        few = len(ats) <= _FEW and WHOLE_BYTES < columns.size[ats[0]] <= CACHED_BYTES
        (at_once if few else by_ends).extend(ats)
    return by_ends, at_once


def _known(keys: Mapping[int, Key], known: Mapping[Key, tuple[bytes | None, bytes | None]], which: int) -> dict[int, bytes]:
    found = {}
    for at, key in keys.items():
        digest = known[key][which] if key in known else None
        if digest is not None:
            found[at] = digest
    return found


def _keys(columns: Columns, files: Iterable[int]) -> dict[int, Key]:
    """Return what the cache knows files by; their birth times are asked for only here."""
    return {
        at: (
            columns.devices[columns.folder[at]],
            columns.ino[at],
            birth_ns(columns.path(at)),
            columns.size[at],
            columns.modified[at],
            columns.changed[at],
        )
        for at in files
    }
