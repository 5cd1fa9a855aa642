"""`frugal trash`: what lies in the trash; bring something back."""

from __future__ import annotations

import argparse
import json
import os
from collections import Counter

from frugal_sorter.cli.carry_out import ask_and_do, take_back_text
from frugal_sorter.cli.options import add_for, add_format, add_yes
from frugal_sorter.cli.plan_view import PlanView, exit_code
from frugal_sorter.cli.screen import Screen, account
from frugal_sorter.cli.text import count_text, iso_text, now_ns, shown, size_text
from frugal_sorter.errors import UsageError
from frugal_sorter.files.inside import Inside, look_inside
from frugal_sorter.files.status import look_or_none
from frugal_sorter.files.trash_bins import Trashed
from frugal_sorter.plans.for_trash import all_trashed, plan_restore
from frugal_sorter.plans.plan import Note
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.work.executor import changing

EXAMPLES = """
  frugal trash
  frugal trash --restore "Intake/glaze list.csv"     what was deleted last from there
  frugal trash --format json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--restore", metavar="PATH|ID", nargs="+", default=[], help="bring these back to where they were"
    )
    add_yes(parser)
    add_format(parser, "table", "json")
    add_for(parser)


def run(args: argparse.Namespace) -> int:
    found, notes = all_trashed()
    if args.restore:
        return _restore(args, found)
    if args.format == "json":
        print(json.dumps({"trash": [_as_json(one) for one in found]}, indent=2))
        return 1 if notes else 0
    return _list(found, notes)


def _size(one: Trashed) -> int:
    record = look_or_none(one.place)
    if record is None:
        return 0
    if record.identity.kind != "folder":
        return record.identity.size
    inside = look_inside(one.place.path)
    return inside.bytes if isinstance(inside, Inside) else 0


def _as_json(one: Trashed) -> dict[str, object]:
    deleted = None if one.deleted is None else iso_text(int(one.deleted.timestamp()) * 1_000_000_000)
    return {
        "id": one.name, "original": one.original or None, "deleted": deleted, "bytes": _size(one),
        "trash": one.bin.root, "orphan": one.orphan or None,
    }  # fmt: skip


_ORPHANS = {"info": "(the file is gone)", "file": "(nothing says where it was)", "": ""}


def _list(found: list[Trashed], notes: list[Note]) -> int:
    screen = Screen()
    for note in notes:
        screen.line(f"Note: {shown(note.text)}", style="yellow")
    if not found:
        screen.line("The trash is empty.")
        return 1 if notes else 0
    rows, total = [], 0
    for one in found:
        size = _size(one)
        total += size
        deleted = f"{one.deleted:%Y-%m-%d %H:%M}" if one.deleted else "unknown"
        where = shown(one.original) if not one.orphan else f"{shown(one.original or one.name)} {_ORPHANS[one.orphan]}"
        rows.append([deleted, size_text(size), where, shown(one.name)])
    screen.table(
        [("deleted", "left"), ("size", "right"), ("where it was", "left"), ("id", "left")], rows,
        ["", size_text(total), count_text(len(found), "entry", "entries"), ""],
    )  # fmt: skip
    screen.line()
    screen.line("`frugal trash --restore PATH|ID` brings one back.")
    return 1 if notes else 0


def _restore(args: argparse.Namespace, found: list[Trashed]) -> int:
    screen = Screen()
    with changing(ready_state_folder(), "trash"):
        plan = plan_restore([_named(name, found) for name in args.restore], now_ns())
    view = PlanView(plan, screen)
    if not plan.asked:
        view.show_left()
        screen.line("Nothing to bring back.")
        return exit_code(plan)
    view.show(names=not args.yes)
    screen.line()
    question = view.question(f"to {shown(view.base)}, as {account()}?")
    return ask_and_do(plan, view, screen, question, args.yes, take_back_text)


def _named(name: str, found: list[Trashed]) -> Trashed:
    """Return what a person means: an entry by its id, or the one deleted last from a path.

    Raises:
        UsageError: there is none, or the id is not clear.
    """
    path = os.path.abspath(name)
    # A folder on the way may be a link by which the technician knows it.
    resolved = os.path.join(os.path.realpath(os.path.dirname(path)), os.path.basename(path))
    from_there = [one for one in found if one.original in (path, resolved)]
    if from_there:
        return from_there[-1]
    by_id = [one for one in found if one.name == name]
    if len(by_id) == 1:
        return by_id[0]
    if by_id:
        counts = Counter(one.bin.root for one in by_id)
        raise UsageError(f"{shown(name)}: in {len(counts)} trashes there is such an entry", "name its path")
    raise UsageError(f"{shown(name)}: nothing like that is in the trash", "`frugal trash` lists what is there")
