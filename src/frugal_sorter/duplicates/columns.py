"""The files of a search by content, in columns, and what is made of them when it is asked for."""

from __future__ import annotations

import os
from array import array
from collections.abc import Iterable, Iterator, Sequence
from operator import add, attrgetter
from typing import Any, TypeVar, overload

from frugal_sorter.duplicates.digests import Found
from frugal_sorter.filesystem.record import storable_ns
from frugal_sorter.rules.fields import may_be_marked, unmarked_name
from frugal_sorter.values import mutable

Value = TypeVar("Value")
SIZE, _INO, _MODIFIED, _CHANGED, _LINKS = map(
    attrgetter, ("st_size", "st_ino", "st_mtime_ns", "st_ctime_ns", "st_nlink")
)


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
        """Take in the files of a folder."""
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
        """Take in the files of other columns, after those that are here."""
        folders, files = len(self.folders), len(self)
        self.folder.extend(folders + folder for folder in other.folder)
        self.unmarked |= {files + at: name for at, name in other.unmarked.items()}
        self.linked += [files + at for at in other.linked]
        self.folders += other.folders
        self._starts += other._starts
        self.devices += other.devices
        self.names += other.names
        for mine, theirs in (
            (self.size, other.size), (self.modified, other.modified), (self.changed, other.changed),
            (self.ino, other.ino),
        ):  # fmt: skip
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
    """A file of a group; what is said of it is taken from the columns of the search when it is asked for.

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
