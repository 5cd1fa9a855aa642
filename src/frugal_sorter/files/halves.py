"""Reading a large tree with two processes: a fork takes half of the folders that are left.

The fork goes on with the same code, on the other half of the folders, sends what it found through
a pipe and ends. If it dies on the way, its half is read again by the process that forked.
"""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from typing import Any, Generic, NoReturn, TypeVar

Folder = TypeVar("Folder")

# Below this many folders a fork costs more than it saves.
SPLIT_AFTER = 150
_FEWEST_LEFT = 8


class Halves(Generic[Folder]):
    """Splits the folders that a walk has left, once, when the tree turns out to be large.

    `is_fork` tells the fork apart. Whoever walks asks `split` before each folder, and after the
    walk calls `end` in the fork, and `other` in the process that forked.
    """

    def __init__(self, allowed: bool) -> None:
        self.is_fork = False
        self._seen = 0
        self._asked = not allowed or not hasattr(os, "fork") or (os.cpu_count() or 1) < 2
        self._child = 0
        self._pipe = -1
        self._given: list[Folder] = []

    def split(self, left: list[Folder]) -> list[Folder]:
        """Return the folders that this process goes on with."""
        self._seen += 1
        if self._asked or self._seen < SPLIT_AFTER or len(left) < _FEWEST_LEFT:
            return left
        self._asked = True
        kept, self._given = left[::2], left[1::2]
        reading, writing = os.pipe()
        try:
            self._child = os.fork()
        except OSError:
            os.close(reading)
            os.close(writing)
            self._given = []
            return left
        self.is_fork = self._child == 0
        self._pipe = writing if self.is_fork else reading
        os.close(reading if self.is_fork else writing)
        return self._given if self.is_fork else kept

    def splitter(self, on_fork: Callable[[], None]) -> Callable[[list[Folder]], list[Folder]]:
        """Return what a walk asks before each folder; the fork, once there is one, begins with an empty result."""

        def split(left: list[Folder]) -> list[Folder]:
            was_fork = self.is_fork
            mine = self.split(left)
            if self.is_fork and not was_fork:
                on_fork()
            return mine

        return split

    def end(self, found: object) -> NoReturn:
        """Send what the fork found, and end it; nothing of the other process is cleaned up here."""
        try:
            with open(self._pipe, "wb") as pipe:
                pickle.dump(found, pipe, pickle.HIGHEST_PROTOCOL)
        finally:
            os._exit(0)

    def other(self) -> tuple[Any | None, list[Folder]]:
        """Return what the fork found, or None and the folders that must be read again."""
        if not self._child:
            return None, []
        try:
            with open(self._pipe, "rb") as pipe:
                found = pickle.load(pipe)
        except (EOFError, pickle.UnpicklingError, OSError):
            found = None
        os.waitpid(self._child, 0)
        return (None, self._given) if found is None else (found, [])
