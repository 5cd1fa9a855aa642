"""What a file has beside its contents: extended attributes, on Windows its other streams."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.attributes import *
elif sys.platform == "linux":
    from frugal_sorter.platforms.posix.attributes import *
else:
    from frugal_sorter.platforms.posix.no_attributes import *
