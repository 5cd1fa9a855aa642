"""Volumes: what each keeps, where it is mounted, and how much room it has."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from functools import cache
from typing import NamedTuple

from frugal_sorter.filesystem.record import is_inside, place_of
from frugal_sorter.filesystem.tree import real_path
from frugal_sorter.platforms import disk, slashed, system, volumes
from frugal_sorter.state import for_a_session
from frugal_sorter.values import frozen

# Their inode numbers are made up anew whenever the volume is mounted, or sooner.
_PASSING_INODES = r"vfat|msdos|exfat|fuse.*|nfs.*|cifs|smb.*|9p|ncpfs|afs|ceph"
# A file that is written to for the first time is copied first, and has another birth then.
_PASSING_BIRTHS = r"overlay"
# Others write to them as well, and this system does not notice.
_SHARED = r"fuse.*|nfs.*|cifs|smb.*|9p|ncpfs|afs|ceph"
# They take `A` and `a` for the same name, and keep some letters for themselves.
_LIKE_WINDOWS = r"vfat|msdos|exfat|ntfs.*|fuseblk|fuse\.exfat.*|fuse\.ntfs.*|fuse\.lowntfs.*"
_FAT = r"vfat|msdos"
# Sizes are kept in 32 bits there.
_LARGEST_ON_FAT = 4_294_967_295


@cache
def _is_one_of(pattern: str, kind: str) -> bool:
    """Return True if a file system is of some kinds: asked for every entry of it."""
    return re.fullmatch(pattern, kind) is not None


@frozen
class Volume:
    """A mounted file system.

    Args:
        top: the folder it is mounted at.
        kind: as the system calls it, such as `ext4`; empty where it does not say.
    """

    top: str
    kind: str

    @property
    def inodes_last(self) -> bool:
        """Whether an inode number means the same file also later."""
        return not _is_one_of(_PASSING_INODES, self.kind)

    @property
    def births_last(self) -> bool:
        """Whether a file keeps the moment of its birth for as long as it is there."""
        return not _is_one_of(_PASSING_BIRTHS, self.kind)

    @property
    def is_shared(self) -> bool:
        """Whether others can change it without this system being told: over a network, or by a program (FUSE)."""
        return _is_one_of(_SHARED, self.kind)

    @property
    def ignores_case(self) -> bool:
        """Whether names that differ in case alone are the same name."""
        return system.IGNORES_CASE or self._is_like_windows

    @property
    def _is_like_windows(self) -> bool:
        return system.NAME == "windows" or _is_one_of(_LIKE_WINDOWS, self.kind)

    def illegal(self, name: str, size: int = 0) -> str:
        """Return why a file of that name and size (bytes) cannot be there, or an empty text."""
        if not self._is_like_windows:
            return ""
        if system.windows_refuses(name):
            return f"a {self.kind} volume does not allow that name"
        if size > _LARGEST_ON_FAT and _is_one_of(_FAT, self.kind):
            return "larger than 4 GiB, the most that a FAT volume takes"
        return ""


class Seen(NamedTuple):
    """A mounted volume as it was met, so that it can be told later whether it is there.

    Args:
        top: the folder that it is mounted at.
        ino: the inode number of that folder.
        born_ns: its birth, where the volume keeps one.
        bytes: how large the volume is.
    """

    top: str
    ino: int
    born_ns: int | None
    bytes: int

    def is_here(self) -> bool:
        """Return True if that very volume is mounted there now."""
        return _seen_at(self.top) == self


def volumes_below(folders: Iterable[str]) -> list[Seen]:
    """Return the volumes that some folders are on, or will be on, except that of the root, which is always there."""
    # Found by their mounts rather than by a look at every folder: a run can name a hundred thousand.
    tops = {top for top in mounted_tops() if not slashed.is_top(top)}
    found: dict[str, Seen | None] = {}
    known: set[str] = set()
    for folder in folders:
        path = folder
        while path not in known and not slashed.is_top(path):
            known.add(path)
            if path in tops:
                found[path] = _seen_at(path)
            path = os.path.dirname(path)
    return [seen for seen in found.values() if seen is not None]


def _seen_at(top: str) -> Seen | None:
    # A list of runs knows volumes and looks at none.
    from frugal_sorter.filesystem.status import look

    try:
        found, above, room = look(place_of(top)), disk.lstat(os.path.dirname(top)), volumes.room(top)
    except OSError:
        return None
    # On the device of the folder above nothing is mounted there: this is the empty mount point.
    if found.identity.dev == above.st_dev:
        return None
    return Seen(top, found.identity.ino, found.identity.born_ns, room.total)


@for_a_session
def volume_of(dev: int, near: str) -> Volume:
    """Return the volume of a device.

    Args:
        dev: the device number.
        near: an absolute path on it, without symbolic links.
    """
    # Up to where the device changes: a mount table can be hidden from this account, a status cannot.
    top = near
    while not slashed.is_top(top):
        try:
            if disk.lstat(os.path.dirname(top)).st_dev != dev:
                break
        except OSError:
            break
        top = os.path.dirname(top)
    return Volume(top, _kinds().get(dev, _kind_at(near)))


def births_last(dev: int, near: str) -> bool:
    """Return True if a volume keeps births; see `volume_of`. It is asked once, since every entry needs the answer."""
    known = _lasting().get(dev)
    if known is None:
        known = volume_of(dev, near).births_last
        if near:
            _lasting()[dev] = known
    return known


@for_a_session
def _lasting() -> dict[int, bool]:
    return {}


@for_a_session
def mount_at(folder: str) -> int:
    """Return the number of the mount that a folder is on, or will be on: within one, a rename takes entries anywhere.

    One volume can be mounted in several places, with the same device, and no rename leads from one to another.

    Args:
        folder: an absolute path without symbolic links.
    """
    while True:
        try:
            return volumes.mount_of(real_path(folder))
        except OSError:
            if slashed.is_top(folder):
                raise
            folder = os.path.dirname(folder)


@for_a_session
def _mounts() -> tuple[volumes.Mount, ...]:
    return tuple(volumes.mounts())


def _kinds() -> dict[int, str]:
    return {mount.dev: mount.kind for mount in _mounts()}


def _kind_at(path: str) -> str:
    """Return the kind by place; some volumes show files under another device than their mount."""
    tops = [(top, kind) for _, top, kind in _mounts() if is_inside(path, top)]
    # The innermost mount is the one that a path is on.
    return max(tops, key=lambda one: len(one[0]), default=("", ""))[1]


def mounted_tops() -> list[str]:
    """Return the folders that volumes are mounted at."""
    return list(dict.fromkeys(top for _, top, _ in _mounts()))


def is_on_mounted_volume(path: str) -> bool:
    """Return True if a folder is on a volume that is mounted at it or above it, the root aside.

    This distinguishes a folder that waits for a volume, and would fill the system disk without it,
    from the volume itself.
    """
    folder = slashed.realpath(path)
    while not slashed.is_top(folder):
        if disk.ismount(folder):
            return True
        folder = os.path.dirname(folder)
    return False


@for_a_session
def keeps_access_times(folder: str) -> volumes.Keeping:
    """Return True if the volume of a folder keeps when files were opened; where it does not say, it is taken to.

    With `noatime` it never does. With `relatime`, and on FAT, it notes that once a day: a file that was
    opened since it was written may have been opened up to a day later than it says (mount(8), vfat).

    Raises:
        OSError: the folder cannot be reached.
    """
    kept = volumes.read_times(folder)
    return "daily" if kept == "always" and _is_one_of(_FAT, _kind_at(folder)) else kept


def room_around(folder: str) -> volumes.Room:
    """Return the room on the volume of a folder that may be gone by now: of the nearest one around it that is there.

    Args:
        folder: absolute.

    Raises:
        OSError: it cannot be asked.
    """
    # The root is always there, so that this ends.
    while not disk.isdir(folder):
        folder = os.path.dirname(folder)
    return volumes.room(folder)


def free_bytes(path: str | int) -> int:
    """Return how much this account can still write to the volume of a folder, given by its path or a descriptor."""
    return volumes.room(path).free
