"""`frugal preview`: what the rules would do; changes nothing."""

from __future__ import annotations

import argparse
import json
from dataclasses import replace

from frugal_sorter.cli.options import add_as_of, add_format, add_rules
from frugal_sorter.cli.plan_view import PlanView, exit_code, plan_as_json
from frugal_sorter.cli.planning import plan_now
from frugal_sorter.cli.reading import read_book, world_now
from frugal_sorter.cli.screen import Screen
from frugal_sorter.cli.text import count_text, moment_text, shown
from frugal_sorter.plans.misses import nearest_misses
from frugal_sorter.plans.plan import Plan
from frugal_sorter.rules.book import RuleBook
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.work.journal import Journal

EXAMPLES = """
  frugal preview
  frugal preview front-desk.toml
  frugal preview front-desk.toml --as-of "in 2 weeks"
  frugal preview front-desk.toml --format json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    parser.add_argument("--again", action="store_true", help="also what was taken back by undo")
    add_as_of(parser)
    add_format(parser, "text", "json")


def run(args: argparse.Namespace) -> int:
    book = read_book(args)
    with Journal(ready_state_folder(), write=False) as journal:
        plan = plan_now(book, journal, args.again, args.as_of)
    if args.format == "json":
        print(json.dumps(plan_as_json(plan), indent=2))
        return exit_code(plan)
    screen = Screen()
    view = PlanView(plan, screen)
    if plan.moves:
        view.show()
        screen.line()
        screen.line(
            f"It would move {view.totals()}. `frugal tidy {shown(str(args.rules or ''))}` does it.",
            style="bold",
        )
    else:
        view.show_left()
        screen.line(f"Nothing to do: {count_text(plan.seen, 'file')} looked at.")
    moving = [rule.name for rule in book.rules if rule.ending == "move"]
    idle = [rule for rule in moving if not any(step.rule == rule for step in plan.steps)]
    if idle and plan.moves:
        screen.line(f"Nothing to do for: {', '.join(map(shown, idle))}.")
    _show_misses(screen, book, plan)
    return exit_code(plan)


def _show_misses(screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Print, for each rule that matches nothing at all, what it only just misses."""
    world = replace(world_now(), now_ns=plan.made_ns)
    idle = [rule for rule in book.rules if rule.name not in plan.matched]
    for name, misses in nearest_misses(book, idle, world).items():
        screen.line(f"{shown(name)} matches nothing; nearest:", style="yellow")
        for miss in misses:
            when = f"; it will match on {moment_text(miss.when_ns)}" if miss.when_ns else ""
            screen.line(f"    {shown(miss.place.name)}: {shown(miss.why)}{when}")
