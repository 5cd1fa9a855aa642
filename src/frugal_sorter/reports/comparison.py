"""What is new, gone, changed in size or contents, or moved between two inventories."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Callable, Iterable
from typing import Literal, NamedTuple

from frugal_sorter.filesystem.types import OTHER, TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.reports.saved import Saved, SavedFile
from frugal_sorter.values import field, frozen, mutable

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
