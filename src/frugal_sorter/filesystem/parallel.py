"""Work that two processes share: on the folders of a large tree, or on parts of a long list.

What is left is handed out by tickets in a pipe: a fork and its parent take one after the other, so that both end at
about the same time. The fork sends what it found through another pipe and ends. If it dies on the way, its parent does
everything that it did not take itself.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterable, Sequence
from typing import Any, NoReturn, TypeVar

from frugal_sorter.platforms import disk, processes

Folder = TypeVar("Folder")
Item = TypeVar("Item")
Found = TypeVar("Found")
Made = TypeVar("Made")
# Works on one folder of a tree; see `work_through`.
WorkOnOne = Callable[[Folder, Found], tuple[list[Folder], int]]
# Called now and then with how much is done.
OnProgress = Callable[[int], None]

# Below this many folders a fork costs more than it saves.
SPLIT_AFTER = 150
_FEWEST_LEFT = 8
_FILES_OF_A_FOLDER = 100
# All tickets fit into a pipe, so that handing them out never waits; where they do not, nothing is shared.
_MOST_LEFT = 16_000
_TICKET = struct.Struct("=H")


class _Tickets:
    """Numbers in a pipe; two processes take them one after the other, each once.

    A fork gets none any more when its parent has ended.

    Raises:
        OSError: there is no pipe to be had, or it does not hold so many.
    """

    def __init__(self, numbers: Iterable[int]) -> None:
        self._parent = os.getpid()
        self._reading, writing = os.pipe()
        processes.set_blocking(writing, False)
        tickets = b"".join(map(_TICKET.pack, numbers))
        try:
            fits = os.write(writing, tickets) == len(tickets)
        except OSError:
            fits = False
        disk.close(writing)
        if not fits:
            self.close()
            raise BlockingIOError

    def take(self) -> int | None:
        """Return the next number; None when all are taken."""
        # A fork whose parent was killed would go on reading for nobody.
        if self._parent not in (os.getpid(), os.getppid()):
            return None
        ticket = os.read(self._reading, _TICKET.size)
        return _TICKET.unpack(ticket)[0] if len(ticket) == _TICKET.size else None

    def close(self) -> None:
        """Close the pipe."""
        disk.close(self._reading)


def fork_with_pipe() -> tuple[int, int]:
    """Fork; return the fork's number, in it 0, and the end of a pipe through which it answers.

    Raises:
        OSError: no fork is available.
    """
    reading, writing = os.pipe()
    try:
        child = processes.fork()
    except OSError:
        disk.close(reading)
        disk.close(writing)
        raise
    disk.close(writing if child else reading)
    return child, reading if child else writing


def _send(answer: int, found: object) -> NoReturn:
    """Send what a fork found, and end it; nothing of the other process is cleaned up here."""
    try:
        import pickle  # a small tree has no fork

        with open(answer, "wb") as pipe:
            pickle.dump(found, pipe, pickle.HIGHEST_PROTOCOL)
    finally:
        os._exit(0)


def _received(child: int, answer: int) -> Any | None:
    """Return what a fork sent, None where it died before."""
    import pickle

    try:
        with open(answer, "rb") as pipe:
            found = pickle.load(pipe)
    except (EOFError, pickle.UnpicklingError, OSError):
        found = None
    os.waitpid(child, 0)
    return found


def work_through(
    first: Folder,
    work: WorkOnOne[Folder, Found],
    new: Callable[[], Found],
    merge: Callable[[Found, Found], None],
    may_fork: bool = True,
) -> Found:
    """Work on the root of a tree and on all folders below it, with two processes where the tree is large.

    Args:
        first: the root.
        work: does one folder: adds what it finds, and returns the folders below it with how many files it had. The
            last of those is done next.
        new: returns nothing found, for a process to begin with.
        merge: adds to what was found what another process has found.
        may_fork: whether the work can be done in a fork: it must ask no helper that both would share.
    """
    found, left, seen = new(), [first], 0
    may_fork = may_fork and processes.can_fork()
    while left:
        if may_fork and seen >= SPLIT_AFTER and _FEWEST_LEFT <= len(left) <= _MOST_LEFT:
            may_fork = False
            if _in_two_processes(left, work, new, merge, found):
                return found
        below, files = work(left.pop(), found)
        left += below
        # A full folder counts as several.
        seen += 1 + files // _FILES_OF_A_FOLDER
    return found


def _in_two_processes(
    left: Sequence[Folder],
    work: WorkOnOne[Folder, Found],
    new: Callable[[], Found],
    merge: Callable[[Found, Found], None],
    found: Found,
) -> bool:
    """Work on what is left of a tree with a fork; return whether there was one."""
    try:
        # The last in the list is next, as it would have been.
        tickets = _Tickets(range(len(left) - 1, -1, -1))
    except OSError:
        return False
    try:
        child, answer = fork_with_pipe()
    except OSError:
        tickets.close()
        return False
    # The fork has a copy of what its parent found so far, and begins with nothing: everything that it sends is its own.
    if child == 0:
        try:
            mine = new()
            _take(tickets, left, work, mine)
        except BaseException:
            os._exit(1)
        _send(answer, mine)
    taken = _take(tickets, left, work, found)
    tickets.close()
    other = _received(child, answer)
    if other is not None:
        merge(found, other)
        return True
    for number, folder in enumerate(left):
        if number not in taken:
            _work_below(folder, work, found)
    return True


def _take(tickets: _Tickets, left: Sequence[Folder], work: WorkOnOne[Folder, Found], found: Found) -> set[int]:
    """Work on the folders of the tickets that this process gets, and return their numbers."""
    taken = set()
    for number in iter(tickets.take, None):
        taken.add(number)
        _work_below(left[number], work, found)
    return taken


def _work_below(folder: Folder, work: WorkOnOne[Folder, Found], found: Found) -> None:
    left = [folder]
    while left:
        below, _ = work(left.pop(), found)
        left += below


# Below this much work, in bytes to read, a fork costs more than it saves.
_WORTH_BYTES = 20_000_000
# Enough that both processes end at about the same time, few enough that each part is worth asking for.
_PARTS = 64


Work = Callable[[Sequence[Item], OnProgress], Made]


def _quiet(_: int) -> None:
    """Report to nobody."""


def in_two(items: Sequence[Item], costs: Sequence[int], work: Work[Item, Made], on_progress: OnProgress = _quiet) -> list[Made]:
    """Return the results of some work on parts of the items, in their order, by two processes where that pays.

    Args:
        items: what is worked on.
        costs: what each of them costs, in bytes to read.
        work: does a part of them; what it returns is sent through a pipe. It is also given whom to tell now and then
            how many items of its part are done.
        on_progress: called with how many items are done, of all of them by what one process sees.
    """
    total = sum(costs)
    if total < _WORTH_BYTES or len(items) < 2 or not processes.can_fork():
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
    """Return where parts of items begin and end; without its last item, none costs more than a limit."""
    bounds, begin, so_far = [], 0, 0
    for at, cost in enumerate(costs, 1):
        so_far += cost
        if so_far >= most or at == len(costs):
            bounds.append((begin, at))
            begin, so_far = at, 0
    return bounds
