"""Whether somebody is writing to a file: asked of the kernel, which knows for certain.

How each system is asked stands in `platforms.leases`. Where the system or the rights do not allow to ask, nobody is taken
to be writing; that there is no descriptor left to ask with is another matter, and an error.
"""

from __future__ import annotations

import errno
import os

from frugal_sorter.changes.outcome import CHANGED, NotDone, Outcome
from frugal_sorter.filesystem.open_files import OpenFiles
from frugal_sorter.filesystem.record import Identity
from frugal_sorter.filesystem.status import READ, is_unchanged
from frugal_sorter.platforms import disk

_BUSY = frozenset({errno.EAGAIN, errno.EBUSY})
# What says that nobody can be asked, rather than that asking failed: no right to read the file, or to
# lease what belongs to another account; a file system without leases; or it is no file by now.
_CANNOT_ASK = frozenset({
    errno.EACCES, errno.EPERM, errno.EINVAL, errno.ENOTSUP, errno.ENOSYS, errno.ENOLCK, errno.ENXIO, errno.ELOOP,
    errno.ENOENT, errno.ENOTDIR, errno.ENODEV, errno.ETXTBSY,
})  # fmt: skip
_NOT_LEASED = -1


class Lease:
    """A read lease on a file of an open folder, as far as one can be had; held until the block is left.

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
                why = _writer_of(self.descriptor)
                self.__exit__()
                raise NotDone(Outcome.NOT_RUN, why) from None
            if error.errno not in _CANNOT_ASK:
                self.__exit__()
                why = f"it cannot be asked whether somebody is writing to it: {(error.strerror or '').lower()}"
                raise NotDone(Outcome.FAILED, why) from None

    def __enter__(self) -> Lease:
        return self

    def __exit__(self, *_: object) -> None:
        # Whoever waits to write goes on at once: no wait is longer than a look and a rename.
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
            raise NotDone(Outcome.NOT_RUN, "a program began to write to it")

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
        raise NotDone(Outcome.SKIPPED, CHANGED)


def _writer_of(descriptor: int) -> str:
    if descriptor == _NOT_LEASED:
        return "open for writing in another program"
    found = disk.fstat(descriptor)
    who = OpenFiles().holder(Identity("file", found.st_dev, found.st_ino, 0, 0), "")
    return f"open for writing in {who}" if who else "open for writing in a program that this account cannot see"
