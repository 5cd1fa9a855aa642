"""What rules only just miss, for the one who wonders why they match nothing."""

from __future__ import annotations

from frugal_sorter.app.session import Session
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import moment_text, shown
from frugal_sorter.planning.misses import nearest_misses
from frugal_sorter.planning.plan import Plan
from frugal_sorter.rules.model import RuleBook


def show_misses(session: Session, screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Print, for each rule that matches nothing at all, what it only just misses."""
    world = session.world(now_ns=plan.made_ns)
    idle = [rule for rule in book.rules if rule.name not in plan.matched]
    for name, misses in nearest_misses(book, idle, world).items():
        screen.line(f"{shown(name)} matches nothing; nearest:", style="yellow")
        for miss in misses:
            when = f"; the rule takes it on {moment_text(miss.when_ns)}" if miss.when_ns else ""
            screen.line(f"    {shown(miss.place.name)}: {shown(miss.why)}{when}")
