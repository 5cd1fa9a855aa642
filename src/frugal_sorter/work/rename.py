"""Renames that cannot clobber: the kernel itself refuses a name that is taken."""

from __future__ import annotations

import ctypes
import errno
import os
import sys
from collections.abc import Callable

_NO_REPLACE = 1
# A file system that does not know the flag answers EINVAL; an old kernel ENOSYS.
_NOT_KNOWN = frozenset({errno.EINVAL, errno.ENOSYS, errno.ENOTSUP})

Rename = Callable[[int, str, int, str], None]


def _renameat2() -> Rename | None:
    if not sys.platform.startswith("linux"):
        return None
    call = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if call is None:
        return None
    call.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint]

    def rename(source_fd: int, source: str, target_fd: int, target: str) -> None:
        if call(source_fd, os.fsencode(source), target_fd, os.fsencode(target), _NO_REPLACE) != 0:
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), source, None, target)

    return rename


def by_link(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename a file by giving it its new name, then taking the old one away.

    Between the two it has both names; a kill there is put right when the run is settled.
    """
    os.link(source, target, src_dir_fd=source_fd, dst_dir_fd=target_fd, follow_symlinks=False)
    os.unlink(source, dir_fd=source_fd)


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
    by_link(source_fd, source, target_fd, target)
