"""Renames that cannot clobber: the kernel itself refuses a name that is taken."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import sys
from collections.abc import Callable

_NO_REPLACE = 1
# A file system that does not know the flag answers EINVAL; an old kernel ENOSYS.
_NOT_KNOWN = frozenset({errno.EINVAL, errno.ENOSYS, errno.ENOTSUP})

# So does one that knows no second name for a file; for a folder that is always the answer.
_NO_LINKS = frozenset({errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK, errno.EINVAL})
_ENCODING = sys.getfilesystemencoding()

Rename = Callable[[int, str, int, str], None]


def _renameat2() -> Rename | None:
    if not sys.platform.startswith("linux"):
        return None
    call = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if call is None:
        return None
    call.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint]

    def rename(source_fd: int, source: str, target_fd: int, target: str) -> None:
        old = source.encode(_ENCODING, "surrogateescape")
        new = old if source == target else target.encode(_ENCODING, "surrogateescape")
        if call(source_fd, old, target_fd, new, _NO_REPLACE) != 0:
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), source, None, target)

    return rename


def by_link(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename a file by giving it its new name, then taking the old one away.

    Between the two it has both names; a kill there is put right when the run is recovered.
    """
    # A link that exists cannot be clobbered either: the system answers that the name is taken.
    os.link(source, target, src_dir_fd=source_fd, dst_dir_fd=target_fd, follow_symlinks=False)
    linked = os.stat(target, dir_fd=target_fd, follow_symlinks=False)
    left = os.stat(source, dir_fd=source_fd, follow_symlinks=False)
    if (left.st_dev, left.st_ino) == (linked.st_dev, linked.st_ino):
        os.unlink(source, dir_fd=source_fd)


def over_placeholder(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry over a placeholder that was created for it, where there is no better way.

    The name is taken by creating it exclusively. Between the look that the placeholder is still ours
    and empty, and the rename, there is a moment in which another program could write to it; volumes
    that know neither way above (FAT, exFAT) leave no other.
    """
    if stat.S_ISDIR(os.stat(source, dir_fd=source_fd, follow_symlinks=False).st_mode):
        # The system itself refuses to rename a folder over one that is not empty.
        os.mkdir(target, dir_fd=target_fd)
        remove = os.rmdir
    else:
        os.close(os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_CLOEXEC, 0o600, dir_fd=target_fd))
        remove = os.unlink
    try:
        if remove is os.unlink and os.stat(target, dir_fd=target_fd, follow_symlinks=False).st_size:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), target)
        os.rename(source, target, src_dir_fd=source_fd, dst_dir_fd=target_fd)
    except FileExistsError:
        raise
    except OSError:
        remove(target, dir_fd=target_fd)
        raise


_by_kernel = _renameat2()


def rename_without_replacing(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry of one open folder into another, never over anything.

    Raises:
        FileExistsError: the target name is taken.
        OSError: EXDEV across volumes, EPERM where the file system can do neither way.
    """
    if _by_kernel is not None:
        try:
            _by_kernel(source_fd, source, target_fd, target)
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
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=descriptor)
    try:
        return os.listdir(own)
    finally:
        os.close(own)


def sync_volume(descriptor: int) -> None:
    """Wait until all that was written to the volume of an open folder is on the disk (syncfs(2))."""
    # A descriptor that was opened for its path alone cannot be synced.
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=descriptor)
    try:
        # os.sync waits for every volume of the machine, a slow stick among them; this one waits for its own.
        call = getattr(ctypes.CDLL(None, use_errno=True), "syncfs", None)
        if call is None:
            os.sync()
        elif call(own) != 0:
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
