"""Tasks for the task scheduler of Windows, as XML. Written from its schema; not yet run on Windows."""

from __future__ import annotations

import csv
import re
import subprocess
import tempfile
from collections.abc import Sequence
from datetime import datetime
from xml.etree import ElementTree

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.rules.units import SECOND_NS
from frugal_sorter.schedule import scheduler
from frugal_sorter.schedule.scheduler import Cannot, Entry, Piece, State, ask_system, insist, unremembered, wait_for_end
from frugal_sorter.schedule.when import LAST, When

_NAMESPACE = "http://schemas.microsoft.com/windows/2004/02/mit/task"
# The seventh column of `schtasks /Query /V`, and what is there while a task runs, and before it ever ran (winerror.h).
_LAST_RESULT = 6
_RUNNING, _NEVER_RUN = 267_009, 267_011
_NO_RESULT = (_RUNNING, _NEVER_RUN)
_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
           "December")  # fmt: skip
# A task has no more triggers than these.
_MOST_TRIGGERS, _DAY_MINUTES = 48, 1_440
# What the scheduler fills in before it starts something: a variable of the system, and an argument of the one that starts it.
_FILLED_IN = re.compile(r"%[^%\s]+%|\$\(Arg\d+\)")
_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?")


class Scheduler(scheduler.Scheduler):
    """The task scheduler of Windows."""

    name = "windows"

    @classmethod
    def is_here(cls) -> bool:
        return system.NAME == "windows"

    def cannot(self, entry: Entry) -> Sequence[Cannot]:
        when = entry.when
        both = when.month_days is not None and len(when.weekdays) < 7 and not when.either
        found = [Cannot("days of the week and of the month at once", "choose one of them")] if both else []
        if when.months is not None and when.month_days is None:
            found.append(Cannot("days of the week in some months", "use monthly, or leave the months out"))
        if len(when.times) * (1 + when.either) > _MOST_TRIGGERS and not _interval(when):
            found.append(Cannot(f"more than {_MOST_TRIGGERS} starts a day that are not evenly spaced", "use every 15 minutes"))
        if filled := next(filter(None, map(_FILLED_IN.search, (*entry.command_line[1:], entry.folder))), None):
            found.append(Cannot(f"{filled[0]}, which the scheduler would fill in", "rename it, or write the path in full"))
        return found

    def pieces(self, entry: Entry) -> Sequence[Piece]:
        return [Piece(f"{entry.unit}.xml", _xml(entry))]

    def starts(self, entry: Entry) -> Sequence[Sequence[str]]:
        task = ElementTree.fromstring(_xml(entry).split("\n", 1)[1])
        found = [task.findtext(f".//{{{_NAMESPACE}}}{name}", "") for name in ("Command", "Arguments")]
        # The rules of how a command line is split are those of its C library, which `list2cmdline` follows.
        return (
            [entry.command_line]
            if found == [_windowless(entry.interpreter), subprocess.list2cmdline(entry.command_line[1:])]
            else []
        )

    def commands(self, entry: Entry) -> Sequence[Sequence[str]]:
        return [["schtasks", "/Create", "/TN", _task(entry), "/XML", f"{entry.unit}.xml"]]

    def install(self, entry: Entry) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = slashed.join(folder, f"{entry.unit}.xml")
            with open(path, "w", encoding="utf-16") as file:  # what it exports itself
                file.write(_xml(entry).replace("UTF-8", "UTF-16", 1))
            insist(["schtasks", "/Create", "/TN", _task(entry), "/XML", path, "/F"])
        if _differs(entry):
            raise StateError(f"{_task(entry)}: it is not what was written", "see the task scheduler")

    def remove(self, entry: Entry) -> None:
        if _registered(entry) is not None:
            insist(["schtasks", "/Delete", "/TN", _task(entry), "/F"])

    def turn(self, entry: Entry, on: bool) -> None:
        if on:
            self.install(entry)
        else:
            insist(["schtasks", "/Change", "/TN", _task(entry), "/DISABLE"])

    def state(self, entry: Entry) -> State:
        task, resume = _registered(entry), f"`frugal schedule resume {entry.name}`"
        if task is None:
            return State(False, trouble=(f"it is missing from the Task Scheduler; to restore it: {resume}",))
        trouble = []
        if _differs(entry):
            trouble.append(f"it was edited in the Task Scheduler; to restore it: {resume}")
        # The element is left out where it is as it is by default.
        is_on = task.findtext(f"{{{_NAMESPACE}}}Settings/{{{_NAMESPACE}}}Enabled", "true") == "true"
        if entry.on and not is_on:
            trouble.append(f"somebody turned it off in the task scheduler; {resume} turns it on")
        code = _last_code(entry)
        return State(True, is_on, tuple(trouble), last=f"exit code {code}" if code not in (0, *_NO_RESULT) else "")

    def marked(self) -> Sequence[Entry]:
        said = ask_system(["schtasks", "/Query", "/FO", "CSV", "/NH"]).stdout.decode(errors="replace")
        tasks = {row[0] for row in csv.reader(said.splitlines()) if row and row[0].startswith(_task(unremembered("", "")))}
        return [unremembered(task.rpartition("\\")[2], self.name) for task in sorted(tasks)]

    def run(self, entry: Entry) -> int:
        insist(["schtasks", "/Run", "/TN", _task(entry)])
        wait_for_end(lambda: _last_code(entry) == _RUNNING)
        return _last_code(entry)


def _task(entry: Entry) -> str:
    return f"\\Frugal\\{entry.name}"


def _registered(entry: Entry) -> ElementTree.Element | None:
    """Return a task as the scheduler has it; None where it has none."""
    done = ask_system(["schtasks", "/Query", "/TN", _task(entry), "/XML"])
    text = done.stdout.decode("utf-16" if done.stdout[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8", errors="replace")
    if done.returncode != 0 or "<Task" not in text:
        return None
    try:
        # The encoding that the first line names is that of the file, not that of what was written to a pipe.
        return ElementTree.fromstring(text[text.index("<Task") :])
    except ElementTree.ParseError:
        return None


def _differs(entry: Entry) -> bool:
    """Return True if what starts, or when, is another than was written; the rest the scheduler may word as it likes."""
    task, ours = _registered(entry), ElementTree.fromstring(_xml(entry).split("\n", 1)[1])
    if task is None:
        return True
    return any(_plain(task, part) != _plain(ours, part) for part in ("Actions", "Triggers"))


def _plain(task: ElementTree.Element, part: str) -> list[tuple[str, str]]:
    found = task.find(f"{{{_NAMESPACE}}}{part}")
    return [] if found is None else sorted((one.tag, _value(one.text or "")) for one in found.iter() if one is not found)


def _value(text: str) -> str:
    """Return a value in one form: the scheduler gives `PT600S` back as `PT10M`."""
    text = text.strip()
    if not (found := _DURATION.fullmatch(text)) or text in ("", "P", "PT"):
        return text
    days, hours, minutes, seconds = (int(part or 0) for part in found.groups())
    return f"PT{((days * 24 + hours) * 60 + minutes) * 60 + seconds}S"


def _last_code(entry: Entry) -> int:
    """Return how the last start ended; the columns are known by their place, their names are those of the language."""
    said = insist(["schtasks", "/Query", "/TN", _task(entry), "/FO", "CSV", "/NH", "/V"]).decode(errors="replace")
    (row, *_) = csv.reader(said.strip().splitlines())
    try:
        return int(row[_LAST_RESULT])
    except (IndexError, ValueError):
        return 0


def _xml(entry: Entry) -> str:
    """Return the task, its elements in the order that the schema wants ([MS-TSCH], section 2.5)."""
    task = ElementTree.Element("Task", {"version": "1.2", "xmlns": _NAMESPACE})
    _add(_add(task, "RegistrationInfo"), "Description", f"frugal {entry.name}: {entry.when.text}")
    _triggers(_add(task, "Triggers"), entry)
    principal = _add(_add(task, "Principals"), "Principal", id="Author")
    if entry.whole_machine:
        _add(principal, "UserId", "S-1-5-18")
    elif entry.linger:
        # Without a password that is kept: only an administrator may register it, and it has no access to shares.
        _add(principal, "UserId", accounts.account_name())
        _add(principal, "LogonType", "S4U")
    else:
        _add(principal, "LogonType", "InteractiveToken")
    settings = _add(task, "Settings")
    for name, value in (
        ("MultipleInstancesPolicy", "IgnoreNew"),
        ("DisallowStartIfOnBatteries", _flag(entry.mains_only)),
        ("StopIfGoingOnBatteries", "false"),
        ("StartWhenAvailable", _flag(entry.catch_up is not False)),
        ("Enabled", "true"),
        ("WakeToRun", _flag(entry.wake)),
        ("ExecutionTimeLimit", f"PT{entry.seconds(entry.limit)}S" if entry.limit else "PT0S"),
        ("Priority", "8"),
    ):
        _add(settings, name, value)
    if entry.when.kind == "arrival":
        # A watcher that ended should be there again.
        restart = _add(settings, "RestartOnFailure")
        _add(restart, "Interval", "PT1M")
        _add(restart, "Count", "3")
    run = _add(_add(task, "Actions", Context="Author"), "Exec")
    _add(run, "Command", _windowless(entry.interpreter))
    _add(run, "Arguments", subprocess.list2cmdline(entry.command_line[1:]))
    _add(run, "WorkingDirectory", entry.folder)
    ElementTree.indent(task)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(task, encoding="unicode") + "\n"


def _windowless(interpreter: str) -> str:
    """Return the interpreter that opens no console window, where it is beside the other."""
    folder, _, name = interpreter.rpartition("/")
    beside = f"{folder}/pythonw.exe"
    return beside if name.lower() == "python.exe" and disk.isfile(beside) else interpreter


def _interval(when: When) -> int:
    """Return after how many minutes something comes again and again, all day; 0 where it does not."""
    minutes = [60 * hour + minute for hour, minute in when.times]
    step = _DAY_MINUTES // max(len(minutes), 1)
    is_even = minutes == list(range(minutes[0], _DAY_MINUTES, step)) if minutes else False
    return step if len(minutes) > 1 and is_even and step * len(minutes) == _DAY_MINUTES else 0


def _flag(is_so: bool) -> str:
    return "true" if is_so else "false"


def _add(parent: ElementTree.Element, name: str, text: str = "", **attributes: str) -> ElementTree.Element:
    child = ElementTree.SubElement(parent, name, attributes)
    child.text = text or None
    return child


def _triggers(parent: ElementTree.Element, entry: Entry) -> None:
    when = entry.when
    if when.kind in ("start-up", "log-on", "arrival"):
        trigger = _add(parent, "BootTrigger" if when.kind == "start-up" else "LogonTrigger")
        _add(trigger, "Enabled", "true")
        if when.kind != "start-up" and not entry.whole_machine:
            # Else whoever logs on starts it.
            _add(trigger, "UserId", accounts.account_name())
        return
    if when.at is not None:
        _trigger(parent, "TimeTrigger", when.at, entry)
        return
    first = datetime.fromtimestamp(entry.since_ns // SECOND_NS)
    # What comes all day is one trigger that repeats.
    for hour, minute in when.times[:1] if _interval(when) else when.times:
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
    if kind == "CalendarTrigger" and (minutes := _interval(entry.when)):
        repetition = _add(trigger, "Repetition")
        _add(repetition, "Interval", f"PT{minutes}M")
        _add(repetition, "Duration", "P1D")
        _add(repetition, "StopAtDurationEnd", "false")
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
