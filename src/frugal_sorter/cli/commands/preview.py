"""`frugal preview`: what the rules would do; changes nothing."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from frugal_sorter.app.rules import leave_out, look_ahead
from frugal_sorter.cli.interrupted import begin
from frugal_sorter.cli.options import add_as_of, add_at_most, add_format, add_listing, add_rules, is_short
from frugal_sorter.cli.output.misses import show_misses
from frugal_sorter.cli.output.plan_view import PlanView, exit_code, plan_as_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import shown
from frugal_sorter.cli.reading import moment_of, read_book
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.plan_file import save_plan

EXAMPLES = """
  frugal preview
  frugal preview front-desk.toml
  frugal preview front-desk.toml --as-of "in 2 weeks"
  frugal preview front-desk.toml --save monday.plan
  frugal preview front-desk.toml --format json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    parser.add_argument("--again", action="store_true", help="also what was taken back by undo")
    add_at_most(parser)
    add_as_of(parser)
    parser.add_argument("--save", metavar="PLAN", type=Path, help="write the plan to a file for `frugal tidy --plan`")
    parser.add_argument("--without", metavar="ID", type=int, nargs="+", default=[], help="leave these steps out")
    add_format(parser, "text", "json")
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    book = read_book(args)
    session = begin()
    plan = look_ahead(session, book, args.again, args.at_most, moment_of(args.as_of, session))
    without = _without(plan, args.without)
    if args.save:
        save_plan(plan, args.save)
    if args.format == "json":
        print(json.dumps(plan_as_json(plan), indent=2))
        return exit_code(plan)
    screen = Screen(is_short(args))
    view = PlanView(plan, screen)
    if plan.asked:
        view.show()
        screen.line()
        view.warn()
        how = f"--plan {args.save}" if args.save else str(args.rules or "")
        screen.line(f"It would {view.totals()}. `frugal tidy {shown(how)}` does it.", style="bold")
    else:
        hidden = any(rule.hidden for rule in book.rules)
        view.show_nothing("Nothing to do", hidden, 'levels = "all"', "hidden = true")
    if without:
        screen.line("To leave them for good, put above the other rules:")
        for line in without:
            screen.line(f"  {line}")
    acting = [rule.name for rule in book.rules if rule.ending != "leave"]
    idle = [rule for rule in acting if not any(step.rule == rule for step in plan.steps)]
    if idle and plan.asked:
        screen.line(f"Nothing to do for: {', '.join(map(shown, idle))}.")
    show_misses(session, screen, book, plan)
    return exit_code(plan)


def _without(plan: Plan, numbers: list[int]) -> list[str]:
    """Take steps out of a plan by their numbers, and return rules that leave their entries alone for good.

    Raises:
        UsageError: there is no such step.
    """
    if not numbers:
        return []
    known = {step.id for step in plan.asked}
    for number in numbers:
        if number not in known:
            hint = "`frugal preview --format json` lists the steps with their numbers"
            raise UsageError(f"--without: there is no step {number} in this plan", hint)
    dropped = leave_out(plan, lambda step: step.id in numbers, "left out by --without")
    lines: list[str] = []
    for place in dict.fromkeys(step.source for step in dropped if step.source):
        name = place.name.replace('"', '""')
        where = json.dumps(f'name is exactly "{name}"')
        lines += ["[[rule]]", f"name  = {json.dumps(f'Leave {place.name}')}", f"in    = {json.dumps(place.folder)}",
                  f"where = {where}", "leave = true"]  # fmt: skip
    return lines
