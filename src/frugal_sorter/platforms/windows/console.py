"""The console: what is piped is UTF-8 as on other systems, and NUL is not a terminal."""

from __future__ import annotations

import io
import msvcrt
import os
import re
import sys
from ctypes import byref, wintypes
from typing import TextIO

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api

__all__ = ["forget_typed", "is_terminal", "misquoted", "prepare", "words"]
# What other shells expand before a program sees it: a home or a variable at the beginning of a path.
_LEAD = re.compile(r"(?:(~)|%(\w+)%|\$(?:env:)?(\w+))(?=[/\\]|$)")


def prepare() -> None:
    """Make the standard streams take every letter: the code page of a country has few."""
    for stream, errors in ((sys.stdin, "surrogateescape"), (sys.stdout, "surrogateescape"), (sys.stderr, "backslashreplace")):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(encoding="utf-8", errors=errors)


def words(args: list[str]) -> list[str]:
    """Return the words of a command line with the home and variables filled in where they begin with one."""
    return [_LEAD.sub(_filled, word, count=1) if _LEAD.match(word) else word for word in args]


def _filled(found: re.Match[str]) -> str:
    if found[1]:
        return os.path.expanduser("~")
    return os.environ.get(found[2] or found[3], os.path.expanduser("~") if found[3] == "HOME" else found[0])


def misquoted(args: list[str]) -> str:
    """Return what was written between single quotes, which the shells of Windows pass on as letters; empty for nothing."""
    for first, word in enumerate(args):
        if word.startswith("'"):
            for last in range(first, len(args)):
                if args[last].endswith("'") and len(" ".join(args[first : last + 1])) > 1:
                    return " ".join(args[first : last + 1])[1:-1]
    return ""


def forget_typed(_stream: TextIO) -> None:
    """Discard what has been typed at the console."""
    while msvcrt.kbhit():
        msvcrt.getwch()


def is_terminal(stream: TextIO) -> bool:
    """Return True if a person sits at a stream; to the C library NUL is a terminal, too."""
    if not stream.isatty():
        return False
    mode = wintypes.DWORD()
    return bool(api.KERNEL.GetConsoleMode(wintypes.HANDLE(msvcrt.get_osfhandle(stream.fileno())), byref(mode)))
