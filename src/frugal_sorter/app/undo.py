"""Taking runs back, and restoring entries from the trash or removing them permanently."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import islice
from typing import NamedTuple

from frugal_sorter.app.rules import hold_unbelieved
from frugal_sorter.app.session import Session
from frugal_sorter.errors import FrugalError
from frugal_sorter.execution.earlier_runs import trashed_in
from frugal_sorter.execution.recovery import recover_unfinished_parts
from frugal_sorter.execution.undo import plan_undo, run_to_undo, runs_to_undo
from frugal_sorter.journal.database import Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.guard import enforce_removal_limits
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.planning.trash_plans import RULE, Weighed, add_emptying, leaving, plan_restore
from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import Outcome, Why
from frugal_sorter.rules.model import TrashLimits
from frugal_sorter.rules.units import DAY_NS, minute_text
from frugal_sorter.steps.kinds import ATTENDING
from frugal_sorter.steps.step import total
from frugal_sorter.trash.base import Trashed

# This many steps of a run are enough to say in which folder it was.
_LOOKED_AT = 1_000


class CannotUndo(FrugalError):
    """The last run cannot be taken back, and no other was named."""

    exit_code = 1


class Undoing(NamedTuple):
    """A run, and what takes it back.

    Args:
        run: it.
        plan: the steps that take it back, and what is in the way.
        done_again: the run that this redoes; None where it is not the undo of an undo.
    """

    run: Run
    plan: Plan
    done_again: int | None

    @property
    def is_blocked(self) -> bool:
        """Whether something is in the way of the rest, and can be put out of it."""
        return any(one.reason.why is not Why.DELETED for one in self.plan.not_touched)


def plan_undoing(session: Session, number: int | None = None, only: Sequence[str] = ()) -> Undoing:
    """Plan what takes a run back.

    Args:
        session: of the command.
        number: of the run; None for the last one, and no other.
        only: absolute paths, as they were or as they are now; just these and what is below them.

    Raises:
        UsageError: there is no such run, or it did nothing with one of the paths.
        CannotUndo: no run was named, and the last one cannot be taken back.
    """
    with session.changing("undo") as journal:
        last = run_to_undo(journal, number)
        for one in (last.id, *(undo for undo, undone in journal.undos().items() if undone == last.id)):
            if recovered := recover_unfinished_parts(journal, journal.run(one)):
                session.on_recovered(recovered)
        if number is None and (why := _cannot(journal, last)):
            raise CannotUndo(
                f"run {last.id} ({last.kind} of {minute_text(last.began_ns)}) {why}", _instead(journal, last, session)
            )
        plan = session.planned(plan_undo(journal, last, session.now_ns, only, session.on_progress))
        return Undoing(last, plan, _done_again(last, journal))


def _cannot(journal: Journal, run: Run) -> str:
    """Return why a run cannot be taken back, empty where something of it can."""
    if run.undone_by is not None:
        return f"has already been undone by run {run.undone_by}"
    if journal.can_be_undone(run.id):
        return ""
    done = journal.counts(run.id).get(Outcome.DONE)
    return "cannot be undone: nothing it did can be reversed" if done else "changed nothing"


def _instead(journal: Journal, last: Run, session: Session) -> str:
    """Return which run before one could be taken back, in words; nobody but a person decides that it is."""
    run = next((one for one in runs_to_undo(journal) if one.id < last.id and journal.left_to_undo(one)), None)
    if run is None:
        return "`frugal history` lists all runs"
    steps = (step for step, _ in islice(journal.steps(run.id), _LOOKED_AT) if step.verb not in ATTENDING)
    folders = {place.folder for step in steps if (place := step.source or step.target)}
    days = max(session.now_ns - run.began_ns, 0) // DAY_NS
    age = "today" if not days else "1 day ago" if days == 1 else f"{days:,} days ago"
    what = f"{run.kind} in {slashed.common_of(sorted(folders))}, {minute_text(run.began_ns)}, {age}"
    return f"the one before it is run {run.id} ({what}): `frugal undo {run.id}`"


def runs_since(session: Session, since_ns: int) -> list[tuple[Run, int]]:
    """Return the runs since a moment that may have something left to take back, the last one first.

    Args:
        session: of the command.
        since_ns: the moment, in ns since the epoch.

    Returns:
        each run with how many of its steps can be taken back, which may be 0.
    """
    with session.changing("undo") as journal:
        runs = [run for run in runs_to_undo(journal) if run.began_ns >= since_ns]
        return [(run, journal.left_to_undo(run)) for run in runs]


def _done_again(undone: Run, journal: Journal) -> int | None:
    undos, known = journal.undos(), set(journal.numbers())
    first, turns = undone.id, 0
    while first in undos and undos[first] in known:
        first, turns = undos[first], turns + 1
    return first if turns % 2 else None


class Emptying(NamedTuple):
    """What is permanently removed from the trash.

    Args:
        plan: the steps.
        going: the entries that leave it.
        of_runs: by run, how many of them it put there; these can then not be taken back.
    """

    plan: Plan
    going: Sequence[Weighed]
    of_runs: Counter[int]


def plan_emptying(
    session: Session,
    entries: Sequence[Weighed],
    limits: TrashLimits | None,
    orphans: bool,
    origin: str,
    notes: Sequence[Note] = (),
    at_most: int | None = None,
) -> Emptying:
    """Plan what is permanently removed from the trash.

    Args:
        session: of the command.
        entries: everything in it.
        limits: by age, size and a condition; None where nothing leaves it for those.
        orphans: also the halves of entries.
        origin: the command line.
        notes: what could not be read.
        at_most: how many entries may leave it.
    """
    with session.changing("trash") as journal:
        going = [] if limits is None else leaving(entries, limits, session.world())
        going += [one for one in entries if one.trashed.orphan] if orphans else []
        seen = total(one.counted for one in entries)
        plan = Plan("empty", session.now_ns, origin, rules=[RULE], matched={RULE}, seen=seen)
        plan.notes += notes
        add_emptying(plan, going)
        if at_most is not None:
            plan.ceilings[RULE] = at_most
        if limits is not None and limits.goes_by_time:
            plan = hold_unbelieved(session, plan, journal, {RULE})
        enforce_removal_limits(plan)
        session.planned(plan)
        return Emptying(plan, going, _runs(journal, going) if plan.asked else Counter())


def _runs(journal: Journal, going: Sequence[Weighed]) -> Counter[int]:
    counts: Counter[int] = Counter()
    known: dict[str, dict[str, int]] = {}
    for one in going:
        folder = one.trashed.bin.files
        if folder not in known:
            known[folder] = trashed_in(journal, folder)
        run = known[folder].get(one.trashed.name)
        if run is not None and not one.trashed.orphan:
            counts[run] += 1
    return counts


def plan_bringing_back(session: Session, wanted: Sequence[Trashed]) -> Plan:
    """Plan what brings entries of the trash back to where they were."""
    with session.changing("trash"):
        return session.planned(plan_restore(wanted, session.now_ns))
