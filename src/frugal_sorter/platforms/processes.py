"""Processes: their limits, forks, pipes, locks and ends."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.processes import *
else:
    from frugal_sorter.platforms.posix.processes import *
