"""Which file of a group with the same contents stays and why; names that look like copies; folders that hold the same."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from typing import Literal, NamedTuple

from frugal_sorter.duplicates.columns import Group, Same
from frugal_sorter.duplicates.search import Duplicates
from frugal_sorter.filesystem.fingerprint import BLOCK, open_to_read
from frugal_sorter.filesystem.record import Place, is_inside, place_of
from frugal_sorter.platforms import disk
from frugal_sorter.rules.file.keys import DEFAULT_KEEP, Keep

_WHY: Mapping[Keep, str] = {
    "unmarked": "the one without a copy mark",
    "oldest": "the oldest",
    "newest": "the newest",
    "shortest-path": "the shortest path",
}


_RANKS: Mapping[Keep, Callable[[Same], int]] = {
    "unmarked": lambda one: one.is_marked,
    "oldest": lambda one: one.mtime_ns,
    "newest": lambda one: -one.mtime_ns,
    "shortest-path": lambda one: min(map(len, one.names)),
}


class Choice(NamedTuple):
    """What becomes of a group: the file that stays, why that one, those that may go, and why others stay, by path."""

    group: Group
    kept: Same
    why: str
    going: list[Same]
    staying: Mapping[str, str] = {}

    @property
    def frees(self) -> int:
        """How many bytes go, by the sizes of the files, as all amounts are told."""
        return sum(self.group.size for one in self.going if not one.further)


def choose(group: Group, keep: Sequence[Keep] = DEFAULT_KEEP, keep_in: Sequence[str] = ()) -> Choice:
    """Choose the file of a group that stays.

    Args:
        group: files with the same contents.
        keep: by what it is chosen, the first that tells them apart.
        keep_in: resolved folders; files there stay all, and without one there nothing goes.
    """
    files = group.files
    if keep_in:
        inside = [one for one in files if any(is_inside(name, folder) for name in one.names for folder in keep_in)]
        kept, _ = _best(inside or files, keep)
        going = [one for one in files if one not in inside] if inside else []
        why = "in the folder to keep" if inside else "none of them is in the folder to keep"
        others = {one.path: f"{why}, too" if inside else "" for one in files if one not in going and one is not kept}
        return Choice(group, kept, why, going, others)
    kept, why = _best(files, keep)
    return Choice(group, kept, why, [one for one in files if one is not kept])


def _best(files: Sequence[Same], keep: Sequence[Keep]) -> tuple[Same, str]:
    left = files
    for one in keep:
        ranks = list(map(_RANKS[one], left))
        first = min(ranks)
        ties = ranks.count(first)
        if ties == 1 and len(left) > 1:
            return left[ranks.index(first)], _WHY[one]
        if ties < len(left):
            left = [file for file, rank in zip(left, ranks, strict=True) if rank == first]
    return min(left, key=lambda file: file.path), "the first by name"


# Names that look like copies


class LookAlike(NamedTuple):
    """A file named as file managers name copies.

    Args:
        path: the file.
        original: the path without the mark.
        kind: `copy` where both hold the same, `differs` where they do not, `alone` where the unmarked one is missing.
        sizes: of those that differ, their bytes.
        times_ns: and when each was written.
        first: and the first byte that is not the same, counted from 0.
    """

    path: str
    original: str
    kind: Literal["copy", "differs", "alone"]
    sizes: tuple[int, int] = (0, 0)
    times_ns: tuple[int, int] = (0, 0)
    first: int | None = None


def look_alikes(found: Duplicates) -> list[LookAlike]:
    """Return what becomes of the names that look like copies."""
    if not found.marked:
        return []
    group_of = {name: number for number, group in enumerate(found.groups) for one in group.files for name in one.names}
    result = []
    for folder, name, original, there in found.marked:
        path, other = f"{folder.rstrip('/')}/{name}", f"{folder.rstrip('/')}/{original}"
        if not there:
            result.append(LookAlike(path, other, "alone"))
        elif path in group_of and group_of[path] == group_of.get(other):
            result.append(LookAlike(path, other, "copy"))
        else:
            try:
                one, second = disk.lstat(path), disk.lstat(other)
                first = first_difference(place_of(path), place_of(other))
            except OSError:
                continue
            if first is not None:
                sizes, times = (one.st_size, second.st_size), (one.st_mtime_ns, second.st_mtime_ns)
                result.append(LookAlike(path, other, "differs", sizes, times, first))
    return sorted(result)


def first_difference(one: Place, other: Place) -> int | None:
    """Return the first byte in which two files differ, counted from 0; None where they hold the same.

    Raises:
        OSError: one of them cannot be read.
    """
    first, second = open_to_read(one), -1
    try:
        second = open_to_read(other)
        at = 0
        while True:
            mine, theirs = disk.pread(first, BLOCK, at), disk.pread(second, BLOCK, at)
            if mine != theirs:
                shorter = min(len(mine), len(theirs))
                same = next((index for index in range(shorter) if mine[index] != theirs[index]), shorter)
                return at + same
            if not mine:
                return None
            at += len(mine)
    finally:
        disk.close(first)
        if second >= 0:
            disk.close(second)


# Folders that hold the same


def same_folders(found: Duplicates) -> list[list[str]]:
    """Return the folders with the same contents, the outermost only, those with the most files first."""
    places = [
        (one.columns.folders[one.columns.folder[at]], one.columns.names[at], number)
        for number, group in enumerate(found.groups) for one in group.files for at in (one.at, *one.further)
    ]  # fmt: skip
    shared = Counter(folder for folder, _, _ in places)
    # Only folders of which each file has its like somewhere.
    whole = {folder: inside for folder, inside in found.whole_folders.items() if shared[folder] == inside[0]}
    content = defaultdict[str, list[tuple[str, object]]](list)
    for folder, name, number in places:
        if folder in whole:
            content[folder].append((name, number))
    # The innermost first; folders with the same contents get the same number.
    numbers: dict[tuple[object, ...], int] = {}
    known: dict[str, int] = {}
    groups: dict[int, list[str]] = {}
    for folder in sorted(whole, key=lambda folder: -folder.count("/")):
        inside = [(name, known.get(f"{folder}/{name}")) for name in sorted(whole[folder][1])]
        parts = tuple(sorted(content[folder])), tuple(inside)
        if any(parts) and all(number is not None for _, number in inside):
            known[folder] = numbers.setdefault(parts, len(numbers))
    for folder in whole:
        if folder in known:
            groups.setdefault(known[folder], []).append(folder)
    same = [sorted(ones) for ones in groups.values() if len(ones) > 1]
    alike = {folder for ones in same for folder in ones}
    outermost = [ones for ones in same if not all(os.path.dirname(folder) in alike for folder in ones)]
    return sorted(outermost, key=lambda ones: ones[0])
