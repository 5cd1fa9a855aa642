"""Commands as a person types them: words to a line that can be copied, and back."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.shell import *
else:
    from frugal_sorter.platforms.posix.shell import *
