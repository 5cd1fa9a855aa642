"""Mounted volumes."""

from __future__ import annotations

import os


def is_on_mounted_volume(path: str) -> bool:
    """Tell whether a folder lies on a volume that is mounted at it or above it, the root aside.

    So a folder that waits for a volume, and would fill the system disk without it, is told apart
    from the volume itself.
    """
    folder = os.path.realpath(path)
    while folder != "/":
        if os.path.ismount(folder):
            return True
        folder = os.path.dirname(folder)
    return False
