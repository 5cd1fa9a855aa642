"""Where programs keep what is theirs, and which the system knows as installed, beside its package managers."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.programs import *
else:
    from frugal_sorter.platforms.posix.programs import *
