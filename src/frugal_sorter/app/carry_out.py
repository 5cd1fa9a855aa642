"""Carrying a plan out, and checking later that everything is as it was left."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from typing import NamedTuple

from frugal_sorter.app.session import Session
from frugal_sorter.execution.earlier_runs import taken_from
from frugal_sorter.execution.executor import Result, execute
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import digest_of_contents, look_like_or_none
from frugal_sorter.journal.database import Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import SUMMED, Plan
from frugal_sorter.platforms import accounts
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Outcome, reason_of
from frugal_sorter.reports.saved import FolderSums, forget_totals, keep_digests, keep_totals, kept_digests
from frugal_sorter.rules.units import DAY_NS
from frugal_sorter.state import forget_files, open_log, read_settings, ready_state_folder
from frugal_sorter.steps.kinds import ATTENDING, FINAL, MAKING
from frugal_sorter.steps.step import Mark, Step


def _never() -> bool:
    return False


def carry_out(session: Session, plan: Plan, on_step: Callable[[Step, Mark], None], stop: Callable[[], bool] = _never) -> Result:
    """Carry a plan out.

    Args:
        session: of the command.
        plan: what to do.
        on_step: called after each step, with how it ended.
        stop: asked before each step; when it says so the rest is not done.

    Raises:
        RefusedError: another process is changing files.
        StateError: the journal cannot be written.
    """
    plan = plan.numbered()
    folder, settings, visiting = ready_state_folder(), read_settings(), session.visiting
    session.planned(plan, "" if visiting is None else visiting.rules)
    open_log(folder, settings.log)
    kept_ns = settings.keep_days * DAY_NS
    with session.changing(plan.kind) as journal:
        if journal.doubt and session.asks:
            journal.believe(session.now_ns, accounts.is_clock_set, is_confirmed=True)
        _forget(folder, journal, kept_ns)
        # The moment of each is its own: between the plan and the answer of a person an hour can pass.
        digests = digests_before(plan, session.on_progress) if session.digests else None
        sums = FolderSums(plan.levels)
        before = sums.take(time.time_ns()) if plan.kind in SUMMED else None
        if visiting is None:
            result = execute(plan, journal, on_step, stop)
        else:
            with visiting.telling(on_step) as tell:
                visiting.begin(journal)
                result = execute(plan, journal, tell, stop)
        if digests is not None:
            keep_digests(folder, result.run, digests)
        if before is not None:
            keep_totals(folder, result.run, before, sums.take(time.time_ns()))
        if visiting is not None:
            visiting.end(journal, result)
    return result


def _forget(folder: Path, journal: Journal, kept_ns: int) -> None:
    """Forget what was kept long enough; with a clock that is not believed, nothing."""
    if journal.doubt:
        return
    for run in journal.forget(kept_ns):
        forget_totals(folder, run)
    for kept in (folder / "rule-files", folder / "inventories"):
        forget_files(kept, time.time_ns() - kept_ns)


def is_first_of_kind(result: Result) -> bool:
    """Return True if no run before this one was by the same command."""
    with Journal(ready_state_folder(), write=False) as journal:
        return journal.is_first_of_kind(result.run)


def was_not_done(result: Result) -> list[tuple[Step, Mark]]:
    """Return the steps of a run that should have been done and were not, except those left by design."""
    return [(step, mark) for step, mark in result.not_done if mark.outcome != Outcome.NOT_RUN]


class Difference(NamedTuple):
    """An entry that is not as a run left it: its path, and how it differs."""

    path: str
    how: str


class Verified(NamedTuple):
    """What became of what a run did.

    Args:
        checked: how many entries were looked at.
        bytes: how large these are.
        read: how many were read through, and have the contents that they had before the run.
        moved_on: how many of them a later run has moved on.
        not_done: how many steps of the run were not done, so that there is nothing to look at.
        differences: what is not as the run left it.
    """

    checked: int
    bytes: int
    read: int
    moved_on: int
    not_done: int
    differences: list[Difference]


def verify(journal: Journal, run: Run, on_progress: Callable[[int, int], None]) -> Verified:
    """Compare the disk with what a run did: each entry is where it was put, itself, and was not written to since.

    Itself means the same inode, or where these do not last the same first and last block; not written to means the same
    size and modification time. What was deleted must be gone.

    Args:
        journal: with the run.
        run: which.
        on_progress: called with how many steps were looked at, of how many.
    """
    checked = size = read = moved_on = not_done = 0
    digests = kept_digests(ready_state_folder(), run.id)
    differences: list[Difference] = []
    of = journal.counts(run.id).get(Outcome.DONE, 0)
    for step, mark in journal.steps(run.id):
        if step.verb in ATTENDING:
            continue
        if mark is None or mark.outcome != Outcome.DONE:
            not_done += 1
            continue
        checked, size = checked + 1, size + step.bytes
        on_progress(checked, of)
        how = _difference(step, mark)
        if how == _MISSING and step.target is not None:
            later = taken_from(journal, step.target.path)
            if later is not None and later.run > run.id:
                moved_on += 1
                continue
        if not how and step.target is not None and (before := digests.get(str(step.id))):
            how = _other_contents(step.target, before)
            read += not how
        if how:
            place = step.target if step.target is not None and step.verb not in FINAL else step.place
            differences.append(Difference(place.path, how))
    return Verified(checked, size, read, moved_on, not_done, differences)


def digests_before(plan: Plan, on_progress: Callable[[int, int], None]) -> dict[str, str]:
    """Return a digest of the contents of each file that a plan moves, by the number of its step, to compare after the run.

    What cannot be read has none.

    Args:
        plan: it was not carried out yet.
        on_progress: called with how many files were read, of how many.
    """
    steps = [step for step in plan.asked if step.source and step.target and step.was is not None and step.was.kind == "file"]
    found = {}
    for number, step in enumerate(steps, 1):
        assert step.source is not None
        with suppress(OSError):
            found[str(step.id)] = digest_of_contents(step.source)
        on_progress(number, len(steps))
    return found


def _other_contents(place: Place, before: str) -> str:
    try:
        return "" if digest_of_contents(place) == before else "other contents than before the run"
    except OSError as error:
        return reason_of(error)


_MISSING = "missing"


def _difference(step: Step, mark: Mark) -> str:
    """Return how an entry differs from what a step left; empty where it does not, or the step left nothing to look at."""
    try:
        if step.verb in FINAL:
            there = look_like_or_none(step.place, step.was) if step.was is not None else None
            return "there again" if there is not None and step.was is not None and there.identity.same_who(step.was) else ""
        expected = mark.now if mark.now is not None else step.was
        if step.target is None or expected is None or not (step.verb in MAKING or step.verb == "trash"):
            return ""
        found = look_like_or_none(step.target, expected)
    except OSError as error:
        return reason_of(error)
    if found is None:
        return _MISSING
    if not found.identity.same_who(expected):
        return "another file is in its place"
    return "" if found.identity.same_state(expected) else "changed since"
