"""Where this program keeps what it knows of itself: its folders, their lock, and the settings."""

from __future__ import annotations

import errno
import json
import os
import stat
import time
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from functools import lru_cache
from types import TracebackType
from typing import TYPE_CHECKING, Any, BinaryIO, TypeVar, cast

from frugal_sorter.errors import RefusedError, StateError, UsageError, printable
from frugal_sorter.platforms import accounts, disk, processes, slashed, system
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.values import frozen

if TYPE_CHECKING:
    import logging


Function = TypeVar("Function", bound=Callable[..., Any])
_REMEMBERING: list[Callable[[], None]] = []


def for_a_session(function: Function) -> Function:
    """Remember what a function returns, until the next session begins."""
    remembering = lru_cache(maxsize=4_096)(function)
    _REMEMBERING.append(remembering.cache_clear)
    return cast(Function, remembering)


def forget_all() -> None:
    """Forget everything that was remembered: a session begins, another account is meant, or a volume was mounted."""
    for forget in _REMEMBERING:
        forget()


Check = Callable[[os.stat_result], None]
# The shape of a value: one of the predicates below, a list of one shape, a tuple of shapes, or the shapes of some keys.
Shape = Any
# Numbers beyond these are not numbers of entries, and moments beyond the others have no date.
_LARGEST, _LATEST_NS = 1 << 127, 1 << 63
# Packed data has at least this share of the unpacked size, after the first megabyte.
_MOST_TIMES = 200


def is_text(value: Any) -> bool:
    return isinstance(value, str) and "\0" not in value


def is_name(value: Any) -> bool:
    return is_text(value) and bool(value)


def is_flag(value: Any) -> bool:
    return isinstance(value, bool)


def is_number(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and abs(value) < _LARGEST


def is_count(value: Any) -> bool:
    return is_number(value) and value >= 0


def is_moment(value: Any) -> bool:
    return is_number(value) and abs(value) < _LATEST_NS


def fits(value: Any, shape: Shape) -> bool:
    """Return True if a value has a shape; other keys of a table do not matter."""
    if isinstance(shape, dict):
        return isinstance(value, dict) and all(key in value and fits(value[key], one) for key, one in shape.items())
    if isinstance(shape, list):
        return isinstance(value, list) and all(fits(one, shape[0]) for one in value)
    if isinstance(shape, tuple):
        return isinstance(value, list) and len(value) == len(shape) and all(map(fits, value, shape))
    return bool(shape(value))


def fitting(text: str | bytes, shape: Shape) -> Any:
    """Return what a text in JSON says.

    Raises:
        ValueError: it is not JSON, or has another shape.
    """
    try:
        value = json.loads(text)
    except RecursionError:
        raise ValueError("nested too deeply") from None
    if not fits(value, shape):
        raise ValueError("not as this version writes it")
    return value


def read_json(path: str | Path, largest: int, shape: Shape) -> Any:
    """Return what a JSON file says.

    Raises:
        OSError: as `read_input`.
        ValueError: as `fitting`.
    """
    return fitting(read_input(path, largest), shape)


def zipped_lines(path: str | Path, longest: int) -> Iterator[str]:
    """Yield the lines of a file that was packed by gzip; what comes out of it is bounded, too.

    Args:
        path: the file.
        longest: how many letters a line may have.

    Raises:
        OSError: as `read_input`.
        ValueError: it is damaged, or a trap.
    """
    import gzip  # few commands need these
    import zlib

    with open_input(path) as raw:
        most = (1 << 20) + _MOST_TIMES * disk.fstat(raw.fileno()).st_size
        try:
            with gzip.open(raw, "rt", encoding="ascii") as file:
                while line := file.readline(longest + 1):
                    most -= len(line)
                    if most < 0 or len(line) > longest:
                        raise ValueError("far more comes out of it than it weighs")
                    yield line
        except (EOFError, zlib.error) as error:
            raise ValueError(str(error)) from None


def read_input(path: str | Path, largest: int, check: Check = lambda _found: None) -> bytes:
    """Return what a file holds.

    What is looked at is what is read: nobody can put another file in its place in between. A pipe, a device or
    an endless file ends it at once.

    Args:
        path: the file; a symbolic link is followed.
        largest: how many bytes it may have.
        check: given the status of the open file; it raises to refuse it.

    Raises:
        OSError: it cannot be read, is not a regular file (EINVAL), or is larger (EFBIG).
    """
    with open_input(path, check) as file:
        raw = file.read(largest + 1)
    if len(raw) > largest:
        raise OSError(errno.EFBIG, f"larger than {largest:,} bytes", str(path))
    return raw


def decoded(raw: bytes) -> str:
    """Return a text in UTF-8, or in UTF-16 where its mark says so, as programs of Windows write it; without the mark.

    Raises:
        UnicodeDecodeError: it is neither.
    """
    return raw.decode("utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig")


def open_input(path: str | Path, check: Check = lambda _found: None) -> BinaryIO:
    """Open a regular file to read it; see `read_input`.

    Raises:
        OSError: it cannot be read, or is not a regular file (EINVAL).
    """
    descriptor = disk.open(path, disk.O_RDONLY | disk.O_NONBLOCK | disk.O_CLOEXEC | disk.O_NOCTTY)
    try:
        found = disk.fstat(descriptor)
        if stat.S_ISDIR(found.st_mode):
            raise IsADirectoryError(errno.EISDIR, "it is a folder", str(path))
        if not stat.S_ISREG(found.st_mode):
            raise OSError(errno.EINVAL, "it is not a regular file", str(path))
        check(found)
        return open(descriptor, "rb")
    except BaseException:
        disk.close(descriptor)
        raise


APP = "frugal-sorter"


def machine_id() -> str:
    """Return a short, stable name for this machine.

    Homes are shared between machines in some offices, so that state is kept apart by machine.
    The id in `/etc/machine-id` is hashed with the tool's name, as machine-id(5) asks for.

    Raises:
        StateError: there is an id, and it cannot be read.
    """
    try:
        raw = accounts.machine_key()
    except OSError as error:
        # By another name the journal would be another one, and what was done could not be taken back.
        why = (error.strerror or "unknown error").lower()
        raise StateError(f"{error.filename}: the name of this machine cannot be read ({why})", "try again") from error
    return blake2b(f"{APP}:{raw or accounts.machine_name()}".encode(), digest_size=6).hexdigest()


def state_folder() -> Path:
    """Return this user's state folder for this machine; it may not exist yet."""
    return Path(slashed.realpath(system.state_home(APP))) / machine_id()


def ready_state_folder() -> Path:
    """Make the state folder, with mode 0700, and return it.

    Raises:
        StateError: it cannot be made, or others could write to it.
    """
    folder = state_folder()
    if link := slashed.unfollowed(str(folder)):
        raise StateError(
            f"{link[0]}: a link of {accounts.owner_name(link[1])} leads to the state folder, and is not followed",
            "set XDG_STATE_HOME to a folder of your own",
        )
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        status = folder.stat()
    except OSError as error:
        raise StateError(
            f"{folder}: the state folder cannot be made ({error.strerror})",
            "free disk space, or give yourself write permission there",
        ) from error
    if status.st_uid != accounts.user_id():
        raise StateError(
            f"the state folder {folder} belongs to another user",
            "run as that user, or set XDG_STATE_HOME to a folder of your own",
        )
    if stat.S_IMODE(status.st_mode) & 0o077:
        with suppress(OSError):
            folder.chmod(0o700)
    return folder


def write_whole(path: Path, raw: bytes, mode: int = 0o600, durable: bool = True) -> None:
    """Write a file of the tool whole or not at all, in the place of an older one.

    Args:
        path: of the file; its folder is made where it is missing.
        raw: its contents.
        mode: its rights.
        durable: it is on the disk when this returns.

    Raises:
        OSError: it cannot be written; the older one is as it was.
    """
    private = path.with_name(f".{path.name}.new")
    flags = disk.O_WRONLY | disk.O_CREAT | disk.O_TRUNC | disk.O_NOFOLLOW | disk.O_CLOEXEC
    try:
        path.parent.mkdir(mode=0o700, exist_ok=True)
        with open(disk.open(private, flags, mode), "wb") as file:
            disk.fchmod(file.fileno(), mode)
            file.write(raw)
            file.flush()
            if durable:
                disk.fsync(file.fileno())
        disk.replace(private, path)
    except OSError:
        with suppress(OSError):
            disk.unlink(private)
        raise


def forget_files(folder: Path, before_ns: int) -> None:
    """Remove the tool's own files in a folder of the state that were written before a moment."""
    with suppress(OSError):
        for path in folder.iterdir():
            if path.stat().st_mtime_ns < before_ns:
                path.unlink()


def of_other_machines() -> list[str]:
    """Return the ids of other machines whose state is beside that of this one, the last used first."""
    own = state_folder()
    with suppress(OSError):
        found = [
            one
            for one in own.parent.iterdir()
            if one != own and (one / "journal.sqlite").is_file() and one.lstat().st_uid == accounts.user_id()
        ]
        return [one.name for one in sorted(found, key=lambda one: -(one / "journal.sqlite").stat().st_mtime_ns)]
    return []


def adopt(machine: str) -> None:
    """Take over a copy of the state of another machine, such as one whose home was restored onto this one.

    Args:
        machine: its id, as `of_other_machines` returns it.

    Raises:
        UsageError: there is none of that id, or this machine already has records.
        StateError: it cannot be copied.
    """
    own = ready_state_folder()
    if machine not in of_other_machines():
        raise UsageError(f"--adopt: there are no records of a machine {machine!r}", "`frugal history` names those there are")
    if (own / "journal.sqlite").exists():
        raise UsageError("--adopt: this machine already has records", f"move {own} aside first to replace them")
    import shutil

    try:
        shutil.copytree(own.parent / machine, own, dirs_exist_ok=True, ignore=shutil.ignore_patterns("reserve-*", "*.lock"))
    except (OSError, shutil.Error) as error:
        with suppress(OSError):
            (own / "journal.sqlite").unlink()
        raise StateError(f"{own.parent / machine}: it cannot be copied ({error})", "free disk space") from None


def default_rules_file() -> Path:
    """Return the rule file used when none is named: `$FRUGAL_RULES`, else the user's own."""
    named = os.environ.get("FRUGAL_RULES")
    if named:
        return Path(named).expanduser()
    return Path(system.settings_home(APP)) / "rules.toml"


_NUMBER, _OPEN = "last-run", "open-runs"


class LastRun:
    """Two small files in the state folder.

    Args:
        folder: the state folder.
    """

    def __init__(self, folder: Path) -> None:
        self._number = folder / _NUMBER
        self._open = folder / _OPEN

    def read(self) -> int:
        """Return the number of the last run, 0 where that is not known."""
        try:
            return int(read_input(self._number, 20))
        except (OSError, ValueError):
            return 0

    def write(self, number: int) -> None:
        """Keep the number of a run; on a full disk the journal alone knows it."""
        with suppress(OSError):
            write_whole(self._number, b"%d" % number, durable=False)

    def open_runs(self, is_open: bool) -> None:
        """Keep whether there is a run that was begun and has not ended."""
        with suppress(OSError):
            if is_open:
                disk.close(disk.open(self._open, disk.O_WRONLY | disk.O_CREAT | disk.O_CLOEXEC, 0o600))
            else:
                self._open.unlink()

    def has_open_runs(self) -> bool:
        """Return True if there may be a run that was begun and has not ended."""
        return self._open.exists()


# Several files, since a disk can be out of files (inodes) as well as out of bytes.
PARTS = 8
PART_BYTES = 512 * 1024


class Reserve:
    """Some files that are only there to be removed when writing fails.

    Args:
        folder: the state folder.
    """

    def __init__(self, folder: Path) -> None:
        self._parts = [folder / f"reserve-{number}" for number in range(1, PARTS + 1)]

    def keep(self) -> None:
        """Make what is missing of it, as far as there is room; that there is none is not a failure."""
        # Made again after each command: the next full disk may be a year away.
        for part in self._parts:
            if part.exists():
                continue
            try:
                descriptor = disk.open(part, disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC, 0o600)
            except OSError:
                return
            try:
                _fill(descriptor)
            except OSError:
                # A part that holds nothing still holds an inode, but it must not take the last room.
                with suppress(OSError):
                    os.ftruncate(descriptor, 0)
                return
            finally:
                disk.close(descriptor)

    def release(self) -> bool:
        """Free its space on the disk, and return True if there was any."""
        found = False
        for part in self._parts:
            with suppress(FileNotFoundError):
                part.unlink()
                found = True
        return found


def _fill(descriptor: int) -> None:
    try:
        disk.reserve(descriptor, PART_BYTES)
    except OSError as error:
        if error.errno == errno.ENOSPC:
            raise
        os.write(descriptor, bytes(PART_BYTES))


_FOLDER = "rule-files"


def keep_new(folder: Path, raw: bytes, mode: int) -> Path:
    """Write a new version of a rule file, and return where it is.

    Args:
        folder: the state folder.
        raw: what is in it.
        mode: its rights.

    Raises:
        StateError: it cannot be written.
    """
    import hashlib  # here alone: each run looks for versions that are too old

    path = folder / _FOLDER / f"{hashlib.sha256(raw).hexdigest()[:32]}-{mode:o}.toml"
    try:
        write_whole(path, raw, mode)
    except OSError as error:
        raise StateError(f"{path.parent}: cannot be written ({error.strerror})", "free disk space there") from None
    return path


_AGAIN_SECONDS = 0.1


@contextmanager
def writer_lock(folder: Path, what: str, patience: float = 0) -> Iterator[None]:
    """Hold the only right to change files, for as long as the block runs.

    The lock is the kernel's, so a killed writer leaves none behind.

    Args:
        folder: the state folder.
        what: what this writer does, shown to others, such as "tidy".
        patience: for how many seconds it is waited for.

    Raises:
        RefusedError: another process holds it.
        StateError: the lock is not available for another reason.
    """
    path = folder / "writer.lock"
    try:
        descriptor = disk.open(path, disk.O_RDWR | disk.O_CREAT | disk.O_NOFOLLOW | disk.O_CLOEXEC, 0o600)
    except OSError as error:
        raise _unusable(path, error) from None
    try:
        try:
            until = time.monotonic() + patience
            while not (is_held := processes.try_lock(descriptor)) and time.monotonic() < until:
                time.sleep(_AGAIN_SECONDS)
            if not is_held:
                holder = disk.pread(descriptor, 200, 0).decode(errors="replace").strip() or "another process"
                raise RefusedError(f"another frugal run is changing files: {holder}", "wait until it finishes")
        except OSError as error:
            raise _unusable(path, error) from None
        with suppress(OSError):  # on a full disk others are not told who it is
            os.ftruncate(descriptor, 0)
            disk.pwrite(descriptor, f"frugal {what} (process {os.getpid()})".encode(), 0)
        yield
    finally:
        disk.close(descriptor)


def _unusable(path: Path, error: OSError) -> StateError:
    return StateError(
        f"{path}: the lock cannot be used ({(error.strerror or 'unknown error').lower()})",
        "free disk space there, or rename what is in its place",
    )


def writer_is_active(folder: Path) -> bool:
    """Return True if some process holds the writer lock now."""
    try:
        descriptor = disk.open(folder / "writer.lock", disk.O_RDWR | disk.O_CLOEXEC)
    except OSError:
        return False
    try:
        return not processes.try_lock(descriptor)
    except OSError:
        return False
    finally:
        disk.close(descriptor)


_MOST_LINKS = 40


def distrusted(path: str | Path, also: Collection[int] = ()) -> str:
    """Return who else could change what is at a path, and where; empty where nobody could.

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
            return f"{here} cannot be read ({(error.strerror or 'unknown error').lower()})"
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
        on_problem: a program with its arguments that is run when an unattended visit went wrong; empty for none.
    """

    log: str = "info"
    keep_days: int = 400
    on_problem: tuple[str, ...] = ()


def settings_file() -> Path:
    """Return where the settings are looked for."""
    return Path(system.settings_home(APP)) / "settings.toml"


def read_settings() -> Settings:
    """Read the settings of this account.

    Raises:
        UsageError: something in them is wrong.
    """
    import tomllib  # what has no settings, as most machines, needs it for rule files alone

    path = settings_file()
    try:
        table = tomllib.loads(read_input(path, _LARGEST_FILE, lambda _: _refuse_others(path)).decode("utf-8"))
    except FileNotFoundError:
        return Settings()
    except (OSError, ValueError, RecursionError) as error:
        raise UsageError(f"{path}: the settings cannot be read ({error})", "correct the file or delete it") from None
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
        raise UsageError(f"{path}: unknown setting `{key}`", f"choose from {', '.join(known)}")
    raise UsageError(f"{path}: invalid value for `{key}`: {value!r}", f"it must be {known[key]}")


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
_LARGEST_LOG = 1_000_000


class OwnerLog:
    """A text file that grows; its folder's readers may read it.

    Args:
        path: where it is; it is made where it is missing.

    Raises:
        OSError: it cannot be written, or something else than a file is there.
    """

    def __init__(self, path: str) -> None:
        folder, name = os.path.split(slashed.abspath(path))
        # Never through a link that another account could have put there, and never into a pipe that nobody reads.
        path = slashed.join(slashed.realpath(folder), name)
        with suppress(OSError):
            if disk.lstat(path).st_size > _LARGEST_LOG:
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
