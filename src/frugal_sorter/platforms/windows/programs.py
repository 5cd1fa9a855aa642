"""How a console reads words (double quotes, as PowerShell and the command prompt do), and where programs keep what is theirs."""

from __future__ import annotations

import os
import re
import shlex
import sys
import winreg
from collections.abc import Iterable
from subprocess import list2cmdline

assert sys.platform == "win32"

from frugal_sorter.platforms.windows.slashed import slashed

__all__ = ["SYSTEM_PLACES", "command_name", "join", "places", "quote", "registered", "split"]

SYSTEM_PLACES: tuple[str, ...] = ()
_UNINSTALL = "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall"
_COMMANDS = (".exe", ".cmd", ".bat", ".com")


# Letters that mean something to the command prompt or to PowerShell, but not between double quotes.
_MEANS = re.compile(r"[&|<>^()%!;,='`{}@#]")


def join(words: Iterable[str]) -> str:
    """Return a line that gives a program these words."""
    return " ".join(map(quote, words))


def quote(word: str) -> str:
    """Return a word as it stands in a line."""
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
