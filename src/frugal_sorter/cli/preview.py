"""`frugal preview`: what the rules would do; changes nothing."""

from __future__ import annotations

import argparse
import json
from dataclasses import replace
from pathlib import Path

from frugal_sorter.cli.options import add_as_of, add_at_most, add_format, add_listing, add_rules, is_short
from frugal_sorter.cli.plan_view import PlanView, exit_code, plan_as_json
from frugal_sorter.cli.planning import plan_now
from frugal_sorter.cli.reading import read_book, world_now
from frugal_sorter.cli.screen import Screen
from frugal_sorter.cli.text import moment_text, shown
from frugal_sorter.cli.words import entries_text
from frugal_sorter.errors import UsageError
from frugal_sorter.plans.misses import nearest_misses
from frugal_sorter.plans.plan import Plan
from frugal_sorter.plans.plan_file import save_plan
from frugal_sorter.rules.book import RuleBook
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.work.journal import Journal

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
    with Journal(ready_state_folder(), write=False) as journal:
        plan = plan_now(book, journal, args.again, args.as_of, args.at_most)
    without = _leave_out(plan, args.without)
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
        view.show_left()
        screen.line(f"Nothing to do: {entries_text(plan.seen)} looked at.")
    if without:
        screen.line("To leave them for good, put above the other rules:")
        for line in without:
            screen.line(f"  {line}")
    acting = [rule.name for rule in book.rules if rule.ending != "leave"]
    idle = [rule for rule in acting if not any(step.rule == rule for step in plan.steps)]
    if idle and plan.asked:
        screen.line(f"Nothing to do for: {', '.join(map(shown, idle))}.")
    _show_misses(screen, book, plan)
    return exit_code(plan)


def _leave_out(plan: Plan, numbers: list[int]) -> list[str]:
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
    dropped = plan.drop(lambda step: step.id in numbers)
    plan.left += {step.source: step.left("left out by --without") for step in dropped if step.source}.values()
    lines: list[str] = []
    for place in dict.fromkeys(step.source for step in dropped if step.source):
        name = place.name.replace('"', '""')
        where = json.dumps(f'name is exactly "{name}"')
        lines += ["[[rule]]", f"name  = {json.dumps(f'Leave {place.name}')}", f"in    = {json.dumps(place.folder)}",
                  f"where = {where}", "leave = true"]  # fmt: skip
    return lines


def _show_misses(screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Print, for each rule that matches nothing at all, what it only just misses."""
    world = replace(world_now(), now_ns=plan.made_ns)
    idle = [rule for rule in book.rules if rule.name not in plan.matched]
    for name, misses in nearest_misses(book, idle, world).items():
        screen.line(f"{shown(name)} matches nothing; nearest:", style="yellow")
        for miss in misses:
            when = f"; it acts on it on {moment_text(miss.when_ns)}" if miss.when_ns else ""
            screen.line(f"    {shown(miss.place.name)}: {shown(miss.why)}{when}")
