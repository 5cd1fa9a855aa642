"""Reading a large tree with two processes: a fork and its parent take the folders that are left, one by one.

When the tree turns out to be large, each folder that is left gets a ticket, and both processes go
on with the same code: whoever has no folder left takes the next ticket from a pipe. The fork sends
what it found through another pipe and ends. If it dies on the way, all folders that its parent did
not take are read again.
"""

from __future__ import annotations

import os
import pickle
import struct
from collections.abc import Callable, Sequence
from typing import Any, Generic, NoReturn, TypeVar

Folder = TypeVar("Folder")
Item = TypeVar("Item")
Made = TypeVar("Made")

# Below this many folders a fork costs more than it saves.
SPLIT_AFTER = 150
_FEWEST_LEFT = 8
_FILES_OF_A_FOLDER = 100
# All tickets fit into a pipe, so that handing them out never waits; where they do not, nothing is shared.
_MOST_LEFT = 16_000
_TICKET = struct.Struct("=H")


def can_fork() -> bool:
    """Tell whether a fork can be had, and another processor for it."""
    return hasattr(os, "fork") and (os.cpu_count() or 1) > 1


class Sharing(Generic[Folder]):
    """Shares the folders that a walk has left between two processes.

    `is_fork` tells the fork apart. Whoever walks asks `next` before each folder, and after the
    walk calls `end` in the fork, and `other` in the process that forked.
    """

    def __init__(self, allowed: bool) -> None:
        self.is_fork = False
        self._seen = 0
        self._asked = not allowed or not can_fork()
        self._child = 0
        self._answer = -1
        self._tickets = -1
        self._shared: list[Folder] = []
        self._taken: set[int] = set()

    def count(self, files: int) -> None:
        """Take into account that a folder had so many files; a full one counts as several."""
        self._seen += files // _FILES_OF_A_FOLDER

    def next(self, left: list[Folder]) -> list[Folder]:
        """Return the folders that this process goes on with."""
        self._seen += 1
        if self._tickets >= 0:
            return left or self._take()
        if self._asked or self._seen < SPLIT_AFTER or not _FEWEST_LEFT <= len(left) <= _MOST_LEFT:
            return left
        self._asked = True
        return self._share(left)

    def _share(self, left: list[Folder]) -> list[Folder]:
        self._tickets, giving = os.pipe()
        os.set_blocking(giving, False)
        # The last in the list is next, as it would have been.
        tickets = b"".join(map(_TICKET.pack, range(len(left) - 1, -1, -1)))
        try:
            fits = os.write(giving, tickets) == len(tickets)
        finally:
            os.close(giving)
        answer, answering = os.pipe()
        try:
            if not fits:
                raise BlockingIOError
            self._child = os.fork()
        except OSError:
            for descriptor in (answer, answering, self._tickets):
                os.close(descriptor)
            self._tickets = -1
            return left
        self.is_fork = self._child == 0
        self._answer = answering if self.is_fork else answer
        os.close(answer if self.is_fork else answering)
        self._shared = left
        return self._take()

    def _take(self) -> list[Folder]:
        ticket = os.read(self._tickets, _TICKET.size)
        if len(ticket) < _TICKET.size:
            return []
        (number,) = _TICKET.unpack(ticket)
        self._taken.add(number)
        return [self._shared[number]]

    def sharer(self, on_fork: Callable[[], None]) -> Callable[[list[Folder]], list[Folder]]:
        """Return what a walk asks before each folder; the fork, once there is one, begins with an empty result."""

        def ask(left: list[Folder]) -> list[Folder]:
            was_fork = self.is_fork
            mine = self.next(left)
            if self.is_fork and not was_fork:
                on_fork()
            return mine

        return ask

    def end(self, found: object) -> NoReturn:
        """Send what the fork found, and end it; nothing of the other process is cleaned up here."""
        try:
            with open(self._answer, "wb") as pipe:
                pickle.dump(found, pipe, pickle.HIGHEST_PROTOCOL)
        finally:
            os._exit(0)

    def other(self) -> tuple[Any | None, list[Folder]]:
        """Return what the fork found, or None and the folders that must be read again."""
        if not self._child:
            return None, []
        os.close(self._tickets)
        try:
            with open(self._answer, "rb") as pipe:
                found = pickle.load(pipe)
        except (EOFError, pickle.UnpicklingError, OSError):
            found = None
        os.waitpid(self._child, 0)
        if found is not None:
            return found, []
        return None, [folder for ticket, folder in enumerate(self._shared) if ticket not in self._taken]


# Below this much work, in bytes to read, a fork costs more than it saves.
_WORTH_BYTES = 20_000_000


Work = Callable[[Sequence[Item], Callable[[int], None]], list[Made]]


def _quiet(_: int) -> None:
    """Tell nobody."""


def in_two(
    items: Sequence[Item], costs: Sequence[int], work: Work[Item, Made], told: Callable[[int], None] = _quiet
) -> list[Made]:  # fmt: skip
    """Return what some work makes of items, in their order, done by two processes where that pays.

    Args:
        items: what is worked on.
        costs: what each of them costs.
        work: returns a value for each of the items it is given; its values are sent through a pipe. It is also
            given whom to tell now and then how many items are done.
        told: is told how many items are done, of all of them by what one process sees.
    """
    total = sum(costs)
    if total < _WORTH_BYTES or len(items) < 2 or not can_fork():
        return work(items, told)
    middle, so_far = 0, 0
    while so_far + costs[middle] <= total // 2:
        so_far += costs[middle]
        middle += 1
    middle = max(middle, 1)
    reading, writing = os.pipe()
    try:
        child = os.fork()
    except OSError:
        os.close(reading)
        os.close(writing)
        return work(items, told)
    if child == 0:
        try:
            os.close(reading)
            with open(writing, "wb") as pipe:
                pickle.dump(work(items[middle:], _quiet), pipe, pickle.HIGHEST_PROTOCOL)
        finally:
            os._exit(0)
    os.close(writing)
    made = work(items[:middle], lambda done: told(done * len(items) // middle))
    try:
        with open(reading, "rb") as pipe:
            rest = pickle.load(pipe)
    except (EOFError, pickle.UnpicklingError, OSError):
        rest = None
    os.waitpid(child, 0)
    return made + (work(items[middle:], told) if rest is None else rest)
