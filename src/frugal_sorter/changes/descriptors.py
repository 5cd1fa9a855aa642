"""Open folders, opened without following a link, and the times that they keep."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Sequence
from contextlib import suppress
from queue import SimpleQueue
from threading import Event, Thread
from typing import Generic, TypeVar

from frugal_sorter.filesystem.record import FileRecord, Place, is_inside
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.tree import LIST, PASS
from frugal_sorter.platforms import disk

# How a file is made that was not there before.
NEW_FILE = disk.O_RDWR | disk.O_CREAT | disk.O_EXCL | disk.O_NOFOLLOW | disk.O_CLOEXEC


class Descriptors:
    """Keeps the descriptors of the folders used last; a step's folders are opened only once.

    A folder that is swapped for a link after it was opened does no harm: the descriptor still
    means the folder itself.
    """

    def __init__(self, most: int = 64) -> None:
        self._open: OrderedDict[str, int] = OrderedDict()
        self._most = most

    def __enter__(self) -> Descriptors:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def folder(self, path: str) -> int:
        """Return a descriptor of a folder, good until as many others as are kept have been asked for.

        A step keeps it while it asks for a handful of folders; what asks for any number of them has open folders of its own.

        Raises:
            OSError: it is missing, or it or a folder above it is a link (ELOOP or ENOTDIR).
        """
        # A step after the other works in the same folders: most of the way down is saved.
        descriptor = self._open.get(path)
        if descriptor is not None:
            self._open.move_to_end(path)
            return descriptor
        descriptor = disk.open(path, PASS)
        self._open[path] = descriptor
        while len(self._open) > self._most:
            disk.close(self._open.popitem(last=False)[1])
        return descriptor

    def entry(self, place: Place) -> tuple[int, FileRecord]:
        """Return a descriptor of a place's folder, and the status of what is there.

        Raises:
            OSError: as `folder`, or there is no such entry.
        """
        descriptor = self.folder(place.folder)
        return descriptor, look(place, descriptor)

    def forget(self, path: str) -> None:
        """Close a folder that is removed or moved, and those below it: on some systems they would hold it fast."""
        for one in [one for one in self._open if is_inside(one, path)]:
            disk.close(self._open.pop(one))

    def close(self) -> None:
        """Close all."""
        while self._open:
            disk.close(self._open.popitem()[1])


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


class FolderTime:
    """Gives an open folder the time back that it had, where nobody else has been in it meanwhile.

    What fails half-way leaves a folder as it was, and it should not look as if something new had come.

    Args:
        fd: a descriptor of it.
    """

    def __init__(self, fd: int) -> None:
        self._fd = fd
        self._before = disk.fstat(fd)
        self._changed_ns: int | None = None

    def at(self, fd: int) -> FolderTime:
        """Go on with another descriptor of the same folder."""
        self._fd = fd
        return self

    def note(self) -> None:
        """Note that something was just changed in it."""
        self._changed_ns = disk.fstat(self._fd).st_mtime_ns

    def is_ours(self) -> bool:
        """Tell, before the change is undone, whether that was the last one."""
        return self._changed_ns is not None and disk.fstat(self._fd).st_mtime_ns == self._changed_ns

    def give_back(self) -> None:
        """Set the time that it had; only its owner may."""
        with suppress(OSError):
            # A descriptor that was opened for its path alone sets no times.
            own = disk.open(".", LIST, dir_fd=self._fd)
            try:
                disk.utime(own, ns=(self._before.st_atime_ns, self._before.st_mtime_ns))
            finally:
                disk.close(own)
