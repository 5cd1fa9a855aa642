"""From a rule book and the journal to a plan."""

from __future__ import annotations

from frugal_sorter.cli.reading import world_now
from frugal_sorter.plans.by_rules import plan_by_rules
from frugal_sorter.plans.plan import Plan
from frugal_sorter.rules.book import RuleBook
from frugal_sorter.work.journal import Journal
from frugal_sorter.work.past import arrival_of, past_of


def plan_now(
    book: RuleBook, journal: Journal, again: bool, as_of: str | None = None, at_most: int | None = None
) -> Plan:  # fmt: skip
    """Plan what the rules would do now, or at another moment."""
    return plan_by_rules(book, world_now(as_of, arrival_of(journal)), past_of(journal), again, at_most)
