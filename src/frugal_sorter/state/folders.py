"""The tool's own folders: where they are, that only their owner can write to them."""

from __future__ import annotations

import os
import stat
from contextlib import suppress

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.platforms import accounts, own_folders, slashed
from frugal_sorter.platforms.digest import blake2b
from frugal_sorter.platforms.slashed import Path

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
        found = [one for one in own.parent.iterdir() if one != own and (one / "journal.sqlite").is_file()]
        return [one.name for one in sorted(found, key=lambda one: -(one / "journal.sqlite").stat().st_mtime_ns)]
    return []


def adopt(machine: str) -> None:
    """Take over a copy of the state of another machine, such as one whose home was restored onto this one.

    Args:
        machine: its id, as `of_other_machines` returns it.

    Raises:
        UsageError: there is none of that id, or this machine has a record of its own.
        StateError: it cannot be copied.
    """
    own = ready_state_folder()
    if machine not in of_other_machines():
        raise UsageError(
            f"--adopt: there is no record of a machine {machine!r}", "`frugal history` names those there are"
        )
    if (own / "journal.sqlite").exists():
        raise UsageError("--adopt: this machine has a record of its own", f"to give that up, move {own} aside first")
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
