"""How a shell reads words, and where programs keep what is theirs, after the XDG and the Filesystem Hierarchy specifications."""

from __future__ import annotations

import os
from shlex import join, quote, split

__all__ = ["SYSTEM_PLACES", "command_name", "join", "places", "quote", "registered", "split"]

# Where what an installed package owns lies beside what it left.
SYSTEM_PLACES = ("/etc/", "/var/", "/opt/")


def places(home: str, is_admin: bool) -> list[tuple[str, bool]]:
    """Return the folders in which programs keep what is theirs, and whether only hidden entries of it count.

    Args:
        home: of the account.
        is_admin: those of the whole machine, too.
    """

    def xdg(name: str, default: str) -> str:
        named = os.environ.get(name, "")
        return named if named.startswith("/") else f"{home}/{default}"

    config, data = xdg("XDG_CONFIG_HOME", ".config"), xdg("XDG_DATA_HOME", ".local/share")
    folders = [config, xdg("XDG_CACHE_HOME", ".cache"), data, xdg("XDG_STATE_HOME", ".local/state"), f"{config}/autostart",
               f"{config}/systemd/user", f"{data}/applications", f"{home}/.var/app", f"{home}/snap"]  # fmt: skip
    found = [*((folder, False) for folder in folders), (home, True)]
    system = ("/etc", "/var/lib", "/var/log", "/var/cache", "/opt") if is_admin else ()
    return [*found, *((folder, False) for folder in system)]


def registered() -> dict[str, str]:
    """Return by name what programs the system knows besides those of package managers: none."""
    return {}


def command_name(file: str) -> str:
    """Return the name of the command that a file on the PATH is."""
    return file
