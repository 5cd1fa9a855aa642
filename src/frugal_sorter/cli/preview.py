"""`frugal preview`: what the rules would do; changes nothing."""

from __future__ import annotations

import argparse
import json

from frugal_sorter.cli.options import add_format, add_rules
from frugal_sorter.cli.plan_view import PlanView, exit_code, plan_as_json
from frugal_sorter.cli.planning import plan_now, read_book
from frugal_sorter.cli.text import count_text, shown
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.work.journal import Journal

EXAMPLES = """
  frugal preview
  frugal preview front-desk.toml
  frugal preview front-desk.toml --format json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    parser.add_argument("--again", action="store_true", help="also what was taken back by undo")
    add_format(parser, "text", "json")


def run(args: argparse.Namespace) -> int:
    book = read_book(args)
    with Journal(ready_state_folder(), write=False) as journal:
        plan = plan_now(book, journal, args.again)
    if args.format == "json":
        print(json.dumps(plan_as_json(plan), indent=2))
        return exit_code(plan)
    from frugal_sorter.cli.screen import Screen

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
    return exit_code(plan)
