"""The functions of the system, with their types, and what their errors mean."""

from __future__ import annotations

import ctypes
import errno
import sys
import time
from collections.abc import Callable
from ctypes import wintypes
from typing import Any

assert sys.platform == "win32"


KERNEL = ctypes.WinDLL("kernel32", use_last_error=True)
# What stands in for the system on others has the time of the last change in its place.
KEEPS_BIRTHS = not hasattr(ctypes.WinDLL("ntdll"), "wine_get_version")
INVALID = ctypes.c_void_p(-1).value
# Access and sharing (winnt.h).
READ_ATTRIBUTES, WRITE_ATTRIBUTES, LIST_FOLDER = 0x80, 0x100, 0x1
GENERIC_READ, GENERIC_WRITE = 0x80000000, 0x40000000
SHARE_READ, SHARE_WRITE, SHARE_DELETE = 1, 2, 4
SHARE_ALL = SHARE_READ | SHARE_WRITE | SHARE_DELETE
CREATE_NEW, CREATE_ALWAYS, OPEN_EXISTING, OPEN_ALWAYS, TRUNCATE_EXISTING = 1, 2, 3, 4, 5
ALSO_FOLDERS, THE_LINK_ITSELF = 0x02000000, 0x00200000
READONLY, HIDDEN, SYSTEM, DIRECTORY, REPARSE_POINT, OFFLINE, NORMAL = 0x1, 0x2, 0x4, 0x10, 0x400, 0x1000, 0x80
# Reading such a file would fetch it from elsewhere.
ELSEWHERE = OFFLINE | 0x00040000 | 0x00400000
SHARING_VIOLATION, END_OF_FILE, NOT_SAME_DEVICE = 32, 38, 17
_ERRORS = {
    1: errno.ENOTSUP, 2: errno.ENOENT, 3: errno.ENOENT, 4: errno.EMFILE, 5: errno.EACCES, 17: errno.EXDEV, 19: errno.EROFS,
    21: errno.ENXIO, 32: errno.EBUSY, 33: errno.EBUSY, 39: errno.ENOSPC, 50: errno.ENOTSUP, 53: errno.ENOENT,
    67: errno.ENOENT, 80: errno.EEXIST, 87: errno.EINVAL, 112: errno.ENOSPC, 123: errno.ENOENT, 145: errno.ENOTEMPTY,
    161: errno.ENOENT, 183: errno.EEXIST, 206: errno.ENAMETOOLONG, 267: errno.ENOTDIR, 1314: errno.EPERM,
}  # fmt: skip
_WORDS = {32: "open in another program", 33: "locked by another program"}
# A scanner holds a file for a moment after it was written; who asks again gets it.
_WAITS_SECONDS = (0.01, 0.04, 0.16)


class Overlapped(ctypes.Structure):
    """OVERLAPPED: where in a file to read or write."""

    _fields_ = (
        ("internal", ctypes.c_void_p),
        ("internal_high", ctypes.c_void_p),
        ("offset", wintypes.DWORD),
        ("offset_high", wintypes.DWORD),
        ("event", wintypes.HANDLE),
    )


class BasicInfo(ctypes.Structure):
    """FILE_BASIC_INFO: times in 100 ns since 1601, and attributes."""

    _fields_ = (
        ("created", ctypes.c_int64),
        ("accessed", ctypes.c_int64),
        ("written", ctypes.c_int64),
        ("changed", ctypes.c_int64),
        ("attributes", wintypes.DWORD),
    )


class StandardInfo(ctypes.Structure):
    """FILE_STANDARD_INFO."""

    _fields_ = (
        ("allocated", ctypes.c_int64),
        ("size", ctypes.c_int64),
        ("links", wintypes.DWORD),
        ("pending", wintypes.BOOLEAN),
        ("is_folder", wintypes.BOOLEAN),
    )


class IdInfo(ctypes.Structure):
    """FILE_ID_INFO."""

    _fields_ = (("volume", ctypes.c_uint64), ("id", ctypes.c_uint64 * 2))


class HandleInfo(ctypes.Structure):
    """BY_HANDLE_FILE_INFORMATION."""

    _fields_ = (
        ("attributes", wintypes.DWORD), ("created", wintypes.FILETIME), ("accessed", wintypes.FILETIME),
        ("written", wintypes.FILETIME), ("volume", wintypes.DWORD), ("size_high", wintypes.DWORD), ("size_low", wintypes.DWORD),
        ("links", wintypes.DWORD), ("id_high", wintypes.DWORD), ("id_low", wintypes.DWORD),
    )  # fmt: skip


class TagInfo(ctypes.Structure):
    """FILE_ATTRIBUTE_TAG_INFO."""

    _fields_ = (("attributes", wintypes.DWORD), ("tag", wintypes.DWORD))


BASIC, STANDARD, TAG, ID = 0, 1, 9, 18


def _typed(name: str, result: Any, *arguments: Any) -> Any:
    function = getattr(KERNEL, name)
    function.restype, function.argtypes = result, arguments
    return function


_H, _S, _D, _B, _P = wintypes.HANDLE, wintypes.LPCWSTR, wintypes.DWORD, wintypes.BOOL, ctypes.c_void_p
create_file = _typed("CreateFileW", _H, _S, _D, _D, _P, _D, _D, _H)
close_handle = _typed("CloseHandle", _B, _H)
get_info = _typed("GetFileInformationByHandleEx", _B, _H, ctypes.c_int, _P, _D)
set_info = _typed("SetFileInformationByHandle", _B, _H, ctypes.c_int, _P, _D)
get_handle_info = _typed("GetFileInformationByHandle", _B, _H, _P)
final_path = _typed("GetFinalPathNameByHandleW", _D, _H, wintypes.LPWSTR, _D, _D)
read_file = _typed("ReadFile", _B, _H, _P, _D, _P, _P)
write_file = _typed("WriteFile", _B, _H, _P, _D, _P, _P)
create_directory = _typed("CreateDirectoryW", _B, _S, _P)
remove_directory = _typed("RemoveDirectoryW", _B, _S)
delete_file = _typed("DeleteFileW", _B, _S)
move_file = _typed("MoveFileExW", _B, _S, _S, _D)
create_hard_link = _typed("CreateHardLinkW", _B, _S, _S, _P)
set_attributes = _typed("SetFileAttributesW", _B, _S, _D)
get_attributes = _typed("GetFileAttributesW", _D, _S)
volume_information = _typed("GetVolumeInformationW", _B, _S, wintypes.LPWSTR, _D, _P, _P, _P, wintypes.LPWSTR, _D)
logical_drives = _typed("GetLogicalDrives", _D)
drive_type = _typed("GetDriveTypeW", wintypes.UINT, _S)
peek_pipe = _typed("PeekNamedPipe", _B, _H, _P, _D, _P, _P, _P)


def error_of(code: int, *names: str) -> OSError:
    """Return an error of the system as one that the program knows on every system."""
    words = _WORDS.get(code) or ctypes.FormatError(code).strip().rstrip(".")
    first = names[0] if names else None
    return OSError(_ERRORS.get(code, errno.EIO), words, first)


def check(result: Any, *names: str) -> Any:
    """Return what a function returned, if it is not nothing.

    Raises:
        OSError: it failed, and why.
    """
    if not result or result == INVALID:
        raise error_of(ctypes.get_last_error(), *names)
    return result


def persistently(call: Callable[[], Any], *names: str) -> None:
    """Call a function until it succeeds, as long as somebody may hold the file for a moment.

    Raises:
        OSError: it failed, and why.
    """
    for wait in (*_WAITS_SECONDS, None):
        if call():
            return
        code = ctypes.get_last_error()
        if code != SHARING_VIOLATION or wait is None:
            raise error_of(code, *names)
        time.sleep(wait)
