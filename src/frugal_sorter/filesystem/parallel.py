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
from collections.abc import Callable, Iterable, Sequence
from typing import Any, Generic, NoReturn, TypeVar

Folder = TypeVar("Folder")
Item = TypeVar("Item")
Found = TypeVar("Found")
Made = TypeVar("Made")
# Asked before each folder, with those that are left; returns those that this process goes on with.
Share = Callable[[list[Folder]], list[Folder]]
# Told now and then how much is done.
OnProgress = Callable[[int], None]

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


class _Tickets:
    """Numbers in a pipe, of which two processes take one after the other, each once.

    A fork gets none any more when its parent has ended.

    Raises:
        OSError: there is no pipe to be had, or it does not hold so many.
    """

    def __init__(self, numbers: Iterable[int]) -> None:
        self._parent = os.getpid()
        self._reading, writing = os.pipe()
        os.set_blocking(writing, False)
        tickets = b"".join(map(_TICKET.pack, numbers))
        try:
            fits = os.write(writing, tickets) == len(tickets)
        except OSError:
            fits = False
        os.close(writing)
        if not fits:
            self.close()
            raise BlockingIOError

    def take(self) -> int | None:
        """Return the next number; None when all are taken."""
        if self._parent not in (os.getpid(), os.getppid()):
            return None
        ticket = os.read(self._reading, _TICKET.size)
        return _TICKET.unpack(ticket)[0] if len(ticket) == _TICKET.size else None

    def close(self) -> None:
        """Give the pipe back."""
        os.close(self._reading)


def fork_with_pipe() -> tuple[int, int]:
    """Fork; return the fork's number, in it 0, and the end of a pipe through which it answers.

    Raises:
        OSError: no fork can be had.
    """
    reading, writing = os.pipe()
    try:
        child = os.fork()
    except OSError:
        os.close(reading)
        os.close(writing)
        raise
    os.close(writing if child else reading)
    return child, reading if child else writing


def _send(answer: int, found: object) -> NoReturn:
    """Send what a fork found, and end it; nothing of the other process is cleaned up here."""
    try:
        with open(answer, "wb") as pipe:
            pickle.dump(found, pipe, pickle.HIGHEST_PROTOCOL)
    finally:
        os._exit(0)


def _received(child: int, answer: int) -> Any | None:
    """Return what a fork sent, None where it died before."""
    try:
        with open(answer, "rb") as pipe:
            found = pickle.load(pipe)
    except (EOFError, pickle.UnpicklingError, OSError):
        found = None
    os.waitpid(child, 0)
    return found


class Sharing(Generic[Folder]):
    """Shares the folders that a walk has left between two processes; `is_fork` tells the fork apart."""

    def __init__(self, allowed: bool) -> None:
        self.is_fork = False
        self._seen = 0
        self._asked = not allowed or not can_fork()
        self._child = 0
        self._answer = -1
        self._tickets: _Tickets | None = None
        self._shared: list[Folder] = []
        self._taken: set[int] = set()

    def count(self, files: int) -> None:
        """Take into account that a folder had so many files; a full one counts as several."""
        self._seen += files // _FILES_OF_A_FOLDER

    def _next(self, left: list[Folder]) -> list[Folder]:
        """Return the folders that this process goes on with."""
        self._seen += 1
        if self._tickets is not None:
            return left or self._take(self._tickets)
        if self._asked or self._seen < SPLIT_AFTER or not _FEWEST_LEFT <= len(left) <= _MOST_LEFT:
            return left
        self._asked = True
        return self._share(left)

    def _share(self, left: list[Folder]) -> list[Folder]:
        try:
            # The last in the list is next, as it would have been.
            self._tickets = _Tickets(range(len(left) - 1, -1, -1))
        except OSError:
            return left
        try:
            self._child, self._answer = fork_with_pipe()
        except OSError:
            self._tickets.close()
            self._tickets = None
            return left
        self.is_fork = self._child == 0
        self._shared = left
        return self._take(self._tickets)

    def _take(self, tickets: _Tickets) -> list[Folder]:
        number = tickets.take()
        if number is None:
            return []
        self._taken.add(number)
        return [self._shared[number]]

    def walk(
        self, read: Callable[[Share[Folder]], None], begin_again: Callable[[], None], found: Callable[[], Found]
    ) -> tuple[Found | None, list[Folder]]:
        """Read a tree; return what the fork found, or None, and the folders that must be read again.

        Args:
            read: walks the tree; it is given what to ask before each folder.
            begin_again: lets the fork, once there is one, begin with nothing found.
            found: what was found so far; the fork sends it, and ends.

        Raises:
            OSError: what `read` raises, in the process that forked.
        """

        def share(left: list[Folder]) -> list[Folder]:
            was_fork = self.is_fork
            mine = self._next(left)
            if self.is_fork and not was_fork:
                begin_again()
            return mine

        try:
            read(share)
        except BaseException:
            if self.is_fork:
                os._exit(1)
            raise
        if self.is_fork:
            _send(self._answer, found())
        return self._other()

    def _other(self) -> tuple[Any | None, list[Folder]]:
        if self._tickets is None:
            return None, []
        self._tickets.close()
        found = _received(self._child, self._answer)
        if found is not None:
            return found, []
        return None, [folder for ticket, folder in enumerate(self._shared) if ticket not in self._taken]


# Below this much work, in bytes to read, a fork costs more than it saves.
_WORTH_BYTES = 20_000_000
# Enough that both processes end at about the same time, few enough that each part is worth asking for.
_PARTS = 64


Work = Callable[[Sequence[Item], OnProgress], Made]


def _quiet(_: int) -> None:
    """Tell nobody."""


def in_two(
    items: Sequence[Item], costs: Sequence[int], work: Work[Item, Made], on_progress: OnProgress = _quiet
) -> list[Made]:  # fmt: skip
    """Return what some work makes of parts of the items, in their order, done by two processes where that pays.

    Args:
        items: what is worked on.
        costs: what each of them costs, in bytes to read.
        work: does a part of them; what it returns is sent through a pipe. It is also given whom to tell now and then
            how many items of its part are done.
        on_progress: is told how many items are done, of all of them by what one process sees.
    """
    total = sum(costs)
    if total < _WORTH_BYTES or len(items) < 2 or not can_fork():
        return [work(items, on_progress)]
    bounds = _bounds(costs, total // _PARTS)
    try:
        tickets = _Tickets(range(len(bounds)))
    except OSError:
        return [work(items, on_progress)]
    try:
        child, answer = fork_with_pipe()
    except OSError:
        tickets.close()
        return [work(items, on_progress)]

    def part(number: int, on_progress: OnProgress) -> Made:
        begin, end = bounds[number]
        return work(items[begin:end], lambda done: on_progress(begin + done))

    def take(on_progress: OnProgress) -> dict[int, Made]:
        return {number: part(number, on_progress) for number in iter(tickets.take, None)}

    if child == 0:
        try:
            made = take(_quiet)
        except BaseException:
            os._exit(1)
        _send(answer, made)
    made = take(on_progress)
    tickets.close()
    made |= _received(child, answer) or {}
    return [made[number] if number in made else part(number, on_progress) for number in range(len(bounds))]


def _bounds(costs: Sequence[int], most: int) -> list[tuple[int, int]]:
    """Return where parts of items begin and end; but for its last item, none costs more than so much."""
    bounds, begin, so_far = [], 0, 0
    for at, cost in enumerate(costs, 1):
        so_far += cost
        if so_far >= most or at == len(costs):
            bounds.append((begin, at))
            begin, so_far = at, 0
    return bounds
