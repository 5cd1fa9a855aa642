"""Another machine in place of this one: its disk, volumes and accounts as a full inventory of it says.

Everything that asks the system asks the modules of this package. While `in_place_of_this` holds, these answer from what was
written down there, so that a plan is made by the same code as on that machine. Nothing can be changed, and no file is opened.
"""

from __future__ import annotations

import errno
import os
import stat
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple

from frugal_sorter.platforms import accounts, attributes, disk, slashed, system, volumes
from frugal_sorter.platforms.volume_values import Keeping, Mount, Room
from frugal_sorter.values import field, mutable

NOT_HELD = "not in the inventory"
# Descriptors of this machine have lower numbers.
_FIRST_DESCRIPTOR = 1 << 24
_MOST_LINKS = 40
# What belongs to the person who looks, not to the machine: the terminal and the language.
_OF_THE_PERSON = ("COLORTERM", "COLUMNS", "FORCE_COLOR", "LANG", "LC_", "LINES", "NO_COLOR", "PATH", "PYTHON", "TERM")


class Known(NamedTuple):
    """An entry as it was: its status by the names of stat(2), and what else was written down of it.

    Args:
        link: where a symbolic link points.
        closed: what keeps the account from changing what is in a folder; see `accounts.cannot_change`.
        unread: the error that a folder was read with; 0 for none.
        attributes: extended attributes as texts, by name.
        inside: what was found in the file itself, by reader.
        whole: of a folder, whether everything in it is known.
    """

    st_mode: int
    st_size: int
    st_blocks: int
    st_mtime_ns: int
    st_ino: int
    st_dev: int
    st_ctime_ns: int
    st_atime_ns: int
    st_birthtime_ns: int | None
    st_nlink: int
    st_uid: int
    st_gid: int
    link: str = ""
    closed: str = ""
    unread: int = 0
    attributes: Mapping[str, str] = {}
    inside: Mapping[str, Any] = {}
    whole: bool = True


class MountKnown(NamedTuple):
    """A mount as it was; None for what could not be asked."""

    dev: int
    top: str
    kind: str
    keeping: Keeping | None
    room: Room | None
    names: int | None


class _Entry:
    """An entry of a folder, as `disk.scandir` gives those of this disk."""

    def __init__(self, name: str, path: str, known: Known) -> None:
        self.name, self.path, self._known = name, path, known

    def is_file(self, *, follow_symlinks: bool = True) -> bool:
        return stat.S_ISREG(self._known.st_mode)

    def is_dir(self, *, follow_symlinks: bool = True) -> bool:
        return stat.S_ISDIR(self._known.st_mode)

    def is_symlink(self) -> bool:
        return stat.S_ISLNK(self._known.st_mode)

    def stat(self, *, follow_symlinks: bool = True) -> Known:
        return self._known


class _Entries(list[_Entry]):
    """What `disk.scandir` returns: also a context."""

    def __enter__(self) -> _Entries:
        return self

    def __exit__(self, *_: object) -> None:
        return None


@mutable(slots=False)
class Machine:
    """A machine as an inventory holds it.

    Args:
        name: of the machine.
        account: the name of the account that took the inventory.
        uid: its number.
        gid: that of its group.
        is_admin: it may do everything.
        home: its home folder.
        environment: the variables that say where programs keep things.
        places: folders with a name, such as `downloads`.
        homes: those of all accounts.
        owners: the names of accounts, by number.
        mounts: in the order of the system's table.
        folder: the folder that was taken.
        entries: everything that is known, by absolute path.
    """

    name: str
    account: str
    uid: int
    gid: int
    is_admin: bool
    home: str
    environment: Mapping[str, str]
    places: Mapping[str, str]
    homes: Sequence[str]
    owners: Mapping[int, str]
    mounts: Sequence[MountKnown]
    folder: str
    entries: dict[str, Known] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._below: dict[str, list[str]] = {}
        self._open: dict[int, str] = {}
        self._beside = ""
        for path in self.entries:
            if not slashed.is_top(path):
                self._below.setdefault(os.path.dirname(path), []).append(os.path.basename(path))

    def holds(self, path: str) -> bool:
        """Return True if it is known whether something is at a path."""
        try:
            self._at(path)
        except FileNotFoundError:
            return True
        except OSError:
            return False
        return True

    @contextmanager
    def reading_beside(self, folder: str) -> Iterator[None]:
        """Open files in a folder of this machine instead of the one that was recorded: a rule file names lists."""
        self._beside = folder
        try:
            yield
        finally:
            self._beside = ""

    # Folders and files

    def _at(self, path: str | os.PathLike[str]) -> Known:
        """Return what is at a path; no link is followed."""
        name = slashed.normpath(os.fspath(path))
        known = self.entries.get(name)
        if known is not None:
            return known
        above = os.path.dirname(name)
        folder = self._at(above) if above != name else None
        if folder is None or (stat.S_ISDIR(folder.st_mode) and not folder.whole):
            raise OSError(errno.ENODATA, NOT_HELD, name)
        if folder.unread:
            raise _error(folder.unread, name)
        raise _error(errno.ENOENT if stat.S_ISDIR(folder.st_mode) else errno.ENOTDIR, name)

    def _path(self, path: str | int | os.PathLike[str], dir_fd: int | None = None) -> str:
        if isinstance(path, int):
            return self._open[path]
        return slashed.normpath(slashed.join(self._open[dir_fd] if dir_fd is not None else "/", os.fspath(path)))

    def _open_at(self, path: str | os.PathLike[str], flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
        name = self._path(path, dir_fd)
        if self._beside and dir_fd is None:
            return os.open(slashed.join(self._beside, slashed.relpath(name, self.folder)), flags, mode)
        known = self._at(name)
        if flags & (disk.O_WRONLY | disk.O_RDWR | disk.O_CREAT) or not stat.S_ISDIR(known.st_mode):
            raise OSError(errno.ENODATA, "its contents are not in the inventory", name)
        if known.unread:
            raise _error(known.unread, name)
        descriptor = max(self._open, default=_FIRST_DESCRIPTOR) + 1
        self._open[descriptor] = name
        return descriptor

    def _stat(self, path: str | os.PathLike[str], *, dir_fd: int | None = None, follow_symlinks: bool = True) -> Known:
        name = self._path(path, dir_fd)
        return self._at(self.realpath(name) if follow_symlinks else name)

    def _names(self, path: str | int) -> list[str]:
        name = self._path(path)
        known = self._at(name)
        if not known.whole:
            raise OSError(errno.ENODATA, NOT_HELD, name)
        if known.unread:
            raise _error(known.unread, name)
        return self._below.get(name, [])

    def _scandir(self, path: str | int) -> _Entries:
        above = self._path(path).rstrip("/")
        return _Entries(_Entry(name, at := f"{above}/{name}", self.entries[at]) for name in self._names(path))

    def _walk(self, path: str) -> Iterator[tuple[str, list[str], list[str]]]:
        waiting = [path]
        while waiting:
            folder = waiting.pop()
            entries = self._scandir(folder)
            folders = [one.name for one in entries if one.is_dir()]
            yield folder, folders, [one.name for one in entries if not one.is_dir()]
            waiting += [slashed.join(folder, name) for name in folders]

    def _is(self, kind: Callable[[int], bool], follow: bool) -> Callable[[str], bool]:
        def asked(path: str) -> bool:
            try:
                return kind(self._stat(path, follow_symlinks=follow).st_mode)
            except OSError:
                return False

        return asked

    def _readlink(self, path: str, *, dir_fd: int | None = None) -> str:
        return self._at(self._path(path, dir_fd)).link

    def _ismount(self, path: str) -> bool:
        return any(one.top == slashed.normpath(path) for one in self.mounts)

    def realpath(self, path: str | os.PathLike[str]) -> str:
        """Return where a path leads, by the same trust as `slashed.realpath` of this system has."""
        way, names = slashed.top_and_names(slashed.normpath(slashed.join(self.folder, os.fspath(path))))
        left, followed = names[::-1], 0
        while left:
            name = left.pop()
            at = os.path.dirname(way) if name == ".." else slashed.join(way, name)
            known = self.entries.get(at)
            if known is None or not stat.S_ISLNK(known.st_mode):
                way = at
                continue
            if not self._trusts(known, way, at) or followed == _MOST_LINKS:
                return slashed.normpath(slashed.join(at, *reversed(left)))
            followed += 1
            if slashed.is_absolute(known.link):
                way, names = slashed.top_and_names(known.link)
            else:
                names = known.link.split("/")
            left += [one for one in reversed(names) if one not in ("", ".")]
        return way

    def _trusts(self, link: Known, folder: str, path: str) -> bool:
        if link.st_uid not in (0, self.uid):
            return False
        around = self.entries[folder].st_uid if folder in self.entries else 0
        if self.uid or not around:
            return True
        target = self.entries.get(slashed.normpath(slashed.join(os.path.dirname(path), link.link)))
        return target is not None and target.st_uid == around

    def _unfollowed(self, path: str) -> tuple[str, int] | None:
        way, names = slashed.top_and_names(path)
        for name in names:
            way = slashed.join(way, name)
            known = self.entries.get(way)
            if known is None:
                return None
            if stat.S_ISLNK(known.st_mode):
                return way, known.st_uid
        return None

    # Volumes and accounts

    def _mount(self, path: str | int) -> int:
        name = self._path(path)
        self._at(name)
        inside = [(len(one.top), at) for at, one in enumerate(self.mounts) if (name + "/").startswith(one.top.rstrip("/") + "/")]
        if not inside:
            raise OSError(errno.ENODATA, NOT_HELD, name)
        return max(inside)[1]

    def _asked_of(self, part: str) -> Callable[[str | int], Any]:
        def asked(path: str | int) -> Any:
            found = getattr(self.mounts[self._mount(path)], part)
            if found is None and part != "names":
                raise OSError(errno.ENODATA, NOT_HELD, str(path))
            return found

        return asked

    def _attribute(self, path: str, name: str, *, follow_symlinks: bool = True) -> bytes:
        known = self._at(path)
        if name not in known.attributes:
            raise _error(errno.ENODATA, path)
        return known.attributes[name].encode("utf-8", "surrogateescape")

    def _closed(self, folder: str) -> str:
        known = self.entries.get(folder)
        return known.closed if known is not None else ""

    @contextmanager
    def in_place_of_this(self) -> Iterator[None]:
        """Answer everything that is asked of the system for this machine."""
        other: dict[Any, dict[str, Any]] = {
            disk: {
                "IS_INVENTORY": True,
                "open": self._open_at,
                "close": self._close,
                "fstat": self._fstat,
                "stat": self._stat,
                "lstat": lambda path, *, dir_fd=None: self._stat(path, dir_fd=dir_fd, follow_symlinks=False),
                "scandir": self._scandir,
                "listdir": lambda path: [*self._names(path)],
                "readlink": self._readlink,
                "walk": self._walk,
                "access": lambda path, _mode, **_: not self._closed(path),
                "ismount": self._ismount,
                "exists": self._is(lambda _: True, True),
                "lexists": self._is(lambda _: True, False),
                "isdir": self._is(stat.S_ISDIR, True),
                "isfile": self._is(stat.S_ISREG, True),
                "islink": self._is(stat.S_ISLNK, False),
            },
            system: {"named_folder": self.places.__getitem__},
            slashed: {"realpath": self.realpath, "unfollowed": self._unfollowed},
            volumes: {
                "mounts": lambda: [Mount(*one[:3]) for one in self.mounts],
                "mount_of": self._mount,
                "room": self._asked_of("room"),
                "free_names": self._asked_of("names"),
                "read_times": self._asked_of("keeping"),
            },
            attributes: {"getxattr": self._attribute, "listxattr": lambda path, **_: [*self._at(path).attributes]},
            accounts: {
                # Who else could change a rule file there is not asked: nothing is run.
                "HAVE_MODES": False,
                "user_id": lambda: self.uid,
                "group_id": lambda: self.gid,
                "is_admin": lambda: self.is_admin,
                "account_key": lambda: str(self.uid),
                "account_name": lambda: self.account,
                "owner_name": lambda uid: self.owners.get(uid, str(uid)),
                "cannot_change": self._closed,
                "own_home": lambda: self.home,
                "homes": lambda: [*self.homes],
                "machine_name": lambda: self.name,
            },
        }
        before = {module: {name: vars(module)[name] for name in names} for module, names in other.items()}
        mine = dict(os.environ)
        try:
            for module, names in other.items():
                vars(module).update(names)
            _be_in({name: mine[name] for name in mine if name.startswith(_OF_THE_PERSON)} | dict(self.environment))
            yield
        finally:
            for module, names in before.items():
                vars(module).update(names)
            _be_in(mine)

    def _fstat(self, descriptor: int) -> Known | os.stat_result:
        return self._at(self._open[descriptor]) if descriptor in self._open else os.fstat(descriptor)

    def _close(self, descriptor: int) -> None:
        if self._open.pop(descriptor, None) is None:
            os.close(descriptor)


def _error(code: int, path: str) -> OSError:
    return OSError(code, os.strerror(code), path)


def _be_in(environment: Mapping[str, str]) -> None:
    os.environ.clear()
    os.environ.update(environment)
    if hasattr(time, "tzset"):
        time.tzset()
