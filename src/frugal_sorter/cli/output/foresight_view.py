"""`frugal preview --until`: what the rules would do day by day, on the screen and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.step_text import step_as_json
from frugal_sorter.cli.output.text import ago_text, common_base, count_text, iso_text, moment_text, shown
from frugal_sorter.cli.output.words import will_text
from frugal_sorter.planning.foresight import Day
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import by_rule

_SECOND_NS = 1_000_000_000
NOT_IN_IT = "What will arrive until then, or be changed by somebody, is not in it; nor is what leaves the trash."


def show_days(days: Sequence[Day], screen: Screen, now_ns: int, until_ns: int, names: bool) -> None:
    """Print each day on which something is done, and then all of it.

    Args:
        days: they.
        screen: the terminal.
        now_ns: the moment of the first.
        until_ns: the last moment.
        names: by name, or only by rule.
    """
    screen.line(f"As if the rules ran every day at {moment_text(now_ns)[11:]}, until {moment_text(until_ns)}")
    whole = Plan("tidy", now_ns, "")
    views = [PlanView(day.plan, screen) for day in days]
    base = common_base([view.base for view in views]) if views else ""
    if base:
        screen.parts(("All below ", ""), (shown(base), "bold"))
    for day, view in zip(days, views, strict=True):
        whole.steps += day.plan.asked
        screen.line()
        when = datetime.fromtimestamp(day.now_ns // _SECOND_NS)
        ago = "today" if day.now_ns == now_ns else ago_text(day.now_ns, now_ns)
        screen.parts((f"{when:%a} {moment_text(day.now_ns)[:10]}", "bold"), (f"  {ago}", "dim"))
        # What is seen from one folder on one day is seen from it on all.
        view.base = base
        for rule, steps in by_rule(day.plan).items():
            screen.parts((f"  {shown(rule)}", "bold"), (f"  {will_text(steps)}", "dim"))
            if names:
                view.show_names(steps, few=1)
        for refusal in day.plan.refused:
            screen.line(f"  Refused: {shown(refusal.rule)}: {shown(refusal.reason)}", style="bold yellow")
    screen.line()
    if not whole.steps:
        screen.line("Nothing to do until then.", style="bold")
    else:
        screen.line(f"On {count_text(len(days), 'day')} it would {will_text(whole.steps)}.", style="bold")
    screen.line(NOT_IN_IT)


def days_as_json(days: Sequence[Day], now_ns: int, until_ns: int) -> dict[str, Any]:
    """Return the days as one object; docs/formats.md describes it."""
    return {
        "from": iso_text(now_ns), "until": iso_text(until_ns), "note": NOT_IN_IT,
        "days": [
            {
                "moment": iso_text(day.now_ns), "steps": [step_as_json(step) for step in day.plan.steps],
                "refused": [refusal._asdict() for refusal in day.plan.refused],
            }
            for day in days
        ],
    }  # fmt: skip
