"""A thread for what may be done a little later than the step that it belongs to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from queue import SimpleQueue
from threading import Event, Thread
from typing import Generic, TypeVar

Item = TypeVar("Item")
BATCH = 100


class Deferred(Generic[Item]):
    """Does some work on items in a thread, in their order; it begins with the first hundred.

    Args:
        work: is given some items, in the thread; it must not raise.
    """

    def __init__(self, work: Callable[[Sequence[Item]], None]) -> None:
        self._work = work
        self._waiting: list[Item] = []
        self._given: SimpleQueue[Sequence[Item] | Event | None] = SimpleQueue()
        self._thread: Thread | None = None

    def add(self, item: Item) -> None:
        """Leave an item to the thread."""
        self._waiting.append(item)
        if len(self._waiting) < BATCH:
            return
        if self._thread is None:
            self._thread = Thread(target=self._go_on, daemon=True)
            self._thread.start()
        self._given.put(self._waiting)
        self._waiting = []

    def catch_up(self) -> None:
        """Wait until all items are done."""
        if self._thread is not None:
            reached = Event()
            self._given.put(reached)
            reached.wait()
        if self._waiting:
            self._work(self._waiting)
            self._waiting = []

    def close(self) -> None:
        """Wait until all items are done, and end the thread."""
        self.catch_up()
        if self._thread is not None:
            self._given.put(None)
            self._thread.join()
            self._thread = None

    def _go_on(self) -> None:
        while (given := self._given.get()) is not None:
            if isinstance(given, Event):
                given.set()
            else:
                self._work(given)
