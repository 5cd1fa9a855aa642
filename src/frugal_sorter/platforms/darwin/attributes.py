"""Extended attributes of macOS, by the calls of its C library (getxattr(2)), which Python does not have.

Tags, the comment and the origin of a file have names and forms of their own there: binary property lists. They are read and
written here by the names that Linux has for them, so that rules are the same on each system.
"""

from __future__ import annotations

import ctypes
import errno
import os
import plistlib
import sys
from functools import cache
from typing import Any

assert sys.platform == "darwin"

__all__ = ["ARE_KEPT", "by_descriptor", "getxattr", "listxattr", "origin_of", "removexattr", "setxattr"]

ARE_KEPT = True
_NO_FOLLOW = 0x0001
_TAGS, _COMMENT, _ORIGIN = "user.xdg.tags", "user.xdg.comment", "user.xdg.origin.url"
_OWN = {
    _TAGS: "com.apple.metadata:_kMDItemUserTags",
    _COMMENT: "com.apple.metadata:kMDItemFinderComment",
    _ORIGIN: "com.apple.metadata:kMDItemWhereFroms",
}


@cache
def library() -> Any:
    """Return the C library; a test puts another one in its place."""
    return ctypes.CDLL(None, use_errno=True)


def _call(name: str, path: str | int, *more: object, follow: bool = True) -> int:
    """Call the form of a call for a path, or for a descriptor, and return what it returns.

    Raises:
        OSError: it failed.
    """
    is_open = isinstance(path, int)
    where = path if isinstance(path, int) else os.fsencode(path)
    call = getattr(library(), f"f{name}" if is_open else name)
    call.restype = ctypes.c_ssize_t
    done = int(call(where, *more, ctypes.c_int(0 if is_open or follow else _NO_FOLLOW)))
    if done < 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code), path)
    return done


def _read(name: str, path: str | int, *before: object, position: tuple[object, ...], follow: bool) -> bytes:
    """Return what a call fills a buffer with: it is asked for the size first, which can grow in between."""
    while True:
        size = _call(name, path, *before, None, ctypes.c_size_t(0), *position, follow=follow)
        buffer = ctypes.create_string_buffer(size or 1)
        try:
            found = _call(name, path, *before, buffer, ctypes.c_size_t(size), *position, follow=follow)
            return buffer.raw[:found]
        except OSError as error:
            if error.errno != errno.ERANGE:
                raise


def listxattr(path: str | int, *, follow_symlinks: bool = True) -> list[str]:
    """Return the names of the attributes of an entry, as macOS has them."""
    raw = _read("listxattr", path, position=(), follow=follow_symlinks)
    return [name.decode("utf-8", "surrogateescape") for name in raw.split(b"\0") if name]


def getxattr(path: str | int, name: str, *, follow_symlinks: bool = True) -> bytes:
    """Return the value of an attribute; of tags, a comment or an origin, its text.

    Raises:
        OSError: ENOATTR where there is none.
    """
    own = _OWN.get(name)
    raw = _read("getxattr", path, _name(own or name), position=(ctypes.c_uint32(0),), follow=follow_symlinks)
    # Below its name, a tag has the number of its colour.
    return ",".join(one.partition("\n")[0] for one in _texts(raw)).encode("utf-8", "surrogateescape") if own else raw


def setxattr(path: str | int, name: str, value: bytes) -> None:
    """Set an attribute of an entry; a tag that it has keeps its colour."""
    own, data = _OWN.get(name), value
    if own:
        text = value.decode("utf-8", "surrogateescape")
        known = {one.partition("\n")[0]: one for one in _tags(path)} if name == _TAGS else {}
        parts = [known.get(part.strip(), part.strip()) for part in text.split(",") if part.strip()]
        data = plistlib.dumps(text if name == _COMMENT else parts, fmt=plistlib.FMT_BINARY)
    _call("setxattr", path, _name(own or name), data, ctypes.c_size_t(len(data)), ctypes.c_uint32(0))


def removexattr(path: str | int, name: str) -> None:
    """Take an attribute off an entry."""
    _call("removexattr", path, _name(_OWN.get(name, name)))


def _name(name: str) -> bytes:
    return name.encode("utf-8", "surrogateescape")


def _tags(path: str | int) -> list[str]:
    try:
        return _texts(_read("getxattr", path, _name(_OWN[_TAGS]), position=(ctypes.c_uint32(0),), follow=True))
    except OSError:
        return []


def _texts(raw: bytes) -> list[str]:
    """Return the texts of a property list; what is not one has none."""
    try:
        value = plistlib.loads(raw)
    except (ValueError, OverflowError, RecursionError):  # `InvalidFileException` is a ValueError
        return []
    return [one for one in (value if isinstance(value, list) else [value]) if isinstance(one, str)]


def by_descriptor(descriptor: int) -> str | int:
    """Return how the attributes of an open entry are asked for, whatever became of its name."""
    return descriptor


def origin_of(path: str) -> str:
    """Return where a file came from: that is an attribute like others here."""
    return ""
