"""`frugal undo`: take a run back."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from frugal_sorter.app.session import Session
from frugal_sorter.app.undo import plan_undoing, runs_since
from frugal_sorter.cli.jobs import Job, confirm, run_job
from frugal_sorter.cli.options import add_for, add_listing, add_unattended, is_short, run_number
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, moment_text, shown
from frugal_sorter.cli.reading import since
from frugal_sorter.errors import UsageError
from frugal_sorter.execution.executor import Result
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import slashed

if TYPE_CHECKING:
    from frugal_sorter.cli.output.screen import Screen

EXAMPLES = """
  frugal undo            the last run, and no other
  frugal undo 12         run 12 of `frugal history`; of an undo: redo it
  frugal undo 12 --only "Intake/glaze list.csv" "Intake/*.pdf"
  frugal undo 12 --yes
  frugal undo --since 14:00          everything done since, the last run first
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", nargs="?", type=run_number, help="a run (default: the last one, and no other)")
    parser.add_argument(
        "--only",
        metavar="PATH",
        nargs="+",
        default=[],
        help=("undo only these files or folders: give the path from before the run or the current one; wildcards allowed"),
    )
    parser.add_argument(
        "--since", metavar="WHEN", help='undo all runs since this time, the most recent first: 14:00, yesterday, "2 hours"'
    )
    add_unattended(parser)
    add_for(parser)
    add_listing(parser)


def job(args: argparse.Namespace) -> Job | None:
    return _Undo(args) if args.since is None else None


def run(args: argparse.Namespace) -> int:
    """Take back everything that was done since a moment, the last run first, after one question."""
    if args.run is not None or args.only:
        raise UsageError("--since selects the runs, so it cannot be combined with RUN or --only", "remove RUN and --only")
    session, screen = args.call.begin(), Screen(is_short(args))
    since_ns = since(args.since, session.now_ns)
    found = runs_since(session, since_ns)
    runs = [(run, count) for run, count in found if count]
    for run, count in found:
        if not count:
            what = f"Run {run.id} ({run.kind}, {moment_text(run.began_ns)})"
            screen.line(f"{what} was skipped: nothing in it can be undone.")
    if not runs:
        screen.line(f"Nothing to undo since {moment_text(since_ns)}.")
        return 0
    screen.line(f"Runs since {moment_text(since_ns)}, most recent first:")
    for run, count in runs:
        what = f"{run.kind}, {moment_text(run.began_ns)}, {count_text(count, 'change')} to undo"
        screen.parts((f"  run {run.id:<6}", "bold"), (f"{what}, by {shown(run.origin)}", ""))
    screen.line()
    total = count_text(sum(count for _, count in runs), "step")
    if not confirm(screen, f"Undo {count_text(len(runs), 'run')} ({total}), as {session.account}?", args.yes):
        screen.line("Nothing was changed.")
        return 3
    codes = []
    for run, _ in runs:
        screen.line()
        screen.line(f"Run {run.id}", style="bold")
        args.run, args.yes = run.id, True
        codes.append(run_job(_Undo(args), session, screen))
        if codes[-1] > 128:
            return codes[-1]  # a person or a signal said stop
    return max(codes)


class _Undo(Job):
    is_steerable = False

    def plan(self, session: Session) -> Plan:
        self.undoing = plan_undoing(session, self.args.run, [slashed.abspath(path) for path in self.args.only])
        return self.undoing.plan

    def show_nothing(self, view: PlanView) -> None:
        undone = self.undoing.run
        view.show_left()
        by = f"; run {undone.undone_by} already undid it" if undone.undone_by else ""
        view.screen.line(f"Nothing to undo in run {undone.id}{by}.")

    def question(self, view: PlanView, account: str) -> str:
        undone = self.undoing.run
        what = f"to undo run {undone.id} ({undone.kind}, {moment_text(undone.began_ns)})"
        return view.question(f"in {shown(view.base)}, {what}, as {account}?")

    def way_back(self, result: Result) -> str:
        again = f"Redo: frugal undo {result.run}"
        if (done_again := self.undoing.done_again) is not None:
            again = f"Run {done_again} has been redone. Undo: frugal undo {done_again}"
        rest = (
            "\nSome changes could not be undone yet. When the problems above are solved,"
            f" run `frugal undo {self.undoing.run.id}` again."
        )
        return again + (rest if self.undoing.is_blocked else "")
