"""Tasks for the task scheduler of Windows, as XML. Written by its schema; never run on Windows so far."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from datetime import datetime
from xml.etree import ElementTree

from frugal_sorter.rules.units import SECOND_NS
from frugal_sorter.schedule.entry import Entry
from frugal_sorter.schedule.scheduler import Cannot, Piece, PrintedOnly
from frugal_sorter.schedule.when import LAST

_NAMESPACE = "http://schemas.microsoft.com/windows/2004/02/mit/task"
_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
           "December")  # fmt: skip


class Scheduler(PrintedOnly):
    """The task scheduler of Windows."""

    name = "windows"

    @classmethod
    def is_here(cls) -> bool:
        return sys.platform == "win32"

    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        when = entry.when
        both = when.month_days is not None and len(when.weekdays) < 7 and not when.either
        found = [Cannot("days of the week and of the month at once", "choose one of them")] if both else []
        if when.months is not None and when.month_days is None:
            found.append(Cannot("days of the week in some months", "say monthly, or leave the months out"))
        return found

    def pieces(self, entry: Entry) -> Sequence[Piece]:
        return [Piece(f"{entry.unit}.xml", _xml(entry))]

    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        return [["schtasks", "/Create", "/TN", f"\\Frugal\\{entry.name}", "/XML", f"{entry.unit}.xml"]]


def _xml(entry: Entry) -> str:
    """Return the task, its elements in the order that the schema wants ([MS-TSCH], section 2.5)."""
    task = ElementTree.Element("Task", {"version": "1.2", "xmlns": _NAMESPACE})
    _add(_add(task, "RegistrationInfo"), "Description", f"frugal {entry.name}: {entry.when.text}")
    _triggers(_add(task, "Triggers"), entry)
    principal = _add(_add(task, "Principals"), "Principal", id="Author")
    if entry.whole_machine:
        _add(principal, "UserId", "S-1-5-18")
    else:
        _add(principal, "LogonType", "InteractiveToken")
    settings = _add(task, "Settings")
    for name, value in (
        ("MultipleInstancesPolicy", "IgnoreNew"),
        ("DisallowStartIfOnBatteries", _flag(entry.mains_only)), ("StopIfGoingOnBatteries", "false"),
        ("StartWhenAvailable", _flag(entry.catch_up is not False)), ("Enabled", "true"), ("WakeToRun", _flag(entry.wake)),
        ("ExecutionTimeLimit", f"PT{entry.seconds(entry.limit)}S" if entry.limit else "PT0S"), ("Priority", "8"),
    ):  # fmt: skip
        _add(settings, name, value)
    run = _add(_add(task, "Actions", Context="Author"), "Exec")
    _add(run, "Command", entry.interpreter)
    _add(run, "Arguments", subprocess.list2cmdline(entry.command_line[1:]))
    _add(run, "WorkingDirectory", entry.folder)
    ElementTree.indent(task)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(task, encoding="unicode") + "\n"


def _flag(is_so: bool) -> str:
    return "true" if is_so else "false"


def _add(parent: ElementTree.Element, name: str, text: str = "", **attributes: str) -> ElementTree.Element:
    child = ElementTree.SubElement(parent, name, attributes)
    child.text = text or None
    return child


def _triggers(parent: ElementTree.Element, entry: Entry) -> None:
    when = entry.when
    if when.kind in ("start-up", "log-on", "arrival"):
        _add(_add(parent, "BootTrigger" if when.kind == "start-up" else "LogonTrigger"), "Enabled", "true")
        return
    if when.at is not None:
        _trigger(parent, "TimeTrigger", when.at, entry)
        return
    first = datetime.fromtimestamp(entry.since_ns // SECOND_NS)
    for hour, minute in when.times:
        begin = datetime(first.year, first.month, first.day, hour, minute)
        if when.month_days is not None:
            by_month = _add(_trigger(parent, "CalendarTrigger", begin, entry), "ScheduleByMonth")
            days = _add(by_month, "DaysOfMonth")
            for day in sorted(when.month_days, key=lambda day: day or 99):
                _add(days, "Day", "Last" if day == LAST else str(day))
            _months(by_month, when.months)
        if when.month_days is None or when.either:
            by_week = _add(_trigger(parent, "CalendarTrigger", begin, entry), "ScheduleByWeek")
            _add(by_week, "WeeksInterval", "1")
            days = _add(by_week, "DaysOfWeek")
            for at in sorted(when.weekdays):
                _add(days, _DAYS[at])


def _trigger(parent: ElementTree.Element, kind: str, begin: datetime, entry: Entry) -> ElementTree.Element:
    trigger = _add(parent, kind)
    _add(trigger, "StartBoundary", begin.isoformat())
    _add(trigger, "Enabled", "true")
    if entry.spread:
        _add(trigger, "RandomDelay", f"PT{entry.seconds(entry.spread)}S")
    return trigger


def _months(parent: ElementTree.Element, months: frozenset[int] | None) -> None:
    found = _add(parent, "Months")
    for at, name in enumerate(_MONTHS, 1):
        if months is None or at in months:
            _add(found, name)
