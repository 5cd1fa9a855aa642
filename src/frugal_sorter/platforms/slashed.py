"""Paths as the program has them everywhere: absolute ones begin with `/`, on Windows with a drive (`C:/`) or a share
(`//server/share/`), and all names are between slashes.

`slashed` is the way in, for what a person wrote. The rest is what `os.path` has by these names.
"""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.slashed import *
else:
    from frugal_sorter.platforms.posix.slashed import *
