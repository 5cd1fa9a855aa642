"""Taking names away; every file, link and folder that goes for good goes through here.

The laws: a file is leased before the last look at it, until its name is gone. What nobody asked to be removed
(by an undo, a recovery, as a duplicate, or as the source of a move) is first renamed to a private name and
looked at there, so that whatever slipped in at the last moment is put back.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable

from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.changes.leases import Lease, changed_if, refuse_writer
from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.changes.rename import rename_without_replacing
from frugal_sorter.filesystem.record import FileRecord, Identity
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import accounts, disk

IsMeant = Callable[[os.stat_result], bool]


def same_as(record: FileRecord) -> IsMeant:
    """Return what tells whether a status is that of an entry that was looked at before, to its last change."""

    def is_same(found: os.stat_result) -> bool:
        identity = record.identity
        return (found.st_dev, found.st_ino, found.st_mode, found.st_mtime_ns, found.st_ctime_ns) == (
            identity.dev, identity.ino, record.mode, record.mtime_ns, record.ctime_ns,
        )  # fmt: skip

    return is_same


def numbered_as(identity: Identity) -> IsMeant:
    """Return what tells whether a status is of an entry with the numbers of one, whatever became of its contents."""
    return lambda found: (found.st_dev, found.st_ino) == (identity.dev, identity.ino)


def remove_name(fd: int, name: str, is_meant: IsMeant, private: str = "", lease: Lease | None = None) -> None:
    """Remove a file or link of an open folder.

    Args:
        fd: a descriptor of its folder.
        name: its name there.
        is_meant: tells by its status, taken while nobody writes, whether it is the one to remove.
        private: the name under which it is looked at once more; empty to remove it where it is.
        lease: one that is held on it already.

    Raises:
        NotDone: it is another one, or somebody writes to it; it has its name.
        OSError: it cannot be removed; it has its name.
    """
    found = disk.stat(name, dir_fd=fd, follow_symlinks=False)
    # Opening what is no file can have effects of its own.
    if lease is None and stat.S_ISREG(found.st_mode):
        with Lease(fd, name) as own:
            remove_name(fd, name, is_meant, private, own)
        return
    changed_if(not is_meant(found) or stat.S_ISDIR(found.st_mode))
    leased = lease.status() if lease is not None else None
    changed_if(leased is not None and (leased.st_dev, leased.st_ino) != (found.st_dev, found.st_ino))
    if not private:
        disk.unlink(name, dir_fd=fd)
        return
    # Between a look and an unlink another file can get the name; under a name that nobody can guess none can.
    time = FolderTime(fd)
    rename_without_replacing(fd, name, fd, private)
    time.note()
    try:
        now = disk.stat(private, dir_fd=fd, follow_symlinks=False)
        # The rename itself changes the time of the last change; all else must be as it was.
        changed_if(_numbers(now) != _numbers(found))
        if lease is not None:
            lease.heed()
        disk.unlink(private, dir_fd=fd)
    except (NotDone, OSError) as error:
        is_ours = time.is_ours()
        try:
            rename_without_replacing(fd, private, fd, name)
        except OSError as failed:
            raise NotDone(Outcome.OPEN, f"set aside as {private} and not put back: {reason_of(failed)}") from error
        if is_ours:
            time.give_back()
        raise


def _numbers(found: os.stat_result) -> tuple[int, ...]:
    return found.st_dev, found.st_ino, found.st_mode, found.st_size, found.st_mtime_ns


def remove_note(fd: int, name: str) -> None:
    """Remove a file of this tool's own making that says where something was, such as an info file of a trash.

    Raises:
        OSError: it cannot be removed.
    """
    disk.unlink(name, dir_fd=fd)


def remove_folder(fd: int, name: str) -> None:
    """Remove an empty folder of an open one.

    Raises:
        OSError: it is not empty, or cannot be removed.
    """
    disk.rmdir(name, dir_fd=fd)


def remove_tree(fd: int, name: str, is_wanted: Callable[[int, str, os.stat_result], None] | None = None) -> None:
    """Remove an entry of an open folder with all that is in it; no link is followed.

    Args:
        fd: a descriptor of its folder.
        name: its name there.
        is_wanted: asked before each file goes, with a descriptor of its folder, its name and its status; raises
            NotDone to stop there.

    Raises:
        NotDone: a file in it is being written to, or is another one by now; what was removed before it is gone.
        OSError: something cannot be removed; what was removed before it is gone.
    """
    try:
        opened = disk.open(name, LIST, dir_fd=fd)
    except OSError as error:
        if error.errno not in (errno.ENOTDIR, errno.ELOOP):
            raise
        found = disk.stat(name, dir_fd=fd, follow_symlinks=False)
        remove_name(fd, name, lambda now: _numbers(now) == _numbers(found))
        return
    try:
        for met in below(opened):
            if met.how == "leave":
                remove_folder(met.fd, met.name)
            elif met.how == "entry":
                if is_wanted is not None:
                    is_wanted(met.fd, met.name, met.status)
                numbers = _numbers(met.status)
                remove_name(met.fd, met.name, lambda now, numbers=numbers: _numbers(now) == numbers)  # type: ignore[misc]
    finally:
        disk.close(opened)
    remove_folder(fd, name)


def refuse_unremovable(fd: int, name: str) -> None:
    """Check that a folder can be removed with all that is in it, before the first of it goes.

    Raises:
        NotDone: somebody writes to a file in it, or this account may not change a folder in it.
        OSError: it cannot be looked into.
    """
    opened = disk.open(name, LIST, dir_fd=fd)
    try:
        _refuse_unchangeable(fd, name, disk.fstat(opened), "")
        way: list[str] = []
        for met in below(opened):
            path = "/".join([*way[-3:], met.name])
            if met.how == "enter":
                _refuse_unchangeable(met.fd, met.name, met.status, path)
                way.append(met.name)
            elif met.how == "leave":
                way.pop()
            elif stat.S_ISREG(met.status.st_mode):
                try:
                    refuse_writer(met.fd, met.name)
                except NotDone as busy:
                    raise NotDone(busy.outcome, f"{path} inside is {busy.reason}") from None
    finally:
        disk.close(opened)


def _refuse_unchangeable(fd: int, name: str, found: os.stat_result, path: str) -> None:
    me = accounts.user_id()
    may = disk.access(name, os.W_OK | os.X_OK, dir_fd=fd, effective_ids=True, follow_symlinks=False)
    # In a sticky folder only its owner may take away what belongs to others.
    if found.st_mode & stat.S_ISVTX and me not in (0, found.st_uid):
        inside = disk.open(name, LIST, dir_fd=fd)
        try:
            with disk.scandir(inside) as entries:
                may = may and all(entry.stat(follow_symlinks=False).st_uid == me for entry in entries)
        finally:
            disk.close(inside)
    if not may:
        where = f"{path} inside" if path else "the folder"
        raise NotDone(Outcome.FAILED, f"this account may not take anything out of {where}")
