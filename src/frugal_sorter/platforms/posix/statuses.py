"""A status with its birth: statx(2), as Linux has it."""

from __future__ import annotations

import ctypes
import os
import sys
from typing import Any

assert sys.platform != "win32"


def statx() -> Any | None:
    """Return statx(2) of the C library, None where there is none."""
    call = getattr(ctypes.CDLL(None, use_errno=True), "statx", None) if sys.platform == "linux" else None
    if call is not None:
        call.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p]
    return call


def device(major: int, minor: int) -> int:
    """Return the number of a device, as a status has it."""
    return os.makedev(major, minor)
