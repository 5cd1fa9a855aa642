"""Planning what rules would do: those of a file, the one that stands for a job, or a plan that was saved."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from frugal_sorter.app.session import Session
from frugal_sorter.execution.earlier_runs import earlier_runs_of
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.by_rules import Narrow, plan_by_rules
from frugal_sorter.planning.constraints import enforce_removal_limits
from frugal_sorter.planning.guard import refuse_guarded
from frugal_sorter.planning.plan import Kind, Plan
from frugal_sorter.planning.plan_file import load_plan
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.steps.step import Step


def plan_rules(
    session: Session, book: RuleBook, again: bool = False, at_most: int | None = None,
    only: frozenset[str] | None = None,
) -> Plan:  # fmt: skip
    """Plan what a rule file would do, to carry it out.

    Args:
        session: of the command.
        book: the rules.
        again: also do what was taken back by undo.
        at_most: how many entries a rule may take away; None for what it says itself.
        only: the folders whose entries are looked at; None for all.
    """
    # The lock is not held while a person thinks; what changes meanwhile is noticed step by step.
    with session.changing("tidy") as journal:
        session.log_to(book.log)
        plan = plan_by_rules(book, session.world(journal), earlier_runs_of(journal), again, at_most, only=only)
    return session.planned(plan, book.file)


def look_ahead(
    session: Session, book: RuleBook, again: bool = False, at_most: int | None = None, now_ns: int | None = None
) -> Plan:  # fmt: skip
    """Plan what a rule file would do, and change nothing, not even what an interrupted run left behind.

    Args:
        session: of the command.
        book: the rules.
        again: also what was taken back by undo.
        at_most: how many entries a rule may take away; None for what it says itself.
        now_ns: another moment to look at than now.
    """
    with Journal(ready_state_folder(), write=False) as journal:
        return plan_by_rules(book, session.world(journal, now_ns), earlier_runs_of(journal), again, at_most)


def _keep_all(_plan: Plan, _world: object) -> None:
    return None


def plan_job(
    session: Session, book: RuleBook, kind: Kind, at_most: int | None = None, narrow: Narrow = _keep_all
) -> Plan:  # fmt: skip
    """Plan a job without a rule file, by the rule that stands for it.

    What a person types is meant, also where it was taken back before.

    Args:
        session: of the command.
        book: that one rule.
        kind: which job.
        at_most: how many entries it may take away; None for what the rule says.
        narrow: leaves some of what the rule matches after all.
    """
    with session.changing(kind) as journal:
        plan = plan_by_rules(book, session.world(journal), earlier_runs_of(journal), True, at_most, kind, narrow)
    return session.planned(plan)


def plan_saved(session: Session, path: Path, at_most: int | None = None) -> Plan:
    """Read a plan that was saved, and hold it to what every plan is held to.

    Args:
        session: of the command.
        path: of the file.
        at_most: how many entries each rule may take away; None for what the plan says.

    Raises:
        UsageError: it is no plan of this machine, or damaged.
    """
    with session.changing("tidy"):
        plan = session.planned(load_plan(path), str(path))
    refuse_guarded(plan)
    if at_most is not None:
        plan.ceilings = dict.fromkeys(plan.rules, at_most)
    enforce_removal_limits(plan)
    return plan


def leave_out(plan: Plan, is_unwanted: Callable[[Step], bool], reason: str) -> list[Step]:
    """Take steps out of a plan with all that belongs to them, and say why their entries are not touched.

    Args:
        plan: of which they are taken out.
        is_unwanted: tells which.
        reason: why.

    Returns:
        what was taken out.
    """
    dropped = plan.drop(is_unwanted)
    plan.not_touched += {step.source: step.not_touched(reason) for step in dropped if step.source}.values()
    return dropped
