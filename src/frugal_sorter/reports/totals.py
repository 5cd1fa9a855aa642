"""What the folders of a run held before and after it, in sums: kept without anyone asking for it."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from contextlib import suppress
from typing import Any, NamedTuple

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.parallel import work_through
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, Listing, is_inside
from frugal_sorter.filesystem.types import OTHER, TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import COUNTED_AT_ONCE, Reader
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reports.saved import Saved
from frugal_sorter.state.folders import write_whole
from frugal_sorter.state.inputs import Shape, fits, is_count, is_moment, read_json
from frugal_sorter.values import as_dict, field, mutable


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
        """Take in some files of a type, with their bytes."""
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
    """What lies directly in a folder, and by what it is known that no name in it changed since.

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
        """Take in the files of a part of the folder."""
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
    """Counts what some folders hold, hidden files too; what lies in two of them is counted once.

    When it counts again, it reads only folders in which a name has changed since: that a file has grown where it is
    does not show in any other.

    Args:
        levels: absolute, resolved folders, each with how deep to count, None for all levels.
    """

    def __init__(self, levels: Mapping[str, int | None]) -> None:
        self._levels = {
            folder: deep for folder, deep in levels.items()
            if not any(other != folder and is_inside(folder, other) for other in levels)
        }  # fmt: skip
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
    "made_ns": is_moment, "levels": _by_name(lambda value: value is None or is_count(value)),
    "types": _by_name((is_count, is_count)),
}  # fmt: skip


def _path(folder: Path, run: int) -> Path:
    return folder / "totals" / f"run-{run}.json"


def keep_totals(folder: Path, run: int, before: Totals, after: Totals) -> None:
    """Keep what the folders of a run held; on a full disk they are done without.

    Args:
        folder: the state folder.
        run: its number.
        before: what they held before it.
        after: and after it.
    """
    path = _path(folder, run)
    with suppress(OSError):
        write_whole(
            path, json.dumps({"before": as_dict(before), "after": as_dict(after)}).encode("ascii"), durable=False
        )


def forget_totals(folder: Path, run: int) -> None:
    """Forget what the folders of a run held."""
    with suppress(OSError):
        _path(folder, run).unlink()


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
            first.types.get(key, (0, 0))[0], second.types.get(key, (0, 0))[0],
            first.types.get(key, (0, 0))[1], second.types.get(key, (0, 0))[1],
        )
        for key in first.types.keys() | second.types.keys()
    ]  # fmt: skip
    return sorted(changes, key=lambda one: (-abs(one.difference), -one.bytes_after, one.type))


def totals_of(saved: Saved) -> Totals:
    """Return the sums of an inventory that was kept whole."""
    totals = Totals(saved.made_ns, {saved.folder: None})
    for one in saved.files.values():
        key = TYPE_OF_SUFFIX.get(suffix_of(one.path.rpartition("/")[2]), OTHER)
        totals.add(key, 1, one.bytes)
    return totals
