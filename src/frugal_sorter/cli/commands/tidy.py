"""`frugal tidy`: carry out what the rules say, or a plan that was saved."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from frugal_sorter.cli.carry_out import ask_and_do, take_back_text
from frugal_sorter.cli.interrupted import changing
from frugal_sorter.cli.options import add_at_most, add_for, add_listing, add_rules, add_yes, is_short
from frugal_sorter.cli.output.plan_view import PlanView, exit_code, step_text
from frugal_sorter.cli.output.screen import Screen, account
from frugal_sorter.cli.output.text import count_text, moment_text, shown
from frugal_sorter.cli.output.words import stay_text
from frugal_sorter.cli.planning import plan_now, show_misses
from frugal_sorter.cli.reading import read_book
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.constraints import hold_ceilings
from frugal_sorter.planning.guard import refuse_guarded
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.plan_file import load_plan
from frugal_sorter.rules.model import RuleBook

EXAMPLES = """
  frugal tidy
  frugal tidy front-desk.toml
  frugal tidy front-desk.toml --yes
  frugal tidy --plan monday.plan       what `frugal preview --save monday.plan` wrote
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)
    parser.add_argument("--plan", metavar="PLAN", type=Path, help="carry out a plan that was saved, instead of rules")
    add_yes(parser)
    parser.add_argument("--again", action="store_true", help="also what was taken back by undo")
    add_at_most(parser)
    add_for(parser)
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    screen = Screen(is_short(args))
    book = None if args.plan else read_book(args)
    plan = _saved_plan(args) if book is None else _plan_by_rules(screen, args, book)
    hidden = book is None or any(rule.hidden for rule in book.rules)
    view = PlanView(plan, screen)
    if not plan.asked:
        view.show_nothing("Nothing to do", hidden, 'levels = "all"', "hidden = true")
        if book is not None:
            show_misses(screen, book, plan)
        return exit_code(plan)
    view.show(names=not args.yes)
    screen.line()
    view.warn()
    return ask_and_do(plan, view, screen, _question(args, plan, view), args.yes, take_back_text)


def _plan_by_rules(screen: Screen, args: argparse.Namespace, book: RuleBook) -> Plan:
    # The lock is not held while a person thinks; what changes meanwhile is noticed step by step.
    with changing("tidy") as journal:
        plan = plan_now(book, journal, args.again, at_most=args.at_most)
    _ask_by_rule(screen, book, plan)
    return plan


def _saved_plan(args: argparse.Namespace) -> Plan:
    """Read a plan and hold it to what every plan is held to."""
    if args.rules is not None or args.again:
        raise UsageError("a plan that was saved needs no rules", "leave RULES and --again out beside --plan")
    with changing("tidy"):
        plan = load_plan(args.plan)
    refuse_guarded(plan)
    if args.at_most is not None:
        plan.ceilings = dict.fromkeys(plan.rules, args.at_most)
    hold_ceilings(plan)
    return plan


def _ask_by_rule(screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Ask for each rule that wants to be asked for by itself; without a person they are left."""
    for rule in book.rules:
        steps = [step for step in plan.asked if step.rule == rule.name]
        if not rule.ask or not steps:
            continue
        if not screen.may_ask():
            reason = "this rule asks each time, and there is no terminal to ask on"
        else:
            for step in steps:
                screen.line(f"  {step.verb:8}{step_text(step, '/')}")
            if screen.ask(f"{shown(rule.name)}: {count_text(len(steps), 'step')}, as listed?"):
                continue
            reason = "declined"
        plan.left += {step.place: step.left(reason) for step in steps}.values()
        plan.drop(lambda step, name=rule.name: step.rule == name)  # type: ignore[misc]


def _question(args: argparse.Namespace, plan: Plan, view: PlanView) -> str:
    named = args.plan or plan.origin
    written = moment_text(os.stat(named).st_mtime_ns) if os.path.lexists(named) else "a time unknown"
    by = f"the plan {shown(str(args.plan))}" if args.plan else shown(plan.origin)
    others = "" if args.plan else f" {stay_text(plan.others)}."
    return view.question(f"below {shown(view.base)}, by {by} of {written}, as {account()}?{others}")
