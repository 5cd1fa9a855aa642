"""Living with it: nights with a wrong clock, what is forgotten and when, and what is found again after it was lost."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.app import schedules
from frugal_sorter.app.rules import plan_job, plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.app.visits import Visiting
from frugal_sorter.journal.journal import Clock, Journal, heard
from frugal_sorter.platforms import accounts, disk
from frugal_sorter.reports.saved import kept_of, look_now, save
from frugal_sorter.rules.editing import book_of_rule
from frugal_sorter.rules.units import DAY_NS
from frugal_sorter.schedule.scheduler import Entry, State, unremembered
from frugal_sorter.state import _LARGEST_LOG, OwnerLog, ready_state_folder, settings_file, write_whole
from tests.conftest import IS_ROOT, IS_WINDOWS, Frugal, Mount, in_this_process
from tests.support import NOW_NS, aged, book_of, put, rules_text
from tests.year import Year

needs_faketime = pytest.mark.skipif(shutil.which("faketime") is None, reason="needs faketime")
FIRST_NS = 1_800_000_000_000_000_000


@needs_faketime
def test_a_month_of_nights_is_as_its_ledger_says(folder: Path) -> None:
    year = Year(folder / "machine", 3)
    year.live(33)
    assert len(year.ledger) > 20 and year.unbelieved


# Days on which a clock is looked at, whether a time server sets it then, and on which of them it is believed.
CLOCKS: dict[str, tuple[list[float], tuple[float, ...], list[float], int]] = {
    "every night": ([0, 1, 2, 3], (), [0, 1, 2, 3], 3), "every week": ([0, 7, 14], (), [0, 7, 14], 14),
    "every month, by itself": ([0, 30, 60, 90], (), [0, 60, 90], 60),
    "every month, with a time server": ([0, 30, 60], (0, 30, 60), [0, 30, 60], 60),
    "ahead for one night": ([0, 1, 700, 3, 4], (), [0, 1, 3, 4], 4), "behind for one night": ([0, 1, -700, 3], (), [0, 1, 3], 3),
    "ahead for three nights": ([0, 1, 700, 701, 702, 5, 6, 7], (), [0, 1, 701, 702, 6, 7], 5),
    "another time each night": ([0, 700, 300, 1_900], (), [0], 0),
    "a battery that is flat, then a time server": ([0, -9_000, 2], (2,), [0, 2], 2),
    "ahead on two nights, each time by another year": ([0, 300, 600, 3], (), [0, 3], 3),
    "two looks on one wrong day": ([0, 700, 700.2, 2], (), [0, 2], 2),
}  # fmt: skip


@pytest.mark.parametrize("name", CLOCKS)
def test_a_clock_is_believed_by_what_else_is_known(name: str) -> None:
    days, is_set, believed, passed = CLOCKS[name]
    clock, found = Clock(FIRST_NS, 0, 0, 0 in is_set), []
    for day in days:
        clock = heard(clock, FIRST_NS + int(day * DAY_NS), day in is_set, False)
        found += [] if clock.doubted_ns else [day]
    assert found == believed and clock.passed_ns // DAY_NS == passed
    # A person stands for any time.
    assert not heard(clock, FIRST_NS - 5_000 * DAY_NS, False, True).doubted_ns


@pytest.mark.parametrize("asks", [False, True])
@pytest.mark.parametrize("days", [700, -700])
def test_a_clock_that_is_wrong_for_a_night_removes_and_forgets_nothing(
    folder: Path, days: int, asks: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(accounts, "is_clock_set", lambda: False)
    for number in range(3):
        aged(folder / f"Intake/{number}.log", 5 + 30 * (days < 0) * 30)
    rule = 'where = "ext is log and modified older than 30 days"\ndelete = true'
    now_ns = time.time_ns()

    def plan(ns: int) -> Any:
        session = Session(ns, "m", "a", asks=asks)
        return plan_rules(session, book_of(folder, rule))

    plan(now_ns)
    found = plan(now_ns + days * DAY_NS)
    held = [one for one in found.not_touched if "nothing is deleted by age until" in one.reason and one.reason.problem]
    with Journal(ready_state_folder(), write=True) as journal:
        journal.believe(now_ns + days * DAY_NS, lambda: False)
        assert journal.doubt and journal.forget(0) == []
        # What goes to the trash by that clock must not leave it the next night.
        assert journal.likely_ns(now_ns + days * DAY_NS) == now_ns + DAY_NS
    if asks:
        assert not held and len(found.asked) == 3 and "check that the clock is right" in found.notes[-1].text
    else:
        assert len(held) == 3 and not found.asked
    assert len(plan(now_ns + (days + 1) * DAY_NS).asked) == 3  # a second day goes on from the first
    assert len(plan(now_ns + 2 * DAY_NS).asked) == (0 if days > 0 or not asks else 3)


@contextmanager
def held(path: Path) -> Iterator[None]:
    """Have a program write to a file for as long as this lasts."""
    with open(path, "ab") as file, subprocess.Popen(["sleep", "600"], stdout=file) as program:
        file.close()
        try:
            yield
        finally:
            program.kill()


@pytest.mark.skipif(IS_WINDOWS, reason="sleep(1) holds the file")
def test_what_is_in_use_at_each_visit_for_a_week_is_a_problem(folder: Path) -> None:
    put(folder / "Intake/a.log")
    rule = 'where = "ext is log"\nmove = "Logs"'
    said = []
    with held(folder / "Intake/a.log"):
        for day in range(9):
            session = Session(NOW_NS + day * DAY_NS, "m", "a", visiting=Visiting("schedule", "nightly"))
            (left,) = plan_rules(session, book_of(folder, rule)).not_touched
            said.append((left.reason.problem, "at each run since" in left.reason))
    assert said == [(False, False)] * 7 + [(True, True)] * 2
    # A job without a rule file leaves it just so.
    own = {"name": "Sort", "where": "everything", "move": "{ext}"}
    with held(folder / "Intake/a.log"):
        plan = plan_job(session, book_of_rule(own, str(folder / "Intake"), {}, "sort"), "sort")
    assert not plan.asked and plan.not_touched[0].reason.problem
    # Once it was free, it begins anew.
    assert not plan_rules(session, book_of(folder, rule)).not_touched
    with held(folder / "Intake/a.log"):
        (left,) = plan_rules(session, book_of(folder, rule)).not_touched
    assert not left.reason.problem


def test_a_run_that_was_forgotten_says_so(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs of the kiln"'))
    put(settings_file(), "keep_days = 1\n")
    frugal("tidy", "rules.toml", "--yes")
    with Journal(ready_state_folder(), write=True) as journal:
        journal.believe(time.time_ns() + 3 * DAY_NS, lambda: False)
        assert journal.forget(DAY_NS) == [1]
    said = frugal("undo", "1", "--yes", code=2).stderr
    assert "run 1 was forgotten on 20" in said and "keep_days" in said
    journal_bytes = (ready_state_folder() / "journal.sqlite").read_bytes()
    assert b"Logs of the kiln" not in journal_bytes
    assert "run 7 does not exist" in frugal("undo", "7", "--yes", code=2).stderr


def test_inventories_of_others_of_tomorrow_and_damaged_ones_change_nothing(folder: Path) -> None:
    place, kept = folder / "Intake", ready_state_folder() / "inventories"
    put(place / "a.log", "clay")
    now_ns = time.time_ns()
    for number in range(4):
        save(look_now(str(place), False, now_ns - number * 7 * DAY_NS), kept / f"own-{number}.inventory.gz")
    for number in range(30):
        other = folder / f"Other {number}"
        put(other / "b.log", os.urandom(3_000))
        save(look_now(str(other), False, now_ns), kept / f"other-{number}.inventory.gz")
    save(look_now(str(place), False, now_ns + 90 * DAY_NS), kept / "tomorrow.inventory.gz")
    put(kept / "damaged.inventory.gz", "none")
    told: list[str] = []
    found = kept_of(str(place), now_ns, 1_000, lambda one: told.append(one.reason))
    assert [one.made_ns for one in found] == [now_ns - number * 7 * DAY_NS for number in (3, 2, 1, 0)]
    assert sorted(told) == ["a damaged inventory; remove it", "skipped: its date is in the future"]


def test_an_inventory_is_forgotten_by_name_and_by_age(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    assert "for 400 days" in frugal("inventory", "Intake", "--save", "monday").stderr
    frugal("inventory", "Intake", "--save", "old")
    assert "saved are monday, old" in frugal("inventory", "--forget", "tuesday", code=2).stderr
    assert "monday is forgotten" in frugal("inventory", "--forget", "monday").stdout
    (old,) = (ready_state_folder() / "inventories").iterdir()
    os.utime(old, (1, 1))
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    assert not old.exists()


def test_a_log_for_the_owner_goes_on_in_a_new_file(folder: Path) -> None:
    path = put(folder / "done.log", b"x" * (_LARGEST_LOG + 1))
    with OwnerLog(str(path)) as log:
        log.line("first")
    with OwnerLog(str(path)) as log:
        log.line("second")
    assert path.read_text().count("\n") == 2 and (folder / "done.log.old").stat().st_size == _LARGEST_LOG + 1


def test_the_record_of_another_machine_is_named_and_taken_over_when_told(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    own = ready_state_folder()
    own.rename(own.with_name("0123456789ab"))
    said = frugal("history").stdout
    assert "No runs yet." in said and "frugal history --adopt 0123456789ab" in said
    assert "no records of a machine" in frugal("history", "--adopt", "x", code=2).stderr
    assert "tidy" in frugal("history", "--adopt", "0123456789ab").stdout
    assert "already has records" in frugal("history", "--adopt", "0123456789ab", code=2).stderr
    frugal("undo", "1", "--yes")
    assert (folder / "Intake/a.log").exists() and own.with_name("0123456789ab").is_dir()


def test_a_schedule_whose_record_is_lost_is_found_by_its_mark(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    removed: list[Entry] = []

    class Marked:
        name = "cron"

        def is_here(self) -> bool:
            return True

        def marked(self) -> list[Entry]:
            return [] if removed else [unremembered("nightly", "cron")]

        def state(self, _: Entry) -> State:
            return State(True, True)

        def remove(self, entry: Entry) -> None:
            removed.append(entry)

    monkeypatch.setattr(schedules, "SCHEDULERS", ("cron",))
    monkeypatch.setattr(schedules, "scheduler_of", lambda _: Marked())

    def told(*words: str, code: int = 0) -> str:
        return in_this_process(words, folder, {}, code).stdout

    assert "not set up here" in told("schedule", "list") and "left no record here" in told("schedule", "check", code=1)
    for outcome in ("nothing to do", "failed"):
        Visiting("schedule", "nightly", "frugal tidy").skip("why", outcome)
    assert "failed at" in told("schedule", "check", code=1)
    Visiting("schedule", "nightly", "frugal tidy").skip("")
    assert "1 schedule, no problems" in told("schedule", "check")
    for days in (30, 29):
        Visiting("schedule", "weekly", "frugal tidy", began_ns=time.time_ns() - days * DAY_NS).skip("")
    monkeypatch.setattr(Marked, "marked", lambda _: [] if removed else [unremembered("weekly", "cron")])
    assert "overdue: the last was at" in told("schedule", "check", code=1)
    assert "Removed weekly." in told("schedule", "remove", "weekly") and removed[0].name == "weekly"
    assert "No schedules yet" in told("schedule", "list")


@pytest.mark.skipif(IS_WINDOWS or not IS_ROOT, reason="only root can mount a small volume")
@pytest.mark.parametrize("log", [False, True])
def test_the_history_can_be_read_on_a_full_disk(folder: Path, frugal: Frugal, mount: Mount, log: bool) -> None:
    small = mount("tmpfs", "size=8m")
    env = {"XDG_STATE_HOME": str(small)}
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes", **env)
    (journal,) = small.rglob("journal.sqlite")
    if log:  # a kill left what was written last beside the journal
        import sqlite3

        held = sqlite3.connect(journal)
        held.execute("UPDATE runs SET origin = x'6c617374'")
        held.commit()
    for part in small.rglob("reserve-*"):
        part.unlink()
    with pytest.raises(OSError, match="No space"), open(small / "full", "wb", buffering=0) as file:
        while True:
            file.write(b"x" * 4_096)
    told = json.loads(frugal("history", "--format", "json", **env).stdout)
    assert [run["done"] for run in told["runs"]] == [1] and ("last" in told["runs"][0]["origin"]) == log
    assert subprocess.run(["ls", "/dev/shm"], capture_output=True, text=True, check=True).stdout.count("journal.sqlite") == 0


def test_a_run_whose_entries_left_the_trash_is_not_offered(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.tmp")
    put(folder / "rules.toml", rules_text('where = "ext is tmp"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes")
    assert "to undo it: frugal undo 1" in frugal("history").stdout
    frugal("trash", "--older-than", "0d", "--yes")
    assert "frugal undo" not in frugal("history").stdout
    assert "nothing it did can be reversed" in frugal("undo", "--yes", code=1).stderr


@pytest.mark.skipif(not IS_ROOT, reason="only root can give a folder away")
def test_the_records_of_another_account_are_not_taken_over(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    own = ready_state_folder()
    other = own.rename(own.with_name("0123456789ab"))
    os.chown(other, 7_103, 7_103)
    assert "--adopt" not in frugal("history").stdout
    frugal("history", "--adopt", "0123456789ab", code=2)


def test_a_file_of_the_tool_is_written_whole_or_not_at_all(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = folder / "kept" / "one.json"
    write_whole(path, b"first")
    monkeypatch.setattr(disk, "fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(OSError, match="No space"):
        write_whole(path, b"second")
    assert path.read_bytes() == b"first" and [one.name for one in path.parent.iterdir()] == ["one.json"]
    assert IS_WINDOWS or path.stat().st_mode & 0o777 == 0o600
