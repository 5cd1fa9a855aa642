"""The settings of the tool, and who may write them; its log, and the one for the owner of the machine."""

from __future__ import annotations

import errno
import os
import stat
import tomllib
from collections.abc import Collection
from contextlib import suppress
from datetime import datetime
from types import TracebackType
from typing import TYPE_CHECKING, Any

from frugal_sorter.errors import StateError, UsageError, printable
from frugal_sorter.platforms import accounts, disk, own_folders, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import APP, read_input
from frugal_sorter.values import frozen

if TYPE_CHECKING:
    import logging


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
        "log": f"one of {', '.join(LEVELS)}",
        "keep_days": "a number of days",
        "on-problem": 'a table with a program, such as run = ["mail", "-s", "frugal", "root"]',
    }
    if key not in known:
        raise UsageError(f"{path}: there is no setting `{key}`", f"known are {', '.join(known)}")
    raise UsageError(f"{path}: `{key}` cannot be {value!r}", f"it is {known[key]}")


def _is_command(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(one, str) and one for one in value)


FILE_NAME = "frugal.log"
_LARGEST_BYTES, _OLD_FILES = 1_000_000, 3


def log() -> logging.Logger:
    """Return where the lines of this program go."""
    # Loaded with the first line: a run that finds nothing to do writes none.
    import logging

    return logging.getLogger("frugal_sorter")


def open_log(folder: Path, level: str) -> None:
    """Send the lines of this program to its log file from now on; a full one is put aside and a new one begun.

    Args:
        folder: the state folder.
        level: from which level on, `off` for nothing.
    """
    import logging
    from logging.handlers import RotatingFileHandler

    logger = log()
    logger.propagate = False
    if logger.handlers:
        return
    if level == "off":
        logger.addHandler(logging.NullHandler())
        return

    class OwnFile(RotatingFileHandler):
        """Only this account may read it; that it cannot be written stops nothing."""

        def _open(self):  # type: ignore[no-untyped-def]
            return open(
                disk.open(self.baseFilename, disk.O_WRONLY | disk.O_CREAT | disk.O_APPEND, 0o600),
                "a",
                encoding="utf-8",
                errors="backslashreplace",
            )

        def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802
            """On a full disk the log is the least that is missed."""

    try:
        handler = OwnFile(folder / FILE_NAME, maxBytes=_LARGEST_BYTES, backupCount=_OLD_FILES, delay=False)
    except OSError:
        logger.addHandler(logging.NullHandler())
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(process)d %(levelname)s %(message)s"))
    logger.addHandler(handler)
    logger.setLevel(level.upper())


# Then it goes on in a new file, and the one before is kept beside it.
_LARGEST = 1_000_000


class OwnerLog:
    """A text file that grows; whoever may read its folder may read it.

    Args:
        path: where it is; it is made where it is missing.

    Raises:
        OSError: it cannot be written, or something else than a file stands there.
    """

    def __init__(self, path: str) -> None:
        folder, name = os.path.split(slashed.abspath(path))
        # Never through a link that another account could have put there, and never into a pipe that nobody reads.
        path = slashed.join(slashed.realpath(folder), name)
        with suppress(OSError):
            if disk.lstat(path).st_size > _LARGEST:
                disk.replace(path, f"{path}.old")
        flags = disk.O_WRONLY | disk.O_APPEND | disk.O_NOFOLLOW | disk.O_NONBLOCK | disk.O_CLOEXEC
        try:
            self._fd = disk.open(path, flags)
        except FileNotFoundError:
            self._fd = disk.open(path, flags | disk.O_CREAT | disk.O_EXCL, 0o644)
            disk.fchmod(self._fd, 0o644)
        if not stat.S_ISREG(disk.fstat(self._fd).st_mode):
            disk.close(self._fd)
            raise OSError(errno.EINVAL, "it is not a regular file", path)

    def __enter__(self) -> OwnerLog:
        return self

    def __exit__(self, _type: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None) -> None:
        disk.close(self._fd)

    def line(self, text: str) -> None:
        """Write one line with the time of now; whatever a name holds, it stays one line.

        Raises:
            OSError: it cannot be written.
        """
        now = datetime.now().isoformat(" ", "seconds")
        os.write(self._fd, f"{now}  {printable(text)}\n".encode())
