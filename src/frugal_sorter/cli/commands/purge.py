"""`frugal purge`: take away what is older than an age, without a rule file."""

from __future__ import annotations

import argparse
import os
from collections.abc import Mapping

from frugal_sorter.app.rules import plan_job
from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import Job, add_choosing
from frugal_sorter.cli.options import (
    add_at_most,
    add_for,
    add_listing,
    add_unattended,
    duration,
    folder_named,
    number,
    refuse_removal,
    size,
)
from frugal_sorter.cli.output.plan_view import UNMATCHED, PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, date_text, entries_text, moment_text, shown, size_text, stay_text
from frugal_sorter.cli.reading import (
    add_job_of_rule,
    book_named,
    both_conditions,
    levels_value,
    own_types,
    print_as_rule,
    read_where,
)
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Place
from frugal_sorter.planning.jobs import Older, Purge, Takes
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import Numbers
from frugal_sorter.rules.editing import Value
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.keys import TAKES
from frugal_sorter.steps.step import Step, total

EXAMPLES = """
  frugal purge "Glaze Calculator/scratch" --older-than 30d
  frugal purge Backups --older-than "1 month" --keep-newest 3 --by modified
  frugal purge /srv/intake --older-than 2w --levels all --prune --where "type is temporary"
  frugal purge /srv/intake --older-than 1w --until-free 20GB --permanent
  frugal purge ~/Intake --where "ext in (tmp, bak)"           whatever their age
  frugal purge Backups --older-than 90d --as-rule             the same as a rule for a file
"""
DATES = ("latest", "modified", "opened", "created", "arrived")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="the folder to clean up")
    parser.add_argument("--older-than", metavar="AGE", type=duration, help="for example 30d, '1 month' or 36h")
    parser.add_argument(
        "--by",
        choices=DATES,
        default="latest",
        help=("the date to measure the age by (default: latest, which is the latest of modified, created and arrived)"),
    )
    parser.add_argument(
        "--take",
        choices=TAKES,
        default="files",
        help=("what to remove: files (default), folders, or items (whole top-level files and folders)"),
    )
    add_job_of_rule(parser)
    parser.add_argument(
        "--keep-newest", type=number, default=0, metavar="N", help=("always keep the newest N, however old they are")
    )
    parser.add_argument(
        "--until-free",
        type=size,
        metavar="SIZE",
        help="remove the oldest first and stop when this much space is free, such as 20GB; requires --permanent",
    )
    parser.add_argument("--permanent", action="store_true", help="delete permanently instead of moving to the trash")
    add_choosing(parser)
    add_listing(parser)
    add_at_most(parser)
    add_unattended(parser)
    add_for(parser)


def rule_of(args: argparse.Namespace) -> tuple[dict[str, Value], str]:
    """Return the rule behind the job, without `in`, and its folder."""
    purge = _purge(args)
    if args.keep_newest or args.until_free is not None:
        raise UsageError("--as-rule cannot be combined with --keep-newest or --until-free", "remove them")
    keys = _rule(args, purge)
    book_named(keys, purge.folder, own_types(args))
    return keys, purge.folder


def _purge(args: argparse.Namespace) -> Purge:
    folder = folder_named(args.folder)
    # A home as a whole is refused whatever the options: it is the commonest slip in a command line.
    refuse_removal(folder, None, True)
    if args.older_than is None and args.where is None and not args.keep_newest:
        raise UsageError("`frugal purge` needs --older-than, --where or --keep-newest", "add it, such as --older-than 30d")
    if args.until_free is not None and not args.permanent:
        raise UsageError("--until-free needs --permanent, because moving files to the trash frees no space", "add --permanent")
    return Purge(folder, args.by, args.older_than, args.keep_newest, args.until_free)


def job(args: argparse.Namespace) -> Job | None:
    return None if args.as_rule else _PurgeJob(args)


def run(args: argparse.Namespace) -> int:
    return print_as_rule(*rule_of(args), own_types(args))


class _PurgeJob(Job):
    def __init__(self, args: argparse.Namespace) -> None:
        super().__init__(args)
        self.purge, self.older = _purge(args), dict[str, Older]()

    def plan(self, session: Session) -> Plan:
        args, self.now_ns = self.args, session.now_ns
        book = book_named(_rule(args, self.purge), self.purge.folder, own_types(args))
        return plan_job(session, book, "purge", args.at_most, self._narrow)

    def _narrow(self, plan: Plan, world: World) -> None:
        self.purge.narrow(plan, world)
        # Types of its own are looked up in the rule alone.
        if not plan.asked and not self.args.types:
            others = [by for by in DATES if by != self.args.by]
            self.older.update(self.purge.by_other_dates(others, _takes(self.args), world))

    def numbers(self, plan: Plan) -> Numbers:
        return Numbers(plan, lambda step: (self.purge.dates[step.place], step.place))

    def head(self, view: PlanView) -> None:
        age = self.args.older_than
        view.screen.parts(("Purge: ", ""), (shown(self.purge.folder), "bold"))
        if age is not None:
            before = moment_text(age.before(self.now_ns))
            view.screen.line(f"Age limit: {_by(self.args.by)} more than {age.text} ago (before {before})")
        else:
            view.screen.line("No age limit.")
            view.unclaimed = UNMATCHED

    def show_nothing(self, view: PlanView) -> None:
        view.show_nothing("Nothing to remove", self.args.hidden, "--levels all", "--hidden")

    def show_why(self, view: PlanView, session: Session) -> None:
        _show_older(view.screen, self.older)

    def show(self, view: PlanView) -> None:
        _show(view, self.purge, view.screen, self.args)
        view.show_pruned(names=False)
        view.show_left()
        view.show_deeper("--levels all")
        view.screen.line()
        view.warn()

    def question(self, view: PlanView, account: str) -> str:
        return view.question(f"in {shown(self.purge.folder)}, as {account}? {stay_text(view.plan.others)}.")


def _show_older(screen: Screen, older: Mapping[str, Older]) -> None:
    """Print by which other dates something would be removed."""
    for by, (counted, came_ns) in older.items():
        when = f"; the most recent arrived here on {date_text(came_ns)}" if by in ("modified", "opened") and came_ns else ""
        are = "is" if counted.entries == 1 else "are"
        screen.line(f"Measured by `{by}`, {entries_text(counted)} {are} old enough{when}. To use that date: --by {by}")


def _takes(args: argparse.Namespace) -> Takes:
    where = None if args.where is None else read_where(args.where)
    return Takes(args.take != "folders", args.take != "files", args.levels, args.hidden, where)


def _rule(args: argparse.Namespace, purge: Purge) -> dict[str, Value]:
    keys: dict[str, Value] = {"name": f"Purge {os.path.basename(purge.folder) or purge.folder}"}
    keys["where"] = both_conditions(purge.where, args.where, args.types)
    for key, value, default in (
        ("take", args.take, "files"),
        ("levels", levels_value(args), 1),
        ("hidden", args.hidden, False),
        ("prune", args.prune, False),
        ("at_most", args.at_most, None),
    ):
        if value != default:
            keys[key] = value
    keys["delete" if args.permanent else "trash"] = True
    return keys


def _by(date: str) -> str:
    words = {"latest": "modified, created and arrived", "arrived": "arrived there", "opened": "last opened"}
    return words.get(date, date)


def _show(view: PlanView, purge: Purge, screen: Screen, args: argparse.Namespace) -> None:
    """Print how much goes, its bounds, and a sample of names, each with the date that decides."""
    steps = sorted(view.plan.asked, key=view.numbers.of)
    biggest = max(steps, key=lambda step: (step.bytes, step.place))
    how = "deleted permanently" if args.permanent else "to the trash"
    screen.line()
    size = size_text(sum(step.bytes for step in steps))
    screen.parts(
        (f"{entries_text(total(step.count for step in steps))}, {size}, ", "bold"),
        (how, "bold red" if args.permanent else "warn"),
    )
    for label, step in (("oldest", steps[0]), ("newest", steps[-1]), ("biggest", biggest)):
        screen.line(f"  {label:8}{_line(step, purge)}")
    screen.line()
    screen.sample(steps, lambda step: screen.parts((f"  {view.number(step)}", "dim"), (_line(step, purge), "")), indent=2)


def _line(step: Step, purge: Purge) -> str:
    place: Place = step.place
    folder = "/" if step.was is not None and step.was.kind == "folder" else ""
    return f"{moment_text(purge.dates[place])}  {size_text(step.bytes):>9}  {below(place.path, purge.folder)}{folder}"
