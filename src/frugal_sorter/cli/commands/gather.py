"""`frugal gather`: copy or move the files that a list names."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import Job, add_choosing
from frugal_sorter.cli.options import add_for, add_listing, add_unattended, command_line, folder_named
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, shown, size_text
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.jobs import Gathering, plan_gather, read_wishes
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import reason_of
from frugal_sorter.state import read_input

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result

EXAMPLES = """
  frugal gather --list insurance.txt --from ~/Photos --to /media/stick/claim
  frugal gather --list old.txt --from ~/Intake --to ~/Archive --move --flat
  frugal gather --list export.csv.txt --encoding cp1252 --from ~/Intake --to ~/Out
  frugal gather --list from-the-old-pc.txt --strip-to Pictures --from ~/Photos --to ~/Out     C:\\Users\\…\\Pictures\\2025\\a.jpg
"""
LARGEST_LIST = 100_000_000


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--list", metavar="FILE", required=True, help=("a file with one path per line; `-` reads standard input"))
    parser.add_argument(
        "--from", metavar="DIR", required=True, dest="source", help=("the folder that the paths in the list are relative to")
    )
    parser.add_argument(
        "--to", metavar="DIR", required=True, dest="target", help=("the folder to put the files in; created if missing")
    )
    parser.add_argument("--move", action="store_true", help="move instead of copy")
    parser.add_argument(
        "--flat", action="store_true", help=("put all files directly into the target folder, without their subfolders")
    )
    parser.add_argument(
        "--strip-to",
        metavar="FOLDER",
        default="",
        help="for a list from another machine: drop everything in each path up to and including the folder with this name",
    )
    parser.add_argument(
        "--accept-nearest",
        action="store_true",
        help=("if a listed file does not exist, take the one with the most similar name; each substitution is shown"),
    )
    parser.add_argument("--encoding", default="utf-8", metavar="NAME", help="of the list (default: utf-8)")
    add_choosing(parser)
    add_listing(parser)
    add_unattended(parser)
    add_for(parser)


def job(args: argparse.Namespace) -> Job:
    return _Gather(args)


class _Gather(Job):
    def plan(self, session: Session) -> Plan:
        args = self.args
        self.source = folder_named(args.source)
        if not args.target.strip():
            raise UsageError("--to is empty", "name one")
        self.target = slashed.realpath(args.target)
        wishes = read_wishes(_read(args.list), args.list, args.encoding)
        if not wishes:
            raise UsageError(f"{shown(args.list)} contains no paths", "write one path per line")
        try:
            with session.changing("gather"):
                self.gathering = plan_gather(
                    wishes, self.source, self.target, session.now_ns, args.move, args.flat, args.strip_to, args.accept_nearest
                )
        except OSError as error:
            raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
        self.gathering.plan.origin = command_line()
        return session.planned(self.gathering.plan)

    def head(self, view: PlanView) -> None:
        view.screen.parts(("From ", ""), (shown(self.source), "bold"), (" to ", ""), (shown(self.target), "bold"))
        view.screen.line()
        _show(self.gathering, view.plan, view.screen, self.args.move)
        view.screen.line()

    def show_nothing(self, view: PlanView) -> None:
        view.screen.line(f"Nothing to {'move' if self.args.move else 'copy'}.")

    def show(self, view: PlanView) -> None:
        if not self.args.yes:
            view.show_names(view.plan.asked)
            view.screen.line()

    def question(self, view: PlanView, account: str) -> str:
        steps = view.plan.asked
        size = size_text(sum(step.bytes for step in steps))
        what = f"{'Move' if self.args.move else 'Copy'} {count_text(len(steps), 'file')}, {size}"
        return f"{what}, to {shown(self.target)}, as {account}?"

    def conclude(self, view: PlanView, result: Result) -> None:
        gathering, plan, done = self.gathering, view.plan, "moved" if self.args.move else "copied"
        left = len(plan.not_touched) + len(plan.asked) - result.done.steps
        parts = [
            f"{result.done.steps:,} {done}",
            f"{len(gathering.already):,} already there",
            f"{len(gathering.missed):,} missing",
            *([f"{left:,} not {done}"] if left else []),
        ]
        view.screen.line(f"Of {gathering.asked:,} listed: {', '.join(parts)}.", style="bold")
        # Not what was done is counted here, but what is there.
        files = count_text(len(gathering.targets), "file")
        view.screen.line(f"Verified in the target: {gathering.arrived():,} of {files} present with the right size.")

    @property
    def is_incomplete(self) -> bool:
        return bool(self.gathering.missed)


def _read(named: str) -> bytes:
    if named == "-":
        return sys.stdin.buffer.read(LARGEST_LIST)
    try:
        return read_input(named, LARGEST_LIST)
    except OSError as error:
        raise UsageError(f"cannot read the list {shown(named)} ({reason_of(error)})", "check the path") from None


def _show(gathering: Gathering, plan: Plan, screen: Screen, move: bool) -> None:
    """Print how many files are asked for, and what becomes of them; what is missing by its line."""
    rows = [("listed", gathering.asked, "")]
    rows.append(("to move" if move else "to copy", len(plan.asked), size_text(sum(step.bytes for step in plan.asked))))
    rows.append(("already there", len(gathering.already), ""))
    rows += [("blocked", len(plan.not_touched), "")] if plan.not_touched else []
    rows.append(("missing", len(gathering.missed), ""))
    for label, count, size in rows:
        screen.line(f"  {label:14}{count:>7,}  {size}".rstrip())
    if gathering.again:
        screen.line(f"  {count_text(gathering.again, 'line repeats', 'lines repeat')} a file")
    for wish, files in gathering.folders:
        screen.line(f"  line {wish.line} names a folder: {count_text(files, 'file')} below {shown(wish.text)}")
    if gathering.nearest:
        screen.line()
        screen.line("Similar files used instead", style="bold")
        for wish, _, nearest in gathering.nearest:
            screen.parts((f"  line {wish.line}  ", "dim"), (shown(wish.text), ""), (f"  → {shown(nearest)}", "warn"))
    if gathering.missed:
        screen.line()
        screen.line("Missing", style="bold")
        width = len(str(gathering.missed[-1].wish.line))
        for wish, why, nearest in gathering.missed:
            more = f"did you mean {shown(nearest)}?" if nearest else why if why != "not found" else ""
            screen.parts((f"  line {wish.line:>{width}}  ", "dim"), (shown(wish.text), "warn"), (f"  {more}" if more else "", ""))
    if plan.not_touched:
        screen.line()
        screen.line("Blocked", style="bold")
        for left in plan.not_touched:
            screen.line(f"  {shown(left.place.path)}: {shown(left.reason)}", style="warn")
    for note in plan.notes:
        screen.line(f"Note: {shown(note.text)}", style="warn" if note.problem else "")
    for refusal in plan.refused:
        screen.line(f"Refused: {shown(refusal.reason)}", style="refused")
