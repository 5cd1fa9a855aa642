"""Processes as macOS has them; where programs keep what is theirs ("macOS Library Directory Details", developer.apple.com)."""

from __future__ import annotations

import os
import sys
from contextlib import suppress

assert sys.platform == "darwin"

from frugal_sorter.platforms.posix import processes as posix
from frugal_sorter.platforms.posix.processes import *

SYSTEM_PLACES = ("/Library/",)
_KEPT = (
    "Application Support,Caches,Preferences,Logs,LaunchAgents,Containers,Group Containers,Application Scripts,HTTPStorages,"
    "Saved Application State,WebKit,Cookies"
).split(",")
_APPLICATIONS = ("/Applications", "/Applications/Utilities", "/System/Applications", "~/Applications")


def limit(memory_bytes: int, cpu_seconds: int | None = None) -> None:  # type: ignore[no-redef]
    """Limit what this process may use, as far as macOS lets it: it knows no limit of the address space."""
    with suppress(ValueError, OSError):
        posix.limit(memory_bytes, cpu_seconds)


def places(home: str, is_admin: bool) -> list[tuple[str, bool]]:  # type: ignore[no-redef]
    """Return the folders in which programs keep what is theirs, and whether only hidden entries of it count.

    Args:
        home: of the account.
        is_admin: those of the whole machine, too.
    """
    tops = [f"{home}/Library", *(["/Library"] if is_admin else [])]
    found = [(f"{top}/{name}", False) for top in tops for name in _KEPT]
    return [*found, (f"{home}/.config", False), (home, True), *([("/Library/LaunchDaemons", False)] if is_admin else [])]


def registered() -> dict[str, str]:  # type: ignore[no-redef]
    """Return by name the programs that the system knows besides those of package managers: the applications in their folders."""
    found: dict[str, str] = {}
    for folder in map(os.path.expanduser, _APPLICATIONS):
        with suppress(OSError):
            found |= {name[: -len(".app")]: "installed" for name in os.listdir(folder) if name.endswith(".app")}
    return found
