"""Paths as they are."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Sequence
from os.path import abspath, commonpath, expanduser, isabs, join, normpath, relpath
from pathlib import Path

assert sys.platform != "win32"

__all__ = [
    "Path",
    "abspath", "common_of", "expanduser", "is_absolute", "is_top", "join", "normpath", "realpath", "relpath", "slashed",
    "split_top", "top_and_names", "unclear", "unfollowed",
]  # fmt: skip

is_absolute = isabs


_MOST_LINKS = 40
_FOLDER = getattr(os, "O_PATH", os.O_RDONLY) | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


def realpath(path: str | os.PathLike[str]) -> str:
    """Return where a path leads: absolute, with each link followed that this account may follow.

    A link is followed only if root or this account owns it. Root also needs the folder that the link lies in to
    belong to root or to the owner of the place it leads to. Any other link stays in the path, and so does
    everything after it: opening the path without following links stops there.
    """
    left = os.path.join(os.getcwd(), path).split("/")[::-1]
    way, followed = "/", 0
    # By descriptor: what was looked at is where it goes on, whatever is swapped meanwhile.
    folder = os.open("/", _FOLDER)
    try:
        while left:
            name = left.pop()
            if name in ("", "."):
                continue
            link = None if name == ".." else _link(folder, name)
            if link is None:
                way = os.path.dirname(way) if name == ".." else join(way, name)
            else:
                target, is_trusted = link
                if not is_trusted or followed == _MOST_LINKS:
                    return normpath(join(way, name, *reversed(left)))
                followed += 1
                left += reversed(target.split("/"))
                if not isabs(target):
                    continue
                name = way = "/"
            try:
                below = os.open(name, _FOLDER, dir_fd=folder)
            except OSError:
                # A file, missing, or closed to this account: nothing behind it can be reached.
                rest = normpath(join(way, *reversed(left)))
                return realpath(rest) if ".." in left else rest
            os.close(folder)
            folder = below
        return way
    finally:
        os.close(folder)


def _link(folder: int, name: str) -> tuple[str, bool] | None:
    """Return where a link in an open folder points, and whether it may be followed; None where there is no link."""
    try:
        found = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if not stat.S_ISLNK(found.st_mode):
            return None
        target = os.readlink(name, dir_fd=folder)
        again = os.stat(name, dir_fd=folder, follow_symlinks=False)
    except OSError:
        return None
    is_same = (found.st_ino, found.st_ctime_ns) == (again.st_ino, again.st_ctime_ns)
    account, around = os.geteuid(), os.fstat(folder).st_uid
    if not is_same or found.st_uid not in (0, account):
        return target, False
    if account != 0 or around == 0:
        return target, True
    try:
        return target, os.stat(name, dir_fd=folder).st_uid == around
    except OSError:
        return target, False


def unfollowed(path: str) -> tuple[str, int] | None:
    """Return the first link on a path that `realpath` gave, with the number of its owner: one that was not followed."""
    way = "/"
    for name in path.split("/"):
        way = join(way, name)
        try:
            found = os.lstat(way)
        except OSError:
            return None
        if stat.S_ISLNK(found.st_mode):
            return way, found.st_uid
    return None


def unclear(path: str) -> str:
    """Return what to write instead of a path that means another folder each time: none does here."""
    return ""


def is_top(path: str) -> bool:
    """Return True if a path is one that nothing is above."""
    return path == "/"


def slashed(path: str) -> str:
    """Return a path that a person wrote, or the system gave, as the program has it."""
    return path


def split_top(path: str) -> tuple[str, str]:
    """Return the top of a path, empty where it has none, and the rest."""
    return ("/", path[1:]) if path.startswith("/") else ("", path)


def common_of(folders: Sequence[str]) -> str:
    """Return the folder that all of some folders are in, `/` where there is none."""
    return commonpath(folders) if folders else "/"


def top_and_names(path: str) -> tuple[str, list[str]]:
    """Return the top of an absolute path, and the names on the way down."""
    return "/", [name for name in path.split("/") if name]
