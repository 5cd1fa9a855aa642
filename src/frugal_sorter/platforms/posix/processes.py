"""Processes as POSIX has them; how a shell reads words; and where programs keep what is theirs, after the XDG and the Filesystem
Hierarchy specifications.
"""

from __future__ import annotations

import os
import signal
import sys
from shlex import join as join
from shlex import quote as quote
from shlex import split as split
from typing import Any, BinaryIO, cast

assert sys.platform != "win32"


# What asks a program to end, and what tells one that runs on its own that its settings changed.
GENTLE_STOPS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
HANG_UP: int | None = signal.SIGHUP
# Where a program is started that must hold on to no folder.
START_FOLDER = "/"


def can_fork() -> bool:
    """Return True if a fork is available, and another processor for it."""
    return (os.cpu_count() or 1) > 1


def fork() -> int:
    """Fork; see fork(2).

    Raises:
        OSError: none is available.
    """
    return os.fork()


def set_blocking(descriptor: int, is_blocking: bool) -> None:
    """Set whether reading and writing a pipe wait for the other end."""
    os.set_blocking(descriptor, is_blocking)


def limit(memory_bytes: int, cpu_seconds: int | None = None) -> None:
    """Limit what this process may use.

    Args:
        memory_bytes: its address space.
        cpu_seconds: its time on a processor; None for no limit.
    """
    import resource

    resource.setrlimit(resource.RLIMIT_AS, (memory_bytes, memory_bytes))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    if cpu_seconds is not None:
        resource.setrlimit(resource.RLIMIT_CPU, (cpu_seconds, cpu_seconds))


def scratch_file() -> BinaryIO:
    """Return a new file without a name, to write and read; where the system has that, in memory, so that a full disk has it."""
    if sys.platform == "linux":
        return os.fdopen(os.memfd_create("frugal"), "w+b")
    import tempfile

    return cast(BinaryIO, tempfile.TemporaryFile())


def child_group() -> dict[str, Any]:
    """Return how `subprocess.Popen` starts a program whose own children can be ended with it, apart from Ctrl-C."""
    return {"start_new_session": True}


def kill_group(pid: int) -> None:
    """End a program that was started so, with its children.

    Raises:
        ProcessLookupError: it has ended.
    """
    os.killpg(pid, signal.SIGKILL)


def end_after(seconds: int, stop: Any) -> None:
    """Call a handler of signals after this many seconds."""
    signal.signal(signal.SIGALRM, stop)
    signal.alarm(seconds)


def try_lock(descriptor: int) -> bool:
    """Lock an open file for this process alone, without waiting; closing it unlocks it, and so does the end of the process.

    Raises:
        OSError: it cannot be locked at all.
    """
    import fcntl

    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def wait_readable(descriptor: int, seconds: float) -> bool:
    """Wait until there is something to read from a pipe, or its other end is closed; False after this many seconds."""
    import selectors

    with selectors.DefaultSelector() as selector:
        selector.register(descriptor, selectors.EVENT_READ)
        return bool(selector.select(seconds))


def hand_on(descriptor: int) -> tuple[str, list[int]]:
    """Return the word by which a child finds an open file, and the descriptors that it must be given for that."""
    return str(descriptor), [descriptor]


def handed_on(word: str) -> int:
    """Return the descriptor of the file that a parent has handed on."""
    return int(word)


def give_back_memory() -> None:
    """Return the memory that the C library keeps to the system, where it can (malloc_trim(3))."""
    import ctypes

    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)


# Whether it is asked by the path of a file who has it open; otherwise all programs are asked for their files.
ASKED_BY_PATH = False


def holder_of(path: str, to_write: bool) -> str | None:
    """Return the program that has a file open: that is not asked by its path here."""
    return None


# Where what an installed package owns is beside what it left.
SYSTEM_PLACES: tuple[str, ...] = ("/etc/", "/var/", "/opt/")


def places(home: str, is_admin: bool) -> list[tuple[str, bool]]:
    """Return the folders in which programs keep what is theirs, and whether only hidden entries of it count.

    Args:
        home: of the account.
        is_admin: those of the whole machine, too.
    """

    def xdg(name: str, default: str) -> str:
        named = os.environ.get(name, "")
        return named if named.startswith("/") else f"{home}/{default}"

    config, data = xdg("XDG_CONFIG_HOME", ".config"), xdg("XDG_DATA_HOME", ".local/share")
    folders = [config, xdg("XDG_CACHE_HOME", ".cache"), data, xdg("XDG_STATE_HOME", ".local/state"), f"{config}/autostart",
               f"{config}/systemd/user", f"{data}/applications", f"{home}/.var/app", f"{home}/snap"]  # fmt: skip
    found = [*((folder, False) for folder in folders), (home, True)]
    system = ("/etc", "/var/lib", "/var/log", "/var/cache", "/opt") if is_admin else ()
    return [*found, *((folder, False) for folder in system)]


def registered() -> dict[str, str]:
    """Return by name the programs that the system knows besides those of package managers: none."""
    return {}


def command_name(file: str) -> str:
    """Return the name of the command that a file on the PATH is."""
    return file
