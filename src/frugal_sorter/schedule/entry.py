"""One schedule: its name, when it runs, what it runs, and how; as it is remembered beside what the scheduler has."""

from __future__ import annotations

import json
import re
import time
from contextlib import suppress

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.file.mistakes import InvalidValue, nearest
from frugal_sorter.rules.units import Duration, parse_duration
from frugal_sorter.schedule.when import When, parse_when
from frugal_sorter.state.folders import write_whole
from frugal_sorter.state.inputs import Shape, fits, is_flag, is_moment, is_text, read_json
from frugal_sorter.values import as_dict, field, frozen

FOLDER = "schedules"
_LARGEST = 1_000_000
# What a field may hold, by how it is annotated.
_SHAPES: dict[str, Shape] = {
    "str": is_text, "bool": is_flag, "int": is_moment, "tuple[str, ...]": [is_text],
    "bool | None": lambda value: value is None or is_flag(value),
}  # fmt: skip
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
    """Return a schedule that a scheduler has under our mark, and of which no more is known."""
    return Entry(name, "", (), "", "", scheduler=scheduler, whole_machine=whole_machine)


def check_name(name: str) -> str:
    """Return a name that every scheduler can have.

    Raises:
        UsageError: it is none.
    """
    if not _NAME.fullmatch(name):
        raise UsageError(
            f"{name!r} is no name for a schedule",
            "use up to 40 small letters, digits and hyphens, such as nightly-tidy",
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
            ("--during", bool(entry.during), "give its rules `during`"), ("--mains-only", entry.mains_only, "leave it out"),
            ("--limit", bool(entry.limit), "leave it out"), ("--spread", bool(entry.spread), "leave it out"),
            ("--catch-up", entry.catch_up is not None, "leave it out"), ("--wake", entry.wake, "leave it out"),
        ):  # fmt: skip
            if is_asked:
                raise UsageError(f"{option}: a watcher runs all the time", instead)
    for word in entry.command_line:
        if _CONTROL.search(word):
            raise UsageError(
                f"{word!r}: a line break cannot stand in a schedule", "rename the file or the folder first"
            )
        try:
            word.encode()
        except UnicodeEncodeError:
            raise UsageError(f"{word!r}: this name is no text", "rename the file or the folder first") from None
    return entry


def check_times(during: str, limit: str, spread: str = "") -> None:
    """Check that the times of a schedule can be read.

    Raises:
        UsageError: one of them cannot; says which option.
    """
    from frugal_sorter.rules.units import parse_hours

    for option, value, read in (
        ("--during", during, parse_hours),
        ("--limit", limit, _short),
        ("--spread", spread, _short),
    ):
        if value:
            try:
                read(value)
            except InvalidValue as wrong:
                raise UsageError(f"{option}: {wrong.message}", wrong.hint) from None


def _short(text: str) -> Duration:
    duration = parse_duration(text)
    if duration.months or not 0 < duration.seconds <= 7 * 86_400:
        raise InvalidValue(f'"{text}" is too long or nothing at all', "say a time up to 7 days, such as 30 minutes")
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
            raise UsageError(f"there is no schedule {name!r}", hint) from None

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
            raise StateError(
                f"{self._folder}: the schedule cannot be kept ({error})", "free disk space there"
            ) from None

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
