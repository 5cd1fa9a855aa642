"""The account that this process acts for, the others of the machine, and the machine itself."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.accounts import *
else:
    from frugal_sorter.platforms.posix.accounts import *
