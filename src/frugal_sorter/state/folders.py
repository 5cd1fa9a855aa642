"""The tool's own folders and small files, files from outside, and who writes: one reader, one writer, one lock."""

from __future__ import annotations

import errno
import json
import os
import stat
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import lru_cache
from typing import Any, BinaryIO, TypeVar, cast

from frugal_sorter.errors import RefusedError, StateError, UsageError
from frugal_sorter.platforms import accounts, disk, own_folders, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.system import blake2b

Function = TypeVar("Function", bound=Callable[..., Any])
_REMEMBERING: list[Callable[[], None]] = []


def for_a_session(function: Function) -> Function:
    """Remember what a function returns, until the next session begins."""
    remembering = lru_cache(maxsize=4_096)(function)
    _REMEMBERING.append(remembering.cache_clear)
    return cast(Function, remembering)


def forget_all() -> None:
    """Forget all that was remembered: a session begins, another account is meant, or a volume was mounted."""
    for forget in _REMEMBERING:
        forget()


Check = Callable[[os.stat_result], None]
# What a value must be: one of the predicates below, a list of one shape, a tuple of shapes, or the shapes of some keys.
Shape = Any
# Numbers beyond these are no number of an entry; nor do moments beyond the others have a date.
_LARGEST, _LATEST_NS = 1 << 127, 1 << 63
# What is packed weighs at least so much of what comes out of it, after the first megabyte.
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
        ValueError: it is no JSON, or has another shape.
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
    return Path(slashed.realpath(own_folders.state_home(APP))) / machine_id()


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
            f"{folder}: the state folder belongs to another user",
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
    """Return the ids of other machines whose state lies beside that of this one, the last used first."""
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
    return Path(own_folders.settings_home(APP)) / "rules.toml"


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
        """Make what is missing of it, as far as there is room; that there is none is no failure."""
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
        """Give its room back to the disk, and return True if there was any."""
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
        raw: what stands in it.
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
        StateError: the lock cannot be had for another reason.
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
                raise RefusedError(f"another run is changing files: {holder}", "wait until it has ended")
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
        "free disk space there, or move aside what stands in its place",
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
