"""A fork that makes things ready for later steps, while its parent carries out those before them."""

from __future__ import annotations

import os
import pickle
import signal
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from threading import Thread
from types import FrameType
from typing import Generic, NoReturn, TypeVar

from frugal_sorter.filesystem.parallel import fork_with_pipe
from frugal_sorter.platforms import processes

Item = TypeVar("Item")
# Each batch is synced by itself; with smaller ones its parent waits more often for the disk.
BATCH = 5_000
# For fewer a fork costs more than it saves.
FEWEST = 6_000


class Prewriter(Generic[Item]):
    """Hands items to a fork by the batch; its parent asks for the batches in order, and waits for each.

    A signal to the whole group of processes is for the parent to heed: the fork ends when it is told to, or
    when its parent is gone, after the batch it is at. It keeps open what the parent has open, so that the
    right to change files is not free before both have ended.

    Args:
        items: all there are, in the order in which they are needed.
        work: makes some items ready and returns the numbers of those that are; it runs in the fork.
        secure: waits until all that `work` did so far will last; it runs in a thread of the fork, beside the
            work on the next batch. A batch is told to be ready only after it.
    """

    def __init__(
        self, items: Sequence[Item], work: Callable[[Sequence[Item]], list[int]], secure: Callable[[], None]
    ) -> None:
        self._left = [items[first : first + BATCH] for first in range(0, len(items), BATCH)][::-1]
        parent = os.getpid()
        self._child, answers = fork_with_pipe()
        if self._child == 0:
            self._work(work, secure, answers, parent)
        self._answers = os.fdopen(answers, "rb")

    def _work(
        self, work: Callable[[Sequence[Item]], list[int]], secure: Callable[[], None], writing: int, parent: int
    ) -> NoReturn:
        stopped = False

        def stop(_number: int, _frame: FrameType | None) -> None:
            nonlocal stopped
            stopped = True

        def tell(ready: list[int]) -> None:
            with suppress(BrokenPipeError):
                secure()
                pickle.dump(ready, answers)
                answers.flush()

        try:
            for number in (number for number in processes.GENTLE_STOPS if number != signal.SIGTERM):
                signal.signal(number, signal.SIG_IGN)
            signal.signal(signal.SIGTERM, stop)
            with open(writing, "wb") as answers:
                telling: Thread | None = None
                for batch in reversed(self._left):
                    if stopped or os.getppid() != parent:
                        break
                    ready = work(batch)
                    if telling is not None:
                        telling.join()
                    telling = Thread(target=tell, args=(ready,))
                    telling.start()
                if telling is not None:
                    telling.join()
        finally:
            os._exit(0)

    def next(self) -> tuple[Sequence[Item], list[int]] | None:
        """Return the next batch, and the numbers of those of its items that are ready; None if the fork has ended."""
        try:
            ready: list[int] = pickle.load(self._answers)
        except (EOFError, pickle.UnpicklingError):
            return None
        return self._left.pop(), ready

    def rest(self) -> list[Item]:
        """Return the items of the batches that `next` has not returned; no batch of them was told to be ready."""
        return [item for batch in reversed(self._left) for item in batch]

    def stop(self) -> Iterator[tuple[Sequence[Item], list[int]]]:
        """Let the fork end after the batch it is at, and yield what it made ready that nobody asked for."""
        with suppress(ProcessLookupError):
            os.kill(self._child, signal.SIGTERM)
        while (one := self.next()) is not None:
            yield one
        self._answers.close()
        os.waitpid(self._child, 0)


def is_worth_a_fork(count: int) -> bool:
    """Return True if so many items are quicker made ready by a fork."""
    return count >= FEWEST and processes.can_fork()
