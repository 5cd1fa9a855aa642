"""A line that says how far a long command has got: only on a terminal, only after a second."""

from __future__ import annotations

import sys
import time

from frugal_sorter.cli.output.printable import raw
from frugal_sorter.cli.output.text import shown
from frugal_sorter.platforms import console

_AFTER_SECONDS, _EVERY_SECONDS = 1.0, 0.2


class Progress:
    """Writes over its own line on standard error, and takes it away at the end.

    Args:
        what: what is counted, such as `files counted`.
    """

    def __init__(self, what: str) -> None:
        self._what = what
        self._screen = raw(sys.stderr)
        self._shows = console.is_terminal(self._screen)
        self._next = time.monotonic() + _AFTER_SECONDS
        self._written = 0

    def update(self, count: int, what: str = "") -> None:
        """Take in how far the work has got; `what` where by now something else is counted."""
        if not self._shows or time.monotonic() < self._next:
            return
        self._next = time.monotonic() + _EVERY_SECONDS
        text = shown(f"{count:,} {what or self._what}")
        self._screen.write("\r" + text.ljust(self._written))
        self._screen.flush()
        self._written = len(text)

    def clear(self) -> None:
        """Take the line away, so that another can be printed; it comes again when more is told."""
        if self._written:
            self._screen.write("\r" + " " * self._written + "\r")
            self._screen.flush()
            self._written = 0

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *_: object) -> None:
        self.clear()
