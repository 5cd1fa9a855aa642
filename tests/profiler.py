"""Lets something happen at a certain system call of a run: an attack, an error, a kill.

A profiler of Python sees each call of the modules that reach the system, and calls of the functions that do so
through the C library. So a run that is forked off a test is met at every one of its calls, without a start of
the program for each.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from types import FrameType
from typing import Any

# These make their system calls through the C library, which a profiler does not see.
LOOKS_BY_C = frozenset({"look", "is_as"})
RENAMES_BY_C = frozenset({"rename"})
CHANGING = frozenset({
    "mkdir", "chmod", "fchmod", "chown", "fchown", "lchown", "utime", "link", "unlink", "rmdir", "symlink", "setxattr",
    "removexattr", "rename", "replace", "truncate", "ftruncate", "copy_file_range", "fsync", "pwrite", "write",
})  # fmt: skip


class Profiler:
    """Counts the system calls of a run, and acts before one of them.

    Args:
        act: what happens; it may raise.
        when: at which call, from 1.
        every: whether all calls count, or only those that change something.
    """

    def __init__(self, act: Callable[[], None], when: int, every: bool) -> None:
        self.calls = 0
        self._act = act
        self._when = when
        self._every = every
        self._by_c = RENAMES_BY_C | LOOKS_BY_C if every else RENAMES_BY_C

    def __call__(self, frame: FrameType, event: str, arg: Any) -> None:
        if event == "c_call":
            if getattr(arg, "__module__", "") not in ("posix", "fcntl") or not (
                self._every or arg.__name__ in CHANGING
            ):
                return
        elif event != "call" or frame.f_code.co_name not in self._by_c:
            return
        self.calls += 1
        if self.calls == self._when:
            sys.setprofile(None)
            self._act()
            sys.setprofile(self)
