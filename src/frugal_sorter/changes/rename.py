"""Renames that cannot clobber: the kernel itself refuses a name that is taken."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable

from frugal_sorter.platforms import disk, kernel

# A file system that does not know the flag answers EINVAL; an old kernel ENOSYS.
_NOT_KNOWN = frozenset({errno.EINVAL, errno.ENOSYS, errno.ENOTSUP})

# So does one that knows no second name for a file; for a folder that is always the answer.
_NO_LINKS = frozenset({errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK, errno.EINVAL})

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
        disk.close(
            disk.open(target, disk.O_CREAT | disk.O_EXCL | disk.O_WRONLY | disk.O_CLOEXEC, 0o600, dir_fd=target_fd)
        )
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
    if kernel.rename_exclusively is not None:
        try:
            kernel.rename_exclusively(source_fd, source, target_fd, target)
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
