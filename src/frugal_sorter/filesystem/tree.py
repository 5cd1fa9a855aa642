"""Folders as trees in memory, and entries that are moved there alone."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Literal, NamedTuple

from frugal_sorter.platforms import disk, slashed, volumes

LIST = disk.O_RDONLY | disk.O_DIRECTORY | disk.O_NOFOLLOW | disk.O_CLOEXEC | disk.O_NONBLOCK
# A folder that is opened only to reach what is in it.
PASS = disk.O_PATH | disk.O_DIRECTORY | disk.O_NOFOLLOW | disk.O_CLOEXEC
# A path of more names than this is a trap: it costs more than all the files in it.
MOST_LEVELS = 10_000


class Cursor:
    """One open folder of a tree at a time; it is entered and left again without a path.

    Only one descriptor is held, so that a tree may be deeper than a process may have files open. The way up is
    `..`, which is compared with the folder that was left: one that was moved meanwhile is noticed.

    Args:
        fd: a descriptor of the folder to begin in; it is not closed.
    """

    def __init__(self, fd: int) -> None:
        self.fd = disk.open(".", LIST, dir_fd=fd)
        self._above: list[tuple[int, int]] = []

    def __enter__(self) -> Cursor:
        return self

    def __exit__(self, *_: object) -> None:
        disk.close(self.fd)

    @property
    def depth(self) -> int:
        """How many folders deep it is below the one that it began in."""
        return len(self._above)

    def enter(self, name: str, other_volume: bool = True) -> None:
        """Go into a folder.

        Args:
            name: its name.
            other_volume: whether one that a volume is mounted at may be entered.

        Raises:
            OSError: it is missing, a link or a file by now; EXDEV where a volume is mounted at it.
        """
        if len(self._above) >= MOST_LEVELS:
            raise OSError(errno.ENAMETOOLONG, f"more than {MOST_LEVELS:,} folders deep")
        # Opened first and looked at then: what is asked by name can be another folder by the next call.
        below = disk.open(name, LIST, dir_fd=self.fd)
        own, found = disk.fstat(self.fd), disk.fstat(below)
        # A volume that is mounted at two places has one device and two mounts.
        if not other_volume and (found.st_dev != own.st_dev or volumes.mount_of(below) != volumes.mount_of(self.fd)):
            disk.close(below)
            raise OSError(errno.EXDEV, "another volume is mounted inside")
        self._above.append((own.st_dev, own.st_ino))
        disk.close(self.fd)
        self.fd = below

    def leave(self) -> int:
        """Go back to the folder above; return a descriptor of the one that was left, which the caller closes.

        Raises:
            OSError: ESTALE where the folder was moved meanwhile.
        """
        # `..` is never a link.
        above = disk.open("..", LIST & ~disk.O_NOFOLLOW, dir_fd=self.fd)
        found = disk.fstat(above)
        if (found.st_dev, found.st_ino) != self._above[-1]:
            disk.close(above)
            raise OSError(errno.ESTALE, "moved while it was worked on")
        self._above.pop()
        left, self.fd = self.fd, above
        return left


class Met(NamedTuple):
    """An entry that is met on the way through a tree.

    Args:
        how: `entry` for anything but a folder, `enter` before what is in a folder, `leave` after it.
        fd: a descriptor of the folder that it is in, good until the next one is met.
        name: its name there.
        status: as it was when its folder was read.
    """

    how: Literal["entry", "enter", "leave"]
    fd: int
    name: str
    status: os.stat_result


def below(fd: int) -> Iterator[Met]:
    """Yield everything below an open folder, by name; the contents of a folder come between its two ends.

    The caller may remove an entry that it gets. Nothing is entered that another volume is mounted at.

    Raises:
        OSError: a folder cannot be read, or was moved meanwhile.
    """
    with Cursor(fd) as cursor:
        # For each folder on the way: what is left of it, and the folder itself as it was met.
        ways = [_read(cursor.fd)]
        names: list[tuple[str, os.stat_result]] = []
        while True:
            if ways[-1]:
                name, status = ways[-1].pop()
                if not stat.S_ISDIR(status.st_mode):
                    yield Met("entry", cursor.fd, name, status)
                    continue
                yield Met("enter", cursor.fd, name, status)
                # The caller may have removed or renamed it; then this raises, and nothing is guessed.
                cursor.enter(name, other_volume=False)
                names.append((name, status))
                ways.append(_read(cursor.fd))
                continue
            ways.pop()
            if not names:
                return
            disk.close(cursor.leave())
            name, status = names.pop()
            yield Met("leave", cursor.fd, name, status)


def _read(fd: int) -> list[tuple[str, os.stat_result]]:
    """Return what is in an open folder, the last name first."""
    with disk.scandir(fd) as entries:
        # All at once: what is removed while a folder is being read can hide other names of it.
        found = [(entry.name, entry.stat(follow_symlinks=False)) for entry in entries]
    found.sort(key=lambda one: os.fsencode(one[0]), reverse=True)
    return found


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
        # By folder, what was moved there or made in it: each folder asks only for its own.
        self._inside: dict[str, set[str]] = {}
        self.born_ns: dict[str, int] = {}
        # By device, inode and name: an attribute belongs to a file, whichever of its names it was given through.
        self._given: dict[tuple[int, int, str], str] = {}

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
        """An entry is gone then, with everything in it."""
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

    def give(self, path: str, name: str, text: str) -> None:
        """An entry has another text in an extended attribute then."""
        self._given[self._attribute(path, name)] = text

    def given(self, path: str, name: str) -> str | None:
        """Return what an extended attribute of an entry was given in this view; None where it was given nothing.

        Raises:
            OSError: no entry is seen there.
        """
        return self._given.get(self._attribute(path, name)) if self._given else None

    def _attribute(self, path: str, name: str) -> tuple[int, int, str]:
        status = disk.lstat(real_path(path))
        return status.st_dev, status.st_ino, name

    def real(self, path: str) -> str | None:
        """Return where the disk has what will be at a path; None where nothing will be, or only a new folder."""
        # From the entry up: the nearest folder that was moved, made or removed decides for everything below it.
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
                    one for one in entries if f"{above}/{one.name}" not in self._gone and f"{above}/{one.name}" not in self._moved
                ]
        # A new folder is like any: which one on the disk says so does not matter, since nothing of it is shown.
        any_folder, _ = slashed.split_top(folder)
        names = {one.name for one in found}
        for path in sorted(self._inside.get(above, ())):
            name = path[len(above) + 1 :]
            if path in self._moved:
                found.append(Moved(name, self._moved[path]))
            elif name not in names:
                found.append(Moved(name, any_folder))
        return found


def _folder_of(path: str) -> str:
    return path.rpartition("/")[0]


_view: View | None = None


@contextmanager
def seeing(view: View) -> Iterator[View]:
    """Answer every question here from a foreseen file system."""
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
