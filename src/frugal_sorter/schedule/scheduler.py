"""What every scheduler of a machine can be asked for, and the files that it reads."""

from __future__ import annotations

import importlib
import os
import subprocess
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.schedule.entry import Entry
from frugal_sorter.state.folders import write_whole
from frugal_sorter.state.inputs import read_input
from frugal_sorter.values import frozen

# In the order in which they are chosen; the module has the class `Scheduler`.
SCHEDULERS = ("systemd", "cron", "launchd", "windows")
_SECONDS = 60
_LOOK_SECONDS = 0.2


class Piece(NamedTuple):
    """Something that is written: a file by its path, or lines of a table that another program keeps."""

    path: str
    text: str


class Cannot(NamedTuple):
    """An option that a scheduler does not have, and what to do instead."""

    option: str
    instead: str


@frozen
class State:
    """What a scheduler itself says of a schedule.

    Args:
        is_there: it has it.
        is_on: it will start it.
        trouble: what is wrong, in words, each with what to do.
        next_ns: when it starts it next, in ns since the epoch; None where it does not say.
        last: how the last start ended, as the scheduler has it; empty where it does not say.
    """

    is_there: bool
    is_on: bool = False
    trouble: tuple[str, ...] = ()
    next_ns: int | None = None
    last: str = ""


class Scheduler(ABC):
    """One kind of scheduler."""

    name: str

    @classmethod
    @abstractmethod
    def is_here(cls) -> bool:
        """Return True if it runs on this machine, for this account."""

    @abstractmethod
    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        """Return what a schedule asks for that it does not have."""

    @abstractmethod
    def pieces(self, entry: Entry) -> Sequence[Piece]:
        """Return what it needs to have written."""

    @abstractmethod
    def starts(self, entry: Entry) -> Sequence[Sequence[str]]:
        """Return what it would start by what `pieces` writes, read back as this scheduler reads it."""

    def verify(self, entry: Entry) -> None:
        """Check that what is written for a schedule starts just what was meant.

        Raises:
            UsageError: it would start something else.
        """
        for words in self.starts(entry) or [()]:
            if tuple(words) != entry.command_line:
                what = f"{self.name} would not start it as it is meant, but as {list(words)!r:.200}"
                raise UsageError(what, "rename the file or folder with the odd name")

    @abstractmethod
    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        """Return the commands of the system that put it in force, as a person would type them."""

    @abstractmethod
    def install(self, entry: Entry) -> None:
        """Write it, put it in force, and see that it is as it was written.

        Raises:
            StateError: it cannot be, and why; nothing of it is left.
        """

    @abstractmethod
    def remove(self, entry: Entry) -> None:
        """Take it out again, and nothing else.

        Raises:
            StateError: it cannot be.
        """

    @abstractmethod
    def turn(self, entry: Entry, on: bool) -> None:
        """Pause it, or let it go on.

        Raises:
            StateError: it cannot be.
        """

    @abstractmethod
    def state(self, entry: Entry) -> State:
        """Return what the scheduler itself has of it."""

    @abstractmethod
    def marked(self) -> Sequence[Entry]:
        """Return the schedules that carry our mark, whether this account remembers them or not.

        Raises:
            StateError: it cannot be asked.
        """

    @abstractmethod
    def run(self, entry: Entry) -> int:
        """Start it now just as it would, wait for its end, and return its exit code.

        Raises:
            StateError: it cannot be started.
        """


def scheduler_of(name: str) -> Scheduler:
    """Return a scheduler by name."""
    if name not in SCHEDULERS:
        raise UsageError(f"there is no scheduler {name!r}", f"known are {', '.join(SCHEDULERS)}")
    found: Scheduler = importlib.import_module(f"frugal_sorter.schedule.{name}").Scheduler()
    return found


def scheduler_here() -> Scheduler:
    """Return the first scheduler that runs on this machine.

    Raises:
        UsageError: none does.
    """
    for name in SCHEDULERS:
        found = scheduler_of(name)
        if found.is_here():
            return found
    raise UsageError("no scheduler runs on this machine", "add --print and --with, and take what it prints elsewhere")


def refuse_cannot(scheduler: Scheduler, entry: Entry) -> None:
    """Refuse what a scheduler does not have, by name.

    Raises:
        UsageError: it does not have one of the options.
    """
    for what, instead in scheduler.cannot(entry):
        raise UsageError(f"{what}: {scheduler.name} cannot do that", instead)


def ask_system(
    command: Sequence[str], stdin: bytes | None = None, env: Mapping[str, str] | None = None
) -> subprocess.CompletedProcess[bytes]:  # fmt: skip
    """Run a program of the system and return what it says.

    Raises:
        StateError: it is not there, or does not end.
    """
    try:
        # Its messages are read, so that they must be the ones that we know.
        return subprocess.run(
            command, input=stdin, stdin=subprocess.DEVNULL if stdin is None else None, capture_output=True,
            timeout=_SECONDS, check=False, cwd="/", env={**os.environ, "LC_ALL": "C", **(env or {})},
        )  # fmt: skip
    except (OSError, subprocess.SubprocessError) as error:
        raise StateError(
            f"{command[0]}: it cannot be asked ({error})", "see whether it is installed and runs"
        ) from None


def wait_for_end(is_running: Callable[[], bool]) -> None:
    """Wait until what a scheduler started has ended, for those that do not wait themselves; however long it takes."""
    while is_running():
        time.sleep(_LOOK_SECONDS)


def insist(command: Sequence[str], stdin: bytes | None = None) -> bytes:
    """Run a program of the system that must succeed.

    Raises:
        StateError: it does not; says what it said.
    """
    done = ask_system(command, stdin)
    if done.returncode != 0:
        said = (done.stderr or done.stdout).decode(errors="replace").strip().splitlines()
        raise StateError(
            f"{' '.join(command[:4])}: {said[-1] if said else f'it ended with {done.returncode}'}", "see above"
        )
    return done.stdout


# More than any unit or task holds.
_LARGEST = 1_000_000


def text_of(path: str) -> str | None:
    """Return what stands in a file; None where it cannot be read."""
    try:
        return read_input(path, _LARGEST).decode("utf-8", "surrogateescape")
    except OSError:
        return None


def put_in_place(piece: Piece) -> None:
    """Write a file whole or not at all, readable for all, and check that it is what was written.

    Raises:
        StateError: it is not.
    """
    path = Path(slashed.realpath(piece.path))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, piece.text.encode(), 0o644)
    except OSError as error:
        raise StateError(
            f"{path}: it cannot be written ({(error.strerror or 'unknown error').lower()})",
            "free disk space, or run as its owner",
        ) from None
    if text_of(piece.path) != piece.text:
        raise StateError(f"{path}: it is not what was written", "see who else writes there")
