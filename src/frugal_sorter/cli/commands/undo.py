"""`frugal undo`: take a run back."""

from __future__ import annotations

import argparse
import os

from frugal_sorter.app.undo import plan_undoing
from frugal_sorter.cli.carry_out import list_ask_do
from frugal_sorter.cli.interrupted import begin
from frugal_sorter.cli.options import add_for, add_listing, add_yes, is_short, run_number
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.text import moment_text, shown
from frugal_sorter.execution.executor import Result

EXAMPLES = """
  frugal undo            the last run
  frugal undo 12         run 12 of `frugal history`; of an undo: do it again after all
  frugal undo 12 --only "Intake/glaze list.csv"
  frugal undo 12 --yes
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", nargs="?", type=run_number, help="a run (default: the last one)")
    parser.add_argument(
        "--only", metavar="PATH", nargs="+", default=[], help="only these, as they were or as they are now"
    )
    add_yes(parser)
    add_for(parser)
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    from frugal_sorter.cli.output.screen import Screen

    session, screen = begin(), Screen(is_short(args))
    undoing = plan_undoing(session, args.run, [os.path.abspath(path) for path in args.only])
    undone, plan = undoing.run, undoing.plan
    for run in undoing.passed_over:
        screen.line(
            f"Run {run.id} ({run.kind} of {moment_text(run.began_ns)}) is passed over: nothing of it can be taken back."
        )
    view = PlanView(plan, screen)

    def then(result: Result) -> str:
        again = f"Do it again after all with: frugal undo {result.run}"
        if undoing.done_again is not None:
            done_again = undoing.done_again
            again = f"Run {done_again} is done again after all; take it back with: frugal undo {done_again}"
        rest = f"\nOnce nothing is in the way, `frugal undo {undone.id}` takes back the rest."
        return again + (rest if undoing.is_blocked else "")

    by = f"; run {undone.undone_by} took it back" if undone.undone_by else ""
    what = f"to take back run {undone.id} ({undone.kind} of {moment_text(undone.began_ns)})"
    where = f"below {shown(view.base)}, {what}, as {session.account}?"
    nothing = f"Nothing to take back of run {undone.id}{by}."
    return list_ask_do(session, plan, view, screen, where, args.yes, then, nothing)
