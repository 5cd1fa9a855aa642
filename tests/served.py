"""The program, loaded once and forked for each run: what a test waits for is the run, not the start of Python.

The server is a process without threads. A client sends the words, the folder and the environment of a run with
its three standard streams; the run says its number, waits until it may begin, and ends as any process does.
"""

from __future__ import annotations

import array
import ctypes
import gc
import importlib
import io
import json
import os
import pkgutil
import selectors
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from threading import Lock
from typing import IO

# Imported where they are needed, by the program and by the libraries that it uses.
_LATE = (
    "rich.console", "rich.table", "rich.text", "rich.segment", "sqlite3", "jinja2", "matplotlib.figure",
    "matplotlib.backends.backend_agg", "matplotlib.backends.backend_svg", "matplotlib.backends.backend_pdf",
    "blake3", "PIL.Image", "mutagen", "pypdf", "psutil", "multiprocessing.pool",
)  # fmt: skip
_ELSEWHERE = ("frugal_sorter.platforms.windows.", "frugal_sorter.platforms.darwin.")
_ELSEWHERE = ("frugal_sorter.platforms.windows.", "frugal_sorter.platforms.darwin.")
# What Python reads once, when it starts.
_OF_THE_START = ("PYTHON", "LC_", "LANG", "LD_")
_LET_ANY_TRACE = 0x59616D61


def needs_a_start(env: Mapping[str, str]) -> bool:
    """Tell whether an environment has what only a new process of Python takes in."""
    return any(name.startswith(_OF_THE_START) and os.environ.get(name) != value for name, value in env.items())


class Served:
    """The client: runs the program in forks of one process, which it starts when it is first needed."""

    def __init__(self) -> None:
        self._folder = tempfile.mkdtemp(prefix="frugal-served-")
        self._path = os.path.join(self._folder, "socket")
        self._server: subprocess.Popen[bytes] | None = None
        self._lock = Lock()

    def _start(self) -> None:
        ready, write = os.pipe()
        self._server = subprocess.Popen(
            [sys.executable, "-m", "tests.served", self._path, str(write)],
            pass_fds=[write], stdin=subprocess.DEVNULL, cwd=Path(__file__).parents[1],
        )  # fmt: skip
        os.close(write)
        with open(ready, "rb") as file:
            assert file.read() == b"ready", "the server of the tests did not start"

    def close(self) -> None:
        """End the server."""
        if self._server is not None:
            self._server.kill()
            self._server.wait()
        with suppress(FileNotFoundError):
            os.unlink(self._path)
        os.rmdir(self._folder)

    def run(
        self, words: Sequence[object], cwd: Path, env: Mapping[str, str], inject: str = ""
    ) -> subprocess.CompletedProcess[str]:
        """Run the program once.

        Args:
            words: of its command line.
            cwd: the folder that it is in.
            env: its environment.
            inject: what strace puts into its system calls, such as `write:signal=SIGKILL:when=3`.
        """
        with self._lock:
            if self._server is None:
                self._start()
        with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err, open(os.devnull, "rb") as nothing:
            with socket.socket(socket.AF_UNIX) as client:
                client.connect(self._path)
                request = json.dumps({"words": list(map(str, words)), "cwd": str(cwd), "env": dict(env)}).encode()
                streams = array.array("i", [nothing.fileno(), out.fileno(), err.fileno()])
                client.sendmsg([len(request).to_bytes(8, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, streams)])
                client.sendall(request)
                answers = client.makefile("rb")
                number = int(answers.readline())
                tracer = _traced(number, inject) if inject else None
                client.sendall(b"go")
                code = int(answers.readline())
                if tracer is not None:
                    tracer.wait()
                    assert tracer.stderr is not None
                    tracer.stderr.close()
            said = []
            for file in (out, err):
                file.seek(0)
                said.append(file.read().decode("utf-8", "surrogateescape").replace("\r\n", "\n"))
        return subprocess.CompletedProcess(list(map(str, words)), code, *said)


def _traced(number: int, inject: str) -> subprocess.Popen[bytes]:
    """Attach strace to a process that waits."""
    calls = inject.partition(":")[0]
    tracer = subprocess.Popen(
        ["strace", "-f", "-o", "/dev/null", "-e", f"trace={calls}", "-e", f"inject={inject}", "-p", str(number)],
        stdin=subprocess.DEVNULL, stderr=subprocess.PIPE,
    )  # fmt: skip
    assert tracer.stderr is not None
    said = tracer.stderr.readline()
    assert b"attached" in said, said
    return tracer


def _serve(path: str, ready: int) -> None:
    """Fork for each run, as long as the client lives."""
    client_of_all = os.getppid()
    with socket.socket(socket.AF_UNIX) as server, selectors.DefaultSelector() as waiting:
        server.bind(path)
        server.listen(16)
        _load()
        os.write(ready, b"ready")
        os.close(ready)
        waiting.register(server, selectors.EVENT_READ, lambda: _begin(server.accept()[0], waiting))
        while os.getppid() == client_of_all:
            for key, _ in waiting.select(5):
                key.data()


def _load() -> None:
    import frugal_sorter

    for module in pkgutil.walk_packages(frugal_sorter.__path__, "frugal_sorter."):
        if not module.name.endswith("__main__") and not module.name.startswith(_ELSEWHERE):
            importlib.import_module(module.name)
    for name in _LATE:
        importlib.import_module(name)
    gc.collect()
    gc.freeze()


def _begin(client: socket.socket, waiting: selectors.BaseSelector) -> None:
    """Fork for one run; it begins when the client says so."""
    size, (ancillary,), *_ = client.recvmsg(8, socket.CMSG_SPACE(3 * array.array("i").itemsize))
    streams = array.array("i")
    streams.frombytes(ancillary[2])
    left = int.from_bytes(size, "big")
    request = b""
    while len(request) < left:
        request += client.recv(left - len(request))
    wait, go = os.pipe()
    number = os.fork()
    if number == 0:
        os.close(go)
        for key in list(waiting.get_map().values()):
            os.close(key.fd)
        waiting.close()
        client.close()
        _become(json.loads(request), streams, wait)
    for stream in (*streams, wait):
        os.close(stream)
    ended = os.pidfd_open(number)

    def let_go() -> None:
        waiting.unregister(client)
        if client.recv(2):
            os.write(go, b"!")
        os.close(go)

    def tell() -> None:
        waiting.unregister(ended)
        os.close(ended)
        _, status = os.waitpid(number, 0)
        with suppress(BrokenPipeError), client:
            client.sendall(b"%d\n" % os.waitstatus_to_exitcode(status))

    client.sendall(b"%d\n" % number)
    waiting.register(client, selectors.EVENT_READ, let_go)
    waiting.register(ended, selectors.EVENT_READ, tell)


def _become(request: dict[str, object], streams: Sequence[int], wait: int) -> None:
    """Be the program, in a process that was forked for it."""
    words, cwd, env = request["words"], request["cwd"], request["env"]
    assert isinstance(words, list) and isinstance(env, dict) and isinstance(cwd, str)
    for number, stream in enumerate(streams):
        os.dup2(stream, number)
        os.close(stream)
    os.environ.clear()
    os.environ.update(env)
    time.tzset()
    os.chdir(cwd)
    sys.argv = ["frugal", *words]
    for name, mode in (("stdin", 0), ("stdout", 1), ("stderr", 2)):
        setattr(sys, name, _stream(mode))
    # A tracer that is no parent may attach where only those may otherwise.
    ctypes.CDLL(None).prctl(_LET_ANY_TRACE, -1, 0, 0, 0)
    if not os.read(wait, 1):
        os._exit(1)
    os.close(wait)
    from frugal_sorter.cli.main import main

    code = 1
    try:
        code = main()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        sys.excepthook(*sys.exc_info())
    finally:
        with suppress(Exception):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(code)


def _stream(number: int) -> IO[str]:
    raw = open(number, "rb" if number == 0 else "wb", closefd=False)  # noqa: SIM115
    errors = {0: "strict", 1: "strict", 2: "backslashreplace"}[number]
    return io.TextIOWrapper(raw, encoding="utf-8", errors=errors, line_buffering=number == 2)


if __name__ == "__main__":
    _serve(sys.argv[1], int(sys.argv[2]))
