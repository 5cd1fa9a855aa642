"""What is installed, and the names that programs go by."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from functools import lru_cache
from typing import Literal

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import disk, programs, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.fields import fold
from frugal_sorter.schedule.scheduler import ask_system

# Sure, or doubtful: named after it together with something else.
Likeness = Literal["sure", "doubtful", ""]
_SUFFIXES = tuple(
    f".{suffix}" for suffix in "desktop service timer socket conf cfg ini json toml yaml yml xml log db lock d".split()
)
_WORD = re.compile(r"[^\W_]+")


def words_of(name: str) -> list[str]:
    """Return the words of a name: what is between other signs, and at a change to capitals."""
    parted = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name)
    return [fold(word) for word in _WORD.findall(parted)]


def joined(name: str) -> str:
    """Return a name without any sign between its words."""
    return "".join(fold(word) for word in _WORD.findall(name))


def likeness(entry: str, program: str) -> tuple[Likeness, str]:
    """Return how surely an entry is named after a program, and why.

    Args:
        entry: its name.
        program: the name of the program.
    """
    bare = entry.lstrip(".")
    for suffix in _SUFFIXES:
        if bare.endswith(suffix) and len(bare) > len(suffix):
            bare = bare.removesuffix(suffix)
            break
    wanted = joined(program)
    if not wanted or not bare:
        return "", ""
    if joined(bare) == wanted:
        return "sure", "has its name"
    rest = joined(bare).removeprefix(wanted) if joined(bare).startswith(wanted) else ""
    if rest in ("rc", "history") or rest.isdigit():
        return "sure", "has its name, as files of settings do"
    parts = bare.split(".")
    if (
        len(parts) >= 3
        and all(part and re.fullmatch(r"[\w-]+", part) for part in parts)
        and joined(parts[-1]) == wanted
    ):
        return "sure", "has its name in reverse-domain form"
    words, own = words_of(bare), words_of(program)
    for at in range(len(words) - len(own) + 1):
        if words[at : at + len(own)] == own:
            return "doubtful", "has its name beside other words"
    if wanted in words:
        return "doubtful", "has its name beside other words"
    return "", ""


_APPLICATIONS = ("/usr/share/applications", "/usr/local/share/applications")
_FLATPAKS = ("/var/lib/flatpak/app", "~/.local/share/flatpak/app")
_SNAPS = ("/snap", "/var/lib/snapd/snap")


def _said(*command: str) -> list[str]:
    """Return what a package manager says; nothing where it is not there, or does not end."""
    try:
        return ask_system(command).stdout.decode(errors="replace").splitlines()
    except StateError:
        return []


@lru_cache(maxsize=1)
def _packages() -> dict[str, str]:
    """Return what package managers have, by name: `installed`, or `removed` where only settings are left."""
    found: dict[str, str] = {}
    for line in _said("dpkg-query", "-W", "-f", "${db:Status-Abbrev} ${Package}\n"):
        state, _, name = line.partition(" ")
        name = name.strip()
        if name:
            found[joined(name)] = "installed" if state[1:2] == "i" else "removed"
    for name, state in programs.registered().items():
        found[joined(name)] = state
    for name in _said("rpm", "-qa", "--qf", "%{NAME}\n"):
        found[joined(name)] = "installed"
    return found


@lru_cache(maxsize=1)
def _commands() -> dict[str, str]:
    found: dict[str, str] = {}
    for folder in reversed(os.environ.get("PATH", "").split(os.pathsep)):
        try:
            names = disk.listdir(folder) if folder else []
        except OSError:
            continue
        for name in names:
            path = slashed.join(folder, name)
            if disk.access(path, os.X_OK) and not disk.isdir(path):
                found[joined(programs.command_name(name))] = path
    return found


def where_installed(program: str) -> str:
    """Return by what a program is still there, in words; empty where it is not."""
    wanted = joined(program)
    if wanted in _commands():
        return f"the command {_commands()[wanted]}"
    if _packages().get(wanted) == "installed":
        return f"the package {program}"
    for folders, what in ((_FLATPAKS, "flatpak"), (_SNAPS, "snap")):
        for folder in folders:
            for name in _names(slashed.expanduser(folder)):
                if joined(name) == wanted or joined(name.rpartition(".")[2]) == wanted:
                    return f"the {what} {name}"
    for folder in _APPLICATIONS:
        for name in _names(folder):
            stem = name.removesuffix(".desktop")
            if joined(stem) == wanted or joined(stem.rpartition(".")[2]) == wanted:
                return f"its entry {folder}/{name}"
    return ""


def is_removed(program: str) -> bool:
    """Return True if a package manager says that it was removed and its settings were not."""
    return _packages().get(joined(program)) == "removed"


def owner_of(path: str) -> str:
    """Return the installed package that a path belongs to; empty for none."""
    for line in _said("dpkg-query", "-S", path):
        names, _, found = line.partition(": ")
        if found.strip() == path:
            for name in names.split(", "):
                if _packages().get(joined(name.partition(":")[0])) == "installed":
                    return name
    return ""


def _names(folder: str) -> Sequence[str]:
    try:
        return disk.listdir(folder)
    except OSError:
        return ()


def command_of(text: str, key: str) -> str:
    """Return the name of the program that an entry of a desktop or a unit starts; empty where it names none."""
    for line in text.splitlines():
        name, equals, value = line.partition("=")
        if equals and name.strip() == key and value.split():
            return Path(value.split()[0].strip('"').lstrip("-@!+:")).name
    return ""
