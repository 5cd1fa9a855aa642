"""The status of an entry with its birth, where Python has no call for it."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.statuses import *
else:
    from frugal_sorter.platforms.posix.statuses import *
