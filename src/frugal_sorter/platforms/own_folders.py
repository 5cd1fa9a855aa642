"""Where programs of this account keep what they write: state, settings and data."""

from __future__ import annotations

import os

from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.platforms.slashed import Path

TELLING = ("HOME", "TMPDIR", "TZ", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME")
# The folders that every rule file can name (XDG user directories on Linux).
NAMED = ("home", "desktop", "documents", "downloads", "pictures", "music", "videos", "temp")


def state_home(app: str) -> str:
    """Return the folder of a program for what it remembers between runs; it may not exist yet."""
    if system.NAME == "linux":
        return slashed.join(_base("XDG_STATE_HOME", ".local/state"), app)
    import platformdirs

    return platformdirs.user_state_dir(app, appauthor=False)


def settings_home(app: str) -> str:
    """Return the folder of a program for its settings; it may not exist yet."""
    if system.NAME == "linux":
        return slashed.join(_base("XDG_CONFIG_HOME", ".config"), app)
    import platformdirs

    return platformdirs.user_config_dir(app, appauthor=False)


def data_home() -> str:
    """Return the folder that programs keep data of this account in."""
    if system.NAME == "linux":
        return _base("XDG_DATA_HOME", ".local/share")
    import platformdirs

    return platformdirs.user_data_dir()


def _base(variable: str, usual: str) -> str:
    """Return a folder after the XDG Base Directory Specification 0.8, which tells to pass over paths that are not absolute.

    Asked here, since every command needs one, and to load the library for other systems takes a tenth of the time of a list
    of runs.
    """
    named, home = os.environ.get(variable, ""), os.environ.get("HOME", "")
    if slashed.is_absolute(named):
        return named
    return slashed.join(home if slashed.is_absolute(home) else accounts.own_home(), usual)


def variables() -> dict[str, str]:
    """Return the variables that say where programs keep things, and in which time zone days begin."""
    found = {name: os.environ[name] for name in TELLING if name in os.environ}
    zone = os.path.realpath("/etc/localtime").partition("zoneinfo/")[2]
    return found if "TZ" in found or not zone else found | {"TZ": zone}


def named_folder(name: str) -> str:
    """Return the folder of one of the names that every rule file can use."""
    if name == "home":
        return str(Path.home())
    if name == "temp":
        return _temp_folder()
    import platformdirs

    return slashed.slashed(str(getattr(platformdirs, f"user_{name}_dir")()))


def _temp_folder() -> str:
    named = os.environ.get("TMPDIR", "")
    for folder in (named, "/tmp"):
        if slashed.is_absolute(folder) and disk.isdir(folder):
            return folder
    import tempfile  # only where it is not plain: it takes a while to import

    return tempfile.gettempdir()
