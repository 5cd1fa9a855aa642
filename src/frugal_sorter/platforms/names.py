"""Names that a system cannot hold."""

from __future__ import annotations

import os
import sys

_RESERVED = frozenset('<>:"|?*\\/') | frozenset(map(chr, range(32)))
# Names of devices, with any suffix ("Naming Files, Paths, and Namespaces", learn.microsoft.com).
_PORTS = [f"{port}{number}" for port in ("com", "lpt") for number in "123456789¹²³"]
_DEVICES = frozenset(["con", "prn", "aux", "nul", "conin$", "conout$", *_PORTS])
# The most that a name can have: bytes, on Windows units of UTF-16.
LONGEST = 255
_LONGEST_SUFFIX = 32


def windows_refuses(name: str) -> str:
    """Return why Windows can hold no entry of that name, or an empty text."""
    if reserved := next((letter for letter in name if letter in _RESERVED), ""):
        return f"Windows has no {reserved!r} in names"
    if name.endswith((".", " ")):
        return "Windows has no names that end in a dot or a blank"
    if is_device(name):
        return f"on Windows {name.split('.')[0].strip()} is the name of a device"
    if len(name.encode("utf-16-le", "surrogatepass")) > 2 * LONGEST:
        return f"Windows has no names of more than {LONGEST} letters"
    return ""


def is_device(name: str) -> bool:
    """Return True if a name is that of a device of Windows, whatever its suffix."""
    return name.partition(".")[0].rstrip().lower() in _DEVICES


def refused_here(name: str) -> str:
    """Return why this system can hold no entry of that name, or an empty text."""
    return windows_refuses(name) if sys.platform == "win32" else ""


def length(name: str) -> int:
    """Return how long a name is for this system."""
    return len(name.encode("utf-16-le", "surrogatepass")) // 2 if sys.platform == "win32" else len(os.fsencode(name))


def cut(name: str, room: int) -> str:
    """Return the beginning of a name that fits into so much room, without half a letter at its end."""
    if length(name) <= room:
        return name
    if sys.platform == "win32":
        return name.encode("utf-16-le", "surrogatepass")[: 2 * room].decode("utf-16-le", "ignore")
    raw = os.fsencode(name)
    # What was no text before is cut where it must be.
    is_text = raw.decode("utf-8", "ignore") == name
    return raw[:room].decode("utf-8", "ignore") if is_text else os.fsdecode(raw[:room])


def shortened(name: str, mark: str = "", longest: int = LONGEST) -> str:
    """Return a name with a mark before its suffix, cut so that the system can hold it.

    Args:
        name: it.
        mark: such as `_2`.
        longest: how long it may be.
    """
    stem, dot, suffix = name.rpartition(".")
    if not stem.strip(".") or length(suffix) > _LONGEST_SUFFIX:
        stem, dot, suffix = name, "", ""
    double = stem.rpartition(".")
    if double[1] and double[2].lower() == "tar" and double[0]:
        stem, suffix = double[0], f"{double[2]}.{suffix}"
    tail = f"{mark}{dot}{suffix}"
    return cut(stem, longest - length(tail)) + tail
