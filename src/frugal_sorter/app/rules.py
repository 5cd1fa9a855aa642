"""Planning what rules would do: those of a file, the rule behind a job, or a plan that was saved."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from typing import TYPE_CHECKING

from frugal_sorter.app.session import Session
from frugal_sorter.errors import UsageError
from frugal_sorter.execution.earlier_runs import earlier_runs_of
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.by_rules import Narrow, plan_by_rules
from frugal_sorter.planning.guard import enforce_removal_limits, leave_written, refuse_guarded, tell_of_long_waits
from frugal_sorter.planning.plan import JobName, Note, Plan
from frugal_sorter.planning.sight import dated_rules
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Reason, Why, reason_of
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.units import DAY_NS, nearest
from frugal_sorter.steps.kinds import FINAL
from frugal_sorter.steps.step import Step, total
from frugal_sorter.values import replace

if TYPE_CHECKING:
    from frugal_sorter.planning.foresight import Day
    from frugal_sorter.rules.fields import World


def plan_rules(
    session: Session,
    book: RuleBook,
    again: bool = False,
    at_most: int | None = None,
    only: frozenset[str] | None = None,
    rules: Sequence[Rule] = (),
    now_ns: int | None = None,
) -> Plan:
    """Plan what a rule file would do, to carry it out.

    Args:
        session: of the command.
        book: the rules.
        again: also do what was taken back by undo.
        at_most: how many entries a rule may take away; None for what it says itself.
        only: the folders whose entries are looked at; None for all.
        rules: only what these do; none for all.
        now_ns: another moment to look from than now.
    """
    # The lock is not held while a person thinks; what changes meanwhile is noticed step by step.
    with session.changing("tidy") as journal:
        session.log_to(book.log)
        world = session.world(journal, now_ns)
        plan = plan_by_rules(book, world, earlier_runs_of(journal), again, at_most, only=only)
        # It is made now, wherever it looks from.
        plan = _hold_back(session, replace(plan, made_ns=session.now_ns), journal, book, world)
    return session.planned(_only_by(plan, rules), book.file)


def look_ahead(
    session: Session,
    book: RuleBook,
    again: bool = False,
    at_most: int | None = None,
    now_ns: int | None = None,
    rules: Sequence[Rule] = (),
) -> Plan:
    """Plan what a rule file would do, and change nothing, not even what an interrupted run left behind.

    Args:
        session: of the command.
        book: the rules.
        again: also what was taken back by undo.
        at_most: how many entries a rule may take away; None for what it says itself.
        now_ns: another moment to look at than now.
        rules: only what these do; none for all.
    """
    with session.looking() as (world_at, past):
        plan = plan_by_rules(book, world_at(now_ns), past, again, at_most)
    return _only_by(plan, rules)


def look_further(
    session: Session, book: RuleBook, until_ns: int, at_most: int | None = None, now_ns: int | None = None
) -> list[Day]:
    """Plan day by day what a rule file would do until a moment, with what is there now; nothing is changed.

    Args:
        session: of the command.
        book: the rules.
        until_ns: the last moment.
        at_most: how many entries a rule may take away on a day.
        now_ns: another first moment than now.
    """
    from frugal_sorter.planning.foresight import foresee

    with session.looking() as (world_at, past):
        return foresee(book, world_at, past, session.now_ns if now_ns is None else now_ns, until_ns, at_most)


def save_due(session: Session, book: RuleBook) -> list[tuple[str, str]]:
    """Save the inventories that a rule file wants and that are due; return each folder with what came of it: a name or an error.

    Args:
        session: of the command.
        book: the rules.
    """
    found = []
    for folder in dict.fromkeys(map(slashed.realpath, book.saved)) if book.saves else ():
        from frugal_sorter.reports.saved import SUFFIX, free_path, last_saved_ns, look_now, save

        # Timers are not exact to the second: an hour too early is not a day too early.
        if session.now_ns - last_saved_ns(folder, session.now_ns) < book.saves * DAY_NS - DAY_NS // 24:
            continue
        try:
            path = free_path(folder, session.now_ns)
            save(look_now(folder, True, session.now_ns), path)
            found.append((folder, f"saved an inventory: {path.name.removesuffix(SUFFIX)}"))
        except UsageError as wrong:
            found.append((folder, wrong.text))
        except OSError as error:
            found.append((folder, f"no inventory was saved ({reason_of(error)})"))
    return found


def rules_named(book: RuleBook, names: Iterable[str]) -> list[Rule]:
    """Return the rules of some names, in the order of the file; whatever the case of their letters.

    Raises:
        UsageError: there is none of a name, or it is off.
    """
    wanted = set()
    by_name = {fold(rule.name): rule for rule in book.rules}
    for name in names:
        if fold(name) not in by_name:
            if any(fold(rule.name) == fold(name) for rule in book.off):
                raise UsageError(f"--rule: {name!r} is switched off", "switch it on with `frugal rules on`")
            hint = nearest(name, [rule.name for rule in book.rules]) or "`frugal rules` lists them"
            raise UsageError(f"--rule: no rule named {name!r} in {book.file}", hint)
        wanted.add(by_name[fold(name)].name)
    return [rule for rule in book.rules if rule.name in wanted]


def keep_only(plan: Plan, is_wanted: Callable[[Step], bool]) -> Plan:
    """Return a plan with only some steps; the entries of the others are not asked for."""
    rest, others = plan.without(lambda step: not is_wanted(step))
    aside = plan.aside + total({step.place: step.count for step in others if step.source}.values())
    return replace(rest, aside=aside, not_touched=[])


def _only_by(plan: Plan, rules: Sequence[Rule]) -> Plan:
    """Return a plan with only what some rules do; whatever another rule takes before them stays its own."""
    if not rules:
        return plan
    names = {rule.name for rule in rules}
    rest, others = plan.without(lambda step: step.rule not in names)
    left = [one for one in plan.not_touched if one.rule and one.rule not in names]
    counts = {step.place: step.count for step in others if step.source} | {one.place: one.counted for one in left}
    return replace(
        rest,
        not_touched=[one for one in plan.not_touched if not one.rule or one.rule in names],
        aside=total(counts.values()),
        notes=[note for note in plan.notes if not note.rules or names.intersection(note.rules)],
        refused=[one for one in plan.refused if one.rule in names],
        rules=[name for name in plan.rules if name in names],
    )


def _keep_all(_plan: Plan, _world: object) -> None:
    return None


def plan_job(session: Session, book: RuleBook, kind: JobName, at_most: int | None = None, narrow: Narrow = _keep_all) -> Plan:
    """Plan a job without a rule file, by the rule behind it.

    A person's command counts, even if the same was undone before.

    Args:
        session: of the command.
        book: that one rule.
        kind: which job.
        at_most: how many entries it may take away; None for what the rule says.
        narrow: drops some of what the rule matches.
    """
    with session.changing(kind) as journal:
        world = session.world(journal)
        plan = plan_by_rules(book, world, earlier_runs_of(journal), True, at_most, kind, narrow)
        plan = _hold_back(session, plan, journal, book, world)
    return session.planned(plan)


def _hold_back(session: Session, plan: Plan, journal: Journal, book: RuleBook, world: World) -> Plan:
    """Return a plan without what must wait: for a clock that is believed, and for programs where nobody watches."""
    plan = hold_unbelieved(session, plan, journal, dated_rules(book))
    visiting = session.visiting
    # A person sees what is listed; an unattended run leaves whatever a program is writing.
    if plan.asked and session.is_unattended:
        leave_written(plan, world)
    if visiting is not None and visiting.driver == "schedule":
        tell_of_long_waits(plan, lambda paths: journal.waiting(visiting.name, paths, plan.made_ns))
    return plan


def hold_unbelieved(session: Session, plan: Plan, journal: Journal, dated: Collection[str]) -> Plan:
    """Return a plan without permanent removals that depend on a clock that is not trusted, unless a person is asked.

    Args:
        session: of the command.
        plan: it may have such steps.
        journal: what it says of the clock.
        dated: the rules that go by dates.
    """

    def goes_by_date(step: Step) -> bool:
        return step.verb in FINAL and step.rule in dated

    if not journal.doubt or not any(map(goes_by_date, plan.asked)):
        return plan
    if session.asks:
        return replace(
            plan, notes=[*plan.notes, Note(f"{journal.doubt}: check that the clock is right before you answer", False)]
        )
    return leave_out(plan, goes_by_date, Why.CLOCK_DOUBTED(journal.doubt))


def plan_saved(session: Session, path: Path, at_most: int | None = None) -> Plan:
    """Read a plan that was saved, and hold it to what every plan is held to.

    Args:
        session: of the command.
        path: of the file.
        at_most: how many entries each rule may take away; None for what the plan says.

    Raises:
        UsageError: it is not a plan of this machine, or is damaged.
    """
    with session.changing("tidy"):
        from frugal_sorter.planning.plan import load_plan

        plan = session.planned(load_plan(path), str(path))
    refuse_guarded(plan)
    if at_most is not None:
        plan.ceilings = dict.fromkeys(plan.rules, at_most)
    enforce_removal_limits(plan)
    return plan


def leave_out(plan: Plan, is_unwanted: Callable[[Step], bool], reason: Reason) -> Plan:
    """Return a plan without some steps and everything that belongs to them; it says why their entries are left alone.

    Args:
        plan: with these steps.
        is_unwanted: tells which.
        reason: why.
    """
    rest, dropped = plan.without(is_unwanted)
    left = {step.source: step.not_touched(reason) for step in dropped if step.source}
    return replace(rest, not_touched=[*plan.not_touched, *left.values()])
