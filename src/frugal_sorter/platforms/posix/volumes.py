"""Mounts after proc(5), /proc/PID/mountinfo."""

from __future__ import annotations

import os
import re
import struct
import sys
import time
from collections.abc import Iterator

assert sys.platform != "win32"

from frugal_sorter.platforms.volume_values import Keeping, Mount, Room

_MOUNTS = "/proc/self/mountinfo"


def mounts() -> list[Mount]:
    """Return every mount, in the order of the table."""
    found = []
    try:
        with open(_MOUNTS, encoding="utf-8", errors="surrogateescape") as lines:
            for line in lines:
                before, _, after = line.partition(" - ")
                fields = before.split(" ")
                major, minor = fields[2].split(":")
                # Spaces and the like are written in octal (proc(5)).
                top = re.sub(r"\\(\d{3})", lambda code: chr(int(code[1], 8)), fields[4])
                found.append(Mount(os.makedev(int(major), int(minor)), top, after.split(" ")[0]))
    except OSError:
        pass
    return found


# statx(2): STATX_MNT_ID, of Linux 5.8, and where struct statx has it.
_WITH_MOUNT, _MASK, _MOUNT = 0x1000, struct.Struct("=I"), struct.Struct("=Q")
_MOUNT_AT = 144
_ITSELF = 0x1000  # AT_EMPTY_PATH


def mount_of(path: str | int) -> int:
    """Return the number of the mount that a folder, named or open, is on; where mounts have none, that of its device.

    Raises:
        OSError: there is no such folder.
    """
    import ctypes  # a list of runs has volumes and looks at none

    from frugal_sorter.platforms.posix import disk

    call = disk.statx()
    buffer = ctypes.create_string_buffer(256)
    where = (path, b"", _ITSELF) if isinstance(path, int) else (-100, os.fsencode(path), 0)
    answered = call is not None and call(*where, _WITH_MOUNT, buffer) == 0
    if answered and _MASK.unpack_from(buffer)[0] & _WITH_MOUNT:
        return int(_MOUNT.unpack_from(buffer, _MOUNT_AT)[0])
    return os.stat(path).st_dev


def room(path: str | int) -> Room:
    """Return the room on the volume of a folder, given by its path or a descriptor.

    Raises:
        OSError: it cannot be asked.
    """
    found = os.statvfs(path)
    return Room(found.f_bavail * found.f_frsize, found.f_blocks * found.f_frsize)


def free_names(path: str) -> int | None:
    """Return how many more files this account can make on the volume of a folder, None where it takes any number.

    Raises:
        OSError: it cannot be asked.
    """
    found = os.statvfs(path)
    return found.f_favail if found.f_files > 0 else None


def read_times(folder: str) -> Keeping:
    """Return how the volume of a folder keeps when files were opened, as far as its mount says.

    Raises:
        OSError: the folder cannot be reached.
    """
    # Asked of the system rather than of the mount table, in which a bind mount has options of its own.
    flags = os.statvfs(folder).f_flag
    if flags & getattr(os, "ST_NOATIME", 0):
        return "never"
    return "daily" if flags & getattr(os, "ST_RELATIME", 0) else "always"


def changes_of_mounts(stop: int) -> Iterator[None]:
    """Yield whenever a volume was mounted or unmounted: the table of mounts can be waited for (proc(5)).

    Args:
        stop: a descriptor; when there is something to read from it, that is the end.
    """
    if sys.platform != "linux":
        return
    import select  # needed only by what waits

    try:
        table = os.open(_MOUNTS, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return
    try:
        poll = select.poll()
        poll.register(table, select.POLLERR | select.POLLPRI)
        poll.register(stop, select.POLLIN)
        while not any(descriptor == stop for descriptor, _ in poll.poll()):
            yield
            time.sleep(0.05)  # mounting changes it several times
    finally:
        os.close(table)
