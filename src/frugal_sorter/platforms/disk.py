"""The calls on files and folders, by the names that POSIX gives them, with descriptors of open folders on each system.

On POSIX these are the functions of `os`. A hook can take the place of any: all callers ask for it by `disk.NAME` at
the moment of the call, so that tests make a fault, or end the process, at any of them (`CHANGING`).
"""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from frugal_sorter.platforms.windows.disk import *
elif sys.platform == "darwin":
    from frugal_sorter.platforms.darwin.disk import *
else:
    from frugal_sorter.platforms.posix.disk import *

# Whether an inventory of another machine stands for the disk (`elsewhere`).
IS_INVENTORY = False
# What changes something on the disk: the calls at which a test makes a fault.
CHANGING = ("copy_range", "fchmod", "fchown", "link", "mkdir", "pwrite", "replace", "rmdir", "symlink", "unlink", "utime")
