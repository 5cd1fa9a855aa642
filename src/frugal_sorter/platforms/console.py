"""The streams of a program: in which letters, and whether a person sits at them."""

from __future__ import annotations

import sys

# Imported by every command, so that it imports nothing itself.
TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import TextIO

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.console import *
else:

    def prepare() -> None:
        """Make the standard streams take every letter: here they do, as the person has set the machine up."""

    def words(args: list[str]) -> list[str]:
        """Return the words of a command line; the shell has filled in the home and variables."""
        return args

    def misquoted(args: list[str]) -> str:
        """Return what was written between quotes that the shell passed on as letters: here it passes none on."""
        return ""

    def is_terminal(stream: TextIO) -> bool:
        """Return True if a person sits at a stream.

        Raises:
            ValueError: it is closed.
        """
        return stream.isatty()

    def forget_typed(stream: TextIO) -> None:
        """Discard what has been typed at a terminal."""
        import termios  # only where a person is asked

        if stream.isatty():
            termios.tcflush(stream, termios.TCIFLUSH)
