"""Fakes the system, then runs tests in this process."""

from __future__ import annotations

# All that asks for the name of the system when it is loaded, and means the real one.
import asyncio  # noqa: F401
import ctypes
import fcntl
import multiprocessing  # noqa: F401
import os
import selectors  # noqa: F401
import shutil  # noqa: F401
import sqlite3  # noqa: F401
import subprocess  # noqa: F401
import sys
import tempfile  # noqa: F401
import uuid  # noqa: F401
from typing import Any

import hypothesis  # noqa: F401
import platformdirs  # noqa: F401
import psutil  # noqa: F401
import pytest
import regex  # noqa: F401
import rich.console  # noqa: F401

_REAL = ctypes.CDLL
_LIBRARY = _REAL(None, use_errno=True)
_NO_FOLLOW, _ALONE, _NO_REPLACE = 0x0001, 4, 1
_SPACE = b"user."


class _Call:
    """A call of macOS, answered by one of this system; types that are given for its arguments are those of macOS."""

    def __init__(self, answer: Any) -> None:
        self._answer = answer
        self.argtypes: Any = None
        self.restype: Any = None

    def __call__(self, *given: Any) -> Any:
        return self._answer(*given)


def _plain(value: Any) -> Any:
    return getattr(value, "value", value)


def _rename(source: int, old: bytes, target: int, new: bytes, flags: int) -> int:
    return int(_LIBRARY.renameat2(source, old, target, new, _NO_REPLACE if _plain(flags) == _ALONE else 0))


def _attribute(call: str, is_open: bool) -> Any:
    """Return a call for attributes: of a descriptor, or of a path with the option not to follow a link."""
    rest = {"getxattr": 3, "setxattr": 3, "listxattr": 2, "removexattr": 1}[call]

    def answer(where: Any, *given: Any) -> int:
        *before, options = given
        before = before[:rest]  # without the position, which only resource forks have
        if call != "listxattr":
            before[0] = _SPACE + before[0]
        name = f"f{call}" if is_open else f"l{call}" if _plain(options) & _NO_FOLLOW else call
        more = (ctypes.c_int(0),) if call == "setxattr" else ()
        real = getattr(_LIBRARY, name)
        real.restype = ctypes.c_ssize_t
        done = int(real(where, *before, *more))
        if call == "listxattr" and done > 0 and before[0] is not None:
            # Of the names here, those that a person can give are the ones of macOS.
            own = [one.removeprefix(_SPACE) for one in before[0].raw[:done].split(b"\0") if one.startswith(_SPACE)]
            raw = b"".join(one + b"\0" for one in own)
            ctypes.memmove(before[0], raw, len(raw))
            done = len(raw)
        return done

    return answer


class _Library:
    """The C library of macOS, as far as the program calls it."""

    def __init__(self) -> None:
        self.renameatx_np = _Call(_rename)
        for name in ("getxattr", "setxattr", "listxattr", "removexattr"):
            setattr(self, name, _Call(_attribute(name, False)))
            setattr(self, f"f{name}", _Call(_attribute(name, True)))


def _library(name: str | None, *more: Any, **options: Any) -> Any:
    return _Library() if name is None else _REAL(name, *more, **options)


def fake() -> None:
    """Take away what only Linux has, and give what macOS has."""
    for name in ("O_PATH O_NOATIME posix_fallocate posix_fadvise copy_file_range memfd_create ST_RELATIME ST_NOATIME").split():
        if hasattr(os, name):
            delattr(os, name)
    for name in ("F_SETLEASE", "F_GETLEASE", "F_SETSIG"):
        if hasattr(fcntl, name):
            delattr(fcntl, name)
    ctypes.CDLL = _library  # type: ignore[misc,assignment]
    sys.modules["msvcrt"] = sys.modules["winreg"] = None  # type: ignore[assignment]
    sys.platform = "darwin"


if __name__ == "__main__":
    fake()
    os.environ["FAKED_MACOS"] = "1"
    sys.exit(pytest.main(["-p", "no:cacheprovider", "-p", "no:xdist", *sys.argv[1:]]))
