"""What stands inside files, read by child processes with limits."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from frugal_sorter.filesystem.record import Unknown
from frugal_sorter.platforms import processes, slashed
from frugal_sorter.platforms.slashed import Path

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
        """Return a fact of a file, or why it cannot be had.

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
            answer: dict[str, Any] = json.loads(line)
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
