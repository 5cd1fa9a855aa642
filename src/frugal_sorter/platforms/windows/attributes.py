"""The other streams of a file, such as the one that says where it came from, and its attributes."""

from __future__ import annotations

import ctypes
import errno
import sys
from ctypes import wintypes

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api, disk
from frugal_sorter.platforms.windows.slashed import native

# Tags and comments have no place here that other programs read.
ARE_KEPT = False
# Attributes, as four bytes; those that say something of the entry rather than of how it is stored.
_ATTRIBUTES = "attributes"
_ZONE = "Zone.Identifier"
_TOLD = api.HIDDEN | api.SYSTEM
_MOST_BYTES = 64_000_000


class _Stream(ctypes.Structure):
    """WIN32_FIND_STREAM_DATA."""

    _fields_ = (("size", ctypes.c_int64), ("name", wintypes.WCHAR * 296))


def _named(path: str | int) -> str:
    return disk.path_of(path) if isinstance(path, int) else path


def listxattr(path: str | int, *, follow_symlinks: bool = True) -> list[str]:
    """Return the names of what an entry has beside its contents."""
    full = _named(path)
    found = [_ATTRIBUTES] if disk.lstat(full).st_file_attributes & _TOLD else []
    first = getattr(api.KERNEL, "FindFirstStreamW", None)
    if first is None:
        return found
    first.restype, first.argtypes = wintypes.HANDLE, (wintypes.LPCWSTR, ctypes.c_int, ctypes.c_void_p, wintypes.DWORD)
    api.KERNEL.FindNextStreamW.argtypes = (wintypes.HANDLE, ctypes.c_void_p)
    api.KERNEL.FindClose.argtypes = (wintypes.HANDLE,)
    stream = _Stream()
    handle = first(native(full), 0, ctypes.byref(stream), 0)
    if handle == api.INVALID:
        return found
    try:
        while True:
            name = stream.name.removeprefix(":").removesuffix(":$DATA")
            if name:
                found.append(name)
            if not api.KERNEL.FindNextStreamW(handle, ctypes.byref(stream)):
                return found
    finally:
        api.KERNEL.FindClose(handle)


def getxattr(path: str | int, name: str, *, follow_symlinks: bool = True) -> bytes:
    """Return one of them.

    Raises:
        OSError: there is none of that name, or it is larger than 64 MB.
    """
    full = _named(path)
    if name == _ATTRIBUTES:
        return (disk.lstat(full).st_file_attributes & _TOLD).to_bytes(4, "little")
    with open(f"{native(full)}:{name}", "rb") as file:
        value = file.read(_MOST_BYTES + 1)
    if len(value) > _MOST_BYTES:
        raise OSError(errno.EFBIG, "a stream of it is larger than 64 MB", full)
    return value


def setxattr(path: str | int, name: str, value: bytes) -> None:
    """Set one of them.

    Raises:
        OSError: its volume keeps none.
    """
    full = _named(path)
    if name == _ATTRIBUTES:
        before = disk.lstat(full).st_file_attributes
        after = before & ~_TOLD | int.from_bytes(value, "little") & _TOLD
        api.check(api.set_attributes(native(full), after or api.NORMAL), full)
        return
    with open(f"{native(full)}:{name}", "wb") as file:
        file.write(value)


def removexattr(path: str | int, name: str) -> None:
    """Take one of them away.

    Raises:
        OSError: there is none of that name.
    """
    full = _named(path)
    if name == _ATTRIBUTES:
        setxattr(full, name, bytes(4))
    else:
        api.check(api.delete_file(f"{native(full)}:{name}"), full)


def by_descriptor(descriptor: int) -> str | int:
    """Return how the attributes of an open entry are asked for."""
    return descriptor


def origin_of(path: str) -> str:
    """Return the address that a file came from, as browsers write it into the stream `Zone.Identifier`; empty for none."""
    try:
        text = getxattr(path, _ZONE).decode("utf-8", "replace")
    except OSError:
        return ""
    return next((line.partition("=")[2].strip() for line in text.splitlines() if line.startswith("HostUrl=")), "")
