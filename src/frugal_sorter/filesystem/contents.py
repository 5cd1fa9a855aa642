"""What is inside files and archives, read by child processes with limits."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from frugal_sorter.filesystem.record import Unknown
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state import fitting
from frugal_sorter.values import frozen

if TYPE_CHECKING:
    import subprocess


_OWN = str(Path(__file__).resolve().parents[2])
# Python puts the current folder first on the path of a child that it is told to run by name, so that a file
# of the right name there would be run. So a child starts isolated (-I), and gets the path of its parent.
_START = "import sys; sys.path[:] = {path!r}; from {module} import serve; serve()"


def start(module: str, stdin: int, passed: Sequence[int] = (), words: Sequence[str] = ()) -> subprocess.Popen[bytes]:
    """Start a child that runs the function `serve` of a module of this package.

    Args:
        module: the whole name of the module.
        stdin: what its standard input is, as for `subprocess.Popen`.
        passed: the descriptors that it keeps, under their numbers.
        words: its arguments.

    Returns:
        the child, with a pipe from its standard output.
    """
    import subprocess  # needed only where a child is

    return subprocess.Popen(
        [sys.executable, "-I", "-c", _START.format(path=trusted_path(), module=module), *words],
        stdin=stdin,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        cwd=processes.START_FOLDER,
        pass_fds=passed,
        # Ctrl-C is for us; what we do then decides about the child.
        **processes.child_group(),
    )


def trusted_path() -> list[str]:
    """Return the folders that modules are imported from, without the current one."""
    try:
        here = os.getcwd()
    except FileNotFoundError:
        here = ""
    return [one for one in sys.path if slashed.is_absolute(one) and (one == _OWN or one != here)]


SECONDS = 5.0


class Contents:
    """One reading process, started when it is first needed and again after it had to be killed.

    Args:
        seconds: how long one file may take.
    """

    def __init__(self, seconds: float = SECONDS) -> None:
        self._seconds = seconds
        self._process: subprocess.Popen[bytes] | None = None
        self._known: tuple[str, str, Any] | None = None
        self.opened = 0

    def read(self, fact: str, path: str) -> Any | Unknown:
        """Return a fact of a file, or why it is not available.

        Args:
            fact: the name of a reader, see `readers.READERS`.
            path: an absolute path.
        """
        if self._known is not None and self._known[:2] == (fact, path):
            return self._known[2]  # title, artist and album come from one look
        # Counted for the tests: nothing is to be opened that a cheaper test has decided.
        self.opened += 1
        answer = self._ask(fact, path)
        value = Unknown(answer["unknown"]) if "unknown" in answer else answer["value"]
        self._known = (fact, path, value)
        return value

    def close(self) -> None:
        """End the reading process."""
        if self._process is not None:
            self._process.kill()
            # It is waited for, so that it does not stay behind as an ended process.
            self._process.communicate()
            self._process = None

    def _ask(self, fact: str, path: str) -> dict[str, Any]:
        # One child for many files, since starting it costs more than reading most of them.
        process = self._process or self._start()
        assert process.stdin is not None and process.stdout is not None
        try:
            process.stdin.write(json.dumps([fact, path]).encode() + b"\n")
            process.stdin.flush()
        except OSError:
            self.close()
            return {"unknown": "the reader ended"}
        line = self._answer(process)
        # It still reads: only a kill ends that, and the next file gets a new child.
        if line is None:
            self.close()
            return {"unknown": "took too long"}
        try:
            answer: dict[str, Any] = fitting(line, {})
        except ValueError:
            self.close()
            return {"unknown": "damaged, or too large to read"}
        return answer

    def _start(self) -> subprocess.Popen[bytes]:
        from subprocess import PIPE  # needed only where a file is opened

        self._process = start("frugal_sorter.filesystem.content_readers", PIPE)
        return self._process

    def _answer(self, process: subprocess.Popen[bytes]) -> bytes | None:
        """Return the line that comes, what came until the process died, or None for nothing in time."""
        assert process.stdout is not None
        until = time.monotonic() + self._seconds
        descriptor = process.stdout.fileno()
        parts: list[bytes] = []
        while (left := until - time.monotonic()) > 0:
            if not processes.wait_readable(descriptor, left):
                break
            part = os.read(descriptor, 1 << 20)
            parts.append(part)
            # An answer is one line; an end without one is a child that its limits have killed.
            if not part or part.endswith(b"\n"):
                return b"".join(parts)
        return None


# Longer than this the child may not work before the next block, nor longer in total for this many bytes of the archive.
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
        from subprocess import PIPE  # needed only where an archive is opened

        self._child = start("frugal_sorter.filesystem.archive_reader", PIPE, passed, [word, str(seconds)])
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
            answer: dict[str, Any] = fitting(line, {})
        except ValueError:
            raise BadArchive("damaged") from None
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
            raise BadArchive("it is damaged, or needs too much time or memory to read")
        self._read += part
