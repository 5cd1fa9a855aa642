"""Inventories that are kept, and what is new, gone, changed or moved between two."""

from __future__ import annotations

import gzip
import json
import os
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from typing import Any, Literal, NamedTuple

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Unread, storable_ns
from frugal_sorter.filesystem.types import OTHER, TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.filesystem.walk import reason_of, walk
from frugal_sorter.platforms import disk, volumes
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import machine_id, ready_state_folder
from frugal_sorter.state.inputs import fitting, is_count, is_moment, is_name, is_text, zipped_lines
from frugal_sorter.values import field, frozen, mutable

FORMAT = 1
# A line names one file, and its path has no name of more than 255 bytes, each of which takes up to six letters.
_LONGEST_LINE, _LONGEST_NAME = 100_000, 255
SUFFIX = ".inventory.gz"


def _is_path(value: Any) -> bool:
    return is_name(value) and all(0 < len(name) <= _LONGEST_NAME for name in value.split("/"))


# The first line, and each of the others.
_HEAD = {
    "folder": is_name,
    "machine": is_text,
    "made_ns": is_moment,
    "total": is_count,
    "free": is_count,
    "unread": [is_text],
}
_FILE = (_is_path, is_count, is_count, is_moment, is_count, is_count)


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
    """

    folder: str
    machine: str
    made_ns: int
    total: int
    free: int
    files: dict[str, SavedFile] = field(default_factory=dict)
    unread: list[str] = field(default_factory=list)

    @property
    def bytes(self) -> int:
        """All bytes."""
        return sum(one.bytes for one in self.files.values())


def look_now(folder: str, hidden: bool, made_ns: int) -> Saved:
    """Return what a folder holds now, all levels.

    Args:
        folder: absolute and resolved.
        hidden: hidden files and folders too.
        made_ns: the moment to write down.

    Raises:
        OSError: it cannot be read at all.
    """
    room = volumes.room(folder)
    saved = Saved(folder, machine_id(), made_ns, room.total, room.free)
    prefix = len(folder.rstrip("/")) + 1

    def unread(one: Unread) -> None:
        saved.unread.append(one.path)

    def descend(_: object, name: str, __: int) -> int | None:
        return 0 if hidden or name[0] != "." else None

    for listing, _ in walk(folder, 0, True, descend, unread):
        for name, status in zip(listing.names, listing.status, strict=True):
            if hidden or name[0] != ".":
                path = f"{listing.folder}/{name}"[prefix:]
                saved.files[path] = SavedFile(
                    path,
                    status.st_size,
                    disk.used_bytes(status),
                    storable_ns(status.st_mtime_ns),
                    status.st_ino,
                    status.st_dev,
                )
    return saved


def save(saved: Saved, path: Path) -> None:
    """Write an inventory to a new file that only this account can read.

    Raises:
        UsageError: the file already exists, or it cannot be written.
    """
    head = {
        "frugal-inventory": FORMAT, "folder": saved.folder, "machine": saved.machine, "made_ns": saved.made_ns,
        "total": saved.total, "free": saved.free, "unread": saved.unread,
    }  # fmt: skip
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        descriptor = disk.open(path, disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC, 0o600)
        with open(descriptor, "wb") as raw, gzip.open(raw, "wt", encoding="ascii") as file:
            for line in _lines(head, saved.files.values()):
                file.write(line + "\n")
    except FileExistsError:
        raise UsageError(f"{path}: the inventory already exists", "choose another name, or remove it") from None
    except OSError as error:
        raise UsageError(f"{path}: the inventory cannot be written ({error.strerror})", "free disk space") from None


def _lines(head: dict[str, object], files: Iterable[SavedFile]) -> Iterator[str]:
    yield json.dumps(head)
    for one in files:
        yield json.dumps(one)


def load(path: Path) -> Saved:
    """Read an inventory that was saved.

    Raises:
        UsageError: it cannot be read, or is none; says in which line.
    """
    saved = _load(path, lambda _: True)
    assert saved is not None
    return saved


def _load(path: Path, is_wanted: Callable[[Saved], bool]) -> Saved | None:
    """Read an inventory whose first line is wanted; None for another one."""
    saved, number = None, 1
    try:
        for line in zipped_lines(path, _LONGEST_LINE):
            if saved is None:
                if (version := fitting(line, {"frugal-inventory": is_count})["frugal-inventory"]) != FORMAT:
                    raise UsageError(f"{path}: of format {version}", f"this version reads format {FORMAT}")
                head = fitting(line, _HEAD)
                saved = Saved(**{key: head[key] for key in _HEAD})
                if not is_wanted(saved):
                    return None
            else:
                one = SavedFile(*fitting(line, _FILE))
                saved.files[one.path] = one
            number += 1
        if saved is None:
            raise ValueError("empty")
    except FileNotFoundError:
        raise UsageError(f"{path}: there is no such inventory", "`frugal inventory FOLDER --save` makes one") from None
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or str(error)
        what = f"{path}:{number}: not an inventory of this tool, or damaged ({why.lower()})"
        raise UsageError(what, "remove it; `frugal inventory FOLDER --save` makes a new one") from None
    return saved


def forget(path: Path) -> None:
    """Remove an inventory that was saved.

    Raises:
        UsageError: there is none, or it cannot be removed.
    """
    try:
        path.unlink()
    except FileNotFoundError:
        names = sorted(one.name.removesuffix(SUFFIX) for one in path.parent.glob(f"*{SUFFIX}"))
        raise UsageError(
            f"there is no inventory {path.name.removesuffix(SUFFIX)!r}",
            f"kept are {', '.join(names)}" if names else "none is kept",
        ) from None
    except OSError as error:
        raise UsageError(f"{path}: {reason_of(error)}", "remove it as its owner") from None


def kept_of(
    folder: str, now_ns: int | None = None, most_bytes: int | None = None, note: Callable[[Unread], None] = lambda _: None
) -> list[Saved]:  # fmt: skip
    """Return the inventories of a folder that are kept on this machine, the oldest first.

    Args:
        folder: an absolute, resolved path.
        now_ns: the moment; those that say they are from later on are left out. None for all.
        most_bytes: so many bytes of files are read at most, the last ones; None for no limit.
        note: told of each that is left out or damaged; the others are read all the same.
    """
    found: list[Saved] = []
    left = most_bytes

    def is_wanted(one: Saved) -> bool:
        nonlocal left
        if one.folder != folder or one.machine != machine_id():
            return False
        if now_ns is not None and one.made_ns > now_ns:
            note(Unread(str(path), "skipped: its date is in the future"))
            return False
        left = None if left is None else left - path.stat().st_size
        return left is None or left >= 0

    paths = (ready_state_folder() / "inventories").glob(f"*{SUFFIX}")
    for path in sorted(paths, key=lambda one: one.stat().st_mtime_ns, reverse=True):
        try:
            saved = _load(path, is_wanted)
        except UsageError:
            note(Unread(str(path), "a damaged inventory; remove it"))
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
    counts: dict[How, int] = field(default_factory=lambda: dict.fromkeys(HOWS, 0))
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
) -> tuple[list[SavedFile], list[SavedFile]]:  # fmt: skip
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
