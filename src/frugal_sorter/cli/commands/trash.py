"""`frugal trash`: what is there, bringing it back, and emptying it."""

from __future__ import annotations

import argparse
import os
from collections import Counter
from collections.abc import Sequence

from frugal_sorter.app.session import Session
from frugal_sorter.app.undo import plan_bringing_back, plan_emptying
from frugal_sorter.cli.jobs import Job
from frugal_sorter.cli.options import (
    add_at_most,
    add_for,
    add_format,
    add_listing,
    add_unattended,
    command_line,
    duration,
    is_short,
    size,
)
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import ago_text, count_text, entries_text, iso_text, moment_text, shown, size_text, stay_text
from frugal_sorter.cli.reading import read_where
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.planning.trash_plans import Weighed, all_trashed, weigh
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.model import TrashLimits, refuse_expensive
from frugal_sorter.rules.units import InvalidValue
from frugal_sorter.steps.step import total
from frugal_sorter.trash.base import Trashed


def asks_to_empty(args: argparse.Namespace) -> bool:
    """Return True if something is to leave the trash."""
    return bool(args.orphans) or any(one is not None for one in (args.older_than, args.shrink_to, args.where))


class _Empty(Job):
    """List what would leave the trash, ask, and remove it permanently."""

    is_steerable = False

    def plan(self, session: Session) -> Plan:
        args, where = self.args, None
        found, notes = all_trashed()
        self.entries = [weigh(one) for one in found]
        if args.where is not None:
            where = read_where(args.where)
            try:
                refuse_expensive(where)
            except InvalidValue as wrong:
                raise UsageError(f"--where: {wrong.message}", wrong.hint) from None
        has_limits = args.older_than is not None or args.shrink_to is not None or where is not None
        limits = TrashLimits(args.older_than, args.shrink_to, where) if has_limits else None
        plan, self.going, self.of_runs = plan_emptying(
            session, self.entries, limits, args.orphans, command_line(), notes, args.at_most
        )
        return plan

    def show_nothing(self, view: PlanView) -> None:
        view.show_left()
        view.screen.line(f"Nothing to delete from the trash: checked {entries_text(view.plan.seen)}.")
        for line in _why_nothing(self.args, self.entries):
            view.screen.line(line)

    def show(self, view: PlanView) -> None:
        _show(view.screen, self.entries, self.going)
        if self.of_runs:
            named = ", ".join(str(run) for run in sorted(self.of_runs))
            count = count_text(sum(self.of_runs.values()), "of these was", "of these were")
            runs = "run" if len(self.of_runs) == 1 else "runs"
            view.screen.line()
            view.screen.line(
                f"{count} moved to the trash by {runs} {named}; undo will no longer be able to restore them.", style="refused"
            )
        view.show_left()
        view.screen.line()
        view.warn()

    def question(self, view: PlanView, account: str) -> str:
        staying = view.plan.seen.without(total(one.counted for one in self.going))
        return view.question(f"as {account}? {stay_text(staying)} in the trash.")


def _show(screen: Screen, entries: Sequence[Weighed], going: Sequence[Weighed]) -> None:
    """Print how much leaves the trash and how much stays, and the names of some of it."""
    freed, held = sum(one.bytes for one in going), sum(one.bytes for one in entries)
    count = entries_text(total(one.counted for one in going))
    screen.parts((f"{count}, {size_text(freed)}, ", "bold"), ("deleted permanently", "bold red"))
    screen.line(
        f"  trash now: {count_text(len(entries), 'entry', 'entries')}, {size_text(held)};"
        f" afterwards: {count_text(len(entries) - len(going), 'entry', 'entries')}, {size_text(held - freed)}"
    )
    screen.line()
    screen.sample(going, lambda one: screen.line(f"  {_line(one)}"), indent=2)


def _line(one: Weighed) -> str:
    when = moment_text(one.deleted_ns) if one.deleted_ns else "unknown         "
    name = shown(one.trashed.original or one.trashed.name)
    return f"{when}  {size_text(one.bytes):>9}  {name}{f'  {what}' if (what := _lack(one.trashed)) else ''}"


def _why_nothing(args: argparse.Namespace, entries: Sequence[Weighed]) -> list[str]:
    """Return why nothing leaves the trash, limit by limit."""
    known = [one for one in entries if not one.trashed.orphan]
    lines = []
    if args.older_than is not None and known:
        oldest = min(known, key=lambda one: one.deleted_ns)
        lines.append(f"The oldest entry was trashed on {moment_text(oldest.deleted_ns)}, less than {args.older_than.text} ago.")
    if args.shrink_to is not None:
        held = sum(one.bytes for one in entries)
        lines.append(f"The trash holds {size_text(held)}, which is within the limit of {size_text(args.shrink_to)}.")
    if args.where is not None and known:
        lines.append("Nothing within these limits matches --where.")
    if args.orphans:
        lines.append("No incomplete entries.")
    return lines


EXAMPLES = """
  frugal trash
  frugal trash --restore "Intake/glaze list.csv"     the latest deleted from there
  frugal trash --older-than 30d                      permanently delete what has been there longer
  frugal trash --shrink-to 5GB --where "size > 100 MB"   the oldest of these first
  frugal trash --format json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--restore", metavar="PATH|ID", nargs="+", default=[], help="restore these to where they were")
    parser.add_argument(
        "--older-than", metavar="AGE", type=duration, help=("permanently delete what has been in the trash longer than this")
    )
    parser.add_argument(
        "--shrink-to", metavar="SIZE", type=size, help=("permanently delete the oldest until the trash is no larger than this")
    )
    parser.add_argument(
        "--where",
        metavar="CONDITION",
        help=("permanently delete only what matches this condition (on the name, folder, size and dates it had)"),
    )
    parser.add_argument(
        "--orphans",
        action="store_true",
        help=("delete incomplete entries: files with no record of their origin, records with no file"),
    )
    add_listing(parser)
    add_at_most(parser)
    add_unattended(parser)
    add_format(parser, "table", "json")
    add_for(parser)


def job(args: argparse.Namespace) -> Job | None:
    return _Restore(args) if args.restore else _Empty(args) if asks_to_empty(args) else None


def run(args: argparse.Namespace) -> int:
    session = args.call.begin()
    found, notes = all_trashed()
    entries = [weigh(one) for one in found]
    if args.format == "json":
        print_json({"trash": [_as_json(one.trashed, one.bytes) for one in entries]})
        return 1 if notes else 0
    return _list(session, entries, notes, Screen(is_short(args)))


def _as_json(one: Trashed, size: int) -> dict[str, object]:
    deleted = None if one.deleted is None else iso_text(int(one.deleted.timestamp()) * 1_000_000_000)
    return {
        "id": one.name,
        "original": one.original or None,
        "deleted": deleted,
        "bytes": size,
        "trash": one.bin.root,
        "orphan": one.orphan or None,
    }


# This many rows of a long table are printed at each end.
_ROWS = 10


def _lack(one: Trashed) -> str:
    """Return what an entry of the trash lacks, in words; empty where it lacks nothing."""
    return "(file missing)" if one.orphan == "info" else "" if one.original else "(original location unknown)"


def _list(session: Session, entries: list[Weighed], notes: list[Note], screen: Screen) -> int:
    for note in notes:
        screen.line(f"Note: {shown(note.text)}", style="warn")
    if not entries:
        screen.line("Nothing else is known to be in the trash." if notes else "The trash is empty.")
        return 1 if notes else 0
    rows: list[tuple[object, ...]] = []
    for one in entries:
        trashed = one.trashed
        where = trashed.original or trashed.name
        where = f"{where} {what}" if (what := _lack(trashed)) else where
        age = ago_text(one.deleted_ns, session.now_ns) if trashed.deleted else ""
        rows.append((one.deleted_ns if trashed.deleted else "unknown", age, one.bytes, where, trashed.name))
    hidden = len(rows) - 2 * _ROWS
    if screen.short and hidden > 1:
        rows[_ROWS:-_ROWS] = [("…", "", "", f"… {hidden:,} more (--list-all shows all)", "")]
    when, age_ = Column.moment("deleted", is_whole=True), Column("age", is_whole=True)
    columns = (when, age_, Column.size("size", is_whole=True), Column("original location"), Column("id"))
    held = sum(one.bytes for one in entries), entries_text(total(one.counted for one in entries))
    screen.table(Table("", columns, rows, ("", "", *held, "")))
    screen.line()
    bins = Counter(one.trashed.bin.root for one in entries)
    if len(bins) > 1:
        for root, count in bins.items():
            size = sum(one.bytes for one in entries if one.trashed.bin.root == root)
            screen.line(f"{count_text(count, 'entry', 'entries')}, {size_text(size)} in {shown(root)}")
        screen.line()
    screen.line("To restore one: frugal trash --restore PATH|ID")
    orphans = sum(bool(one.trashed.orphan) for one in entries)
    if orphans:
        screen.line(f"Incomplete entries: {orphans:,}. To delete them: frugal trash --orphans")
    return 1 if notes else 0


class _Restore(Job):
    is_steerable = False

    def plan(self, session: Session) -> Plan:
        found, _ = all_trashed()
        return plan_bringing_back(session, [_named(name, found) for name in self.args.restore])

    def show_nothing(self, view: PlanView) -> None:
        view.show_left()
        view.screen.line("Nothing to restore.")

    def question(self, view: PlanView, account: str) -> str:
        return view.question(f"to {shown(view.base)}, as {account}?")


def _named(name: str, found: list[Trashed]) -> Trashed:
    """Return what a person means: an entry by its id, or the one deleted last from a path.

    Raises:
        UsageError: there is none, or the id is not clear.
    """
    path = slashed.abspath(name)
    # A folder on the way may be a link by which the technician knows it.
    resolved = slashed.join(slashed.realpath(os.path.dirname(path)), os.path.basename(path))
    from_there = [one for one in found if one.original in (path, resolved)]
    if from_there:
        return from_there[-1]
    by_id = [one for one in found if one.name == name]
    if len(by_id) == 1:
        return by_id[0]
    if by_id:
        counts = Counter(one.bin.root for one in by_id)
        raise UsageError(f"{shown(name)} is in {len(counts)} trash folders", "give its full path or ID")
    raise UsageError(f"{shown(name)} is not in the trash", "run `frugal trash` to list its contents")
