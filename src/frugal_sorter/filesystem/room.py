"""How much room there is on a volume."""

from __future__ import annotations

import os

from frugal_sorter.platforms import disk, volumes


def room_around(folder: str) -> volumes.Room:
    """Return the room on the volume of a folder that may be gone by now: of the nearest one around it that is there.

    Args:
        folder: absolute.

    Raises:
        OSError: it cannot be asked.
    """
    # The root is always there, so that this ends.
    while not disk.isdir(folder):
        folder = os.path.dirname(folder)
    return volumes.room(folder)


def free_bytes(path: str | int) -> int:
    """Return how much this account can still write to the volume of a folder, given by its path or a descriptor."""
    return volumes.room(path).free
