"""Calls that Python does not have: renaming without replacing, waiting for a volume."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.kernel import *
else:
    from frugal_sorter.platforms.posix.kernel import *
