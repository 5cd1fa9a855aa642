"""`frugal verify`: whether everything is where a run put it, unchanged."""

from __future__ import annotations

import argparse

from frugal_sorter.app.carry_out import verify
from frugal_sorter.cli.options import add_for, add_format, add_listing, is_short, run_number
from frugal_sorter.cli.output.results import print_json
from frugal_sorter.cli.output.screen import Progress, Screen
from frugal_sorter.cli.output.text import count_text, moment_text, shown, size_text
from frugal_sorter.errors import UsageError
from frugal_sorter.journal.journal import Journal
from frugal_sorter.state import ready_state_folder

EXAMPLES = """
  frugal verify            the last run
  frugal verify 12         run 12 of `frugal history`
  frugal verify 12 --format json     for a ticket
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", nargs="?", type=run_number, help="a run (default: the last one)")
    add_format(parser, "text", "json")
    add_for(parser)
    add_listing(parser)


def run(args: argparse.Namespace) -> int:
    with Journal(ready_state_folder(), write=False) as journal, Progress("checked") as progress:
        numbers = journal.numbers()
        if args.run is None and not numbers:
            raise UsageError("no runs to verify", "`frugal history` lists all runs")
        one = journal.run(max(numbers) if args.run is None else args.run)
        if one.undone_by is not None:
            raise UsageError(f"run {one.id} was undone by run {one.undone_by}", f"to check that: frugal verify {one.undone_by}")
        found = verify(journal, one, progress.update)
    differences = [difference._asdict() for difference in found.differences]
    if args.format == "json":
        print_json({"run": one.id, "what": one.kind, **found._asdict(), "differences": differences})
        return 1 if differences else 0
    screen = Screen(is_short(args))
    screen.sample(
        found.differences, lambda each: screen.parts((f"{each.how}: ", "warn"), (shown(each.path), "")), few=10, indent=0
    )
    checked = f"{count_text(found.checked, 'change')} ({size_text(found.bytes)})"
    what = f"Run {one.id} ({one.kind}, {moment_text(one.began_ns)}): checked {checked}"
    later = f" {found.moved_on:,} of them were moved on by later runs." if found.moved_on else ""
    undone = f" {found.not_done:,} were not made." if found.not_done else ""
    how = "everything is where it was put, with the size and the date that it had"
    if found.read:
        how += f"; {count_text(found.read, 'file')} read, and every byte is as before the run"
    if differences:
        are, them = ("is", "it") if len(differences) == 1 else ("are", "them")
        how = f"{len(differences):,} {are} not as the run left {them}"
    screen.line(f"{what}; {how}.{later}{undone}", style="bold")
    return 1 if differences else 0
