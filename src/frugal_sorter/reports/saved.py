"""Saved inventories and totals, and how two of them differ."""

from __future__ import annotations

import gzip
import json
import os
import stat
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from datetime import datetime
from typing import Any, Literal, NamedTuple, TypeVar

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.parallel import work_through
from frugal_sorter.filesystem.record import (
    COARSEST_TIME_NS,
    OTHER,
    TYPE_OF_SUFFIX,
    Listing,
    Unread,
    is_inside,
    storable_ns,
    suffix_of,
)
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import COUNTED_AT_ONCE, Reader, walk
from frugal_sorter.platforms import disk, slashed, volumes
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Why, reason_of
from frugal_sorter.state import (
    Shape,
    fits,
    fitting,
    is_count,
    is_moment,
    is_name,
    is_text,
    machine_id,
    read_json,
    ready_state_folder,
    write_whole,
    zipped_lines,
)
from frugal_sorter.values import as_dict, field, frozen, mutable, replace


@mutable
class Totals:
    """Files and bytes by type in some folders at a moment.

    Args:
        made_ns: the moment, in ns since the epoch.
        levels: the folders, each with how deep it was counted, None for all levels.
        types: by type, the files and their bytes.
    """

    made_ns: int
    levels: dict[str, int | None]
    types: dict[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def files(self) -> int:
        """All files."""
        return sum(files for files, _ in self.types.values())

    @property
    def bytes(self) -> int:
        """All bytes."""
        return sum(size for _, size in self.types.values())

    def add(self, key: str, files: int, size: int) -> None:
        """Add some files of a type, with their bytes."""
        known_files, known_bytes = self.types.get(key, (0, 0))
        self.types[key] = (known_files + files, known_bytes + size)


class _Linked(NamedTuple):
    """A name of a file that has several: it is counted under the first of those that were met."""

    path: str
    dev: int
    ino: int
    type: str
    bytes: int


class _Counted(NamedTuple):
    """What is directly in a folder, and by what it is known that no name in it changed since.

    Args:
        ino: its inode number.
        mtime_ns: when a name in it changed last; 0 where that was too short a time before it was read.
        types: by type, the files and their bytes.
        linked: those of its files that have several names.
        below: its subfolders that are counted, too, each with its level.
    """

    ino: int
    mtime_ns: int
    types: dict[str, tuple[int, int]]
    linked: list[_Linked]
    below: list[tuple[str, int]]

    def add(self, part: Listing) -> None:
        """Add the files of a part of the folder."""
        types = self.types
        for name, status in zip(part.names, part.status, strict=True):
            key = TYPE_OF_SUFFIX.get(suffix_of(name), OTHER)
            if status.st_nlink > 1:
                path = slashed.join(part.folder, name)
                self.linked.append(_Linked(path, status.st_dev, status.st_ino, key, status.st_size))
                continue
            files, size = types.get(key, (0, 0))
            types[key] = (files + 1, size + status.st_size)


_Found = dict[str, _Counted]
# Of more folders than this nothing is remembered: they are counted anew.
_MOST_FOLDERS = 100_000


class FolderSums:
    """Counts what some folders hold, hidden files too; what is in two of them is counted once.

    When it counts again, it reads only folders in which a name has changed since: that a file has grown where it is
    does not show in any other.

    Args:
        levels: absolute, resolved folders, each with how deep to count, None for all levels.
    """

    def __init__(self, levels: Mapping[str, int | None]) -> None:
        self._levels = {
            folder: deep
            for folder, deep in levels.items()
            if not any(other != folder and is_inside(folder, other) for other in levels)
        }
        self._known: _Found = {}

    def take(self, made_ns: int) -> Totals:
        """Count.

        Args:
            made_ns: the moment, which is written down.
        """
        found: _Found = {}
        for folder, deep in self._levels.items():
            with suppress(OSError):  # a folder that is missing holds nothing
                found |= self._below(folder, deep)
        self._known = found if len(found) <= _MOST_FOLDERS else {}
        totals = Totals(made_ns, dict(self._levels))
        seen: set[tuple[int, int]] = set()
        for one in found.values():
            for key, (files, size) in one.types.items():
                totals.add(key, files, size)
        for name in sorted(name for one in found.values() for name in one.linked):
            if (name.dev, name.ino) not in seen:
                seen.add((name.dev, name.ino))
                totals.add(name.type, 1, name.bytes)
        return totals

    def _below(self, root: str, deep: int | None) -> _Found:
        dev = disk.lstat(root).st_dev
        volume = volume_of(dev, root)
        # Where others write without this system being told, or a number may mean another folder, a time proves nothing.
        is_told = volume.inodes_last and not volume.is_shared
        before_ns = time.time_ns() - COARSEST_TIME_NS

        def descend(_listing: Listing, _name: str, level: int) -> int | None:
            return level + 1 if deep is None or level < deep else None

        reader = Reader(True, descend, most=COUNTED_AT_ONCE)

        def work(folder: tuple[str, int], found: _Found) -> tuple[list[tuple[str, int]], int]:
            path, level = folder
            try:
                status = disk.lstat(path)
                if status.st_dev != dev:
                    return [], 0
                known = self._known.get(path)
                if known is None or not is_told or (known.ino, known.mtime_ns) != (status.st_ino, status.st_mtime_ns):
                    settled_ns = status.st_mtime_ns if status.st_mtime_ns < before_ns else 0
                    known = _Counted(status.st_ino, settled_ns, {}, [], [])
                    for part in reader.parts(path, level):
                        known.below.extend(reader.below(part, level))
                        known.add(part)
            except OSError:
                return [], 0  # as if it were empty: nothing in it can be counted
            found[path] = known
            return list(known.below), sum(files for files, _ in known.types.values())

        return work_through((root, 1), work, dict, dict.update)


def take_totals(levels: Mapping[str, int | None], made_ns: int) -> Totals:
    """Count what some folders hold, once; see `FolderSums`."""
    return FolderSums(levels).take(made_ns)


def _by_name(shape: Shape) -> Shape:
    return lambda value: isinstance(value, dict) and all(fits(one, shape) for one in value.values())


_LARGEST = 4_000_000
_TOTALS = {
    "made_ns": is_moment,
    "levels": _by_name(lambda value: value is None or is_count(value)),
    "types": _by_name((is_count, is_count)),
}


def _path(folder: Path, run: int, what: str = "totals") -> Path:
    return folder / what / f"run-{run}.json"


def keep_totals(folder: Path, run: int, before: Totals, after: Totals) -> None:
    """Keep what the folders of a run held; on a full disk, nothing is kept.

    Args:
        folder: the state folder.
        run: its number.
        before: what they held before it.
        after: and after it.
    """
    path = _path(folder, run)
    with suppress(OSError):
        write_whole(path, json.dumps({"before": as_dict(before), "after": as_dict(after)}).encode("ascii"), durable=False)


def forget_totals(folder: Path, run: int) -> None:
    """Forget what the folders of a run held, and the digests of its files."""
    for what in ("totals", "digests"):
        with suppress(OSError):
            _path(folder, run, what).unlink()


def keep_digests(folder: Path, run: int, digests: Mapping[str, str]) -> None:
    """Keep digests of the contents of files, taken before a run, by the number of the step that is about each.

    Raises:
        OSError: they cannot be written.
    """
    write_whole(_path(folder, run, "digests"), json.dumps(digests).encode("ascii"), durable=False)


def kept_digests(folder: Path, run: int) -> dict[str, str]:
    """Return the digests that were kept for a run; none where none were.

    Raises:
        UsageError: they cannot be read.
    """
    path = _path(folder, run, "digests")
    try:
        found: dict[str, str] = read_json(path, _LARGEST * 100, _by_name(is_text))
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as error:
        raise UsageError(f"{path}: cannot be read ({type(error).__name__})", "remove it") from None
    return found


def kept_totals(folder: Path, run: int) -> tuple[Totals, Totals] | None:
    """Return what the folders of a run held before and after it, if that was kept."""
    try:
        kept = read_json(_path(folder, run), _LARGEST, {"before": _TOTALS, "after": _TOTALS})
        before, after = map(_read, (kept["before"], kept["after"]))
    except FileNotFoundError:
        return None
    except (OSError, ValueError) as error:
        raise UsageError(f"{_path(folder, run)}: cannot be read ({type(error).__name__})", "remove it") from None
    return before, after


def _read(one: Mapping[str, Any]) -> Totals:
    return Totals(one["made_ns"], one["levels"], {key: (files, size) for key, (files, size) in one["types"].items()})


class TypeChange(NamedTuple):
    """How much there was of a type, and how much there is: files and bytes, before and after."""

    type: str
    files_before: int
    files_after: int
    bytes_before: int
    bytes_after: int

    @property
    def difference(self) -> int:
        """By how many bytes it grew."""
        return self.bytes_after - self.bytes_before


def compare_totals(first: Totals, second: Totals) -> list[TypeChange]:
    """Return by type how two sums differ, the largest difference first; what is the same is there, too."""
    changes = [
        TypeChange(
            key,
            first.types.get(key, (0, 0))[0],
            second.types.get(key, (0, 0))[0],
            first.types.get(key, (0, 0))[1],
            second.types.get(key, (0, 0))[1],
        )
        for key in first.types.keys() | second.types.keys()
    ]
    return sorted(changes, key=lambda one: (-abs(one.difference), -one.bytes_after, one.type))


def totals_of(saved: Saved) -> Totals:
    """Return the sums of an inventory that was kept whole."""
    totals = Totals(saved.made_ns, {saved.folder: None})
    for one in saved.files.values():
        key = TYPE_OF_SUFFIX.get(suffix_of(one.path.rpartition("/")[2]), OTHER)
        totals.add(key, 1, one.bytes)
    return totals


# A full one says more of each entry, and of the machine; what follows the columns of `_FILE` is read by `machine`.
FORMAT, FULL = 1, 2
# A line names one file; no name in its path has more than 255 bytes, and each byte takes up to six letters.
_LONGEST_LINE, _LONGEST_NAME = 100_000, 255
_Read = TypeVar("_Read")
SUFFIX = ".inventory.gz"


def saved_path(name: str) -> Path:
    """Return where an inventory of a name is kept; a path is one already."""
    if "/" in name or name.endswith(SUFFIX):
        return Path(name)
    return ready_state_folder() / "inventories" / f"{name}{SUFFIX}"


def _is_path(value: Any) -> bool:
    return is_name(value) and all(0 < len(name) <= _LONGEST_NAME for name in value.split("/"))


# The first line, and each of the others.
_HEAD = {"folder": is_name, "machine": is_text, "made_ns": is_moment, "total": is_count, "free": is_count, "unread": [is_text]}
_FILE = (_is_path, is_count, is_count, is_moment, is_count, is_count)
# Of an entry of a full one: how many columns follow these, and which of all says its kind.
_MORE, _MODE = 8, 6


class SavedFile(NamedTuple):
    """A file as it was: its path below the folder, bytes (apparent and on the disk), time in ns, inode and device."""

    path: str
    bytes: int
    disk: int
    mtime_ns: int
    ino: int
    dev: int


@mutable
class Saved:
    """What a folder held at a moment.

    Args:
        folder: absolute and resolved.
        machine: the id of the machine, so that inode numbers are only compared on one.
        made_ns: the moment, in ns since the epoch.
        total: the size of its volume in bytes.
        free: how much of it was free.
        files: the files, by path.
        unread: what could not be read then.
        sums: the bytes by subfolder, as its first line has them; None where it has none. Then its files may not be read.
    """

    folder: str
    machine: str
    made_ns: int
    total: int
    free: int
    files: dict[str, SavedFile] = field(default_factory=dict)
    unread: list[str] = field(default_factory=list)
    sums: dict[str, int] | None = None

    @property
    def bytes(self) -> int:
        """All bytes."""
        return sum(self.by_folder.values())

    @property
    def by_folder(self) -> Mapping[str, int]:
        """The bytes by subfolder right below; `.` for what is directly in the folder."""
        if self.sums is not None:
            return self.sums
        found: dict[str, int] = {}
        for file in self.files.values():
            top = _top_of(file.path)
            found[top] = found.get(top, 0) + file.bytes
        return found


def head_of(folder: str, made_ns: int) -> Saved:
    """Return an inventory without its files; see `look_now`."""
    room = volumes.room(folder)
    return Saved(folder, machine_id(), made_ns, room.total, room.free)


def look_now(folder: str, hidden: bool, made_ns: int) -> Saved:
    """Return what a folder holds now, all levels.

    Args:
        folder: absolute and resolved.
        hidden: hidden files and folders too.
        made_ns: the moment to write down.

    Raises:
        OSError: it cannot be read at all.
    """
    saved = head_of(folder, made_ns)
    prefix = len(folder.rstrip("/")) + 1

    def unread(one: Unread) -> None:
        saved.unread.append(one.path)

    def descend(_: object, name: str, __: int) -> int | None:
        return 0 if hidden or name[0] != "." else None

    for listing, _ in walk(folder, 0, True, descend, unread, hidden):
        for name, status in zip(listing.names, listing.status, strict=True):
            if hidden or name[0] != ".":
                path = f"{listing.folder}/{name}"[prefix:]
                saved.files[path] = SavedFile(
                    path, status.st_size, disk.used_bytes(status), storable_ns(status.st_mtime_ns), status.st_ino, status.st_dev
                )
    return saved


def save(saved: Saved, path: Path, replaces: bool = False, full: Iterator[Any] | None = None) -> None:
    """Write an inventory to a file that only this account can read: a new one, unless it replaces another.

    Args:
        saved: the inventory.
        path: of the file.
        replaces: whether it may replace one.
        full: what a full one says instead: more for the first line, and the lines of all entries.

    Raises:
        UsageError: the file already exists, or it cannot be written.
    """
    head = {
        "frugal-inventory": FULL if full else FORMAT,
        "folder": saved.folder,
        "machine": saved.machine,
        "made_ns": saved.made_ns,
        "total": saved.total,
        "free": saved.free,
        "unread": saved.unread,
    }
    sums = saved.by_folder
    # A first line that is too long could not be read again.
    head |= next(full) if full else {"sums": sums} if len(json.dumps(sums)) < _LONGEST_LINE // 2 else {}
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        # Written beside it first, so that the old one is there until the new one is whole.
        written = path.with_name(f"{path.name}.new") if replaces else path
        if replaces:
            written.unlink(missing_ok=True)
        descriptor = disk.open(written, disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC, 0o600)
        with open(descriptor, "wb") as raw, gzip.open(raw, "wt", encoding="ascii") as file:
            for line in _lines(head, full or saved.files.values()):
                file.write(line + "\n")
        if replaces:
            written.replace(path)
    except FileExistsError:
        raise UsageError(f"{path}: the inventory already exists", "choose another name, or add --replace") from None
    except OSError as error:
        raise UsageError(f"{path}: the inventory cannot be written ({error.strerror})", "free disk space") from None


def _lines(head: dict[str, object], files: Iterable[Any]) -> Iterator[str]:
    yield json.dumps(head)
    for one in files:
        yield json.dumps(one)


def each_saved(folder: str, read: Callable[[Path], _Read], unread: Callable[[Unread], None]) -> Iterator[tuple[str, _Read]]:
    """Yield the inventories of a folder by the names of their files, without the suffix.

    Args:
        folder: an absolute path.
        read: returns what an inventory holds.
        unread: called with each that this cannot read.

    Raises:
        OSError: the folder cannot be read.
    """
    for name in sorted(name for name in disk.listdir(folder) if name.endswith(SUFFIX)):
        path = Path(slashed.join(folder, name))
        try:
            found = read(path)
        except UsageError as error:
            unread(Unread(str(path), Why.UNREADABLE(error.message.removeprefix(f"{path}:"))))
        else:
            yield name.removesuffix(SUFFIX), found


def load(path: Path) -> Saved:
    """Read an inventory that was saved.

    Raises:
        UsageError: it cannot be read, or is none; says in which line.
    """
    saved = _load(path, lambda _: True)
    assert saved is not None
    return saved


def _load(path: Path, is_wanted: Callable[[Saved], bool], sums_alone: bool = False) -> Saved | None:
    """Read an inventory whose first line is wanted; None for another one."""
    lines = lines_of(path)
    saved, head = next(lines)
    if not is_wanted(saved):
        return None
    if sums_alone and fits(head.get("sums"), _by_name(is_count)):
        return replace(saved, sums=head["sums"])
    is_full = head["frugal-inventory"] == FULL
    for _, line in lines:
        # Of a full one only the files below its folder: what is around it has absolute paths.
        if not is_full or (stat.S_ISREG(line[_MODE]) and line[0][0] != "/"):
            saved.files[line[0]] = SavedFile(*line[: len(_FILE)])
    return saved


def lines_of(path: Path) -> Iterator[tuple[Saved, Any]]:
    """Yield what an inventory says, line by line, each as the first columns are checked; first its head, as a table.

    Raises:
        UsageError: it cannot be read, or is none; says in which line.
    """
    saved, number, columns = None, 1, len(_FILE)
    try:
        for line in zipped_lines(path, _LONGEST_LINE):
            if saved is None:
                if (version := fitting(line, {"frugal-inventory": is_count})["frugal-inventory"]) not in (FORMAT, FULL):
                    raise UsageError(f"{path}: inventory format {version} is not supported", f"this version reads format {FULL}")
                head = fitting(line, _HEAD)
                columns = len(_FILE) + (_MORE if version == FULL else 0)
                saved = Saved(**{key: head[key] for key in _HEAD})
                yield saved, head
            else:
                values = fitting(line, [lambda _: True])
                if len(values) != columns:
                    raise ValueError("not as this version writes it")
                path_fits = _is_path(values[0]) or (columns > len(_FILE) and is_name(values[0]))
                if not path_fits or not fits(values[1 : len(_FILE)], _FILE[1:]):
                    raise ValueError("not as this version writes it")
                if columns > len(_FILE) and not is_count(values[_MODE]):
                    raise ValueError("not as this version writes it")
                yield saved, values
            number += 1
        if saved is None:
            raise ValueError("empty")
    except FileNotFoundError:
        raise _unknown(path) from None
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or str(error)
        what = f"{path}:{number}: not a frugal inventory, or damaged ({why.lower()})"
        raise UsageError(what, "remove it; `frugal inventory FOLDER --save` makes a new one") from None


def _unknown(path: Path) -> UsageError:
    names = sorted(one.name.removesuffix(SUFFIX) for one in path.parent.glob(f"*{SUFFIX}"))
    saved = f"saved are {', '.join(names)}" if names else "create one with `frugal inventory FOLDER --save`"
    return UsageError(f"no saved inventory is called {path.name.removesuffix(SUFFIX)!r}", saved)


def forget(path: Path) -> None:
    """Remove an inventory that was saved.

    Raises:
        UsageError: there is none, or it cannot be removed.
    """
    try:
        path.unlink()
    except FileNotFoundError:
        raise _unknown(path) from None
    except OSError as error:
        raise UsageError(f"{path}: {reason_of(error)}", "remove it as its owner") from None


def free_path(folder: str, made_ns: int) -> Path:
    """Return where an inventory is saved that nobody gave a name: under that of its folder, with the moment."""
    minute = datetime.fromtimestamp(made_ns // 1_000_000_000).strftime("%Y-%m-%d %H%M")
    named = f"{os.path.basename(folder) or 'root'} {minute}"
    names = (named, *(f"{named}-{number}" for number in range(2, 1_000)))
    return next(path for name in names if not (path := saved_path(name)).exists())


def last_saved_ns(folder: str, now_ns: int) -> int:
    """Return when the last inventory of a folder was saved on this machine, in ns since the epoch; 0 for never.

    Args:
        folder: absolute and resolved.
        now_ns: the moment; what says that it is from later on does not count.
    """
    made = [0]
    for path in (ready_state_folder() / "inventories").glob(f"*{SUFFIX}"):
        with suppress(UsageError):
            saved, _ = next(lines_of(path))
            if saved.folder == folder and saved.machine == machine_id() and saved.made_ns <= now_ns:
                made.append(saved.made_ns)
    return max(made)


def kept_of(
    folder: str,
    now_ns: int | None = None,
    most_bytes: int | None = None,
    note: Callable[[Unread], None] = lambda _: None,
    sums_alone: bool = False,
) -> list[Saved]:
    """Return the inventories of a folder that are kept on this machine, the oldest first.

    Args:
        folder: an absolute, resolved path.
        now_ns: the moment; those that say they are from later on are left out. None for all.
        most_bytes: at most how many bytes of files are read, the last ones; None for no limit.
        note: called with each that is left out or damaged; the others are read all the same.
        sums_alone: the bytes by subfolder are enough: of those that have them in their first line, no more is read.
    """
    found: list[Saved] = []
    left = most_bytes

    def is_wanted(one: Saved) -> bool:
        nonlocal left
        if one.folder != folder or one.machine != machine_id():
            return False
        if now_ns is not None and one.made_ns > now_ns:
            note(Unread(str(path), Why.FUTURE_DATE()))
            return False
        left = None if left is None else left - path.stat().st_size
        return left is None or left >= 0

    paths = (ready_state_folder() / "inventories").glob(f"*{SUFFIX}")
    for path in sorted(paths, key=lambda one: one.stat().st_mtime_ns, reverse=True):
        try:
            saved = _load(path, is_wanted, sums_alone)
        except UsageError:
            note(Unread(str(path), Why.DAMAGED_INVENTORY()))
            continue
        if saved is not None:
            found.append(saved)
    return sorted(found, key=lambda one: one.made_ns)


How = Literal["new", "gone", "grew", "shrank", "changed", "moved"]
HOWS: tuple[How, ...] = ("new", "gone", "grew", "shrank", "changed", "moved")


class Change(NamedTuple):
    """What became of one file: how, its path then and now, and its bytes then and now (0 where it is not)."""

    how: How
    before: str
    after: str
    bytes_before: int
    bytes_after: int

    @property
    def path(self) -> str:
        """Where it is, or was."""
        return self.after or self.before

    @property
    def difference(self) -> int:
        """By how many bytes it grew."""
        return self.bytes_after - self.bytes_before


@mutable
class Changed:
    """Changes with something in common: how many of each kind, and by how many bytes all grew."""

    key: str
    counts: Counter[How] = field(default_factory=Counter)
    difference: int = 0


@frozen
class Comparison:
    """Two inventories and what changed from the first to the second."""

    first: Saved
    second: Saved
    changes: list[Change]

    def by(self, way: Literal["type", "folder"]) -> list[Changed]:
        """Return the changes by type, or by the folder right below, the largest difference first."""
        rows: dict[str, Changed] = {}
        for change in self.changes:
            key = _type_of(change.path) if way == "type" else _top_of(change.path)
            row = rows.setdefault(key, Changed(key))
            row.counts[change.how] += 1
            row.difference += change.difference
        return sorted(rows.values(), key=lambda row: (-abs(row.difference), row.key))


def _type_of(path: str) -> str:
    return TYPE_OF_SUFFIX.get(suffix_of(os.path.basename(path)), OTHER)


def _top_of(path: str) -> str:
    head, slash, _ = path.partition("/")
    return head if slash else "."


def compare(first: Saved, second: Saved) -> Comparison:
    """Compare two inventories; a file that is elsewhere has moved if it is the same one, or looks the same.

    Args:
        first: the earlier one.
        second: the later one, or that of another machine.
    """
    changes: list[Change] = []
    gone: list[SavedFile] = []
    for path, one in first.files.items():
        other = second.files.get(path)
        if other is None:
            gone.append(one)
        elif other.bytes != one.bytes:
            how: How = "grew" if other.bytes > one.bytes else "shrank"
            changes.append(Change(how, path, path, one.bytes, other.bytes))
        elif other.mtime_ns != one.mtime_ns and first.machine == second.machine:
            changes.append(Change("changed", path, path, one.bytes, other.bytes))
    new = [one for path, one in second.files.items() if path not in first.files]
    if first.machine == second.machine:
        gone, new = _match(gone, new, lambda one: (one.dev, one.ino, one.bytes, one.mtime_ns), changes)
    gone, new = _match(gone, new, lambda one: (os.path.basename(one.path), one.bytes, one.mtime_ns), changes)
    changes += [Change("gone", one.path, "", one.bytes, 0) for one in gone]
    changes += [Change("new", "", one.path, 0, one.bytes) for one in new]
    changes.sort(key=lambda change: (HOWS.index(change.how), -abs(change.difference), change.path))
    return Comparison(first, second, changes)


def _match(
    went: Iterable[SavedFile], came: Iterable[SavedFile], key: Callable[[SavedFile], object], changes: list[Change]
) -> tuple[list[SavedFile], list[SavedFile]]:
    """Pair what went with what came where that is clear, and return what is left of both."""
    by_key: dict[object, list[SavedFile]] = defaultdict(list)
    for one in came:
        by_key[key(one)].append(one)
    rest: list[SavedFile] = []
    taken: set[str] = set()
    for one in went:
        found = by_key.get(key(one), [])
        if len(found) == 1 and found[0].path not in taken:
            taken.add(found[0].path)
            changes.append(Change("moved", one.path, found[0].path, one.bytes, found[0].bytes))
        else:
            rest.append(one)
    return rest, [one for ones in by_key.values() for one in ones if one.path not in taken]
