"""The functions of `os`, and what that does not have everywhere.

`open` is stricter: with an absolute path, O_NOFOLLOW is about the whole path. No link is followed anywhere on it.
"""

from __future__ import annotations

import errno
import fcntl
import os
import signal
import sys
from collections.abc import Callable, Iterable
from functools import cache
from itertools import count
from operator import attrgetter
from typing import Any, TypeVar

assert sys.platform != "win32"

from os import (
    O_APPEND,
    O_CLOEXEC,
    O_CREAT,
    O_DIRECTORY,
    O_EXCL,
    O_NOCTTY,
    O_NOFOLLOW,
    O_NONBLOCK,
    O_RDONLY,
    O_RDWR,
    O_TRUNC,
    O_WRONLY,
    access,
    close,
    fchmod,
    fchown,
    fstat,
    fsync,
    link,
    listdir,
    lstat,
    mkdir,
    pread,
    pwrite,
    readlink,
    readv,
    replace,
    rmdir,
    scandir,
    stat,
    symlink,
    unlink,
    utime,
    walk,
)
from os.path import exists, isdir, isfile, islink, ismount

O_PATH: int = getattr(os, "O_PATH", os.O_RDONLY)
O_NOATIME: int = getattr(os, "O_NOATIME", 0)
BLOCK_BYTES = 512
# Whether an attribute can hide an entry, whatever its name.
HAS_HIDING_ATTRIBUTE = False
Entry = os.DirEntry[str]
Named = TypeVar("Named")


def hidden_among(entries: Iterable[Named]) -> tuple[list[Named], list[str]]:
    """Return the entries of a folder that no attribute hides, and the names of those that one does: none here."""
    return list(entries), []


def hide(name: str, fd: int) -> None:
    """Hide an entry of an open folder by an attribute: names do that here."""


def make_private(name: str, fd: int) -> None:
    """Let nobody but this account into a folder: the mode that it was made with does that here."""


# openat2(2): the same number on every processor; RESOLVE_NO_SYMLINKS; a path of so many letters, of up to four bytes each, may be
# longer than the system takes.
_OPENAT2, _NO_LINKS, _LONG = 437, 0x04, 1_000
# Loading ctypes takes as long as this many folders that are opened name by name.
_FEW, _opened = 200, count()


@cache
def _openat2() -> Callable[[str, int, int], int] | None:
    """Return openat2(2) without links, for opening many folders: it takes a quarter of the time. None where it is missing."""
    if sys.platform != "linux":
        return None
    import ctypes
    import struct

    call, encoding = ctypes.CDLL(None, use_errno=True).syscall, sys.getfilesystemencoding()

    def opened(path: str, flags: int, mode: int) -> int:
        how = struct.pack("=QQQ", flags, mode if flags & O_CREAT else 0, _NO_LINKS)
        found: int = call(_OPENAT2, -100, path.encode(encoding, "surrogateescape"), how, len(how))
        if found < 0:
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), path)
        return found

    try:
        os.close(opened("/", O_RDONLY | O_DIRECTORY | O_CLOEXEC, 0))
    except OSError:
        return None  # an older system, or a sandbox that does not let it through
    return opened


def open(path: str | os.PathLike[str], flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
    """Open a file as `os.open` does; with O_NOFOLLOW, no component of an absolute path may be a link.

    Raises:
        OSError: ELOOP where one is.
    """
    if dir_fd is not None or not flags & O_NOFOLLOW or not (name := os.fspath(path)).startswith("/"):
        return os.open(path, flags, mode, dir_fd=dir_fd)
    if len(name) < _LONG and next(_opened) > _FEW and (call := _openat2()) is not None:
        return call(name, flags, mode)
    return _descend(name, flags, mode)


def lexists(path: str | os.PathLike[str]) -> bool:
    """Return True if there is an entry, also a link that leads nowhere, and below more folders than one call can name."""
    try:
        os.lstat(path)
    except ValueError:
        return False
    except OSError as error:
        if error.errno != errno.ENAMETOOLONG:
            return False
        return _is_in(*os.path.split(path))
    return True


def _is_in(folder: str, name: str) -> bool:
    try:
        descriptor = open(folder, O_PATH | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC)
    except OSError:
        return False
    try:
        os.lstat(name, dir_fd=descriptor)
    except OSError:
        return False
    finally:
        os.close(descriptor)
    return True


def _descend(path: str, flags: int, mode: int) -> int:
    *above, last = [name for name in path.split("/") if name] or ["."]
    folder = os.open("/", O_PATH | O_DIRECTORY | O_CLOEXEC)
    try:
        for name in above:
            below = os.open(name, O_PATH | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC, dir_fd=folder)
            os.close(folder)
            folder = below
        return os.open(last, flags, mode, dir_fd=folder)
    finally:
        os.close(folder)


# How many blocks of 512 bytes an entry takes on its disk.
blocks_of: Callable[[os.stat_result], int] = attrgetter("st_blocks")


def used_bytes(found: os.stat_result) -> int:
    """Return how many bytes an entry takes on its disk."""
    return found.st_blocks * BLOCK_BYTES


def copy_range(source: int, target: int, count: int, at: int) -> int:
    """Let the system copy bytes from one open file to the same place of another; return how many.

    Raises:
        OSError: EXDEV, EINVAL, ENOSYS or EOPNOTSUPP where it cannot.
    """
    if sys.platform == "linux":
        return os.copy_file_range(source, target, count, at, at)
    return 0


def forget_cached(descriptor: int) -> None:
    """Drop a file's contents from the system's memory, where it allows that, so that they are read from the disk."""
    if sys.platform == "linux":
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)


def reserve(descriptor: int, size: int) -> None:
    """Reserve this many bytes of the disk for an open empty file.

    Raises:
        OSError: ENOSPC.
    """
    if sys.platform == "linux":
        os.posix_fallocate(descriptor, 0, size)
    else:
        os.pwrite(descriptor, bytes(size), 0)


def next_data(descriptor: int, at: int, size: int) -> tuple[int, int] | None:
    """Return where the next bytes of a file that are not a hole begin and end; None where only a hole is left.

    Args:
        descriptor: of the file.
        at: where to begin.
        size: of the file, in bytes.
    """
    try:
        begin = os.lseek(descriptor, at, os.SEEK_DATA)
        return begin, min(os.lseek(descriptor, begin, os.SEEK_HOLE), size)
    except OSError as error:
        return None if error.errno == errno.ENXIO else (at, size)


# Leases

# A read lease (fcntl(2), F_SETLEASE), as Linux has them; macOS has none.
#
# It is granted only while nobody has the file open for writing, and whoever opens it for writing then waits until the
# lease is given back, for at most /proc/sys/fs/lease-break-time. The holder of a lease that somebody waits for gets a
# signal: by default SIGIO, which ends a process. So another one is asked for, which is ignored by default.
CAN_LEASE = sys.platform == "linux"


def open_alone(name: str, flags: int, fd: int) -> int:
    """Open a file of an open folder so that nobody can begin to write to it, once it is leased.

    Raises:
        OSError: it cannot be opened.
    """
    return os.open(name, flags, dir_fd=fd)


def lease(descriptor: int) -> None:
    """Lease an open file; closing it gives the lease back.

    Raises:
        OSError: EAGAIN where somebody has it open for writing; another one where that cannot be asked.
    """
    if sys.platform == "linux":
        fcntl.fcntl(descriptor, fcntl.F_SETSIG, signal.SIGURG)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_RDLCK)


def is_broken(descriptor: int) -> bool:
    """Return True if somebody began to wait for a lease, to write."""
    return sys.platform == "linux" and fcntl.fcntl(descriptor, fcntl.F_GETLEASE) != fcntl.F_RDLCK


_ENCODING = sys.getfilesystemencoding()


@cache
def _function(name: str) -> Any | None:
    """Return a function of the C library, None where it has none of that name; most commands call none."""
    import ctypes

    return getattr(ctypes.CDLL(None, use_errno=True), name, None)


def rename_by(name: str, exclusively: int, source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry of one open folder into another, never over anything, by a call and its flag for that.

    Raises:
        OSError: EEXIST where the name is taken; ENOSYS where the system has no such call.
    """
    import ctypes

    call = _function(name)
    if call is None:
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS), source)
    old = source.encode(_ENCODING, "surrogateescape")
    new = old if source == target else target.encode(_ENCODING, "surrogateescape")
    if call(source_fd, old, target_fd, new, ctypes.c_uint(exclusively)) != 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code), source, None, target)


def rename_exclusively(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename by renameat2(2) with RENAME_NOREPLACE; see `rename_by`."""
    rename_by("renameat2", 1, source_fd, source, target_fd, target)


def sync_volume(descriptor: int) -> None:
    """Wait until everything that was written to the volume of an open folder is on the disk (syncfs(2))."""
    # A descriptor that was opened for its path alone cannot be synced.
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=descriptor)
    try:
        # os.sync waits for every volume of the machine, a slow stick among them; this one waits for its own.
        call = _function("syncfs")
        if call is None:
            os.sync()
        elif call(own) != 0:
            import ctypes

            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code))
    finally:
        os.close(own)


def sync_folder(descriptor: int) -> None:
    """Wait until the names in an open folder are on the disk."""
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=descriptor)
    try:
        os.fsync(own)
    finally:
        os.close(own)


def statx() -> Any | None:
    """Return statx(2) of the C library, None where there is none."""
    call = _function("statx") if sys.platform == "linux" else None
    if call is not None:
        import ctypes

        call.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p]
    return call


def device(major: int, minor: int) -> int:
    """Return the number of a device, as a status has it."""
    return os.makedev(major, minor)
