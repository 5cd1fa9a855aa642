"""Accounts of Windows: files have no numbers of owners here, so that all have the same."""

from __future__ import annotations

import ctypes
import errno
import os
import sys
import winreg
from ctypes import wintypes
from typing import Literal

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api
from frugal_sorter.platforms.windows.slashed import expanduser, slashed

_PROFILES = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
_TOKEN_QUERY, _TOKEN_USER = 8, 1
_MACHINE = r"SOFTWARE\Microsoft\Cryptography"


# Whether the mode of a file says who may read and write it.
HAVE_MODES = False


def user_id() -> int:
    """Return the number that all files have as their owner."""
    return 0


def group_id() -> int:
    """Return the number that all files have as their group."""
    return 0


def is_admin() -> bool:
    """Return True if this process is elevated."""
    try:
        return bool(ctypes.WinDLL("shell32").IsUserAnAdmin())
    except OSError:
        return False


def account_key() -> str:
    """Return the number of this account as the system writes it (SID), such as S-1-5-21-1-2-3-1001.

    Raises:
        OSError: the system does not say.
    """
    advapi = ctypes.WinDLL("advapi32", use_last_error=True)
    api.KERNEL.GetCurrentProcess.restype = wintypes.HANDLE
    token, length = wintypes.HANDLE(), wintypes.DWORD()
    process = wintypes.HANDLE(api.KERNEL.GetCurrentProcess())
    api.check(advapi.OpenProcessToken(process, _TOKEN_QUERY, ctypes.byref(token)))
    try:
        advapi.GetTokenInformation(token, _TOKEN_USER, None, 0, ctypes.byref(length))
        user = ctypes.create_string_buffer(length.value)
        api.check(advapi.GetTokenInformation(token, _TOKEN_USER, user, length, ctypes.byref(length)))
    finally:
        api.close_handle(token)
    text = wintypes.LPWSTR()
    sid = ctypes.cast(user, ctypes.POINTER(ctypes.c_void_p))[0]
    api.check(advapi.ConvertSidToStringSidW(ctypes.c_void_p(sid), ctypes.byref(text)))
    found = str(text.value)
    api.KERNEL.LocalFree(text)
    return found


def account_name() -> str:
    """Return the name of the account."""
    return os.environ.get("USERNAME") or os.path.basename(own_home())


def owner_name(uid: int) -> str | None:
    """Return the name of an owner: it is not known."""
    return None


def cannot_change(_folder: str) -> Literal["", "rights", "volume"]:
    """Return nothing: access lists are asked step by step, when it is done."""
    return ""


def in_group(gid: int) -> frozenset[int]:
    """Return no account: groups say nothing here of who may write."""
    return frozenset()


def own_home() -> str:
    """Return the home folder of this account."""
    return expanduser("~")


def homes() -> list[str]:
    """Return the home folders of all accounts."""
    found = [own_home()]
    try:
        with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, _PROFILES) as profiles:
            for at in range(winreg.QueryInfoKey(profiles)[0]):
                with winreg.OpenKey(profiles, winreg.EnumKey(profiles, at)) as one:
                    folder = winreg.ExpandEnvironmentStrings(str(winreg.QueryValueEx(one, "ProfileImagePath")[0]))
                    found.append(slashed(folder))
    except OSError:
        pass
    return found


def become(name: str) -> dict[str, str]:
    """Become another account.

    Raises:
        OSError: always.
    """
    raise OSError(errno.ENOTSUP, "acting as another account is not supported on Windows")


def machine_key() -> str:
    """Return what tells this machine from others, empty where it has nothing of the kind."""
    try:
        with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, _MACHINE, 0, winreg.KEY_READ | winreg.KEY_WOW64_64KEY) as key:
            return str(winreg.QueryValueEx(key, "MachineGuid")[0])
    except FileNotFoundError:
        return ""


def machine_name() -> str:
    """Return the name of the machine."""
    return os.environ.get("COMPUTERNAME", "")


def is_clock_set() -> bool:
    """Return False: Windows does not tell an ordinary account whether a time server sets its clock."""
    return False


def umask() -> int:
    """Return the bits that are left out of the mode of what is made; modes mean little here."""
    return 0o077
