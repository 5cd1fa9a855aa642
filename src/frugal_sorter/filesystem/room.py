"""How much room there is on a volume."""

from __future__ import annotations

import os
from typing import NamedTuple


class Room(NamedTuple):
    """How much this account can still write to a volume, and how big it is, in bytes."""

    free: int
    total: int


def room_of(path: str | int) -> Room:
    """Return the room on the volume of a folder, given by its path or a descriptor.

    Raises:
        OSError: it cannot be asked.
    """
    found = os.statvfs(path)
    return Room(found.f_bavail * found.f_frsize, found.f_blocks * found.f_frsize)


def room_around(folder: str) -> Room:
    """Return the room on the volume of a folder that may be gone by now: of the nearest one around it that is there.

    Args:
        folder: absolute.

    Raises:
        OSError: it cannot be asked.
    """
    while not os.path.isdir(folder):
        folder = os.path.dirname(folder)
    return room_of(folder)


def free_bytes(path: str | int) -> int:
    """Return how much this account can still write to the volume of a folder, given by its path or a descriptor."""
    return room_of(path).free
