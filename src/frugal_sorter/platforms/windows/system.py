"""What belongs to Windows itself."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

assert sys.platform == "win32"

from frugal_sorter.platforms.windows.slashed import realpath
from frugal_sorter.platforms.windows.volumes import mounts

_VARIABLES = ("SystemRoot", "ProgramFiles", "ProgramFiles(x86)", "ProgramW6432", "ProgramData")
_AT_TOPS = ("$Recycle.Bin", "System Volume Information", "Recovery", "$WinREAgent")


def trees() -> Sequence[str]:
    """Return the folders that are the system's, with all that is below them."""
    named = [realpath(os.environ[name]) for name in _VARIABLES if os.environ.get(name)]
    return (*dict.fromkeys(named), *(f"{mount.top}{name}" for mount in mounts() for name in _AT_TOPS))


def open_trees() -> Sequence[str]:
    """Return places inside those trees where people do keep files."""
    return ()


def folders() -> Sequence[str]:
    """Return the folders that are the system's themselves, but not what is below them."""
    drive = f"{os.environ.get('SYSTEMDRIVE', 'C:')}/"
    return drive, f"{drive}Users"
