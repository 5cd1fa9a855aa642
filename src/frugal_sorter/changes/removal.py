"""Where names change: renaming without replacing, and removing the right entry, to which nobody writes."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.filesystem.record import FileRecord, Identity, Place
from frugal_sorter.filesystem.status import READ, OpenFiles, is_unchanged, open_to_read, same_bytes
from frugal_sorter.filesystem.tree import LIST, Cursor, below
from frugal_sorter.platforms import accounts, disk
from frugal_sorter.reasons import NotDone, Reason, Why, reason_of


@contextmanager
def witnessed(fd: int, name: str, kept_fd: int, kept: str) -> Iterator[None]:
    """Compare a file with the one that stays, byte by byte; nobody begins to write to either before the block ends.

    Args:
        fd: a descriptor of the folder of the one that is to go.
        name: its name there.
        kept_fd: a descriptor of the folder of the one that stays.
        kept: its name there.

    Raises:
        NotDone: they are not the same, are one file with a single name, or somebody writes to one of them.
        OSError: one of them is not there, or cannot be read.
    """
    with Lease(fd, name) as going, Lease(kept_fd, kept) as staying:

        def heed() -> None:
            going.heed()
            staying.heed()

        first = open_to_read(Place("", name), fd)
        try:
            second = open_to_read(Place("", kept), kept_fd)
            try:
                # A lease keeps writers out from now on; a change that a program had begun shows in these.
                before = _state(first), _state(second)
                one, other = disk.fstat(first), disk.fstat(second)
                if not stat.S_ISREG(one.st_mode) or not stat.S_ISREG(other.st_mode):
                    raise NotDone(Why.WITNESS_NO_FILE())
                # Two names of one file are compared with themselves: the same bytes, and gone with the last name.
                if (one.st_dev, one.st_ino) == (other.st_dev, other.st_ino) and one.st_nlink < 2:
                    raise NotDone(Why.ONLY_COPY())
                if one.st_size != other.st_size or not same_bytes(first, second, heed):
                    raise NotDone(Why.CONTENTS_CHANGED())
                if before != (_state(first), _state(second)):
                    raise NotDone(Why.WRITTEN_WHILE_COMPARED())
                yield
            finally:
                disk.close(second)
        finally:
            disk.close(first)


def _state(descriptor: int) -> tuple[int, int, int]:
    found = disk.fstat(descriptor)
    return found.st_size, found.st_mtime_ns, found.st_ctime_ns


def same_tree(fd: int, name: str, kept_fd: int, kept: str) -> dict[tuple[int, int], tuple[int, int, int]]:
    """Compare a folder with one that stays, file by file; more may be in the other one.

    Args:
        fd: a descriptor of the folder that the first one is in.
        name: its name there.
        kept_fd: a descriptor of the folder that the other one is in.
        kept: its name there.

    Returns:
        the state of each file of the first folder as it was compared, by device and inode.

    Raises:
        NotDone: something in the first one is not in the other one, or holds other bytes.
        OSError: one of them cannot be read.
    """
    states: dict[tuple[int, int], tuple[int, int, int]] = {}
    first = disk.open(name, LIST, dir_fd=fd)
    try:
        second = disk.open(kept, LIST, dir_fd=kept_fd)
        try:
            with Cursor(second) as cursor:
                for met in below(first):
                    if met.how == "enter":
                        cursor.enter(met.name)
                    elif met.how == "leave":
                        disk.close(cursor.leave())
                    elif stat.S_ISLNK(met.status.st_mode):
                        if disk.readlink(met.name, dir_fd=met.fd) != disk.readlink(met.name, dir_fd=cursor.fd):
                            raise NotDone(Why.LEADS_ELSEWHERE(met.name))
                    else:
                        with witnessed(met.fd, met.name, cursor.fd, met.name):
                            found = disk.stat(met.name, dir_fd=met.fd, follow_symlinks=False)
                            states[found.st_dev, found.st_ino] = (found.st_size, found.st_mtime_ns, found.st_ctime_ns)
        except FileNotFoundError as error:
            raise NotDone(Why.GONE_INSIDE(error.filename)) from None
        finally:
            disk.close(second)
    finally:
        disk.close(first)
    return states


_BUSY = frozenset({errno.EAGAIN, errno.EBUSY})
# Errors that say that a lease is not to be had, rather than that asking failed: no right to read the file, or to
# lease what belongs to another account; a file system without leases; or it is not a file by now.
_CANNOT_ASK = frozenset({
    errno.EACCES, errno.EPERM, errno.EINVAL, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS, errno.ENOLCK, errno.ENXIO,
    errno.ELOOP, errno.ENOENT, errno.ENOTDIR, errno.ENODEV, errno.ETXTBSY,
})  # fmt: skip
_NOT_LEASED = -1


class Lease:
    """A read lease on a file of an open folder, as far as one is available; held until the block is left.

    Args:
        fd: a descriptor of its folder.
        name: its name there.

    Raises:
        NotDone: somebody has the file open for writing, and who; or it cannot be asked for want of descriptors.
    """

    def __init__(self, fd: int, name: str) -> None:
        self.descriptor = _NOT_LEASED
        self._leased = False
        if not disk.CAN_LEASE:
            return
        try:
            self.descriptor = disk.open_alone(name, READ, fd)
            disk.lease(self.descriptor)
            self._leased = True
        except OSError as error:
            if error.errno in _BUSY:
                busy = _writer_of(self.descriptor)
                self.__exit__()
                raise NotDone(busy) from None
            if error.errno not in _CANNOT_ASK:
                self.__exit__()
                raise NotDone(Why.CANNOT_ASK_WRITER((error.strerror or "").lower())) from None

    def __enter__(self) -> Lease:
        return self

    def __exit__(self, *_: object) -> None:
        # A program that waits to write goes on at once: no wait is longer than a look and a rename.
        if self.descriptor != _NOT_LEASED:
            disk.close(self.descriptor)  # gives the lease back
            self.descriptor = _NOT_LEASED

    @property
    def is_broken(self) -> bool:
        """Whether somebody began to wait for the lease, to write."""
        return self._leased and disk.is_broken(self.descriptor)

    def heed(self) -> None:
        """Check that nobody wants to write.

        Raises:
            NotDone: somebody does.
        """
        if self.is_broken:
            raise NotDone(Why.WRITTEN_DURING_RUN())

    def status(self) -> os.stat_result | None:
        """Return the status of the leased file, which nobody changes meanwhile; None without a descriptor."""
        return None if self.descriptor == _NOT_LEASED else disk.fstat(self.descriptor)


def remove_if_free(name: str, fd: int, was: Identity, seen_ns: int) -> bool:
    """Remove a file if it is as planned and nobody writes to it, the quick way; False says to look closer.

    Args:
        name: its name.
        fd: a descriptor of its folder.
        was: what it must be.
        seen_ns: a moment after which it was seen, in ns since the epoch.
    """
    descriptor = _leased_if(name, fd, was, seen_ns)
    if descriptor is None:
        return False
    try:
        disk.unlink(name, dir_fd=fd)
    finally:
        disk.close(descriptor)
    return True


def is_free(name: str, fd: int, was: Identity, seen_ns: int) -> bool:
    """Return True if a file is as planned and nobody writes to it; see `remove_if_free`."""
    descriptor = _leased_if(name, fd, was, seen_ns)
    if descriptor is None:
        return False
    disk.close(descriptor)
    return True


def _leased_if(name: str, fd: int, was: Identity, seen_ns: int) -> int | None:
    """Return a leased descriptor of a file that is as planned, or None."""
    if not disk.CAN_LEASE:
        return None
    try:
        descriptor = disk.open_alone(name, READ, fd)
    except OSError:
        return None
    # The status is asked for after the lease: what is written before that shows in it, and nothing can be after it.
    try:
        disk.lease(descriptor)
        if is_unchanged(disk.fstat(descriptor), was, seen_ns):
            return descriptor
    except OSError:
        pass
    disk.close(descriptor)
    return None


def refuse_writer(fd: int, name: str) -> None:
    """Check that nobody is writing to a file of an open folder at this moment.

    Raises:
        NotDone: somebody is, and who.
    """
    Lease(fd, name).__exit__()


def changed_if(unlike: bool) -> None:
    """Stop where what was looked at is not what was planned.

    Raises:
        NotDone: it is not.
    """
    if unlike:
        raise NotDone(Why.CHANGED())


def _writer_of(descriptor: int) -> Reason:
    if descriptor == _NOT_LEASED:
        return Why.OPEN_FOR_WRITING("another program")
    found = disk.fstat(descriptor)
    who = OpenFiles().holder(Identity("file", found.st_dev, found.st_ino, 0, 0), "")
    return Why.OPEN_FOR_WRITING(who) if who else Why.BEING_WRITTEN("a program that this account cannot see")


# A file system that does not know the flag answers EINVAL; an old kernel ENOSYS.
_NOT_KNOWN = frozenset({errno.EINVAL, errno.ENOSYS, errno.ENOTSUP, errno.EOPNOTSUPP})

# So does one that knows no second name for a file; for a folder that is always the answer.
_NO_LINKS = frozenset({errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK, errno.EINVAL})

Rename = Callable[[int, str, int, str], None]


def by_link(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename a file by giving it its new name, then taking the old one away.

    Between the two it has both names; a kill there is put right when the run is recovered.
    """
    # A link that exists cannot be clobbered either: the system answers that the name is taken.
    disk.link(source, target, src_dir_fd=source_fd, dst_dir_fd=target_fd, follow_symlinks=False)
    linked = disk.stat(target, dir_fd=target_fd, follow_symlinks=False)
    left = disk.stat(source, dir_fd=source_fd, follow_symlinks=False)
    if (left.st_dev, left.st_ino) == (linked.st_dev, linked.st_ino):
        disk.unlink(source, dir_fd=source_fd)


def over_placeholder(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry over a placeholder that was created for it, where there is no better way.

    The name is taken by creating it exclusively. Between the look that the placeholder is still ours
    and empty, and the rename, there is a moment in which another program could write to it; volumes
    that know neither way above (FAT, exFAT) leave no other.
    """
    if stat.S_ISDIR(disk.stat(source, dir_fd=source_fd, follow_symlinks=False).st_mode):
        # The system itself refuses to rename a folder over one that is not empty.
        disk.mkdir(target, dir_fd=target_fd)
        remove = disk.rmdir
    else:
        disk.close(disk.open(target, disk.O_CREAT | disk.O_EXCL | disk.O_WRONLY | disk.O_CLOEXEC, 0o600, dir_fd=target_fd))
        remove = disk.unlink
    try:
        if remove is disk.unlink and disk.stat(target, dir_fd=target_fd, follow_symlinks=False).st_size:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), target)
        disk.replace(source, target, src_dir_fd=source_fd, dst_dir_fd=target_fd)
    except FileExistsError:
        raise
    except OSError:
        remove(target, dir_fd=target_fd)
        raise


def rename_without_replacing(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry of one open folder into another, never over anything.

    Raises:
        FileExistsError: the target name is taken.
        OSError: EXDEV across volumes, EPERM where the file system can do neither way.
    """
    try:
        disk.rename_exclusively(source_fd, source, target_fd, target)
        return
    except OSError as error:
        if error.errno not in _NOT_KNOWN:
            raise
    try:
        by_link(source_fd, source, target_fd, target)
    except OSError as error:
        if error.errno not in _NO_LINKS:
            raise
        over_placeholder(source_fd, source, target_fd, target)


def list_folder(descriptor: int) -> list[str]:
    """Return the names in an open folder, also where it was opened for its path alone."""
    own = disk.open(".", disk.O_RDONLY | disk.O_DIRECTORY | disk.O_CLOEXEC, dir_fd=descriptor)
    try:
        return disk.listdir(own)
    finally:
        disk.close(own)


IsMeant = Callable[[os.stat_result], bool]


def same_as(record: FileRecord) -> IsMeant:
    """Return what tells whether a status is that of an entry that was looked at before, to its last change."""

    def is_same(found: os.stat_result) -> bool:
        identity = record.identity
        return (found.st_dev, found.st_ino, found.st_mode, found.st_mtime_ns, found.st_ctime_ns) == (
            identity.dev,
            identity.ino,
            record.mode,
            record.mtime_ns,
            record.ctime_ns,
        )

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
    # Opening what is not a file can have effects of its own.
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
            raise NotDone(Why.NOT_RENAMED_BACK(private, reason_of(failed))) from error
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
    """Remove an entry of an open folder with everything in it; no link is followed.

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
    """Check that a folder can be removed with everything in it, before the first of it goes.

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
                    raise NotDone(busy.reason.reworded(f"{path} inside is {busy.reason}")) from None
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
        raise NotDone(Why.NO_RIGHT_TO_REMOVE(where))
