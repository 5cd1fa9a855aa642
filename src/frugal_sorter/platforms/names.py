"""Names that a system cannot hold."""

from __future__ import annotations

import re
import sys

_RESERVED = re.compile(r'[<>:"|?*\\/\x00-\x1f]')
# Names of devices, with any suffix ("Naming Files, Paths, and Namespaces", learn.microsoft.com).
_DEVICES = re.compile(r"(?:con|prn|aux|nul|conin\$|conout\$|com[1-9¹²³]|lpt[1-9¹²³])\s*(?:\..*)?", re.IGNORECASE)
_LONGEST = 255


def windows_refuses(name: str) -> str:
    """Return why Windows can hold no entry of that name, or an empty text."""
    if found := _RESERVED.search(name):
        return f"Windows has no {found[0]!r} in names"
    if name.endswith((".", " ")):
        return "Windows has no names that end in a dot or a blank"
    if _DEVICES.fullmatch(name):
        return f"on Windows {name.split('.')[0].strip()} is the name of a device"
    if len(name.encode("utf-16-le", "surrogatepass")) > 2 * _LONGEST:
        return f"Windows has no names of more than {_LONGEST} letters"
    return ""


def refused_here(name: str) -> str:
    """Return why this system can hold no entry of that name, or an empty text."""
    return windows_refuses(name) if sys.platform == "win32" else ""
