"""Property lists for launchd (launchd.plist(5)). Written by its documentation; never run on a Mac so far."""

from __future__ import annotations

import plistlib
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from frugal_sorter.schedule.entry import Entry
from frugal_sorter.schedule.scheduler import Cannot, Piece, PrintedOnly
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
            {**month, **day, **hour, "Minute": minute}
            for month in months for day in days for hour in each for minute in minutes
        ]  # fmt: skip
    return found


class Scheduler(PrintedOnly):
    """launchd."""

    name = "launchd"

    @classmethod
    def is_here(cls) -> bool:
        return sys.platform == "darwin"

    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        when, found = entry.when, []
        for option, is_asked, instead in (
            ("--wake", entry.wake, "`pmset repeat wake` can, as root"),
            ("--spread", bool(entry.spread), "leave it out"),
            ("--no-catch-up", entry.catch_up is False, "it catches up after sleep whatever is said"),
            ("once", when.kind == "once", "leave it to a person: it would come each year"),
            ("monthly last", when.month_days is not None and LAST in when.month_days, "say monthly 1"),
            ("start-up", when.kind == "start-up" and not entry.whole_machine, "say log-on, or add --whole-machine"),
        ):
            if is_asked:
                found.append(Cannot(option, instead))
        both = when.month_days is not None and len(when.weekdays) < 7 and not when.either
        return [*found, *([Cannot("days of the week and of the month at once", "choose one of them")] if both else [])]

    def pieces(self, entry: Entry) -> Sequence[Piece]:
        table: dict[str, Any] = {
            "Label": _label(entry), "ProgramArguments": list(entry.command_line), "WorkingDirectory": entry.folder,
            "ProcessType": "Background", "LowPriorityIO": True,
        }  # fmt: skip
        if entry.is_watch:
            table |= {"RunAtLoad": True, "KeepAlive": True}
        elif entry.when.kind in ("start-up", "log-on"):
            table["RunAtLoad"] = True
        else:
            table["StartCalendarInterval"] = _intervals(entry.when)
        return [Piece(str(_path(entry)), plistlib.dumps(table).decode())]

    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        domain = "system" if entry.whole_machine else "gui/$(id -u)"
        return [["launchctl", "bootstrap", domain, str(_path(entry))]]


def _path(entry: Entry) -> Path:
    return (
        Path("/Library/LaunchDaemons" if entry.whole_machine else "~/Library/LaunchAgents") / f"{_label(entry)}.plist"
    )
