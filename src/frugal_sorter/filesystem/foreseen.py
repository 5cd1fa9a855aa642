"""A file system as it will be: entries that were moved in memory, over those that are on the disk.

Planners ask here, or through `walk` and `status`, which do. Without a foreseen view everything is as the disk has it.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

from frugal_sorter.platforms import disk, slashed


class Moved:
    """An entry of a foreseen folder, as `disk.scandir` gives those of the disk."""

    def __init__(self, name: str, path: str) -> None:
        self.name, self._path = name, path

    def is_file(self, *, follow_symlinks: bool = True) -> bool:
        """Return True if it is a file."""
        return disk.isfile(self._path) and (follow_symlinks or not disk.islink(self._path))

    def is_dir(self, *, follow_symlinks: bool = True) -> bool:
        """Return True if it is a folder."""
        return disk.isdir(self._path) and (follow_symlinks or not disk.islink(self._path))

    def is_symlink(self) -> bool:
        """Return True if it is a symbolic link."""
        return disk.islink(self._path)

    def stat(self, *, follow_symlinks: bool = True) -> os.stat_result:
        """Return its status."""
        return disk.stat(self._path, follow_symlinks=follow_symlinks)


class View:
    """What will have moved, what will be gone, and which folders will have been made.

    `born_ns` is when an entry will have been made anew, which crosses to another volume; by its path.
    """

    def __init__(self) -> None:
        self._moved: dict[str, str] = {}
        self._gone: set[str] = set()
        self._made: set[str] = set()
        # By folder, what was moved there or made in it: of many a folder asks only for its own.
        self._inside: dict[str, set[str]] = {}
        self.born_ns: dict[str, int] = {}

    def move(self, source: str, target: str) -> None:
        """An entry is at another path then."""
        # Where the disk has it now: it may have been moved before.
        real = self.real(source)
        self.remove(source)
        if real is not None:
            self._moved[target] = real
            self._inside.setdefault(_folder_of(target), set()).add(target)
            self._gone.discard(target)

    def remove(self, path: str) -> None:
        """An entry is gone then, with all that is in it."""
        waiting = [path]
        # With what was moved into it, at any depth; what the disk has there is hidden by the folder that is gone.
        while waiting:
            one = waiting.pop()
            waiting += self._inside.pop(one, ())
            self._moved.pop(one, None)
            self._made.discard(one)
        self._inside.get(_folder_of(path), set()).discard(path)
        self._gone.add(path)

    def make(self, folder: str) -> None:
        """An empty folder is there then."""
        self._gone.discard(folder)
        self._made.add(folder)
        self._inside.setdefault(_folder_of(folder), set()).add(folder)

    def real(self, path: str) -> str | None:
        """Return where the disk has what will be at a path; None where nothing will be, or only a new folder."""
        # From the entry up: the nearest folder that was moved, made or removed decides for all that is below it.
        at, rest = path, ""
        while at not in ("/", ""):
            if at in self._moved:
                return self._moved[at] + rest
            if at in self._gone or at in self._made:
                return None
            head, _, name = at.rpartition("/")
            at, rest = head, f"/{name}{rest}"
        return path

    def is_made(self, path: str) -> bool:
        """Return True if a folder will be there that is not now."""
        return path in self._made

    def entries(self, folder: str) -> list[Moved | disk.Entry]:
        """Return what will be in a folder.

        Raises:
            OSError: it cannot be read.
        """
        found: list[Moved | disk.Entry] = []
        real = self.real(folder)
        if real is None and not self.is_made(folder):
            raise FileNotFoundError(2, "No such file or directory", folder)
        above = folder.rstrip("/")
        if real is not None:
            with disk.scandir(real) as entries:
                found += [
                    one for one in entries
                    if f"{above}/{one.name}" not in self._gone and f"{above}/{one.name}" not in self._moved
                ]  # fmt: skip
        # A new folder is like any: which one on the disk says so does not matter, since nothing of it is shown.
        here = os.path.dirname(slashed.abspath(__file__))
        names = {one.name for one in found}
        for path in sorted(self._inside.get(above, ())):
            name = path[len(above) + 1 :]
            if path in self._moved:
                found.append(Moved(name, self._moved[path]))
            elif name not in names:
                found.append(Moved(name, here))
        return found


def _folder_of(path: str) -> str:
    return path.rpartition("/")[0]


_view: View | None = None


@contextmanager
def seeing(view: View) -> Iterator[View]:
    """Have everything that is asked here see a foreseen file system."""
    global _view
    before, _view = _view, view
    try:
        yield view
    finally:
        _view = before


def current() -> View | None:
    """Return what is foreseen; None for the disk as it is."""
    return _view


def real_path(path: str) -> str:
    """Return where the disk has what is seen at a path.

    Raises:
        OSError: nothing is seen there.
    """
    if _view is None:
        return path
    real = _view.real(path)
    if real is None:
        raise FileNotFoundError(2, "No such file or directory", path)
    return real


def lexists(path: str) -> bool:
    """Return True if something is at a path, a link itself counting."""
    if _view is None:
        return disk.lexists(path)
    real = _view.real(path)
    return _view.is_made(path) or (real is not None and disk.lexists(real))


def isdir(path: str) -> bool:
    """Return True if a folder is at a path."""
    if _view is None:
        return disk.isdir(path)
    real = _view.real(path)
    return _view.is_made(path) or (real is not None and disk.isdir(real))


def lstat(path: str) -> os.stat_result:
    """Return the status of what is at a path.

    Raises:
        OSError: nothing is, or it cannot be looked at.
    """
    if _view is None:
        return disk.lstat(path)
    if _view.is_made(path):
        # A new folder: as the one around it.
        return lstat(os.path.dirname(path))
    real = _view.real(path)
    if real is None:
        raise FileNotFoundError(2, "No such file or directory", path)
    return disk.lstat(real)


def listdir(folder: str) -> list[str]:
    """Return the names of what is in a folder.

    Raises:
        OSError: it cannot be read.
    """
    return disk.listdir(folder) if _view is None else [one.name for one in _view.entries(folder)]
