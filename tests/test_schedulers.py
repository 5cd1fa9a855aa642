"""What is written for each scheduler: read back as the scheduler reads it, and nothing else changed."""

from __future__ import annotations

import os
import plistlib
import re
import shlex
import shutil
import signal
import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.errors import FrugalError, StateError, UsageError
from frugal_sorter.platforms import accounts
from frugal_sorter.schedule.cron import _block, _found, _paused, _without, line_of
from frugal_sorter.schedule.launchd import _intervals
from frugal_sorter.schedule.scheduler import (
    SCHEDULERS,
    Entry,
    Remembered,
    ask_system,
    check_entry,
    check_name,
    refuse_cannot,
    scheduler_of,
)
from frugal_sorter.schedule.systemd import quoted
from frugal_sorter.schedule.windows import _value
from tests.conftest import Frugal
from tests.support import put, rules_text

NOW_NS = 1_795_431_600_000_000_000


def entry(at: object = "daily 02:00", **more: object) -> Entry:
    """Return a schedule of the front desk."""
    command = ("tidy", "/srv/Front Desk/rules.toml", "--yes", "--at-most", "50")
    fields: dict[str, object] = {"name": "nightly", "at": at, "command": command, "since_ns": NOW_NS}
    return Entry(**{**fields, "interpreter": "/usr/bin/python3", "folder": "/srv/Front Desk", **more})  # type: ignore[arg-type]


@pytest.mark.parametrize(("more", "cannot"), [
    ({}, {}),
    ({"wake": True}, {"systemd", "cron", "launchd"}), ({"wake": True, "whole_machine": True}, {"cron", "launchd"}),
    ({"mains_only": True}, set()), ({"during": "mon-fri 08:00-18:00"}, set()), ({"limit": "30 minutes"}, set()),
    ({"catch_up": True}, {"cron"}), ({"catch_up": False}, {"launchd"}), ({"spread": "10 minutes"}, {"cron", "launchd"}),
    ({"at": "once 2030-12-24 20:00"}, {"cron", "launchd"}), ({"at": "monthly last 22:00"}, {"cron", "launchd"}),
    ({"at": "start-up"}, {"launchd"}), ({"at": "start-up", "whole_machine": True}, {"cron"}), ({"at": "log-on"}, {"cron"}),
    ({"at": "log-on", "whole_machine": True}, {"systemd", "cron"}), ({"at": "arrival"}, {"cron"}),
    ({"linger": True}, {"launchd"}), ({"linger": True, "whole_machine": True}, {"cron"}),
    ({"at": "cron 0 3 * * 1"}, set()), ({"at": "cron 0 3 13 * 5"}, set()), ({"at": "every 15 minutes"}, set()),
])  # fmt: skip
def test_what_a_scheduler_cannot_do_is_refused_by_name(more: dict[str, object], cannot: set[str]) -> None:
    refused = set()
    for name in SCHEDULERS:
        try:
            refuse_cannot(scheduler_of(name), check_entry(entry(**more)))
        except UsageError as error:
            assert name in error.message and error.hint
            refused.add(name)
        else:
            assert all(piece.text for piece in scheduler_of(name).pieces(entry(**more)))
            assert scheduler_of(name).commands(entry(**more))
    assert refused == set(cannot)


@pytest.mark.parametrize(("scheduler", "always"), [
    ("systemd", "loginctl enable-linger"), ("launchd", ""), ("cron", "0 2 * * *"), ("windows", "<LogonType>S4U"),
])  # fmt: skip
def test_what_runs_while_nobody_is_logged_on_is_asked_for_and_said(
    folder: Path, frugal: Frugal, scheduler: str, always: str
) -> None:
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    add = ["schedule", "add", "nightly", "--at", "daily 02:00", "--print", "--with", scheduler]
    said = frugal(*add, "--", "tidy", "rules.toml").stdout
    lingers = scheduler == "systemd" and Path("/var/lib/systemd/linger", accounts.account_name()).exists()
    assert (f"{scheduler} runs this only while" in said) is (scheduler != "cron" and not lingers)
    done = frugal(*add, "--linger", "--", "tidy", "rules.toml", code=0 if always else 2)
    assert "runs this only while" not in done.stdout
    assert always in done.stdout if always else "as root, add --whole-machine" in done.stderr
    assert scheduler == "cron" or not always or always not in said


NAMES = st.text(alphabet=st.characters(blacklist_categories=("Cs", "Cc")), min_size=1, max_size=12)


@given(st.lists(NAMES, min_size=1, max_size=4), st.binary(max_size=60), st.booleans())
def test_other_lines_of_a_crontab_stay_byte_for_byte(words: list[str], foreign: bytes, is_after: bool) -> None:
    others = foreign.replace(b"\0", b"") + b"\n"
    one = entry(command=("tidy", *words))
    other = entry(name="night", command=("purge", *words))
    for block in (_block(one), _paused(one)):
        table = others + block + (others + _block(other) if is_after else b"")
        assert _found(table, "nightly") == block
        assert _without(table, "nightly") == others + (others + _block(other) if is_after else b"")
        assert _without(others, "nightly") == others
    # What cron gives the shell is the list of arguments.
    line = line_of(one).replace("\\%", "%")
    assert tuple(shlex.split(line)) == one.command_line and not re.search(r"(?<!\\)%", line_of(one))


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="systemd is not installed")
@pytest.mark.parametrize("more", [
    {}, {"at": "every 1 minute", "limit": "2 hours", "spread": "5 minutes", "catch_up": False}, {"at": "monthly last 22:00"},
    {"at": "start-up"}, {"at": "arrival", "command": ("watch", "/srv/r.toml")}, {"at": "cron 0 3 13 * fri", "whole_machine": True},
    {"command": ("purge", "/srv/100% \"odd\" $HOME 'x' \\ ;&|", "--older-than", "30d", "--yes"), "during": "mon-fri 08:00-18:00"},
    {"at": "once 2030-12-24 20:00", "wake": True, "whole_machine": True, "mains_only": True},
])  # fmt: skip
def test_systemd_has_nothing_to_say_of_our_units(tmp_path: Path, more: dict[str, object]) -> None:
    one = entry(**{"interpreter": "/bin/true", "folder": "/", **more})
    files = []
    for piece in scheduler_of("systemd").pieces(one):
        files.append(tmp_path / Path(piece.path).name)
        files[-1].write_text(piece.text)
    done = subprocess.run(["systemd-analyze", "verify", *files], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")


@given(NAMES)
def test_a_word_of_a_unit_is_one_word_with_nothing_expanded(word: str) -> None:
    """After systemd.service(5): quotes, backslashes, specifiers and variables."""
    text = quoted(word)
    inner = text[1:-1] if text.startswith('"') else text
    assert text.startswith('"') or not re.search(r"[\s\"'\\;]", text)
    read = re.sub(r"\\(.)", r"\1", inner) if text.startswith('"') else inner
    assert read.replace("%%", "%").replace("$$", "$") == word
    assert not re.search(r"(?<!\\)\"", inner) and (inner.count("%") % 2, inner.count("$") % 2) == (0, 0)


def test_a_property_list_says_what_the_schedule_says() -> None:
    (piece,) = scheduler_of("launchd").pieces(entry("mon, thu 07:30"))
    table = plistlib.loads(piece.text.encode())
    assert tuple(table["ProgramArguments"]) == entry().command_line and table["WorkingDirectory"] == "/srv/Front Desk"
    assert table["StartCalendarInterval"] == [{"Weekday": 1, "Hour": 7, "Minute": 30}, {"Weekday": 4, "Hour": 7, "Minute": 30}]
    assert _intervals(entry("every 2 hours").when)[:2] == [{"Hour": 0, "Minute": 0}, {"Hour": 2, "Minute": 0}]
    assert _intervals(entry("every 30 minutes").when) == [{"Minute": 0}, {"Minute": 30}]
    (piece,) = scheduler_of("launchd").pieces(entry("arrival", command=("watch", "/srv/r.toml")))
    assert plistlib.loads(piece.text.encode())["KeepAlive"] is True


@pytest.mark.skipif(not shutil.which("plistutil"), reason="libplist-utils is not installed")
@pytest.mark.parametrize("more", [
    {"at": "mon, thu 07:30"}, {"at": "every 30 minutes"}, {"at": "monthly 15 06:00", "whole_machine": True}, {"at": "log-on"},
    {"at": "arrival", "command": ("watch", "/srv/Glaze & clay/50% \"odd\" <é>.toml")},
])  # fmt: skip
def test_another_parser_reads_the_same_property_list(more: dict[str, object]) -> None:
    (piece,) = scheduler_of("launchd").pieces(entry(**more))
    convert = ["plistutil", "-i", "-", "-f", "bin"]
    packed = subprocess.run(convert, input=piece.text.encode(), capture_output=True, check=True).stdout
    assert packed.startswith(b"bplist") and plistlib.loads(packed) == plistlib.loads(piece.text.encode())


# The order of the schema ([MS-TSCH] 2.5); Windows refuses another one.
ORDER = {
    "Task": ["RegistrationInfo", "Triggers", "Principals", "Settings", "Actions"],
    "CalendarTrigger": ["Repetition", "StartBoundary", "Enabled", "RandomDelay", "ScheduleByWeek", "ScheduleByMonth"],
    "TimeTrigger": ["StartBoundary", "Enabled", "RandomDelay"], "ScheduleByMonth": ["DaysOfMonth", "Months"],
    "ScheduleByWeek": ["WeeksInterval", "DaysOfWeek"], "Exec": ["Command", "Arguments", "WorkingDirectory"],
    "Principal": ["UserId", "LogonType"], "Repetition": ["Interval", "Duration", "StopAtDurationEnd"],
    "LogonTrigger": ["Enabled", "UserId"], "RestartOnFailure": ["Interval", "Count"],
}  # fmt: skip


@pytest.mark.parametrize("linger", [False, True])
@pytest.mark.parametrize(
    "at",
    [
        "daily 02:00",
        "mon-fri 18:00",
        "monthly last 22:00",
        "once 2030-12-24 20:00",
        "start-up",
        "cron 0 3 13 * 5",
        "every 15 minutes",
        "log-on",
    ],
)
def test_a_task_of_windows_has_its_elements_in_order(at: str, linger: bool) -> None:
    (piece,) = scheduler_of("windows").pieces(entry(at, spread="10 minutes", limit="1 hour", wake=True, linger=linger))
    root = ElementTree.fromstring(piece.text.encode())
    space = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
    for element in root.iter():
        wanted = ORDER.get(element.tag.removeprefix(space))
        if wanted is not None:
            found = [child.tag.removeprefix(space) for child in element]
            assert found == [name for name in wanted if name in found] and set(found) <= set(wanted)
    assert root.findtext(f".//{space}LogonType") == ("S4U" if linger else "InteractiveToken")
    settings = {child.tag.removeprefix(space): child.text for child in root.find(f"{space}Settings") or ()}
    assert settings["WakeToRun"] == "true" and settings["ExecutionTimeLimit"] == "PT3600S" and settings["Enabled"] == "true"
    assert (root.findtext(f".//{space}Arguments") or "").endswith('tidy "/srv/Front Desk/rules.toml" --yes --at-most 50')


@pytest.mark.parametrize(
    ("at", "triggers", "interval"),
    [("every 15 minutes", 1, "PT15M"), ("every 1 minute", 1, "PT1M"), ("every 2 hours", 1, "PT120M"), ("daily 08:00", 1, None),
     ("daily 08:00 and 20:00", 1, "PT720M"), ("daily 08:00 and 18:00", 2, None), ("cron */7 * * * *", None, None)],
)  # fmt: skip
def test_what_comes_all_day_is_one_trigger_of_windows(at: str, triggers: int | None, interval: str | None) -> None:
    scheduler, one = scheduler_of("windows"), entry(at)
    space = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
    if triggers is None:
        assert any("more than 48 starts" in what for what, _ in scheduler.cannot(one))
        return
    (piece,) = scheduler.pieces(one)
    found = ElementTree.fromstring(piece.text.encode()).find(f"{space}Triggers")
    assert found is not None and len(found) == triggers and not scheduler.cannot(one)
    assert found[0].findtext(f"{space}Repetition/{space}Interval") == interval


@pytest.mark.parametrize("word", ["%TEMP%/rules.toml", "/srv/$(Arg0).toml"])
def test_what_the_scheduler_of_windows_would_fill_in_is_refused(word: str) -> None:
    assert any("would fill in" in what for what, _ in scheduler_of("windows").cannot(entry(command=("tidy", word))))
    assert not scheduler_of("windows").cannot(entry(command=("tidy", '/srv/100% clay & "glaze".toml')))


@pytest.mark.parametrize(("one", "other"), [("PT600S", "PT10M"), ("PT86400S", "P1D"), ("PT5400S", "PT1H30M"), (" true ", "true")])
def test_a_duration_is_the_same_however_it_is_written(one: str, other: str) -> None:
    assert _value(one) == _value(other) and _value("P") == "P" and _value("PT1S") != _value("PT1M")


def test_a_watcher_is_started_again_and_for_one_person_alone() -> None:
    (piece,) = scheduler_of("windows").pieces(entry("arrival", command=("watch", "/srv/r.toml")))
    assert "<RestartOnFailure>" in piece.text and "<UserId>" in piece.text.split("</Triggers>")[0]
    (piece,) = scheduler_of("windows").pieces(entry("log-on", whole_machine=True))
    assert "<UserId>" not in piece.text.split("</Triggers>")[0] and "<RestartOnFailure>" not in piece.text


@pytest.mark.parametrize("name", ["", "Nightly", "a b", "-a", "a-", "a/b", "ä", "x" * 41, "..", "a\n"])
def test_a_name_that_not_every_scheduler_can_have_is_refused(name: str) -> None:
    with pytest.raises(UsageError, match="is not a valid schedule"):
        check_name(name)


@pytest.mark.parametrize(("more", "told"), [
    ({"limit": "soon"}, "--limit"), ({"limit": "2 months"}, "--limit"), ({"spread": "0 seconds"}, "--spread"),
    ({"during": "at night"}, "--during"), ({"at": "arrival", "during": "mon-fri"}, "--during does not apply"),
    ({"at": "arrival", "limit": "1 hour"}, "--limit does not apply"), ({"at": "arrival", "mains_only": True}, "--mains-only does not apply"), ({"command": ("tidy", "a\nb")}, "line break"), ({"folder": "/srv/\udcff"}, "not valid text"),
])  # fmt: skip
def test_what_makes_no_sense_is_refused_whatever_has_it(more: dict[str, object], told: str) -> None:
    with pytest.raises(UsageError, match=told):
        check_entry(entry(**more))


def test_a_schedule_is_remembered_as_it_is(tmp_path: Path) -> None:
    remembered = Remembered(tmp_path)
    assert remembered.names() == [] and not remembered.has("nightly")
    one = entry(limit="1 hour", during="mon-fri", catch_up=False, mains_only=True)
    remembered.keep(one)
    assert remembered.get("nightly") == one and remembered.names() == ["nightly"]
    with pytest.raises(UsageError, match="unknown schedule 'nightli'"):
        remembered.get("nightli")
    (tmp_path / "schedules/nightly.json").write_text("{}")
    with pytest.raises(FrugalError, match="damaged"):
        remembered.get("nightly")
    remembered.forget("nightly")
    assert remembered.names() == []


def test_a_program_of_the_system_that_leaves_another_running_is_not_waited_for_by_its_pipe() -> None:
    done = ask_system(["sh", "-c", "sleep 300 & echo $!; echo complained >&2; exit 3"])
    left = int(done.stdout)
    os.kill(left, signal.SIGKILL)  # raises where it has ended, which is when its pipe would have been closed
    assert (done.stderr, done.returncode) == (b"complained\n", 3)


def test_a_program_of_the_system_that_does_not_end_is_given_up() -> None:
    with pytest.raises(StateError, match="cannot run"):
        ask_system(["sh", "-c", "sleep 300"], seconds=0.1)
