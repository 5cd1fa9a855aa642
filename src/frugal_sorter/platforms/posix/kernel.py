"""Calls that Python does not have: on Linux renameat2, syncfs and statx, on macOS renameatx_np."""

from __future__ import annotations

import ctypes
import os
import sys
from collections.abc import Callable
from typing import Any

assert sys.platform != "win32"


_ENCODING = sys.getfilesystemencoding()
# Linux: RENAME_NOREPLACE of renameat2(2). macOS: RENAME_EXCL of renameatx_np(2).
_CALL, _EXCLUSIVELY = ("renameatx_np", 4) if sys.platform == "darwin" else ("renameat2", 1)


def _function(name: str) -> Any | None:
    return getattr(ctypes.CDLL(None, use_errno=True), name, None)


def _exclusive_rename() -> Callable[[int, str, int, str], None] | None:
    call = _function(_CALL)
    if call is None:
        return None
    call.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint]

    def rename(source_fd: int, source: str, target_fd: int, target: str) -> None:
        old = source.encode(_ENCODING, "surrogateescape")
        new = old if source == target else target.encode(_ENCODING, "surrogateescape")
        if call(source_fd, old, target_fd, new, _EXCLUSIVELY) != 0:
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), source, None, target)

    return rename


# None where the system has no such call.
rename_exclusively = _exclusive_rename()


def sync_volume(descriptor: int) -> None:
    """Wait until all that was written to the volume of an open folder is on the disk (syncfs(2))."""
    # A descriptor that was opened for its path alone cannot be synced.
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=descriptor)
    try:
        # os.sync waits for every volume of the machine, a slow stick among them; this one waits for its own.
        call = _function("syncfs")
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


def statx() -> Any | None:
    """Return statx(2) of the C library, None where there is none."""
    call = getattr(ctypes.CDLL(None, use_errno=True), "statx", None) if sys.platform == "linux" else None
    if call is not None:
        call.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p]
    return call


def device(major: int, minor: int) -> int:
    """Return the number of a device, as a status has it."""
    return os.makedev(major, minor)
