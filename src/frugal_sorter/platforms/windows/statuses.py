"""A status has its birth here."""

from __future__ import annotations

import sys
from typing import Any

assert sys.platform == "win32"


def statx() -> Any | None:
    """Return nothing: a status has its birth."""
    return None


def device(major: int, minor: int) -> int:
    """Return the number of a device, as a status has it."""
    return 0
