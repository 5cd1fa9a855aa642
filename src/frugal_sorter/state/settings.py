"""The settings of the tool, and who may be trusted to write them."""

from __future__ import annotations

import os
import stat
import tomllib
from collections.abc import Collection
from typing import Any

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.platforms import accounts, disk, own_folders, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import APP, read_input
from frugal_sorter.values import frozen

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


_LARGEST_FILE = 4_000_000
LEVELS = ("debug", "info", "warning", "error", "off")


@frozen
class Settings:
    """What may be set.

    Args:
        log: from which level on lines go to the log file.
        keep_days: for how long runs are remembered, so that they can be taken back.
        on_problem: a program with its arguments that is told when an unattended visit went wrong; empty for none.
    """

    log: str = "info"
    keep_days: int = 400
    on_problem: tuple[str, ...] = ()


def settings_file() -> Path:
    """Return where the settings are looked for."""
    return Path(own_folders.settings_home(APP)) / "settings.toml"


def read_settings() -> Settings:
    """Read the settings of this account.

    Raises:
        UsageError: something in them is wrong.
    """
    path = settings_file()
    try:
        table = tomllib.loads(read_input(path, _LARGEST_FILE, lambda _: _refuse_others(path)).decode("utf-8"))
    except FileNotFoundError:
        return Settings()
    except (OSError, ValueError, RecursionError) as error:
        raise UsageError(f"{path}: the settings cannot be read ({error})", "mend the file, or remove it") from None
    for key, value in table.items():
        _check(path, key, value)
    on_problem = table.pop("on-problem", {})
    return Settings(**table, on_problem=tuple(on_problem.get("run", ())))


def _refuse_others(path: Path) -> None:
    # They name a program, and say for how long runs can be taken back.
    if who := distrusted(path):
        raise UsageError(
            f"{path}: other accounts can change these settings: {who}",
            "chmod go-w what is named, or set XDG_CONFIG_HOME to a folder of your own",
        )


def _check(path: Path, key: str, value: Any) -> None:
    if key == "log" and value in LEVELS:
        return
    if key == "keep_days" and isinstance(value, int) and not isinstance(value, bool) and value > 0:
        return
    if key == "on-problem" and isinstance(value, dict) and set(value) == {"run"} and _is_command(value["run"]):
        return
    known = {
        "log": f"one of {', '.join(LEVELS)}", "keep_days": "a number of days",
        "on-problem": 'a table with a program, such as run = ["mail", "-s", "frugal", "root"]',
    }  # fmt: skip
    if key not in known:
        raise UsageError(f"{path}: there is no setting `{key}`", f"known are {', '.join(known)}")
    raise UsageError(f"{path}: `{key}` cannot be {value!r}", f"it is {known[key]}")


def _is_command(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(one, str) and one for one in value)
