"""Whether somebody is writing to a file, asked of the system, and held so until it is given back."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.leases import *
else:
    from frugal_sorter.platforms.posix.leases import *
