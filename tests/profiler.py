"""Lets something happen at a certain system call of a run: an attack, an error, a kill.

A profiler of Python sees each call of the modules that reach the system, and calls of the functions that do so
through the C library. So a run that is forked off a test is met at every one of its calls, without a start of
the program for each.
"""

from __future__ import annotations

import os
import sys
import traceback
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
            if getattr(arg, "__module__", "") not in ("posix", "fcntl") or not (self._every or arg.__name__ in CHANGING):
                return
        elif event != "call" or frame.f_code.co_name not in self._by_c:
            return
        self.calls += 1
        if self.calls == self._when:
            sys.setprofile(None)
            self._act()
            sys.setprofile(self)


def in_a_fork(work: Callable[[], object], profiler: Profiler) -> tuple[int, int, str]:
    """Carry work out in a fork that is watched.

    Returns:
        its exit code, how many calls there were, and the traceback of what got out.
    """
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        said = ""
        try:
            sys.setprofile(profiler)
            work()
        except BaseException:
            said = traceback.format_exc()
        finally:
            sys.setprofile(None)
            os.write(writing, f"{profiler.calls}\n{said[-3000:]}".encode("utf-8", "backslashreplace"))
            os._exit(0)
    os.close(writing)
    with open(reading) as pipe:
        calls, _, said = pipe.read().partition("\n")
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), int(calls or 0), said
