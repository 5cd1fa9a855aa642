"""The tool's own folders and small files: where they are, and that only their owner can write to them."""

from __future__ import annotations

import errno
import os
import stat
from contextlib import suppress

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.platforms import accounts, disk, own_folders, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.state.inputs import read_input

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
            one for one in own.parent.iterdir()
            if one != own and (one / "journal.sqlite").is_file() and one.lstat().st_uid == accounts.user_id()
        ]  # fmt: skip
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
        raise UsageError(
            f"--adopt: there are no records of a machine {machine!r}", "`frugal history` names those there are"
        )
    if (own / "journal.sqlite").exists():
        raise UsageError("--adopt: this machine already has records", f"move {own} aside first to replace them")
    import shutil

    try:
        shutil.copytree(
            own.parent / machine, own, dirs_exist_ok=True, ignore=shutil.ignore_patterns("reserve-*", "*.lock")
        )
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
        """Give its room back to the disk; tell whether there was any."""
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
