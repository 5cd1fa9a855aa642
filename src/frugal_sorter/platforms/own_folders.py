"""Where programs of this account keep what they write: state, settings and data."""

from __future__ import annotations

import os

from frugal_sorter.platforms import accounts, slashed, system


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
