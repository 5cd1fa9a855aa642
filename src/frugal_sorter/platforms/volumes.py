"""What is mounted, and how much room there is."""

from __future__ import annotations

import sys

from frugal_sorter.platforms.volume_values import Keeping, Mount, Room

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.volumes import *
elif sys.platform == "darwin":
    from frugal_sorter.platforms.darwin.volumes import *
else:
    from frugal_sorter.platforms.posix.volumes import *

__all__ = ["Keeping", "Mount", "Room", "changes_of_mounts", "free_names", "mount_of", "mounts", "read_times", "room"]  # noqa: F405
