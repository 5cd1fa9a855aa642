"""Accounts as macOS has them."""

from __future__ import annotations

import ctypes
import sys
import uuid

assert sys.platform == "darwin"

from frugal_sorter.platforms.posix.accounts import *

# How long gethostuuid(2) may wait: not at all (struct timespec).
_AT_ONCE = (ctypes.c_long * 2)(0, 0)


def machine_key() -> str:  # type: ignore[no-redef]
    """Return what tells this machine from others, empty where it has nothing of the kind."""
    told = (ctypes.c_ubyte * 16)()
    call = getattr(ctypes.CDLL(None), "gethostuuid", None)
    return str(uuid.UUID(bytes=bytes(told))) if call is not None and call(told, _AT_ONCE) == 0 else ""
