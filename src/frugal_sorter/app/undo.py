"""Planning what takes a run back: the one that is named, or the last of which something can be."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from frugal_sorter.app.session import Session
from frugal_sorter.execution.recovery import recover_unfinished_parts
from frugal_sorter.execution.undo import GONE, RAN, plan_undo, run_to_undo, runs_to_undo
from frugal_sorter.journal.journal import Journal
from frugal_sorter.journal.run import Run
from frugal_sorter.planning.plan import Plan


class Undoing(NamedTuple):
    """A run, and what takes it back.

    Args:
        run: it.
        plan: the steps that take it back, and what is in the way.
        passed_over: later runs of which nothing can be taken back.
        done_again: the run that this does again after all; None where it is not the undo of an undo.
    """

    run: Run
    plan: Plan
    passed_over: Sequence[Run]
    done_again: int | None

    @property
    def is_blocked(self) -> bool:
        """Whether something is in the way of the rest, and can be put out of it."""
        return any(one.reason not in (GONE, RAN) for one in self.plan.not_touched)


def plan_undoing(session: Session, number: int | None = None, only: Sequence[str] = ()) -> Undoing:
    """Plan what takes a run back.

    Args:
        session: of the command.
        number: of the run; None for the last of which something can be taken back.
        only: absolute paths, as they were or as they are now; just these and what lies below them.

    Raises:
        UsageError: there is no such run, or it did nothing with one of the paths.
    """
    with session.changing("undo") as journal:
        last = run_to_undo(journal, number)
        if recovered := recover_unfinished_parts(journal, last):
            session.on_recovered(recovered)
        # What is gone for good, or back already, is no reason to stop there.
        runs = runs_to_undo(journal) if number is None and not only else [last]
        tried: list[Undoing] = []
        for run in runs:
            tried.append(Undoing(run, plan_undo(journal, run, session.now_ns, only), (), None))
            if tried[-1].plan.asked or tried[-1].is_blocked:
                break
        *passed_over, undoing = tried
        session.planned(undoing.plan)
        return undoing._replace(
            passed_over=[one.run for one in passed_over], done_again=_done_again(undoing.run, journal)
        )


def runs_since(session: Session, since_ns: int) -> list[tuple[Run, int]]:
    """Return the runs since a moment of which something may be left to take back, the last one first.

    Args:
        session: of the command.
        since_ns: the moment, in ns since the epoch.

    Returns:
        each run with how many of its steps can be taken back; 0 for one of which nothing can.
    """
    with session.changing("undo") as journal:
        runs = [run for run in runs_to_undo(journal) if run.began_ns >= since_ns]
        return [(run, journal.left_to_undo(run.id)) for run in runs]


def _done_again(undone: Run, journal: Journal) -> int | None:
    undos, known = journal.undos(), set(journal.numbers())
    first, turns = undone.id, 0
    while first in undos and undos[first] in known:
        first, turns = undos[first], turns + 1
    return first if turns % 2 else None
