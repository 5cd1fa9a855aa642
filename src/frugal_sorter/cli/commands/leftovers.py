"""`frugal leftovers`: what a program that is gone left behind; lists it, and moves it to the trash when asked."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence

from frugal_sorter.app.leftovers import (
    Found,
    crontab_lines,
    home,
    is_removed,
    joined,
    plan_trashing,
    search,
    trashed_before,
    unclaimed,
    where_installed,
)
from frugal_sorter.cli import visits
from frugal_sorter.cli.carry_out import choose_list_ask_do
from frugal_sorter.cli.choosing import add_choosing
from frugal_sorter.cli.interrupted import begin
from frugal_sorter.cli.options import add_for, add_format, add_listing, add_unattended, command_line, is_short
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, count_text, date_text, iso_text, shown, size_text
from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.platforms import accounts

EXAMPLES = """
  frugal leftovers glaze-calculator                     settings, caches, data and logs of it
  frugal leftovers glaze-calculator --do trash          list, ask, do; `frugal undo` brings them back
  frugal leftovers                                      what belongs to no installed program, by size
"""
_SHORTEST = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("program", metavar="NAME", nargs="?", help="the program (default: list what belongs to none)")
    parser.add_argument(
        "--do", choices=("trash",), help="move what is surely its own to the trash (default: list only)"
    )
    add_choosing(parser)
    add_listing(parser)
    add_format(parser, "table", "json")
    add_unattended(parser)
    add_for(parser)


def run(args: argparse.Namespace) -> int:
    if args.do is None:
        # Nothing is changed: no visit.
        visits.forget()
    if args.program is None:
        if args.do is not None:
            raise UsageError("--do: of which program?", "name one")
        return _list_unclaimed(args)
    if len(joined(args.program)) < _SHORTEST:
        raise UsageError(f"{shown(args.program)}: too short a name to be sure of anything", "name it in full")
    unread: list[Unread] = []
    found = search(args.program, home(), accounts.is_admin(), unread.append)
    lines = crontab_lines(args.program, unread.append)
    there, before = where_installed(args.program), trashed_before(args.program)
    if args.format == "json":
        result = {"program": args.program, "installed": there or None, "trashed_by_run": before}
        more = {"crontab_lines": [{"line": number, "text": text} for number, text in lines]}
        return _print_json(args, {**result, "entries": [_as_json(one) for one in found], **more}, unread)
    screen = Screen(is_short(args))
    if there:
        screen.line(
            f"{shown(args.program)} is installed: {shown(there)}. What it keeps is only listed.", style="yellow"
        )
        if before is not None:
            screen.line(
                f"Run {before} moved what it had left to the trash: `frugal undo {before}` brings it back.",
                style="bold",
            )
    elif is_removed(args.program):
        screen.line(f"The package {shown(args.program)} was removed, and its settings were not.")
    if args.do is None or not found:
        _list(screen, args.program, found, bool(unread))
        return _more(screen, lines, unread)
    if there:
        raise RefusedError(
            f"{args.program} is installed ({there})", "remove the program first; what it keeps is its own"
        )
    _more(screen, lines, unread)
    session = begin()
    plan = plan_trashing(session, args.program, found, command_line())
    question = f"(left by {shown(args.program)}), as {session.account}?"
    return choose_list_ask_do(session, plan, screen, args, lambda _: question)


def _more(screen: Screen, lines: Sequence[tuple[int, str]], unread: Sequence[Unread]) -> int:
    """Print what is not an entry of its own, and what could not be looked at; return the exit code."""
    for number, text in lines:
        screen.line(f"Line {number} of your crontab names it and stays (`crontab -e`): {shown(text)}", style="yellow")
    for one in unread:
        screen.line(f"Not read: {shown(one.path)} ({shown(one.reason)})", style="yellow")
    return 1 if unread else 0


def _list(screen: Screen, program: str, found: Sequence[Found], is_partly: bool) -> None:
    if not found:
        screen.line(f"Nothing of {shown(program)} is left{', where it could be looked' if is_partly else ''}.")
        return
    sure = [one for one in found if one.is_sure]
    doubtful = [one for one in found if not one.is_sure]
    for title, some in (("Its own", sure), ("Doubtful: named so as well, and never taken", doubtful)):
        if some:
            screen.line()
            screen.line(title, style="bold")
            _table(screen, some)
    screen.line()
    if sure:
        total = size_text(sum(one.bytes for one in sure))
        entries = count_text(len(sure), "entry", "entries")
        them = "it" if len(sure) == 1 else "them"
        screen.line(f"{entries}, {total}. `frugal leftovers {shown(program)} --do trash` moves {them} to the trash.")


def _table(screen: Screen, found: Sequence[Found]) -> None:
    base, rows = home(), []
    for one in found:
        used = date_text(one.used_ns) if one.used_ns else ""
        rows.append(
            [
                below(one.path, base) + ("/" if one.inside is not None else ""),
                size_text(one.bytes),
                used,
                shown(one.why),
            ]
        )
    columns = [("entry", "left"), ("size", "right"), ("last written", "left"), ("why", "left")]
    screen.table(columns, rows, whole=("size", "last written"))


def _list_unclaimed(args: argparse.Namespace) -> int:
    unread: list[Unread] = []
    found = unclaimed(home(), unread.append)
    if args.format == "json":
        return _print_json(args, {"unclaimed": [_as_json(one) for one in found]}, unread)
    screen = Screen(is_short(args))
    if not found:
        screen.line("All that is configured here belongs to an installed program.")
        return _more(screen, [], unread)
    screen.line(
        "Below this home, and of no installed program that could be found; nothing of it is proposed for removal."
    )
    screen.line()
    _table(screen, found)
    screen.line()
    screen.line(
        f"{count_text(len(found), 'entry', 'entries')}, {size_text(sum(one.bytes for one in found))}.", style="bold"
    )
    return _more(screen, [], unread)


def _print_json(args: argparse.Namespace, result: dict[str, object], unread: Sequence[Unread]) -> int:
    if args.do is not None:
        raise UsageError("--do is shown as a table only", "leave --format out")
    print(json.dumps({**result, "not_read": [one._asdict() for one in unread]}, indent=2))
    return 1 if unread else 0


def _as_json(one: Found) -> dict[str, object]:
    used = iso_text(one.used_ns) if one.used_ns else None
    return {"path": one.path, "bytes": one.bytes, "last_written": used, "sure": one.is_sure, "why": one.why}
