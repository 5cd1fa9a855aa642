"""Carrying a plan out."""

from __future__ import annotations

import time
from collections.abc import Callable

from frugal_sorter.app.session import Session
from frugal_sorter.app.verify import digests_before
from frugal_sorter.execution.executor import Result, execute
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import SUMMED, Plan
from frugal_sorter.platforms import accounts
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Outcome
from frugal_sorter.reports.saved import FolderSums, forget_totals, keep_digests, keep_totals
from frugal_sorter.rules.units import DAY_NS
from frugal_sorter.state import forget_files, open_log, read_settings, ready_state_folder
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
    """Return the steps of a run that were to be done and were not; what was left by design is none of them."""
    return [(step, mark) for step, mark in result.not_done if mark.outcome != Outcome.NOT_RUN]
