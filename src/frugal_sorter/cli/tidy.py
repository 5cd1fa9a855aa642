"""`frugal tidy`: carry out what the rules say."""

from __future__ import annotations

import argparse
import os

from frugal_sorter.cli.carry_out import carry_out, confirm, summary
from frugal_sorter.cli.options import add_rules, add_yes
from frugal_sorter.cli.plan_view import PlanView, exit_code
from frugal_sorter.cli.planning import plan_now
from frugal_sorter.cli.reading import read_book
from frugal_sorter.cli.screen import Screen, account
from frugal_sorter.cli.text import count_text, moment_text, shown
from frugal_sorter.plans.plan import Left, Plan
from frugal_sorter.rules.book import RuleBook
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.work.executor import changing

EXAMPLES = """
  frugal tidy
  frugal tidy front-desk.toml
  frugal tidy front-desk.toml --yes
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    add_yes(parser)
    parser.add_argument("--again", action="store_true", help="also what was taken back by undo")


def run(args: argparse.Namespace) -> int:
    screen = Screen()
    book = read_book(args)
    # The lock is not held while a person thinks; what changes meanwhile is noticed step by step.
    with changing(ready_state_folder(), "tidy") as journal:
        plan = plan_now(book, journal, args.again)
    _ask_by_rule(screen, book, plan)
    view = PlanView(plan, screen)
    if not plan.moves:
        view.show_left()
        screen.line(f"Nothing to do: {count_text(plan.seen, 'file')} looked at.")
        return exit_code(plan)
    view.show(names=not args.yes)
    screen.line()
    if not confirm(screen, _question(plan, view), args.yes):
        screen.line("Nothing was changed.")
        return 3
    result, number = carry_out(plan, view, screen)
    screen.line(f"{summary(result)}. Take it back with: frugal undo {result.run}", style="bold")
    return 128 + number if number else exit_code(plan, result.has_problem)


def _ask_by_rule(screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Ask for each rule that wants to be asked for by itself; without a person they are left."""
    for rule in book.rules:
        steps = [step for step in plan.moves if step.rule == rule.name]
        if not rule.ask or not steps:
            continue
        if not screen.may_ask():
            reason = "this rule asks each time, and there is no terminal to ask on"
        else:
            for step in steps:
                screen.line(f"  {shown(step.place.path)} → {shown(step.target.path if step.target else '')}")
            if screen.ask(f"{shown(rule.name)}: {count_text(len(steps), 'file')}, as listed?"):
                continue
            reason = "declined"
        plan.left += [Left(step.place, rule.name, reason, False) for step in steps]
        plan.drop(lambda step, name=rule.name: step.rule == name)  # type: ignore[misc]


def _question(plan: Plan, view: PlanView) -> str:
    written = moment_text(os.stat(plan.origin).st_mtime_ns)
    stays = count_text(plan.seen - len(plan.moves), "other file stays", "other files stay")
    rules = f"{shown(plan.origin)} of {written}"
    return f"Move {view.totals()} below {shown(view.base)},\nby {rules}, as {account()}? {stays}."
