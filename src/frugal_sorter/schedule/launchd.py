"""Property lists for launchd (launchd.plist(5)). Written from its documentation; not yet run on a Mac."""

from __future__ import annotations

import plistlib
import re
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.schedule import scheduler
from frugal_sorter.schedule.scheduler import (
    Cannot,
    Entry,
    Piece,
    State,
    ask_system,
    insist,
    put_in_place,
    text_of,
    unremembered,
    wait_for_end,
)
from frugal_sorter.schedule.when import LAST, When


def _label(entry: Entry) -> str:
    return f"org.frugal-sorter.{entry.name}"


def _intervals(when: When) -> list[dict[str, int]]:
    """Return the calendar of launchd: a dictionary for each combination, what is left out being any."""
    found: list[dict[str, int]] = []
    days: list[dict[str, int]] = []
    if when.month_days is not None:
        days += [{"Day": day} for day in sorted(when.month_days)]
    if when.month_days is None or when.either:
        # launchd counts Sunday as 0.
        all_week = len(when.weekdays) == 7
        days += [{}] if all_week else [{"Weekday": (day + 1) % 7} for day in sorted(when.weekdays)]
    months: list[dict[str, int]] = [{}] if when.months is None else [{"Month": one} for one in sorted(when.months)]
    for minutes, hours in when.by_minute().items():
        each: list[dict[str, int]] = [{}] if len(hours) == 24 else [{"Hour": hour} for hour in hours]
        found += [
            {**month, **day, **hour, "Minute": minute} for month in months for day in days for hour in each for minute in minutes
        ]
    return found


class Scheduler(scheduler.Scheduler):
    """launchd."""

    name = "launchd"

    @classmethod
    def is_here(cls) -> bool:
        return system.NAME == "macos"

    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        when, found = entry.when, []
        for option, is_asked, instead in (
            ("--wake", entry.wake, "`pmset repeat wake` can, as root"),
            ("--spread", bool(entry.spread), "remove it"),
            ("--linger", entry.linger and not entry.whole_machine, "as root, add --whole-machine"),
            ("--no-catch-up", entry.catch_up is False, "it always catches up after sleep"),
            ("once", when.kind == "once", "leave it to a person: it would come each year"),
            ("monthly last", when.month_days is not None and LAST in when.month_days, "use monthly 1"),
            ("start-up", when.kind == "start-up" and not entry.whole_machine, "use log-on, or add --whole-machine"),
        ):
            if is_asked:
                found.append(Cannot(option, instead))
        both = when.month_days is not None and len(when.weekdays) < 7 and not when.either
        return [*found, *([Cannot("days of the week and of the month at once", "choose one of them")] if both else [])]

    def pieces(self, entry: Entry) -> Sequence[Piece]:
        table: dict[str, Any] = {
            "Label": _label(entry),
            "ProgramArguments": list(entry.command_line),
            "WorkingDirectory": entry.folder,
            "ProcessType": "Background",
            "LowPriorityIO": True,
        }
        if entry.is_watch:
            table |= {"RunAtLoad": True, "KeepAlive": True}
        elif entry.when.kind in ("start-up", "log-on"):
            table["RunAtLoad"] = True
        else:
            table["StartCalendarInterval"] = _intervals(entry.when)
        return [Piece(str(_path(entry)), plistlib.dumps(table).decode())]

    def starts(self, entry: Entry) -> Sequence[Sequence[str]]:
        return [plistlib.loads(piece.text.encode())["ProgramArguments"] for piece in self.pieces(entry)]

    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        domain = "system" if entry.whole_machine else "gui/$(id -u)"
        return [["launchctl", "bootstrap", domain, str(_path(entry))]]

    def install(self, entry: Entry) -> None:
        (piece,) = self._written(entry)
        before = text_of(piece.path)
        try:
            put_in_place(piece)
            if entry.on:
                # What was turned off by name stays off, whatever is loaded.
                insist(["launchctl", "enable", _target(entry)])
                ask_system(["launchctl", "bootout", _target(entry)])
                insist(["launchctl", "bootstrap", _domain(entry), piece.path])
        except StateError:
            with suppress(OSError, StateError):
                put_in_place(Piece(piece.path, before)) if before is not None else disk.unlink(piece.path)
            raise

    def remove(self, entry: Entry) -> None:
        ask_system(["launchctl", "bootout", _target(entry)])
        try:
            disk.unlink(self._written(entry)[0].path)
        except FileNotFoundError:
            return
        except OSError as error:
            raise StateError(f"{_path(entry)}: it cannot be removed ({error.strerror})", "remove it as its owner") from None

    def turn(self, entry: Entry, on: bool) -> None:
        if on:
            self.install(entry)
            return
        # Else it would be loaded again at the next log-on.
        insist(["launchctl", "disable", _target(entry)])
        ask_system(["launchctl", "bootout", _target(entry)])

    def state(self, entry: Entry) -> State:
        (piece,) = self._written(entry)
        text, resume = text_of(piece.path), f"`frugal schedule resume {entry.name}`"
        trouble = []
        if text is None:
            trouble.append(f"{piece.path} is missing; to restore it, run {resume}")
        elif text != piece.text:
            trouble.append(f"{piece.path} was edited; to restore it, run {resume}")
        shown = ask_system(["launchctl", "print", _target(entry)])
        is_on = shown.returncode == 0
        if entry.on and not is_on:
            trouble.append(f"launchd has not loaded it; {resume} loads it")
        code = _last_code(shown.stdout)
        return State(text is not None, is_on, tuple(trouble), last=f"exit code {code}" if code else "")

    def marked(self) -> Sequence[Entry]:
        found = []
        for whole_machine in (False, True) if accounts.is_admin() else (False,):
            pattern = _path(unremembered("*", self.name, whole_machine)).expanduser()
            names = [path.stem.removeprefix(_label(unremembered("", self.name))) for path in pattern.parent.glob(pattern.name)]
            found += [unremembered(name, self.name, whole_machine) for name in sorted(names)]
        return found

    def run(self, entry: Entry) -> int:
        insist(["launchctl", "kickstart", _target(entry)])
        wait_for_end(lambda: b"state = running" in ask_system(["launchctl", "print", _target(entry)]).stdout)
        return _last_code(insist(["launchctl", "print", _target(entry)]))

    def _written(self, entry: Entry) -> Sequence[Piece]:
        """Return its pieces with the whole path, where what is shown for another machine has `~`."""
        return [Piece(slashed.expanduser(path), text) for path, text in self.pieces(entry)]


def _domain(entry: Entry) -> str:
    return "system" if entry.whole_machine else f"gui/{accounts.user_id()}"


def _target(entry: Entry) -> str:
    return f"{_domain(entry)}/{_label(entry)}"


def _last_code(said: bytes) -> int:
    """Return how the last start ended, as `launchctl print` says; 0 where there was none."""
    found = re.search(rb"last exit code = (\d+)", said)
    return int(found[1]) if found else 0


def _path(entry: Entry) -> Path:
    return Path("/Library/LaunchDaemons" if entry.whole_machine else "~/Library/LaunchAgents") / f"{_label(entry)}.plist"
