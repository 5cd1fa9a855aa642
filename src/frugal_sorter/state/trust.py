"""The one question of trust: could anybody but root and this account have written what a file says?

Asked of whatever decides which program runs (rule files, settings, interpreters, schedules), and by root of all that
it is told to do.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Collection

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.platforms.slashed import Path

_MOST_LINKS = 40


def distrusted(path: str | Path, also: Collection[int] = ()) -> str:
    """Return who else could change what stands at a path, and where; empty where nobody could.

    The file, every link that leads to it and every folder up to `/` must belong to root or to this account, and
    nobody else may write to them. In a sticky folder nobody can put another entry in the place of one of ours.

    Args:
        path: a file.
        also: the numbers of other accounts that are trusted.
    """
    if not accounts.HAVE_MODES:
        return ""
    trusted = {0, accounts.user_id(), *also}
    left = slashed.join(os.getcwd(), str(path)).split("/")[::-1]
    way, followed = "/", 0
    while left:
        name = left.pop()
        if name == "..":
            way = os.path.dirname(way)
        here = way if name in ("", ".", "..") else slashed.join(way, name)
        try:
            found = disk.lstat(here)
            if who := _changed_by(here, found, trusted):
                return who
            if not stat.S_ISLNK(found.st_mode):
                way = here
                continue
            target = disk.readlink(here)
        except FileNotFoundError:
            return ""  # nothing is there that anybody could have written
        except OSError as error:
            return f"{here} cannot be looked at ({(error.strerror or 'unknown error').lower()})"
        followed += 1
        if followed > _MOST_LINKS:
            return f"{path} leads through too many links"
        left += target.split("/")[::-1]
        way = "/" if slashed.is_absolute(target) else way
    return ""


def _changed_by(path: str, found: os.stat_result, trusted: Collection[int]) -> str:
    if found.st_uid not in trusted:
        return f"{path} belongs to {accounts.owner_name(found.st_uid)}"
    is_sticky = stat.S_ISDIR(found.st_mode) and found.st_mode & stat.S_ISVTX
    if stat.S_ISLNK(found.st_mode) or is_sticky:
        return ""
    if found.st_mode & stat.S_IWOTH:
        return f"anybody can write to {path}"
    if found.st_mode & stat.S_IWGRP and not accounts.in_group(found.st_gid) <= set(trusted):
        return f"a group of accounts can write to {path}"
    return ""


def refuse_distrusted(path: Path) -> None:
    """Refuse, for root only, a file that another account could have written; with sudo, its caller is trusted.

    Raises:
        StateError: root is running and someone else can write the file.
    """
    if not accounts.is_admin():
        return
    sudo = os.environ.get("SUDO_UID", "")
    if who := distrusted(path, {int(sudo)} if sudo.isdigit() else ()):
        raise StateError(
            f"{path}: other users can write to this file, and you are root: {who}",
            "once you have read the file, let only root write there (chown, chmod go-w)",
        )
