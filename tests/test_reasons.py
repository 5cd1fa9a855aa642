"""Every reason of the program and every end of a visit: what each place says of it where nobody watched."""

from __future__ import annotations

import json
import pickle
import re
import runpy
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from frugal_sorter.app import schedules
from frugal_sorter.app.visits import Visiting
from frugal_sorter.errors import RefusedError, StateError, UsageError
from frugal_sorter.execution.executor import Result
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.journal.database import Driver
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Note, Plan, Refusal
from frugal_sorter.reasons import Outcome, Reason, Why, reason_of_record
from frugal_sorter.schedule.scheduler import Entry, Remembered, State
from frugal_sorter.state import ready_state_folder, settings_file
from frugal_sorter.steps.step import NotTouched, Step, left_undone
from tests.conftest import IS_WINDOWS, in_this_process
from tests.support import put

pytestmark = pytest.mark.skipif(IS_WINDOWS, reason="who is told is a shell script")
DOCS = Path(__file__).resolve().parent.parent / "docs"
SOURCE = DOCS.parent / "src"
_MADE = runpy.run_path(str(DOCS / "make_reasons.py"))
DRIVERS: tuple[Driver, ...] = ("schedule", "person")


def test_the_page_has_all_reasons_as_the_source_has_them() -> None:
    page = (DOCS / "unattended.md").read_text(encoding="utf-8")
    assert page == _MADE["with_table"](page), "run docs/make_reasons.py"


def test_each_reason_is_given_somewhere_and_keeps_its_code_on_its_way() -> None:
    source = "".join(path.read_text(encoding="utf-8") for path in SOURCE.rglob("*.py"))
    for why in Why:
        assert re.search(rf"Why\.{why.name}\b", source), why
        reason = why(*[7] * why.text.count("{"))
        assert (reason.code, reason.why, pickle.loads(pickle.dumps(reason)).why) == (why.code, why, why)
        assert reason_of_record(reason, why.code, reason.outcome).why is why
        assert reason.reworded(f"a.log: {reason}").code == why.code
    assert (reason_of_record("of old", "", Outcome.FAILED).code, reason_of_record("of old", "", Outcome.FAILED).problem) == (
        "",
        True,
    )


class Ended(NamedTuple):
    """A visit that was recorded: its name, its end, whether a person should know, and a part of the reason."""

    name: str
    outcome: str
    is_trouble: bool
    reason: str


def _step(number: int = 1) -> Step:
    was = Identity("file", 1, number, 3, 1, 1)
    return Step(number, "move", "Logs", "k", Place("/srv/in", f"{number}.log"), Place("/srv/Logs", f"{number}.log"), was)


def _plan(**more: Any) -> Plan:
    return Plan("tidy", time.time_ns(), "rules.toml", rules=["Logs"], **more)


def _of_reason(visiting: Visiting, reason: Reason, is_step: bool, is_alone: bool) -> None:
    """Record a visit in which one thing was left or not done for a reason, alone or beside another that was done."""
    plan, result = _plan(), Result(0)
    if is_step:
        result.not_done.append((_step(1), left_undone(_step(1), reason)))
        plan.steps.append(_step(1))
    else:
        plan.not_touched.append(NotTouched(Place("/srv/in", "a"), "Logs", reason))
    visiting.plan = plan
    if is_alone and not is_step:
        visiting.close(None)
        return
    result.done.add([] if is_alone else [_step(2)])
    with Journal(ready_state_folder(), write=True) as journal:
        visiting.begin(journal)
        visiting.end(journal, result)


def _error(error: BaseException, **plan: Any) -> Callable[[Visiting], None]:
    def end(visiting: Visiting) -> None:
        visiting.plan = _plan(**plan) if plan else None
        visiting.close(error)

    return end


def _planned(code: int = 0, **plan: Any) -> Callable[[Visiting], None]:
    def end(visiting: Visiting) -> None:
        visiting.plan = _plan(**plan) if plan else None
        visiting.close(None, code)

    return end


def _stopped(visiting: Visiting) -> None:
    visiting.plan = _plan(steps=[_step()])
    with Journal(ready_state_folder(), write=True) as journal:
        visiting.begin(journal)
        visiting.end(journal, Result(0, stopped=True))


def _killed(visiting: Visiting) -> None:
    visiting.plan = _plan(steps=[_step()])
    with Journal(ready_state_folder(), write=True) as journal:
        visiting.begin(journal)
        journal.interrupt_visits()


# How a visit ends, and what is said of it: outcome, whether a person should know, a part of the reason.
ENDS: dict[str, tuple[Callable[[Visiting], None], str, bool, str]] = {
    "nothing": (_planned(notes=[]), "nothing to do", False, ""),
    "no record of their origin": (_planned(notes=[Note("does not change it", False)]), "nothing to do", False, ""),
    "a missing folder": (_planned(notes=[Note("/srv/in is missing", True)]), "failed", True, "/srv/in is missing"),
    "a ceiling": (_planned(refused=[Refusal("Logs", Why.TOO_MANY(9, 3))]), "refused", True, "Logs: it would act on 9"),
    "refused": (_error(RefusedError("another run", "wait")), "refused", True, "another run"),
    "no terminal": (_error(RefusedError("no terminal", "--yes"), steps=[_step()]), "refused", True, "no terminal"),
    "a mistake in the rules": (_error(UsageError("line 3", "mend it"), notes=[]), "failed", True, "line 3"),
    "a damaged journal": (_error(StateError("damaged", "move it")), "failed", True, "damaged"),
    "the system": (_error(OSError(5, "Input/output error"), notes=[]), "failed", True, "Input/output error"),
    "Ctrl-C": (_error(KeyboardInterrupt(), notes=[]), "stopped", False, "before anything was changed"),
    "a closed pipe": (_error(BrokenPipeError(), notes=[]), "stopped", False, "whoever read its output"),
    "answered no": (_planned(3, steps=[_step()]), "stopped", False, "answered no"),
    "stopped in the middle": (_stopped, "stopped", False, ""),
    "killed": (_killed, "interrupted", True, ""),
    "not its hour": (lambda visiting: visiting.skip("outside the allowed hours, its hours"), "nothing to do", False, "outside the allowed hours, its hours"),
    "asked to end": (lambda visiting: visiting.skip("asked to end", "stopped"), "stopped", False, "asked to end"),
    "a job without a plan": (_error(UsageError("its disk is full", "free it")), "failed", True, "its disk is full"),
}  # fmt: skip


@pytest.fixture
def record(folder: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[..., Visiting]]:
    """Return what begins a visit, which has a schedule that its scheduler knows, and a person who is told of trouble."""

    class Known:
        def state(self, _: Entry) -> State:
            return State(True, True)

        def is_here(self) -> bool:
            return False

    monkeypatch.setattr(schedules, "scheduler_of", lambda _: Known())
    put(folder / "told.sh", f'#!/bin/sh\n{{ cat; echo "--"; }} >> "{folder}/told"\n').chmod(0o700)
    put(settings_file(), f'[on-problem]\nrun = ["{folder}/told.sh"]\n')
    remembered = Remembered(ready_state_folder())

    def begin(driver: Driver, name: str) -> Visiting:
        if driver == "schedule":
            remembered.keep(Entry(name, "log-on", ("tidy", "rules.toml"), sys.executable, str(folder)))
        return Visiting(driver, name if driver == "schedule" else "", f"frugal {name}", log=str(folder / f"{name}.log"))

    yield begin


def _everywhere(driver: Driver, ended: list[Ended], folder: Path) -> None:
    """Compare what each place says with how each visit ended."""

    def told(*words: str, code: int | None = 0) -> Any:
        return json.loads(in_this_process([*words, "--format", "json"], folder, {}, code).stdout)

    by_name = {one.name: one for one in ended}
    of = {visit["command"].removeprefix("frugal "): visit for visit in told("history")["visits"]}
    assert of.keys() == by_name.keys()
    for name, one in by_name.items():
        assert (of[name]["outcome"], one.reason in of[name]["reason"]) == (one.outcome, True), (one, of[name])
        assert bool(of[name]["reason"]) or not one.reason
        log = folder / f"{name}.log"
        assert one.outcome == "interrupted" or f": {one.outcome}" in log.read_text(), one
        assert not one.is_trouble or one.outcome == "interrupted" or one.reason in log.read_text()
    troubles = {name for name, one in by_name.items() if one.is_trouble}
    # What went wrong before the eyes of a person, that person saw.
    reported = {name for name in troubles if driver != "person" or by_name[name].outcome == "interrupted"}
    assert len(told("report")["troubles"]) == len(reported)
    if driver == "person":
        assert not (folder / "told").exists()
        return
    assert {visit["by"] for visit in told("report")["troubles"]} == reported
    listed = {one["name"]: one for one in told("schedule", "list")["schedules"]}
    assert {name for name, one in listed.items() if one["troubles"]} == troubles
    assert {name for name, one in listed.items() if one["state"] == "has problems"} == troubles
    assert all(listed[name]["outcome"] == one.outcome for name, one in by_name.items())
    check = told("schedule", "check", code=1)
    assert not check["well"] and {one["name"] for one in check["schedules"] if one["troubles"]} == troubles
    said = (folder / "told").read_text().split("--\n")[:-1]
    # A kill leaves nobody to tell; the next visit and `schedule check` do.
    assert {text.split(":")[0].removeprefix("frugal ") for text in said} == {
        name for name in troubles if by_name[name].outcome != "interrupted"
    }
    assert in_this_process(["schedule", "check"], folder, {}, 1).stdout.count("\n") == len(troubles)


@pytest.mark.parametrize("is_alone", [True, False])
@pytest.mark.parametrize("driver", DRIVERS)
def test_each_reason_is_told_everywhere_if_a_person_should_know_and_nowhere_else(
    driver: Driver, is_alone: bool, record: Callable[..., Visiting], folder: Path
) -> None:
    ended = []
    for number, why in enumerate(Why):
        name, is_step, reason = f"job-{number}", number % 2 == 0, why(*[7] * why.text.count("{"))
        _of_reason(record(driver, name), reason, is_step, is_alone)
        outcome = "done" if is_step or not is_alone else "failed" if reason.problem else "nothing to do"
        ended.append(Ended(name, outcome, reason.problem, reason if reason.problem else ""))
    _everywhere(driver, ended, folder)


@pytest.mark.parametrize("driver", DRIVERS)
def test_each_way_to_end_is_told_everywhere_if_a_person_should_know(
    driver: Driver, record: Callable[..., Visiting], folder: Path
) -> None:
    ended = []
    for number, (what, (end, outcome, is_trouble, reason)) in enumerate(ENDS.items()):
        name = f"job-{number}"
        visiting = record(driver, name)
        end(visiting)
        if visiting.visit is None:
            # What a person mistyped, and was told at once, is no visit.
            assert driver == "person" and what in ("a job without a plan",), what
            continue
        ended.append(Ended(name, outcome, is_trouble, reason))
    assert len(ended) >= len(ENDS) - 1
    _everywhere(driver, ended, folder)
