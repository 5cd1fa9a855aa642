"""`frugal undo`: take a run back."""

from __future__ import annotations

import argparse
import os

from frugal_sorter.cli.carry_out import ask_and_do
from frugal_sorter.cli.interrupted import changing
from frugal_sorter.cli.options import add_for, add_listing, add_yes, is_short, run_number
from frugal_sorter.cli.output.plan_view import PlanView, exit_code
from frugal_sorter.cli.output.text import moment_text, now_ns, shown
from frugal_sorter.execution.executor import Result
from frugal_sorter.execution.undo import GONE, RAN, plan_undo, run_to_undo, runs_to_undo
from frugal_sorter.journal.journal import Journal, Run

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
    from frugal_sorter.cli.output.screen import Screen, account

    screen = Screen(is_short(args))
    only = [os.path.abspath(path) for path in args.only]
    with changing("undo") as journal:
        undone = run_to_undo(journal, args.run)
        plan = plan_undo(journal, undone, now_ns(), only)
        passed_over: list[Run] = []
        if args.run is None and not only:
            # What is gone for good, or back already, is no reason to stop there.
            for run in runs_to_undo(journal):
                undone, plan = run, plan_undo(journal, run, now_ns())
                if plan.asked or any(left.reason not in (GONE, RAN) for left in plan.left):
                    break
                passed_over.append(run)
        done_again = _done_again(undone, journal)
    for run in passed_over:
        if run.id != undone.id:
            screen.line(
                f"Run {run.id} ({run.kind} of {moment_text(run.began_ns)}) is passed over: nothing of it can be taken back."
            )
    view = PlanView(plan, screen)
    if not plan.asked:
        view.show_left()
        by = f"; run {undone.undone_by} took it back" if undone.undone_by else ""
        screen.line(f"Nothing to take back of run {undone.id}{by}.")
        return exit_code(plan)
    view.show(names=not args.yes)
    screen.line()
    what = f"to take back run {undone.id} ({undone.kind} of {moment_text(undone.began_ns)})"
    question = view.question(f"below {shown(view.base)}, {what}, as {account()}?")

    def then(result: Result) -> str:
        again = f"Do it again after all with: frugal undo {result.run}"
        if done_again is not None:
            again = f"Run {done_again} is done again after all; take it back with: frugal undo {done_again}"
        in_the_way = any(left.reason not in (GONE, RAN) for left in plan.left)
        rest = f"\nOnce nothing is in the way, `frugal undo {undone.id}` takes back the rest." if in_the_way else ""
        return again + rest

    return ask_and_do(plan, view, screen, question, args.yes, then)


def _done_again(undone: Run, journal: Journal) -> int | None:
    """Return the run that is done again after all when an undo is taken back; None for any other run."""
    runs = {run.id: run for run in journal.runs()}
    first, turns = undone, 0
    while first.undoes is not None and first.undoes in runs:
        first, turns = runs[first.undoes], turns + 1
    return first.id if turns % 2 else None
