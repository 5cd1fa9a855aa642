"""Reading an archive of which nothing is trusted: a child reads it, with bounded memory and time."""

from __future__ import annotations

import json
import os
import subprocess
import time
from collections.abc import Callable, Iterator
from typing import Any

from frugal_sorter.filesystem.contents import start
from frugal_sorter.platforms import disk, processes
from frugal_sorter.values import frozen

# Longer than this the child may not work before the next block, nor altogether for so many bytes of the archive.
SILENT_SECONDS = 20.0
_CPU_SECONDS, _BYTES_A_SECOND = 60, 500_000
_LISTEN_SECONDS = 0.2
_LONGEST_LINE = 100_000


class BadArchive(Exception):
    """An archive cannot be read, and why."""


@frozen
class Member:
    """One entry of an archive, as the archive has it.

    Args:
        name: its path.
        kind: `file`, `folder`, `link`, or `device` for what is none of these.
        size: in bytes, as the archive says.
        mode: its permission bits, None where the archive knows none.
        mtime: when it was last written, in seconds since the epoch.
        link: where a link, or a hard link, leads.
    """

    name: str
    kind: str
    size: int
    mode: int | None
    mtime: float
    link: str


class Archive:
    """An archive that is being read.

    Args:
        descriptor: of the open archive; it is not closed.
        heed: called while the child works; it raises to give up.

    Raises:
        BadArchive: from its methods: it cannot be read.
    """

    def __init__(self, descriptor: int, heed: Callable[[], None] = lambda: None) -> None:
        self._heed = heed
        seconds = _CPU_SECONDS + disk.fstat(descriptor).st_size // _BYTES_A_SECOND
        os.lseek(descriptor, 0, os.SEEK_SET)
        word, passed = processes.hand_on(descriptor)
        self._child = start("frugal_sorter.filesystem.archive_reader", subprocess.PIPE, passed, [word, str(seconds)])
        assert self._child.stdout is not None
        self._answers = self._child.stdout.fileno()
        self._read = bytearray()

    def __enter__(self) -> Archive:
        return self

    def __exit__(self, *_: object) -> None:
        # It may be in the middle of an archive that never ends; nothing that it holds is needed.
        self._child.kill()
        self._child.communicate()

    def members(self) -> Iterator[Member]:
        """Yield what the archive says that it holds; nothing of that was checked."""
        while (line := self._line()) != "null":
            answer = self._answer(line)
            if "error" in answer:
                raise BadArchive(str(answer["error"]))
            # The child takes apart what anybody may have made: what it says is held to its form, too.
            try:
                yield Member(**answer)
            except TypeError:
                raise BadArchive("damaged") from None

    def contents(self) -> Iterator[bytes]:
        """Yield the contents of the files, in the order of `members`, in blocks; an empty one ends each file."""
        assert self._child.stdin is not None
        try:
            self._child.stdin.write(b"go\n")
            self._child.stdin.flush()
        except OSError:
            raise BadArchive("its reader ended") from None
        while True:
            line = self._line()
            if line.startswith("{"):
                raise BadArchive(str(self._answer(line).get("error", "damaged")))
            if not line.isdigit():
                raise BadArchive("damaged")
            yield self._take(int(line))

    @staticmethod
    def _answer(line: str) -> dict[str, Any]:
        try:
            answer = json.loads(line)
        except ValueError:
            raise BadArchive("damaged") from None
        if not isinstance(answer, dict):
            raise BadArchive("damaged")
        return answer

    def _line(self) -> str:
        while (end := self._read.find(b"\n")) < 0:
            # A child that was led astray must not fill the memory of its parent.
            if len(self._read) > _LONGEST_LINE:
                raise BadArchive("a name in it is too long")
            self._more()
        line = self._read[:end].decode("ascii", "replace")
        del self._read[: end + 1]
        return line

    def _take(self, length: int) -> bytes:
        while len(self._read) < length:
            self._more()
        taken = bytes(self._read[:length])
        del self._read[:length]
        return taken

    def _more(self) -> None:
        """Wait for more from the child."""
        until = time.monotonic() + SILENT_SECONDS
        # In short waits, so that a person who says stop is heard while the child works.
        while not processes.wait_readable(self._answers, _LISTEN_SECONDS):
            self._heed()
            if time.monotonic() > until:
                raise BadArchive("it takes too long to read")
        self._heed()
        part = os.read(self._answers, 1 << 20)
        if not part:
            raise BadArchive("it is damaged, or takes too much time or memory to read")
        self._read += part
