"""`frugal sort`: sort a folder into subfolders, without a rule file."""

from __future__ import annotations

import argparse
import os
from collections.abc import Sequence

from frugal_sorter.app.rules import plan_job
from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import Job, add_choosing
from frugal_sorter.cli.options import add_for, add_listing, add_unattended, folder_named
from frugal_sorter.cli.output.plan_view import PlanView, show_misses
from frugal_sorter.cli.output.results import Column, Table
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, count_text, shown, stay_text
from frugal_sorter.cli.reading import add_job_of_rule, book_named, both_conditions, levels_value, own_types, print_as_rule
from frugal_sorter.errors import RefusedError
from frugal_sorter.planning.guard import leave_written, refused_whole
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.reasons import Why
from frugal_sorter.rules.editing import Value
from frugal_sorter.rules.keys import CLASHES
from frugal_sorter.rules.lint import slips
from frugal_sorter.rules.overlap import Overlap
from frugal_sorter.steps.step import Step

EXAMPLES = """
  frugal sort ~/Intake --into "{type}"
  frugal sort ~/Intake --into "{ext|'no extension'}"                   what to write for files that have none
  frugal sort ~/Intake --into "{modified:%Y/%m}" --where "type is image" --settle "10 minutes"
  frugal sort ~/Intake --into "{taken:%Y}" --other Undated
  frugal sort ~/Intake --into "{ext} files" --levels all --prune      re-sort what was sorted another way
  frugal sort ~/Intake --into "{initial}" --as-rule                    the same as a rule for a file
"""
_NAMES = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="the folder to sort")
    parser.add_argument(
        "--into",
        metavar="TEMPLATE",
        required=True,
        help="the subfolder for each file, such as '{type}' or '{modified:%%Y/%%m}'; see `frugal help placeholders`",
    )
    add_job_of_rule(parser)
    parser.add_argument("--other", metavar="NAME", help="the subfolder for files that have no value for a placeholder")
    parser.add_argument("--settle", metavar="TIME", help="skip files written to within this time")
    parser.add_argument(
        "--clash", choices=CLASHES, default="number", help=("what to do when the name is taken (default: number)")
    )
    add_choosing(parser)
    add_listing(parser)
    add_unattended(parser)
    add_for(parser)


def rule_of(args: argparse.Namespace) -> tuple[dict[str, Value], str]:
    """Return the rule behind the job, without `in`, and its folder."""
    folder = folder_named(args.folder)
    refused = refused_whole(folder)
    if refused and args.levels != 1:
        raise RefusedError(
            f"{folder} is {refused}, so frugal sorts only its first level", "remove --levels, or name a folder inside it"
        )
    keys: dict[str, Value] = {"name": f"Sort {os.path.basename(folder) or folder}"}
    keys["where"] = both_conditions("", args.where, args.types)
    keys["move"] = args.into
    for key, value, default in (
        ("other", args.other, None),
        ("settle", args.settle, None),
        ("levels", levels_value(args), 1),
        ("hidden", args.hidden, False),
        ("clash", args.clash, "number"),
        ("prune", args.prune, False),
    ):
        if value != default:
            keys[key] = value
    book_named(keys, folder, own_types(args))
    return keys, folder


def job(args: argparse.Namespace) -> Job | None:
    return None if args.as_rule else _Sort(args)


def run(args: argparse.Namespace) -> int:
    return print_as_rule(*rule_of(args), own_types(args))


class _Sort(Job):
    def __init__(self, args: argparse.Namespace) -> None:
        super().__init__(args)
        self.keys, self.folder = rule_of(args)

    def plan(self, session: Session) -> Plan:
        book = book_named(self.keys, self.folder, own_types(self.args))
        self.book = book
        plan = plan_job(session, book, "sort", None, leave_written)
        plan.notes += [
            Note(f"{one.message}; {one.hint}", False) for one in slips(book.rules[0], Overlap(book.types, plan.made_ns))
        ]
        return plan

    def show_nothing(self, view: PlanView) -> None:
        view.show_nothing("Nothing to sort", self.args.hidden, "--levels all", "--hidden")

    def show_left(self, view: PlanView) -> None:
        """Print what stays, and where it can go that has no value for a placeholder."""
        view.show_left()
        if self.args.other is None and any(left.reason.why is Why.NO_VALUE for left in view.plan.not_touched):
            view.screen.line("To give these files a folder of their own: --other NAME")

    def show_why(self, view: PlanView, session: Session) -> None:
        if self.args.where is not None:
            show_misses(session, view.screen, self.book, view.plan)

    def show(self, view: PlanView) -> None:
        if self.args.list_all:
            view.show()
        else:
            _show(view.plan, view, view.screen, self.folder)
            self.show_left(view)
        view.screen.line()
        view.warn()

    def question(self, view: PlanView, account: str) -> str:
        where = f"in {shown(self.folder)}, into subfolders {shown(self.args.into)}"
        return view.question(f"{where}, as {account}? {stay_text(view.plan.others)}.")


def _show(plan: Plan, view: PlanView, screen: Screen, folder: str) -> None:
    """Print how much goes into which subfolder, with a few names."""
    screen.parts(("Paths relative to ", ""), (shown(folder), "bold"))
    screen.line()
    into: dict[str, list[Step]] = {}
    trashed = 0
    for step in plan.asked:
        if step.verb not in ("move", "move-across") or step.target is None:
            trashed += step.verb == "trash"
        else:
            into.setdefault(step.target.folder, []).append(step)
    columns = [
        Column("into", lambda row: _folder(row[0], folder, view), is_whole=True),
        Column.count("files", lambda row: len(row[1]), is_whole=True),
        Column.size("size", lambda row: sum(step.bytes for step in row[1]), is_whole=True),
        Column("examples", lambda row: _names(row[1]) if row[0] else "`--list-all` names every one"),
    ]
    if screen.is_terminal:
        columns.insert(0, Column("steps", lambda row: view.span(row[1]) if row[0] else "", is_right=True, is_whole=True))
    screen.table(Table("", columns, sorted(into.items()), ("", [step for steps in into.values() for step in steps])))
    if trashed:
        screen.line(f"{count_text(trashed, 'file')} to the trash because of name clashes")
    view.show_pruned(names=False)


def _folder(path: str, base: str, view: PlanView) -> str:
    return f"{below(path, base)}{' (new)' if path in view.new_folders else ''}" if path else "all"


def _names(steps: Sequence[Step]) -> str:
    more = f"  and {len(steps) - _NAMES:,} more" if len(steps) > _NAMES else ""
    return "  ".join(shown(step.place.name) for step in steps[:_NAMES]) + more
