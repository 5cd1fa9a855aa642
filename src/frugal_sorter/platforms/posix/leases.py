"""A read lease (fcntl(2), F_SETLEASE), as Linux has them; macOS has none.

It is granted only while nobody has the file open for writing, and whoever opens it for writing then waits until the
lease is given back, for at most /proc/sys/fs/lease-break-time. The holder of a lease that somebody waits for gets a
signal: by default SIGIO, which ends a process. So another one is asked for, which is ignored by default.
"""

from __future__ import annotations

import fcntl
import os
import signal
import sys

assert sys.platform != "win32"


CAN_LEASE = sys.platform == "linux"


def open_alone(name: str, flags: int, fd: int) -> int:
    """Open a file of an open folder so that nobody can begin to write to it, once it is leased.

    Raises:
        OSError: it cannot be opened.
    """
    return os.open(name, flags, dir_fd=fd)


def lease(descriptor: int) -> None:
    """Lease an open file; closing it gives the lease back.

    Raises:
        OSError: EAGAIN where somebody has it open for writing; another one where that cannot be asked.
    """
    if sys.platform == "linux":
        fcntl.fcntl(descriptor, fcntl.F_SETSIG, signal.SIGURG)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_RDLCK)


def is_broken(descriptor: int) -> bool:
    """Return True if somebody began to wait for a lease, to write."""
    return sys.platform == "linux" and fcntl.fcntl(descriptor, fcntl.F_GETLEASE) != fcntl.F_RDLCK
