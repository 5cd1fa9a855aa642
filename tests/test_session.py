"""A session: one reading of the clock, and nothing remembered from the one before it."""

from __future__ import annotations

import gc
import time
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.app import undo
from frugal_sorter.app.rules import leave_out, plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.cli import command
from frugal_sorter.execution import undo as undo_planner
from frugal_sorter.filesystem import volumes
from frugal_sorter.journal.database import Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning import guard
from frugal_sorter.planning.plan import Plan
from frugal_sorter.reasons import Why
from tests.support import book_of, carry_out, plan_of, put


def test_a_session_reads_the_clock_once(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(folder / "Intake/a.log")
    before = time.time_ns()
    session = Session.begin()
    assert before <= session.now_ns <= time.time_ns()
    monkeypatch.setattr(time, "time_ns", lambda: pytest.fail("the clock was read once more"))
    plan = plan_rules(session, book_of(folder, 'where = "ext is log"\nmove = "x"'))
    assert plan.asked and plan.made_ns == session.now_ns


def test_a_new_session_knows_a_home_that_moved_and_a_volume_that_came(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    home = put(folder / "home/x").parent
    assert guard.refused_entry(str(home)) is None
    known = volumes._mounts()
    monkeypatch.setenv("HOME", str(home))
    assert guard.refused_entry(str(home)) is None and volumes._mounts() is known
    Session.begin()
    assert guard.refused_entry(str(home)) == "a home folder" and volumes._mounts() is not known


def test_a_command_leaves_the_collector_of_the_process_as_it_was(folder: Path) -> None:
    for collects in (True, False):
        (gc.enable if collects else gc.disable)()
        try:
            command.run("history", [])
            assert gc.isenabled() == collects
        finally:
            gc.enable()


def test_a_plain_undo_is_planned_once(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(folder / "Intake/a.log")
    carry_out(plan_of(book_of(folder, 'where = "ext is log"\nmove = "x"')))
    planned: list[int] = []
    plan_undo = undo_planner.plan_undo

    def counted(journal: Journal, run: Run, now_ns: int, *more: Any) -> Plan:
        planned.append(run.id)
        return plan_undo(journal, run, now_ns, *more)

    monkeypatch.setattr(undo, "plan_undo", counted)
    undoing = undo.plan_undoing(Session.begin())
    assert planned == [1] and undoing.run.id == 1 and undoing.plan.asked


def test_what_a_rule_would_pack_is_named_where_the_rule_is_left_out_and_not_the_zip(folder: Path) -> None:
    for name in ("a.log", "b.log"):
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, 'where = "ext is log"\npack = "all.zip"'))
    plan = leave_out(plan, lambda step: step.rule == "rule 0", Why.DECLINED())
    assert [one.place.name for one in plan.not_touched] == ["a.log", "b.log"] and not plan.steps
