"""`frugal leftovers`: what a program that is gone left behind; lists it, and moves it to the trash when asked."""

from __future__ import annotations

import argparse
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
from frugal_sorter.app.session import Session
from frugal_sorter.cli.jobs import Job, add_choosing
from frugal_sorter.cli.options import add_for, add_format, add_listing, add_unattended, command_line, is_short
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, count_text, iso_text, shown, size_text, unread_as_json
from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import accounts

EXAMPLES = """
  frugal leftovers glaze-calculator                     settings, caches, data and logs of it
  frugal leftovers glaze-calculator --do trash          list, ask, do; `frugal undo` restores them
  frugal leftovers                                      what belongs to no installed program, by size
"""
_SHORTEST = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "program", metavar="NAME", nargs="?", help=("the program's name (default: list what belongs to no installed program)")
    )
    parser.add_argument(
        "--do", choices=("trash",), help=("move the files that certainly belong to it to the trash (default: only list them)")
    )
    add_choosing(parser)
    add_listing(parser)
    add_format(parser, "table", "json")
    add_unattended(parser)
    add_for(parser)


def job(args: argparse.Namespace) -> Job | None:
    if args.do is None:
        return None
    if args.program is None:
        raise UsageError("--do needs the name of a program", "name one")
    if args.format == "json":
        raise UsageError("--do is shown as a table only", "remove --format")
    return _Trash(args)


def run(args: argparse.Namespace) -> int:
    if args.program is None:
        return _list_unclaimed(args)
    look = _Look(args.program)
    if args.format == "json":
        result = {"program": args.program, "installed": look.there or None, "trashed_by_run": look.before}
        more = {"crontab_lines": [{"line": number, "text": text} for number, text in look.lines]}
        return _print_json({**result, "entries": [_as_json(one) for one in look.found], **more}, look.unread)
    screen = Screen(is_short(args))
    look.introduce(screen)
    _list(screen, args.program, look.found, bool(look.unread))
    return _more(screen, look.lines, look.unread)


class _Look:
    """What is left of a program, and what is known of it."""

    def __init__(self, program: str) -> None:
        if len(joined(program)) < _SHORTEST:
            raise UsageError(f"{shown(program)} is too short to identify a program", "give the full name")
        self.program = program
        self.unread: list[Unread] = []
        self.found = search(program, home(), accounts.is_admin(), self.unread.append)
        self.lines = crontab_lines(program, self.unread.append)
        self.there, self.before = where_installed(program), trashed_before(program)

    def introduce(self, screen: Screen) -> None:
        """Print whether the program is installed."""
        if self.there:
            screen.line(
                f"{shown(self.program)} is still installed ({shown(self.there)}), so its files are only listed.", style="warn"
            )
            if self.before is not None:
                screen.line(
                    f"Run {self.before} moved its leftovers to the trash. To restore them: frugal undo {self.before}",
                    style="bold",
                )
        elif is_removed(self.program):
            screen.line(f"The package {shown(self.program)} was removed, but its settings were kept.")


class _Trash(Job):
    def __init__(self, args: argparse.Namespace) -> None:
        super().__init__(args)
        self.look = _Look(args.program)
        if self.look.there and self.look.found:
            raise RefusedError(f"{args.program} is installed ({self.look.there})", "uninstall the program first")

    def plan(self, session: Session) -> Plan:
        return plan_trashing(session, self.args.program, self.look.found, command_line())

    def head(self, view: PlanView) -> None:
        self.look.introduce(view.screen)
        _more(view.screen, self.look.lines, self.look.unread)

    def show_nothing(self, view: PlanView) -> None:
        if self.look.found:
            super().show_nothing(view)
        else:
            _list(view.screen, self.args.program, [], bool(self.look.unread))

    def question(self, view: PlanView, account: str) -> str:
        return view.question(f"(left by {shown(self.args.program)}), as {account}?")

    @property
    def is_incomplete(self) -> bool:
        return bool(self.look.unread)


def _more(screen: Screen, lines: Sequence[tuple[int, str]], unread: Sequence[Unread]) -> int:
    """Print what is not an entry of its own, and what could not be looked at; return the exit code."""
    for number, text in lines:
        screen.line(
            (f"Line {number} of your crontab mentions it; frugal does not change it (edit with `crontab -e`): {shown(text)}"),
            style="warn",
        )
    for one in unread:
        screen.line(f"Not read: {shown(one.path)} ({shown(one.reason)})", style="warn")
    return 1 if unread else 0


def _list(screen: Screen, program: str, found: Sequence[Found], is_partly: bool) -> None:
    if not found:
        screen.line(f"No leftovers of {shown(program)} found{(' in the folders that could be read' if is_partly else '')}.")
        return
    sure = [one for one in found if one.is_sure]
    doubtful = [one for one in found if not one.is_sure]
    for title, some in (("Certain", sure), ("Uncertain: the name matches, but frugal never removes these", doubtful)):
        if some:
            screen.line()
            screen.line(title, style="bold")
            _table(screen, some)
    screen.line()
    if sure:
        total = size_text(sum(one.bytes for one in sure))
        entries = count_text(len(sure), "entry", "entries")
        them = "it" if len(sure) == 1 else "them"
        screen.line(f"{entries}, {total}. To move {them} to the trash: frugal leftovers {shown(program)} --do trash")


def _table(screen: Screen, found: Sequence[Found]) -> None:
    base = home()
    columns = (
        Column("entry", lambda one: below(one.path, base) + ("/" if one.inside is not None else "")),
        Column.size("size", lambda one: one.bytes, is_whole=True),
        Column.date("last modified", lambda one: one.used_ns or None, is_whole=True),
        Column("why", lambda one: one.why),
    )
    screen.table(Table("", columns, found))


def _list_unclaimed(args: argparse.Namespace) -> int:
    unread: list[Unread] = []
    found = unclaimed(home(), unread.append)
    if args.format == "json":
        return _print_json({"unclaimed": [_as_json(one) for one in found]}, unread)
    screen = Screen(is_short(args))
    if not found:
        screen.line("No leftovers found: everything here belongs to an installed program.")
        return _more(screen, [], unread)
    screen.line(
        "Files in this home that belong to no installed program frugal could find. This is only a list; "
        "frugal does not suggest removing them."
    )
    screen.line()
    _table(screen, found)
    screen.line()
    screen.line(f"{count_text(len(found), 'entry', 'entries')}, {size_text(sum(one.bytes for one in found))}.", style="bold")
    return _more(screen, [], unread)


def _print_json(result: dict[str, object], unread: Sequence[Unread]) -> int:
    print_json({**result, "not_read": [unread_as_json(one) for one in unread]})
    return 1 if unread else 0


def _as_json(one: Found) -> dict[str, object]:
    used = iso_text(one.used_ns) if one.used_ns else None
    return {"path": one.path, "bytes": one.bytes, "last_written": used, "sure": one.is_sure, "why": one.why}
