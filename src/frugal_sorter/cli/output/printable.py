"""The way out for text: whatever is printed passes here, so that no name of a file can act on a terminal.

Names of files, of processes and of rules, and whatever else comes from outside, may hold control
characters, marks that turn the direction of writing, or bytes that are no letters. They are shown
escaped, in tables as well as in CSV and pages. Colour is the terminal's own, and goes around this.
"""

from __future__ import annotations

from typing import Any, TextIO

from frugal_sorter.cli.output.text import shown


class PrintableStream:
    """A stream that lets only printable letters and ends of lines through.

    Args:
        stream: where it goes.
    """

    def __init__(self, stream: TextIO) -> None:
        self.stream = stream

    def write(self, text: str) -> int:
        """Write a text, with what is not printable escaped."""
        self.stream.write(printable(text))
        return len(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.stream, name)


def printable(text: str) -> str:
    """Return a text of whole lines with what is not printable escaped; CSV ends its lines with both characters."""
    if text.isascii() and text.replace("\n", "").isprintable():
        return text
    lines = text.split("\n")
    ends = [line.endswith("\r") for line in lines[:-1]]
    escaped = [shown(line[:-1]) + "\r" if end else shown(line) for line, end in zip(lines, ends, strict=False)]
    return "\n".join([*escaped, shown(lines[-1])])


def raw(stream: Any) -> TextIO:
    """Return the stream behind a printable one, for what is no text from outside."""
    behind: TextIO = stream.stream if isinstance(stream, PrintableStream) else stream
    return behind
