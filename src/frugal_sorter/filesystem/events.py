"""What the system tells of changes in folders: by watchdog, of mounts by /proc, and nothing is read to hear it."""

from __future__ import annotations

import logging
import os
import queue
import sys
import threading
from collections.abc import Collection, Sequence
from contextlib import suppress
from typing import NamedTuple, Protocol

from frugal_sorter.platforms import disk, volumes


class Event(NamedTuple):
    """Something happened.

    Args:
        folder: the folder in which names or contents changed; empty where that is not known.
        path: the entry; empty where it is not known.
        lost: some events are missing: too many came at once, or the listener has ended.
        mounts: a volume was mounted or unmounted somewhere.
    """

    folder: str
    path: str = ""
    lost: bool = False
    mounts: bool = False


# Twice as many as the longest path of Linux has names.
_LEVELS = 5_000
LOST, MOUNTS = Event("", lost=True), Event("", mounts=True)


class Source(Protocol):
    """Where events come from; tests have one of their own."""

    def watch(self, deep: Collection[str], flat: Collection[str]) -> None:
        """Watch folders from now on, and no others.

        Args:
            deep: with everything below them.
            flat: for themselves alone.

        Raises:
            OSError: the system has no more room for that (ENOSPC, EMFILE), or cannot do it.
            RecursionError: folders are nested too deep in each other for it.
        """

    def watched(self) -> int | None:
        """Return how many folders the system watches; None where that cannot be told."""

    def wait(self, seconds: float) -> Sequence[Event]:
        """Return what happened, as soon as something does, or nothing after some seconds."""

    def wake(self) -> None:
        """End a wait of another thread, or of a signal."""

    def close(self) -> None:
        """Stop."""


class SystemSource:
    """The events of the system, by watchdog."""

    def __init__(self) -> None:
        from watchdog.observers import Observer

        # Before Python 3.12 `os.walk`, by which watchdog finds folders, calls itself at each level; no path has more.
        sys.setrecursionlimit(max(_LEVELS, sys.getrecursionlimit()))
        self._events: queue.SimpleQueue[Event] = queue.SimpleQueue()
        self._observer = Observer()
        self._observer.start()
        self._stop, self._stopping = os.pipe()
        self._mounts = threading.Thread(target=self._hear_mounts, daemon=True)
        self._mounts.start()
        # watchdog says only in its log what the kernel had no room for.
        self._log = _Overflow(self._events)
        logging.getLogger("watchdog").addHandler(self._log)
        logging.getLogger("watchdog").propagate = False
        # If one of its threads ends by an error, it gets no more events: that is reported at once.
        self._hook, threading.excepthook = threading.excepthook, lambda _: self._events.put(LOST)

    def watch(self, deep: Collection[str], flat: Collection[str]) -> None:
        from watchdog.events import (
            DirCreatedEvent,
            DirDeletedEvent,
            DirMovedEvent,
            FileClosedEvent,
            FileCreatedEvent,
            FileDeletedEvent,
            FileModifiedEvent,
            FileMovedEvent,
            FileSystemEvent,
            FileSystemEventHandler,
        )

        told = self._events

        class Handler(FileSystemEventHandler):
            def on_any_event(self, event: FileSystemEvent) -> None:
                for path in (event.src_path, event.dest_path):
                    if path:
                        name = os.fsdecode(path)
                        told.put(Event(os.path.dirname(name), name))

        kinds = [DirCreatedEvent, DirDeletedEvent, DirMovedEvent, FileClosedEvent, FileCreatedEvent, FileDeletedEvent,
                 FileModifiedEvent, FileMovedEvent]  # fmt: skip
        self._observer.unschedule_all()
        for folders, recursive in ((deep, True), (flat, False)):
            for folder in folders:
                self._observer.schedule(Handler(), folder, recursive=recursive, event_filter=kinds)

    def watched(self) -> int | None:
        found, known = 0, False
        with suppress(OSError):
            for name in disk.listdir("/proc/self/fdinfo"):
                with suppress(OSError), open(f"/proc/self/fdinfo/{name}", encoding="ascii", errors="replace") as lines:
                    count = sum(line.startswith("inotify wd:") for line in lines)
                    known = known or count > 0
                    found += count
        return found if known else None

    def wait(self, seconds: float) -> Sequence[Event]:
        try:
            found = [self._events.get(timeout=max(seconds, 0))]
        except queue.Empty:
            return ()
        # What comes together is worked on together.
        with suppress(queue.Empty):
            while True:
                found.append(self._events.get_nowait())
        return found

    def wake(self) -> None:
        self._events.put(Event(""))

    def close(self) -> None:
        os.write(self._stopping, b"x")
        self._observer.stop()
        self._observer.join(5)
        self._mounts.join(5)
        logging.getLogger("watchdog").removeHandler(self._log)
        threading.excepthook = self._hook
        for descriptor in (self._stop, self._stopping):
            disk.close(descriptor)

    def _hear_mounts(self) -> None:
        """Report when a volume is mounted or unmounted."""
        for _ in volumes.changes_of_mounts(self._stop):
            self._events.put(MOUNTS)


class _Overflow(logging.Handler):
    def __init__(self, events: queue.SimpleQueue[Event]) -> None:
        super().__init__()
        self._events = events

    def emit(self, record: logging.LogRecord) -> None:
        self._events.put(LOST)


class Silent:
    """No events at all: for volumes that tell of none, which are looked at from time to time."""

    def __init__(self) -> None:
        self._woken = threading.Event()

    def watch(self, deep: Collection[str], flat: Collection[str]) -> None:
        return

    def watched(self) -> int | None:
        return None

    def wait(self, seconds: float) -> Sequence[Event]:
        self._woken.wait(max(seconds, 0))
        self._woken.clear()
        return ()

    def wake(self) -> None:
        self._woken.set()

    def close(self) -> None:
        return
