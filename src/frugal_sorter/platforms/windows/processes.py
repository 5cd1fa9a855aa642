"""Processes of Windows; how a console reads words (double quotes, as PowerShell and the command prompt do); and where programs
keep what is theirs.
"""

from __future__ import annotations

import ctypes
import msvcrt
import os
import re
import shlex
import signal
import subprocess
import sys
import tempfile
import threading
import time
import winreg
from collections.abc import Callable, Iterable
from contextlib import suppress
from ctypes import wintypes
from subprocess import list2cmdline
from typing import Any, BinaryIO, cast

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api, disk
from frugal_sorter.platforms.windows.slashed import native, slashed

GENTLE_STOPS = (signal.SIGINT, signal.SIGTERM, signal.SIGBREAK)
HANG_UP: int | None = None
START_FOLDER = slashed(os.environ.get("SYSTEMROOT", "C:/"))
# Far behind everything that a lock file holds, so that others can read who has it.
_LOCKED_AT = 1 << 30
_PEEK_SECONDS = 0.005


class _Limits(ctypes.Structure):
    """JOBOBJECT_EXTENDED_LIMIT_INFORMATION."""

    _fields_ = (
        ("process_time", ctypes.c_int64), ("job_time", ctypes.c_int64), ("flags", wintypes.DWORD),
        ("least", ctypes.c_size_t), ("most", ctypes.c_size_t), ("active", wintypes.DWORD), ("affinity", ctypes.c_size_t),
        ("priority", wintypes.DWORD), ("scheduling", wintypes.DWORD), ("io", ctypes.c_uint64 * 6),
        ("process_memory", ctypes.c_size_t), ("job_memory", ctypes.c_size_t), ("peak_process", ctypes.c_size_t),
        ("peak_job", ctypes.c_size_t),
    )  # fmt: skip


_EXTENDED, _TIME, _MEMORY = 9, 0x2, 0x100


def can_fork() -> bool:
    """Return False: Windows has no fork."""
    return False


def fork() -> int:
    """Refuse.

    Raises:
        OSError: always.
    """
    raise OSError("this system has no forks")


def set_blocking(descriptor: int, is_blocking: bool) -> None:
    """Set whether reading and writing a pipe wait for the other end: here readers look first if there is something."""


def limit(memory_bytes: int, cpu_seconds: int | None = None) -> None:
    """Limit what this process may use, by a job of its own.

    Args:
        memory_bytes: its memory.
        cpu_seconds: its time on a processor; None for no limit.
    """
    api.KERNEL.CreateJobObjectW.restype = wintypes.HANDLE
    api.KERNEL.GetCurrentProcess.restype = wintypes.HANDLE
    job = api.KERNEL.CreateJobObjectW(None, None)
    limits = _Limits(flags=_MEMORY | (_TIME if cpu_seconds else 0), process_memory=memory_bytes)
    limits.process_time = (cpu_seconds or 0) * 10_000_000
    handle = wintypes.HANDLE(job)
    api.KERNEL.SetInformationJobObject(handle, _EXTENDED, ctypes.byref(limits), ctypes.sizeof(limits))
    api.KERNEL.AssignProcessToJobObject(handle, wintypes.HANDLE(api.KERNEL.GetCurrentProcess()))


def scratch_file() -> BinaryIO:
    """Return a new file to write and read; it is gone once it is closed."""
    return cast(BinaryIO, tempfile.TemporaryFile())


def child_group() -> dict[str, Any]:
    """Return how `subprocess.Popen` starts a program that Ctrl-C does not reach."""
    return {"creationflags": subprocess.CREATE_NEW_PROCESS_GROUP}


def kill_group(pid: int) -> None:
    """End a program that was started so, with its children."""
    import psutil

    with suppress(psutil.Error):
        program = psutil.Process(pid)
        for one in (*program.children(recursive=True), program):
            with suppress(psutil.Error):
                one.kill()


def end_after(seconds: int, stop: Callable[[int, Any], None]) -> None:
    """Call a handler of signals after this many seconds."""
    timer = threading.Timer(seconds, stop, (0, None))
    timer.daemon = True
    timer.start()


def try_lock(descriptor: int) -> bool:
    """Lock an open file for this process alone, without waiting; closing it unlocks it, and so does the end of the process.

    Raises:
        OSError: it cannot be locked at all.
    """
    os.lseek(descriptor, _LOCKED_AT, os.SEEK_SET)
    try:
        msvcrt.locking(descriptor, msvcrt.LK_NBLCK, 1)
    except OSError:
        return False
    return True


def wait_readable(descriptor: int, seconds: float) -> bool:
    """Wait until there is something to read from a pipe, or its other end is closed; False after this many seconds."""
    until, handle, there = time.monotonic() + seconds, msvcrt.get_osfhandle(descriptor), wintypes.DWORD()
    while True:
        if not api.peek_pipe(handle, None, 0, None, ctypes.byref(there), None) or there.value:
            return True
        if time.monotonic() > until:
            return False
        time.sleep(_PEEK_SECONDS)


def hand_on(descriptor: int) -> tuple[str, list[int]]:
    """Return the word by which a child finds an open file, and the descriptors that it must be given for that."""
    return disk.path_of(descriptor), []


def handed_on(word: str) -> int:
    """Return a descriptor of the file that a parent has handed on."""
    return disk.open(word, disk.O_RDONLY | disk.O_NOFOLLOW)


def give_back_memory() -> None:
    """Return unused memory to the system: Windows does that on its own."""


# Whether it is asked by the path of a file who has it open.
ASKED_BY_PATH = True


class _Holder(ctypes.Structure):
    """RM_PROCESS_INFO."""

    _fields_ = (
        ("pid", wintypes.DWORD), ("started", wintypes.FILETIME), ("name", wintypes.WCHAR * 256), ("service", wintypes.WCHAR * 64),
        ("kind", ctypes.c_int), ("status", wintypes.ULONG), ("session", wintypes.DWORD), ("restartable", wintypes.BOOL),
    )  # fmt: skip


# CCH_RM_SESSION_KEY, with its NUL.
_KEY_LETTERS = 33


def _name_of_holder(path: str) -> str:
    """Return which program has a file open, as the Restart Manager says; it need not know ("About Restart Manager")."""
    try:
        manager = ctypes.WinDLL("rstrtmgr")
    except OSError:
        return ""
    session, key = wintypes.DWORD(), ctypes.create_unicode_buffer(_KEY_LETTERS)
    if manager.RmStartSession(ctypes.byref(session), 0, key):
        return ""
    try:
        files = (wintypes.LPCWSTR * 1)(native(path))
        needed, count, why = wintypes.UINT(), wintypes.UINT(1), wintypes.DWORD()
        found = (_Holder * 1)()
        if manager.RmRegisterResources(session, 1, files, 0, None, 0, None):
            return ""
        # With more programs than there is room for it still fills what there is.
        manager.RmGetList(session, ctypes.byref(needed), ctypes.byref(count), found, ctypes.byref(why))
        return f"{found[0].name} (process {found[0].pid})" if count.value and found[0].name else ""
    finally:
        manager.RmEndSession(session)


def holder_of(path: str, to_write: bool) -> str | None:
    """Return what to say of the program that has a file open, None where none has: its name, where that is available.

    Args:
        path: of the file.
        to_write: asks for programs that write alone.
    """
    share = api.SHARE_READ | api.SHARE_DELETE if to_write else 0
    handle = api.create_file(native(path), api.GENERIC_READ, share, None, api.OPEN_EXISTING, api.NORMAL, None)
    if handle == api.INVALID:
        return _name_of_holder(path) or "another program" if ctypes.get_last_error() == api.SHARING_VIOLATION else None
    api.close_handle(handle)
    return None


SYSTEM_PLACES: tuple[str, ...] = ()
_UNINSTALL = "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall"
_COMMANDS = (".exe", ".cmd", ".bat", ".com")


# Letters that mean something to the command prompt or to PowerShell, but not between double quotes.
_MEANS = re.compile(r"[&|<>^()%!;,='`{}@#]")


def join(words: Iterable[str]) -> str:
    """Return a line that gives a program these words."""
    return " ".join(map(quote, words))


def quote(word: str) -> str:
    """Return a word as written in a line."""
    plain = list2cmdline([word])
    return plain if plain.startswith('"') or not _MEANS.search(word) else f'"{plain}"'


def split(line: str) -> list[str]:
    """Return the words of a line."""
    return [word.strip('"') for word in shlex.split(line, posix=False)]


def places(home: str, is_admin: bool) -> list[tuple[str, bool]]:
    """Return the folders in which programs keep what is theirs, and whether only hidden entries of it count.

    Args:
        home: of the account.
        is_admin: those of the whole machine, too.
    """
    roaming = slashed(os.environ.get("APPDATA") or f"{home}/AppData/Roaming")
    local = slashed(os.environ.get("LOCALAPPDATA") or f"{home}/AppData/Local")
    start = f"{roaming}/Microsoft/Windows/Start Menu/Programs"
    folders = [roaming, local, f"{os.path.dirname(local)}/LocalLow", f"{local}/Programs", start, f"{start}/Startup"]
    found = [*((folder, False) for folder in folders), (home, True)]
    shared = os.environ.get("PROGRAMDATA") if is_admin else None
    return [*found, *([(slashed(shared), False)] if shared else [])]


def registered() -> dict[str, str]:
    """Return by name what programs the system can uninstall."""
    found: dict[str, str] = {}
    for root in (winreg.HKEY_LOCAL_MACHINE, winreg.HKEY_CURRENT_USER):
        for view in (winreg.KEY_WOW64_64KEY, winreg.KEY_WOW64_32KEY):
            try:
                with winreg.OpenKey(root, _UNINSTALL, 0, winreg.KEY_READ | view) as programs:
                    for at in range(winreg.QueryInfoKey(programs)[0]):
                        key = winreg.EnumKey(programs, at)
                        with winreg.OpenKey(programs, key) as one:
                            try:
                                name = str(winreg.QueryValueEx(one, "DisplayName")[0])
                            except FileNotFoundError:
                                name = key
                        found[name] = "installed"
            except OSError:
                continue
    return found


def command_name(file: str) -> str:
    """Return the name of the command that a file on the PATH is."""
    stem, dot, suffix = file.rpartition(".")
    return stem if dot and f".{suffix.lower()}" in _COMMANDS else file
