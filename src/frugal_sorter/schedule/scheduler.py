"""A schedule, and what each scheduler can be asked for."""

from __future__ import annotations

import importlib
import json
import os
import re
import subprocess
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from typing import NamedTuple

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.units import Duration, InvalidValue, nearest, parse_duration
from frugal_sorter.schedule.when import When, parse_when
from frugal_sorter.state import Shape, fits, is_flag, is_moment, is_text, read_input, read_json, write_whole
from frugal_sorter.values import as_dict, field, frozen

FOLDER = "schedules"
# More than any unit, task or schedule holds.
_LARGEST = 1_000_000
# What a field may hold, by how it is annotated.
_SHAPES: dict[str, Shape] = {
    "str": is_text,
    "bool": is_flag,
    "int": is_moment,
    "tuple[str, ...]": [is_text],
    "bool | None": lambda value: value is None or is_flag(value),
}
_NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,38}[a-z0-9])?")
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


@frozen
class Entry:
    """A schedule.

    Args:
        name: of it; a scheduler knows it as `frugal-NAME`.
        at: when, as it was written; empty where only its scheduler knows of it.
        command: what runs: the name of a command of ours and its arguments.
        interpreter: the absolute path of the Python that runs it.
        folder: the absolute path of the folder that it runs in.
        rules: the rule file that the command reads; empty where it reads none.
        scheduler: which one has it.
        whole_machine: a unit of the system rather than of the account.
        during: only within these hours.
        wake: wake the machine for it.
        mains_only: not on battery.
        limit: it is stopped after so long; empty for never.
        catch_up: run once when a time was missed; None where that was not said.
        spread: begin at a moment within so long after the time; empty for at once.
        linger: run it while the account is not logged on, too.
        on: whether it is to run; False while it is paused.
        since_ns: when it was set up or resumed, in ns since the epoch.
    """

    name: str
    at: str
    command: tuple[str, ...]
    interpreter: str
    folder: str
    rules: str = ""
    scheduler: str = ""
    whole_machine: bool = False
    during: str = ""
    wake: bool = False
    mains_only: bool = False
    limit: str = ""
    catch_up: bool | None = None
    spread: str = ""
    linger: bool = False
    on: bool = True
    since_ns: int = field(default_factory=time.time_ns)

    @property
    def when(self) -> When:
        """When it runs; one that was read before is not refused because its moment has been."""
        return parse_when(self.at or "log-on", 0)

    @property
    def unit(self) -> str:
        """The name that a scheduler knows it by."""
        return f"frugal-{self.name}"

    @property
    def is_watch(self) -> bool:
        """Whether it watches instead of coming by at times."""
        return self.when.kind == "arrival"

    @property
    def command_line(self) -> tuple[str, ...]:
        """What the scheduler starts: an argument list, the interpreter by its absolute path."""
        # Without the folder that it is started in on its path: others could have put a module there.
        words = [self.interpreter, "-P", "-m", "frugal_sorter", "visit", self.name, "--in", self.folder]
        for option, value in (("--during", self.during), ("--limit", self.limit)):
            words += [option, value] if value else []
        words += ["--mains-only"] if self.mains_only else []
        return (*words, "--", *self.command)

    def seconds(self, value: str) -> int:
        """Return `limit` or `spread` in seconds, 0 for none."""
        return parse_duration(value).seconds if value else 0


def unremembered(name: str, scheduler: str, whole_machine: bool = False) -> Entry:
    """Return a schedule that a scheduler has under our mark; no more is known of it."""
    return Entry(name, "", (), "", "", scheduler=scheduler, whole_machine=whole_machine)


def check_name(name: str) -> str:
    """Return a name that every scheduler can have.

    Raises:
        UsageError: it is none.
    """
    if not _NAME.fullmatch(name):
        raise UsageError(
            f"{name!r} is not a valid schedule name", "use up to 40 small letters, digits and hyphens, such as nightly-tidy"
        )
    return name


def check_entry(entry: Entry) -> Entry:
    """Return a schedule whose parts make sense, whatever has it.

    Raises:
        UsageError: one of them does not; says which option.
    """
    check_times(entry.during, entry.limit, entry.spread)
    if entry.is_watch:
        for option, is_asked, instead in (
            ("--during", bool(entry.during), "give its rules `during`"),
            ("--mains-only", entry.mains_only, "remove it"),
            ("--limit", bool(entry.limit), "remove it"),
            ("--spread", bool(entry.spread), "remove it"),
            ("--catch-up", entry.catch_up is not None, "remove it"),
            ("--wake", entry.wake, "remove it"),
        ):
            if is_asked:
                raise UsageError(f"{option} does not apply to `watch`, which runs all the time", instead)
    for word in entry.command_line:
        if _CONTROL.search(word):
            raise UsageError(f"{word!r}: a schedule cannot contain a line break", "rename the file or the folder first")
        try:
            word.encode()
        except UnicodeEncodeError:
            raise UsageError(f"{word!r}: this name is not valid text", "rename the file or the folder first") from None
    return entry


def check_times(during: str, limit: str, spread: str = "") -> None:
    """Check that the times of a schedule can be read.

    Raises:
        UsageError: one of them cannot; says which option.
    """
    from frugal_sorter.rules.units import parse_hours

    for option, value, read in (("--during", during, parse_hours), ("--limit", limit, _short), ("--spread", spread, _short)):
        if value:
            try:
                read(value)
            except InvalidValue as wrong:
                raise UsageError(f"{option}: {wrong.message}", wrong.hint) from None


def _short(text: str) -> Duration:
    duration = parse_duration(text)
    if duration.months or not 0 < duration.seconds <= 7 * 86_400:
        raise InvalidValue(f'"{text}" is out of range', "use a time up to 7 days, such as 30 minutes")
    return duration


class Remembered:
    """The schedules that this account has set up, a small file each in the state folder.

    Args:
        folder: the state folder.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder / FOLDER

    def names(self) -> list[str]:
        """Return the names of all of them; one that is damaged has one, too."""
        try:
            return sorted(name.removesuffix(".json") for name in disk.listdir(self._folder) if name.endswith(".json"))
        except FileNotFoundError:
            return []

    def get(self, name: str) -> Entry:
        """Return one of them.

        Raises:
            UsageError: there is none of that name.
            StateError: it is damaged.
        """
        try:
            return self._read(name)
        except FileNotFoundError:
            hint = nearest(name, self.names()) or "`frugal schedule list` shows them"
            raise UsageError(f"unknown schedule {name!r}", hint) from None

    def has(self, name: str) -> bool:
        """Return True if there is one of a name."""
        return (self._folder / f"{name}.json").exists()

    def keep(self, entry: Entry) -> None:
        """Keep one, in the place of an older one of its name.

        Raises:
            StateError: it cannot be written.
        """
        try:
            write_whole(self._folder / f"{entry.name}.json", json.dumps(as_dict(entry), indent=1).encode())
        except OSError as error:
            raise StateError(f"cannot save the schedule in {self._folder} ({error})", "free disk space there") from None

    def forget(self, name: str) -> None:
        """Forget one."""
        with suppress(FileNotFoundError):
            (self._folder / f"{name}.json").unlink()

    def _read(self, name: str) -> Entry:
        path = self._folder / f"{check_name(name)}.json"
        try:
            table = read_json(path, _LARGEST, {})
            for key, value in table.items():
                if not fits(value, _SHAPES[Entry.__annotations__[key]]):
                    raise ValueError(f"`{key}` cannot be {value!r:.60}")
            entry = Entry(**{**table, "command": tuple(table["command"])})
            if entry.name != name or not entry.command:
                raise ValueError("it is not what its name says")
            parse_when(entry.at, 0)
            return check_entry(entry)
        except FileNotFoundError:
            raise
        except (OSError, ValueError, TypeError, KeyError, UsageError) as error:
            hint = "remove the file, and add the schedule again under its name"
            raise StateError(f"{path}: this schedule is damaged ({error})", hint) from None


# In the order in which they are chosen; the module has the class `Scheduler`.
SCHEDULERS = ("systemd", "launchd", "cron", "windows")
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
        """Write it, put it in force, and check that it is as it was written.

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
        raise UsageError(f"unknown scheduler {name!r}", f"choose from {', '.join(SCHEDULERS)}")
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
    raise UsageError("no scheduler is available on this machine", "add --print and --with, and take what it prints elsewhere")


def refuse_cannot(scheduler: Scheduler, entry: Entry) -> None:
    """Refuse what a scheduler does not have, by name.

    Raises:
        UsageError: it does not have one of the options.
    """
    for what, instead in scheduler.cannot(entry):
        raise UsageError(f"{what} is not supported by {scheduler.name}", instead)


def ask_system(
    command: Sequence[str],
    stdin: bytes = b"",
    env: Mapping[str, str] | None = None,
    seconds: float | None = _SECONDS,
    cwd: str = "/",
) -> subprocess.CompletedProcess[bytes]:
    """Run a program of the system and return what it says.

    Args:
        command: its words.
        stdin: what it reads.
        env: the environment; by default that of this process, in English, since messages are read.
        seconds: how long it may take; None for however long it takes.
        cwd: the folder that it starts in.

    Raises:
        StateError: it is not there, or does not end.
    """
    # What it leaves running may hold a pipe open for ever, so that nobody waits for the end of one.
    with processes.scratch_file() as said, processes.scratch_file() as complained:
        try:
            done = subprocess.run(
                command,
                input=stdin,
                stdout=said,
                stderr=complained,
                timeout=seconds,
                check=False,
                cwd=cwd,
                env={**os.environ, "LC_ALL": "C"} if env is None else env,
            )
        except (OSError, subprocess.SubprocessError) as error:
            raise StateError(f"cannot run {command[0]} ({error})", "check that it is installed and running") from None
        for one in (said, complained):
            one.seek(0)
        return subprocess.CompletedProcess(command, done.returncode, said.read(), complained.read())


def wait_for_end(is_running: Callable[[], bool]) -> None:
    """Wait until what a scheduler started has ended, for those that do not wait themselves; however long it takes."""
    while is_running():
        time.sleep(_LOOK_SECONDS)


def insist(command: Sequence[str], stdin: bytes = b"") -> bytes:
    """Run a program of the system that must succeed.

    Raises:
        StateError: it does not; says what it said.
    """
    done = ask_system(command, stdin)
    if done.returncode != 0:
        said = (done.stderr or done.stdout).decode(errors="replace").strip().splitlines()
        raise StateError(f"{' '.join(command[:4])}: {said[-1] if said else f'it ended with {done.returncode}'}", "see above")
    return done.stdout


def text_of(path: str) -> str | None:
    """Return what is in a file; None where it cannot be read."""
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
