"""Planning what leaves the trash: brought back to where it was, or removed for good."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

from frugal_sorter.app.rules import hold_unbelieved
from frugal_sorter.app.session import Session
from frugal_sorter.execution.earlier_runs import trashed_in
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.constraints import enforce_removal_limits
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.planning.trash_plans import RULE, Weighed, add_emptying, leaving, plan_restore
from frugal_sorter.rules.model import TrashLimits
from frugal_sorter.steps.step import total
from frugal_sorter.trash.base import Trashed


class Emptying(NamedTuple):
    """What leaves the trash for good.

    Args:
        plan: the steps.
        going: the entries that leave it.
        of_runs: by run, how many of them it put there; these can then not be taken back.
    """

    plan: Plan
    going: Sequence[Weighed]
    of_runs: Counter[int]


def plan_emptying(
    session: Session, entries: Sequence[Weighed], limits: TrashLimits | None, orphans: bool, origin: str,
    notes: Sequence[Note] = (), at_most: int | None = None,
) -> Emptying:  # fmt: skip
    """Plan what leaves the trash for good.

    Args:
        session: of the command.
        entries: all that lies in it.
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
            hold_unbelieved(session, plan, journal, {RULE})
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
