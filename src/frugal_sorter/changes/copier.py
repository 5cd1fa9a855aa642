"""Copying an entry with everything that it has, and rights that never widen."""

from __future__ import annotations

import base64
import errno
import os
import stat
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import Any, NamedTuple

from frugal_sorter.changes.descriptors import NEW_FILE
from frugal_sorter.filesystem.status import READ, same_bytes
from frugal_sorter.filesystem.tree import LIST, Cursor, below
from frugal_sorter.platforms import accounts, attributes, disk
from frugal_sorter.reasons import NotDone, Why


def give_owner(fd: int, uid: int, gid: int) -> bool:
    """Set the owner and the group of an open entry, as far as this account may; return True if it has both."""
    found = disk.fstat(fd)
    if (found.st_uid, found.st_gid) == (uid, gid):
        return True
    for owner in ((uid, gid), (-1, gid)):
        try:
            disk.fchown(fd, *owner)
            break
        except OSError:
            continue
    found = disk.fstat(fd)
    return (found.st_uid, found.st_gid) == (uid, gid)


def give_mode(fd: int, mode: int, uid: int, gid: int) -> bool:
    """Set the mode of an open entry, without the set-id bits that were meant for another owner; return whether it has it.

    Args:
        fd: its descriptor.
        mode: the permission bits.
        uid: the owner that they were meant for.
        gid: the group that they were meant for.
    """
    found = disk.fstat(fd)
    allowed = mode
    if found.st_uid != uid:
        allowed &= ~stat.S_ISUID
    # On a folder the bit only says that what is made in it gets its group.
    if found.st_gid != gid and not stat.S_ISDIR(found.st_mode):
        allowed &= ~stat.S_ISGID
    if stat.S_IMODE(found.st_mode) != allowed:
        try:
            disk.fchmod(fd, allowed)
        except OSError:
            return False
    return stat.S_IMODE(disk.fstat(fd).st_mode) == mode


def attributes_of(fd: int) -> dict[str, bytes]:
    """Return the extended attributes of an open entry, access lists among them."""
    try:
        return {name: attributes.getxattr(fd, name) for name in attributes.listxattr(fd)}
    except OSError:
        return {}


def give_attributes(fd: int, given: Mapping[str, bytes]) -> dict[str, bytes]:
    """Set attributes of an open entry, and return those that its volume refuses."""
    refused = {}
    for name, value in given.items():
        try:
            attributes.setxattr(fd, name, value)
        except OSError:
            refused[name] = value
    return refused


_CLASSES = (0o070, 0o007)


class Narrowing:
    """What several files allow together: the mode of what is made of them is never wider than any of theirs.

    A file that this account makes from those of one other owner gets that owner, where this account may set it.
    """

    def __init__(self) -> None:
        self._allowed = 0o777
        self._owners: set[tuple[int, int]] = set()

    def file(self, fd: int) -> None:
        """Add an open file whose contents go into what is made."""
        self.status(disk.fstat(fd))
        # With an access list the bits of the group say only what it allows at most.
        if any(name.startswith("system.posix_acl") for name in attributes_of(fd)):
            self._allowed &= ~0o070

    def status(self, found: os.stat_result) -> None:
        """Add the status of a file whose contents go into what is made."""
        self._take(found, 0o044)

    def folder(self, found: os.stat_result) -> None:
        """Add a folder that files are in: an account that may not enter it may not read them."""
        self._take(found, 0o011)

    def _take(self, found: os.stat_result, needed: int) -> None:
        self._owners.add((found.st_uid, found.st_gid))
        for group in _CLASSES:
            if not found.st_mode & needed & group:
                self._allowed &= ~group

    def give(self, fd: int, mode: int) -> None:
        """Set the mode of an open entry to what all of them allow, and their owner if they have one."""
        uids, gids = {uid for uid, _ in self._owners}, {gid for _, gid in self._owners}
        if len(uids) == 1 and accounts.is_admin():
            give_owner(fd, min(uids), min(gids) if len(gids) == 1 else -1)
        allowed = self._allowed
        if gids != {disk.fstat(fd).st_gid}:
            # Its group is another one than theirs, so that it may do no more than everybody.
            allowed &= ~0o070 | (allowed & 0o007) << 3
        with suppress(PermissionError):  # some volumes know no modes
            disk.fchmod(fd, mode & allowed)


_BLOCK = 1 << 22
# What a target does not take, by path below the copied entry: mode, times, owner, attributes.
Lost = dict[str, dict[str, Any]]


class Copier:
    """Copies one entry with everything in it, and sees that the copy is the same.

    Args:
        restore: what an earlier target could not hold, to be given back.
        heed: called before each block that is copied; it raises to give up.
    """

    def __init__(self, restore: Mapping[str, Mapping[str, Any]] | None = None, heed: Callable[[], None] = lambda: None) -> None:
        self._restore = restore or {}
        self._heed = heed
        self.lost: Lost = {}

    def copy(self, source_fd: int, name: str, target_fd: int, new: str, made: Callable[[], None] = lambda: None) -> None:
        """Copy an entry of one open folder into another, where the name must be free.

        Args:
            source_fd: a descriptor of the folder that it is in.
            name: its name there.
            target_fd: a descriptor of the folder that the copy comes into.
            new: its name there.
            made: called when there is an entry of that name, and before anything is in it.

        Raises:
            NotDone: the copy is not the same, or the entry is of a kind that is not copied.
            OSError: it cannot be read or written.
        """
        found = disk.stat(name, dir_fd=source_fd, follow_symlinks=False)
        if not stat.S_ISDIR(found.st_mode):
            self._one(source_fd, name, target_fd, new, "", found, made)
            return
        with opened(name, LIST, source_fd) as source:
            # Closed to all others until it has the rights of what it is a copy of.
            disk.mkdir(new, 0o700, dir_fd=target_fd)
            made()
            with opened(new, LIST, target_fd) as target:
                self._inside(source, target, "")
                self._describe(_Copied.of(source), target, "")

    def missing(self, source_fd: int, name: str, target_fd: int, new: str) -> None:
        """Copy what is in one folder and not in another one of the same shape.

        Args:
            source_fd: a descriptor of the folder that the first one is in.
            name: its name there.
            target_fd: a descriptor of the folder that the other one is in.
            new: its name there.

        Raises:
            NotDone, OSError: as `copy`; what was copied before stays.
        """
        with opened(name, LIST, source_fd) as source, opened(new, LIST, target_fd) as target:
            self._inside(source, target, "", only_missing=True)
            self._describe(_Copied.of(source), target, "")

    def _inside(self, source: int, target: int, path: str, only_missing: bool = False) -> None:
        """Copy everything in an open folder into another one."""
        way: list[tuple[str, _Copied]] = []
        with Cursor(target) as cursor:
            for met in below(source):
                inner = "/".join([*([path] if path else []), *(name for name, _ in way), met.name])
                if met.how == "enter":
                    # What it has is read before anything of it is left behind.
                    with opened(met.name, LIST, met.fd) as folder:
                        way.append((met.name, _Copied.of(folder)))
                    if not (only_missing and _is_there(cursor.fd, met.name)):
                        disk.mkdir(met.name, 0o700, dir_fd=cursor.fd)
                    cursor.enter(met.name)
                elif met.how == "leave":
                    # Only now: a folder that may not be entered could not be left either.
                    left = cursor.leave()
                    try:
                        self._describe(way.pop()[1], left, inner)
                        disk.fsync(left)
                    finally:
                        disk.close(left)
                elif not (only_missing and _is_there(cursor.fd, met.name)):
                    self._one(met.fd, met.name, cursor.fd, met.name, inner, met.status)

    def _one(
        self,
        source_fd: int,
        name: str,
        target_fd: int,
        new: str,
        path: str,
        found: os.stat_result,
        made: Callable[[], None] = lambda: None,
    ) -> None:
        """Copy anything but a folder."""
        if stat.S_ISLNK(found.st_mode):
            disk.symlink(disk.readlink(name, dir_fd=source_fd), new, dir_fd=target_fd)
            made()
            disk.utime(new, ns=(found.st_atime_ns, found.st_mtime_ns), dir_fd=target_fd, follow_symlinks=False)
            return
        if not stat.S_ISREG(found.st_mode):
            raise NotDone(Why.NO_KIND_OF_ENTRY(path or name))
        with opened(name, READ, source_fd) as source, opened(new, NEW_FILE, target_fd) as target:
            made()
            copied = _Copied.of(source)
            copy_bytes(source, target, copied.status.st_size, self._heed)
            disk.fsync(target)
            # From the disk rather than from memory, as far as the system heeds it.
            disk.forget_cached(target)
            if not same_bytes(source, target, self._heed):
                raise NotDone(Why.CHANGED_WHILE_COPIED())
            self._describe(copied, target, path)
            disk.fsync(target)

    def _describe(self, copied: _Copied, target: int, path: str) -> None:
        """Set owner, mode, attributes and times of a copy, and note what the volume does not take."""
        found = copied.status
        given = self._restore.get(path, {})
        uid, gid = given.get("owner", (found.st_uid, found.st_gid))
        mode = given.get("mode", stat.S_IMODE(found.st_mode))
        mtime_ns = given.get("mtime_ns", found.st_mtime_ns)
        lost: dict[str, Any] = {}
        if not give_owner(target, uid, gid):
            lost["owner"] = [uid, gid]
        attributes = copied.attributes | {key: base64.b64decode(value) for key, value in given.get("attributes", {}).items()}
        refused = give_attributes(target, attributes)
        if refused:
            lost["attributes"] = {key: base64.b64encode(value).decode() for key, value in refused.items()}
        if not give_mode(target, mode, uid, gid):
            lost["mode"] = mode
        # Last: whatever else is given to it sets its times anew.
        with suppress(OSError):
            disk.utime(target, ns=(found.st_atime_ns, mtime_ns))
        if disk.fstat(target).st_mtime_ns != mtime_ns:
            lost["mtime_ns"] = mtime_ns
        if lost:
            self.lost[path] = lost


class _Copied(NamedTuple):
    """What an entry has that a copy is to have, too."""

    status: os.stat_result
    attributes: dict[str, bytes]

    @classmethod
    def of(cls, fd: int) -> _Copied:
        return cls(disk.fstat(fd), attributes_of(fd))


def _is_there(fd: int, name: str) -> bool:
    try:
        disk.stat(name, dir_fd=fd, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return True


@contextmanager
def opened(name: str, flags: int, dir_fd: int) -> Iterator[int]:
    """Open an entry of an open folder; what is made by that, only this account can read for now."""
    descriptor = disk.open(name, flags, 0o600, dir_fd=dir_fd)
    try:
        yield descriptor
    finally:
        disk.close(descriptor)


def copy_bytes(source: int, target: int, size: int, heed: Callable[[], None] = lambda: None) -> None:
    """Copy the bytes of an open file; holes stay holes.

    Args:
        source: a descriptor.
        target: a descriptor of an empty file.
        size: in bytes.
        heed: called before each block; it raises to give up.

    Raises:
        OSError: it cannot be read, or there is no room (ENOSPC).
    """
    at = 0
    while at < size:
        found = disk.next_data(source, at, size)
        if found is None:
            break
        _copy_range(source, target, *found, heed)
        at = found[1]
    os.ftruncate(target, size)


def _copy_range(source: int, target: int, begin: int, end: int, heed: Callable[[], None]) -> None:
    at = begin
    while at < end:
        heed()
        # Within a volume that can share blocks nothing is copied at all.
        try:
            done = disk.copy_range(source, target, min(end - at, _BLOCK), at)
        except OSError as error:
            if error.errno not in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP, errno.EBADF):
                raise
            done = 0
        if done == 0:
            block = disk.pread(source, min(end - at, _BLOCK), at)
            if not block:
                return  # it shrank meanwhile; the comparison tells
            done = 0
            while done < len(block):
                done += disk.pwrite(target, block[done:], at + done)
        at += done
