"""The console: what is piped is UTF-8 as on other systems, and NUL is not a terminal."""

from __future__ import annotations

import io
import msvcrt
import sys
from ctypes import byref, wintypes
from typing import TextIO

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api

__all__ = ["forget_typed", "is_terminal", "prepare"]


def prepare() -> None:
    """Have the standard streams take every letter: the code page of a country has few."""
    for stream, errors in ((sys.stdin, "surrogateescape"), (sys.stdout, "surrogateescape"), (sys.stderr, "backslashreplace")):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(encoding="utf-8", errors=errors)


def forget_typed(_stream: TextIO) -> None:
    """Have what was typed at the console so far read by nobody."""
    while msvcrt.kbhit():
        msvcrt.getwch()


def is_terminal(stream: TextIO) -> bool:
    """Return True if a person sits at a stream; to the C library NUL is a terminal, too."""
    if not stream.isatty():
        return False
    mode = wintypes.DWORD()
    return bool(api.KERNEL.GetConsoleMode(wintypes.HANDLE(msvcrt.get_osfhandle(stream.fileno())), byref(mode)))
