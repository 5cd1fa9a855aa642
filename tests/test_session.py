"""A session: one reading of the clock, and nothing remembered from the one before it."""

from __future__ import annotations

import gc
import time
from pathlib import Path

import pytest

from frugal_sorter.app.rules import plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.cli import command
from frugal_sorter.filesystem import volumes
from frugal_sorter.planning import guard
from tests.support import book_of, put


def test_a_session_reads_the_clock_once(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(folder / "Intake/a.log")
    before = time.time_ns()
    session = Session.begin()
    assert before <= session.now_ns <= time.time_ns()
    monkeypatch.setattr(time, "time_ns", lambda: pytest.fail("the clock was read once more"))
    plan = plan_rules(session, book_of(folder, 'where = "ext is log"\nmove = "x"'))
    assert plan.asked and plan.made_ns == session.now_ns


def test_a_new_session_knows_a_home_that_moved_and_a_volume_that_came(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
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
