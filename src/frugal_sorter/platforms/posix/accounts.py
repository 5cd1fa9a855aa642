"""Accounts after the database of the system (getpwuid(3))."""

from __future__ import annotations

import grp
import os
import pwd
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import Literal

assert sys.platform != "win32"


_MACHINE_ID = Path("/etc/machine-id")


# Whether the mode of a file says who may read and write it.
HAVE_MODES = True


# What adjtimex(2) returns for a clock that nothing sets.
_TIME_ERROR, _DAY_SECONDS = 5, 86_400


def user_id() -> int:
    """Return the number of the account; what it makes has this as its owner."""
    return os.geteuid()


def group_id() -> int:
    """Return the number of its group."""
    return os.getegid()


def is_admin() -> bool:
    """Return True if it may do everything."""
    return os.geteuid() == 0


def account_key() -> str:
    """Return the number of the account as a text."""
    return str(os.geteuid())


def account_name() -> str:
    """Return its name, or its number where it has none."""
    return owner_name(os.geteuid())


def owner_name(uid: int) -> str:
    """Return the name of an account, its number where it has none."""
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


def cannot_change(folder: str) -> Literal["", "rights", "volume"]:
    """Return what keeps this account from adding to a folder and taking from it; empty for nothing, or no folder."""
    if os.access(folder, os.W_OK | os.X_OK, effective_ids=True) or not os.path.exists(folder):
        return ""
    return "volume" if os.statvfs(folder).f_flag & os.ST_RDONLY else "rights"


def in_group(gid: int) -> frozenset[int]:
    """Return the numbers of the accounts that are in a group, as far as the system can list them."""
    found = {one.pw_uid for one in pwd.getpwall() if one.pw_gid == gid}
    try:
        members = grp.getgrgid(gid).gr_mem
    except KeyError:
        # A group without a name: that of an account of the same number, as systems make them.
        return frozenset(found or {gid})
    for name in members:
        with suppress(KeyError):
            found.add(pwd.getpwnam(name).pw_uid)
    return frozenset(found)


def own_home() -> str:
    """Return the home folder that the system knows of this account, whatever its variables say."""
    return pwd.getpwuid(os.geteuid()).pw_dir


def homes() -> list[str]:
    """Return the home folders of all accounts."""
    return [one.pw_dir for one in pwd.getpwall()]


def become(name: str) -> dict[str, str]:
    """Permanently become an account; return its variables.

    Raises:
        KeyError: there is no such account.
        PermissionError: this one is not an administrator.
    """
    found = pwd.getpwnam(name)
    if not is_admin():
        raise PermissionError
    os.initgroups(found.pw_name, found.pw_gid)
    os.setgid(found.pw_gid)
    os.setuid(found.pw_uid)
    variables = {"HOME": found.pw_dir, "USER": found.pw_name, "LOGNAME": found.pw_name}
    # Where the systemd of that account is asked, if it runs (file-hierarchy(7)).
    if os.path.isdir(runtime := f"/run/user/{found.pw_uid}"):
        variables["XDG_RUNTIME_DIR"] = runtime
    return variables


def machine_key() -> str:
    """Return what tells this machine from others, empty where it has nothing of the kind.

    Raises:
        OSError: there is something, and it cannot be read.
    """
    try:
        return _MACHINE_ID.read_text().strip()
    except FileNotFoundError:
        return ""


def machine_name() -> str:
    """Return the name of the machine."""
    return os.uname().nodename


def is_clock_set() -> bool:
    """Return True if the system says that a time server sets the clock (adjtimex(2)); False also where it cannot tell."""
    import ctypes  # asked only where the clock is in doubt

    class _Timex(ctypes.Structure):
        _fields_ = (
            [("modes", ctypes.c_uint)]
            + [(name, ctypes.c_long) for name in ("offset", "freq", "maxerror", "esterror")]
            + [("status", ctypes.c_int)]
            + [(name, ctypes.c_long) for name in ("constant", "precision", "tolerance", "seconds")]
            + [("rest", ctypes.c_char * 256)]
        )

    told = _Timex()
    try:
        state = int(ctypes.CDLL(None).adjtimex(ctypes.byref(told)))
    except (OSError, AttributeError):
        return False
    # What it says is of its own clock: a process can be given another one.
    return 0 <= state < _TIME_ERROR and abs(int(told.seconds) - time.time()) < _DAY_SECONDS


def umask() -> int:
    """Return the bits that this process leaves out of the mode of what it makes."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask
