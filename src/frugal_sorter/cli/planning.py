"""From a rule book and the journal to a plan, and what its rules only just miss."""

from __future__ import annotations

from dataclasses import replace

from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import moment_text, shown
from frugal_sorter.cli.reading import world_now
from frugal_sorter.execution.earlier_runs import arrival_of, past_of
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.misses import nearest_misses
from frugal_sorter.planning.plan import Plan
from frugal_sorter.rules.model import RuleBook


def plan_now(
    book: RuleBook, journal: Journal, again: bool, as_of: str | None = None, at_most: int | None = None
) -> Plan:  # fmt: skip
    """Plan what the rules would do now, or at another moment."""
    return plan_by_rules(book, world_now(as_of, arrival_of(journal)), past_of(journal), again, at_most)


def show_misses(screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Print, for each rule that matches nothing at all, what it only just misses."""
    world = replace(world_now(), now_ns=plan.made_ns)
    idle = [rule for rule in book.rules if rule.name not in plan.matched]
    for name, misses in nearest_misses(book, idle, world).items():
        screen.line(f"{shown(name)} matches nothing; nearest:", style="yellow")
        for miss in misses:
            when = f"; the rule takes it on {moment_text(miss.when_ns)}" if miss.when_ns else ""
            screen.line(f"    {shown(miss.place.name)}: {shown(miss.why)}{when}")
