"""`frugal schedule`: set up what runs automatically, see it as its scheduler has it, and whether all is well."""

from __future__ import annotations

import argparse
import os
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from itertools import islice

from frugal_sorter.app import schedules
from frugal_sorter.app.leftovers import came_back
from frugal_sorter.app.schedules import Looked
from frugal_sorter.cli.command import parsed_command, plan_of_command, undo_offer
from frugal_sorter.cli.jobs import confirm
from frugal_sorter.cli.options import YES, add_for, add_format, line_of, rules_file
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import ago_text, came_back_text, count_text, iso_text, moment_text, shown, size_text, will_text
from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.journal.database import Visit
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import accounts, slashed
from frugal_sorter.rules.units import InvalidValue
from frugal_sorter.schedule.scheduler import SCHEDULERS, Entry, Scheduler, check_name, scheduler_here, scheduler_of
from frugal_sorter.schedule.when import FORMS, parse_when
from frugal_sorter.steps.kinds import FINAL, REMOVING
from frugal_sorter.values import replace

EXAMPLES = """
  frugal schedule add nightly --at "daily 02:00"                       tidy by your rules
  frugal schedule add scratch --at "mon-fri 18:00" -- purge /srv/scratch --older-than 30d
  frugal schedule add intake --at arrival -- watch /srv/rules.toml
  frugal schedule add nightly --at "daily 02:00" --print --with cron   writes nothing
  frugal schedule list
  frugal schedule check                                                for monitoring: 1 where something is wrong
"""
TAKES_COMMAND = True
# What may run automatically: what only looks helps nobody, except for an inventory that is saved.
COMMANDS = ("tidy", "purge", "sort", "gather", "duplicates", "trash", "inventory", "watch")
_LIMITED = frozenset({"tidy", "purge", "trash"})
_AT_MOST, _NO_CEILING = 1_000, 10**12
_TIMES, _VISITS = 3, 5
# Schedulers that start nothing while the account is not logged on, and how they would.
_ALWAYS = {"systemd": "add --linger", "launchd": "add --whole-machine, as root", "windows": "add --linger, as an administrator"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parts = parser.add_subparsers(dest="what", required=True, metavar="add|list|show|run|pause|resume|remove|check")
    add = parts.add_parser("add", help="set up a schedule; put the command to run after --", allow_abbrev=False)
    add.add_argument("name", metavar="NAME", help="the schedule's name: lowercase letters, digits and hyphens")
    add.add_argument("--at", metavar="WHEN", required=True, help=FORMS)
    add.add_argument("--during", metavar="HOURS", default="", help="only within these hours, such as 'mon-fri 08:00-18:00'")
    add.add_argument(
        "--at-most", metavar="N", type=int, help=("refuse any run that would remove more than N files (default: 1,000)")
    )
    add.add_argument("--wake", action="store_true", help="wake the machine for it")
    add.add_argument("--mains-only", action="store_true", help="not on battery")
    add.add_argument("--limit", metavar="TIME", default="", help="stop it after this long, such as '30 minutes'")
    missed = add.add_mutually_exclusive_group()
    missed.add_argument("--catch-up", action="store_true", default=None, help="make up for missed runs later (default)")
    missed.add_argument("--no-catch-up", dest="catch_up", action="store_false", help="leave out what was missed")
    add.add_argument("--spread", metavar="TIME", default="", help="delay each start by a random time of up to this long")
    add.add_argument("--whole-machine", action="store_true", help=("as root: run as a system service instead of a user service"))
    add.add_argument("--linger", action="store_true", help="run even while nobody is logged on")
    add.add_argument(
        "--with", dest="scheduler", choices=SCHEDULERS, help=("the scheduler to use (default: the one on this machine)")
    )
    add.add_argument("--print", action="store_true", help="write nothing; show the files and commands")
    add.add_argument(*YES, action="store_true", help="do not ask")
    add_for(add)
    for name, summary in (
        ("list", "all of them"),
        ("check", "report problems; exits with 1 if there are any"),
        ("show", "show one schedule: its files, its next times and its last runs"),
        ("run", "run one now, exactly as its scheduler would"),
        ("pause", "pause a schedule"),
        ("resume", "resume a schedule, and rewrite any missing files"),
        ("remove", "remove a schedule"),
    ):
        part = parts.add_parser(name, help=summary, allow_abbrev=False)
        if name in ("list", "check"):
            add_format(part, "table", "json")
        else:
            part.add_argument("name", metavar="NAME")
        add_for(part)


def run(args: argparse.Namespace) -> int:
    parts: dict[str, Callable[[argparse.Namespace, Screen], int]] = {
        "add": _add, "list": _list, "show": _show, "run": _run, "pause": _pause, "resume": _resume, "remove": _remove,
        "check": _check,
    }  # fmt: skip
    if args.after and args.what != "add":
        raise UsageError(f"schedule {args.what} does not take a command", "remove everything after --")
    return parts[args.what](args, Screen())


# Setting one up


def _add(args: argparse.Namespace, screen: Screen) -> int:
    name = check_name(args.name)
    try:
        parse_when(args.at, time.time_ns())
    except InvalidValue as wrong:
        raise UsageError(f"--at: {wrong.message}", wrong.hint) from None
    scheduler = scheduler_of(args.scheduler) if args.scheduler else scheduler_here()
    if args.whole_machine and not accounts.is_admin() and not args.print:
        raise UsageError("--whole-machine: only an administrator can set that up", "use sudo, or a prompt of an administrator")
    command, rules = _command(args)
    entry = Entry(
        name,
        args.at,
        command,
        schedules.interpreter(),
        slashed.realpath(os.getcwd()),
        rules,
        scheduler.name,
        args.whole_machine,
        args.during,
        args.wake,
        args.mains_only,
        args.limit,
        args.catch_up,
        args.spread,
        args.linger,
    )
    schedules.refuse_unsafe(entry, scheduler)
    if not scheduler.is_here() and not args.print:
        raise UsageError(
            f"--with: {scheduler.name} is not available on this machine",
            ("add --print, and set up what it prints on the other machine"),
        )
    today = plan_of_command(entry.command, args.at_most)
    if entry.command[0] in _LIMITED and "--at-most" not in entry.command:
        at_most = _at_most(args, screen, entry, today)
        if at_most is not None:
            entry = replace(entry, command=(*entry.command, "--at-most", str(at_most)))
            if today is not None and today.refused:
                today = plan_of_command(entry.command)
    if args.print:
        return _print(entry, scheduler, screen)
    _describe(entry, scheduler, screen)
    if today is not None:
        screen.line(f"  today   {will_text(today.asked) or 'nothing to do'}")
        for problem in (*map(str, today.refused), *today.problems):
            screen.line(f"Note: {shown(problem)}", style="warn")
    if not confirm(screen, f"Create schedule {name}, as {accounts.account_name()}?", args.yes):
        screen.line("Nothing was changed.")
        return 3
    schedules.add(entry, scheduler)
    looked = schedules.look_at(name, time.time_ns())
    when = f", next at {moment_text(looked.next_ns)}" if looked.next_ns is not None else ""
    screen.line(f"{name} is {looked.word}{when}.", style="bold")
    screen.line(f"To test it now: frugal schedule run {name}. To check it later: frugal schedule check")
    return 0


def _command(args: argparse.Namespace) -> tuple[tuple[str, ...], str]:
    """Return the command that runs, which never asks, and its rule file by its whole path; empty where it has none."""
    words = list(args.after) or ["watch" if args.at.strip().lower() == "arrival" else "tidy"]
    if words[0] == "frugal":
        words = words[1:]
    if not words or words[0] not in COMMANDS:
        named = f"`{words[0]}`" if words else "nothing"
        raise UsageError(f"`{named}` cannot be scheduled", f"choose from {', '.join(COMMANDS)}")
    if (words[0] == "watch") != (args.at.strip().lower() == "arrival"):
        raise UsageError("arrival works only with `watch`", "use --at arrival -- watch RULES")
    _, parsed = parsed_command(words)
    rules = ""
    if words[0] in ("tidy", "watch") and getattr(parsed, "plan", None) is None:
        rules = str(rules_file(parsed))
        if parsed.rules is None:
            words.insert(1, rules)
        else:
            words[[slashed.slashed(word) for word in words].index(str(parsed.rules), 1)] = rules
    if words[0] == "inventory":
        if "--save" not in words:
            raise UsageError("a scheduled inventory must be saved", "add --save")
        return tuple(words), rules
    return tuple(words if set(YES).intersection(words) or words[0] == "watch" else [*words, "--yes"]), rules


def _at_most(args: argparse.Namespace, screen: Screen, entry: Entry, today: Plan | None) -> int | None:
    """Return how many files a run may take away, whatever its rules say; None where what they say is enough.

    Raises:
        UsageError: it takes more today than is allowed, and nobody is there to choose.
    """
    if args.at_most is not None:
        if args.at_most < 1:
            raise UsageError("--at-most must be a whole number of 1 or more", "for example --at-most 1000")
        return int(args.at_most)
    if today is None or not today.refused:
        # A rule file has ceilings of its own, which may be lower.
        return None if entry.command[0] == "tidy" else _AT_MOST
    wished = plan_of_command(entry.command, _NO_CEILING)
    removals = sum(step.files for step in wished.asked if step.verb in REMOVING | FINAL) if wished is not None else 0
    if not removals:
        return None  # refused for another reason, which is shown
    if args.yes or args.print or not screen.may_ask():
        hint = f"allow more files per run, such as --at-most {2 * removals}"
        refused = str(today.refused[0]).partition(";")[0]
        raise UsageError(f"if this ran today, it would be refused: {refused}", hint)
    screen.line(f"If this ran today, it would remove {count_text(removals, 'file')}.")
    return screen.number(
        "To limit the damage of a mistake, refuse runs that would remove more than this many files", 2 * removals
    )


def _describe(entry: Entry, scheduler: Scheduler, screen: Screen, is_on: bool = True) -> None:
    screen.parts((entry.name, "bold"), (f": {shown(entry.at)}, by {scheduler.name}, as {accounts.account_name()}", ""))
    now_ns = time.time_ns()
    times = [moment_text(one) for one in islice(entry.when.times_after(now_ns), _TIMES)]
    if times and is_on:
        screen.line(f"  next    {', '.join(times)}")
    screen.line(f"  runs    {shown(line_of(entry.command))}")
    screen.line(f"  in      {shown(entry.folder)}")
    for piece in scheduler.pieces(entry):
        screen.line(f"  writes  {shown(piece.path)}")
    for note in _notes(entry, scheduler):
        screen.line(f"Note: {note}", style="warn")


def _notes(entry: Entry, scheduler: Scheduler) -> list[str]:
    notes = []
    account = accounts.account_name()
    for owner in schedules.other_owners(entry):
        notes.append(f"it acts as {account} in folders of {owner}; with --for {owner} it has no more rights than {owner}")
    is_always = entry.whole_machine or entry.linger or (scheduler.name == "systemd" and schedules.is_lingering(account))
    if scheduler.name in _ALWAYS and not is_always:
        notes.append(f"{scheduler.name} runs this only while {account} is logged on; to run it always, {_ALWAYS[scheduler.name]}")
    if scheduler.name == "cron" and entry.when.kind == "times":
        notes.append("cron does not make up for runs missed while the machine was off")
    return notes


def _print(entry: Entry, scheduler: Scheduler, screen: Screen) -> int:
    for piece in scheduler.pieces(entry):
        screen.line(f"# {piece.path}", style="bold")
        screen.lines(piece.text.rstrip("\n"))
        screen.line()
    screen.line("# then", style="bold")
    for command in scheduler.commands(entry):
        screen.line(" ".join(command))
    for note in _notes(entry, scheduler):
        screen.line(f"# Note: {note}")
    return 0


# Looking at them


def _list(args: argparse.Namespace, screen: Screen) -> int:
    now_ns = time.time_ns()
    looked = schedules.look_at_all(now_ns)
    if args.format == "json":
        print_json({"schedules": [_as_json(one) for one in looked]})
        return 0
    if not looked:
        screen.line("No schedules yet. To set one up, see: frugal schedule add --help")
        return 0
    columns = (
        Column("name", lambda one: one.entry.name, is_whole=True),
        Column("when", lambda one: one.entry.at or "–"),
        Column.moment("next", lambda one: "–" if one.next_ns is None else one.next_ns, is_whole=True),
        Column("last", lambda one: ago_text(one.visits[0].began_ns, now_ns) if one.visits else "never"),
        Column("result", lambda one: _result(one.visits[0]) if one.visits else ""),
        Column("state", lambda one: one.word, is_whole=True),
    )
    screen.table(Table("", columns, looked))
    _tell_troubles(screen, looked)
    return 0


def _result(last: Visit) -> str:
    return f"done, {last.entries:,}" if last.outcome == "done" and last.entries else last.outcome


def _tell_troubles(screen: Screen, looked: Sequence[Looked]) -> None:
    troubles = [(one.entry.name, text) for one in looked for text in one.troubles]
    if troubles:
        screen.line()
    for name, text in troubles:
        screen.parts((f"{name}: ", "refused"), (shown(text), "warn"))


def _as_json(one: Looked) -> dict[str, object]:
    entry, last = one.entry, one.visits[0] if one.visits else None
    return {
        "name": entry.name, "at": entry.at, "command": list(entry.command), "folder": entry.folder,
        "scheduler": entry.scheduler, "state": one.word, "next": None if one.next_ns is None else iso_text(one.next_ns),
        "last": None if last is None else iso_text(last.began_ns), "outcome": None if last is None else last.outcome,
        "reason": "" if last is None else last.reason, "troubles": list(one.troubles),
    }  # fmt: skip


def _show(args: argparse.Namespace, screen: Screen) -> int:
    now_ns = time.time_ns()
    looked = schedules.look_at(args.name, now_ns)
    entry, scheduler = looked.entry, scheduler_of(looked.entry.scheduler)
    _describe(entry, scheduler, screen, looked.next_ns is not None)
    screen.line(f"  state   {looked.word}")
    _tell_troubles(screen, [looked])
    screen.line()
    for piece in scheduler.pieces(entry):
        screen.line(shown(piece.path), style="bold")
        screen.lines(piece.text.rstrip("\n"), style="dim")
        screen.line()
    _show_visits(screen, looked.visits, now_ns)
    return 1 if looked.troubles else 0


def _show_visits(screen: Screen, visits: Sequence[Visit], now_ns: int) -> None:
    screen.line("Last runs" if visits else "No runs yet.", style="bold")
    for one in visits[:_VISITS]:
        screen.line(f"  {visit_text(one)}")
    if len(visits) > _VISITS:
        screen.line(f"  … {len(visits) - _VISITS:,} earlier; `frugal history --by {visits[0].name}` lists all", style="dim")


def visit_text(visit: Visit) -> str:
    """Return a visit in one line: when, what came of it, how much, and why."""
    parts = [moment_text(visit.began_ns), visit.outcome]
    if visit.times > 1:
        parts.append(f"{visit.times:,} times since {moment_text(visit.first_ns)}")
    if visit.entries:
        parts.append(f"{count_text(visit.entries, 'entry', 'entries')}, {size_text(visit.amount.bytes)}")
    if visit.runs:
        parts.append(f"run {', '.join(map(str, visit.runs))}")
    if visit.reason:
        parts.append(shown(visit.reason))
    return "  ".join(parts)


def _check(args: argparse.Namespace, screen: Screen) -> int:
    looked = schedules.look_at_all(time.time_ns())
    wrong, back = [one for one in looked if one.troubles], []
    with suppress(StateError):  # what is wrong with the journal is among the troubles
        back = came_back()
    if args.format == "json":
        told = [one._asdict() for one in back]
        print_json({"well": not wrong, "schedules": [_as_json(one) for one in looked], "installed_again": told})
        return 1 if wrong else 0
    for one in back:
        screen.line(came_back_text(*one))
    if wrong:
        _tell_lines(screen, wrong)
    else:
        screen.line(f"{count_text(len(looked), 'schedule')}, no problems." if looked else "No schedule yet.")
    return 1 if wrong else 0


def _tell_lines(screen: Screen, looked: Sequence[Looked]) -> None:
    for one in looked:
        for text in one.troubles:
            screen.line(f"{one.entry.name}: {shown(text)}")


# Changing them


def _run(args: argparse.Namespace, screen: Screen) -> int:
    entry, code, visit = schedules.run_now(args.name)
    if visit is None:
        screen.line(f"{entry.name} exited with {code} and recorded nothing.")
        screen.line(f"To see how it is started: frugal schedule show {entry.name}")
        return 1
    screen.line(f"{entry.name}: {visit_text(visit)}")
    if visit.runs and (offer := undo_offer(visit.runs[-1])):
        screen.line(f"{offer}.", style="bold")
    return 1 if visit.is_in_trouble else 0


def _pause(args: argparse.Namespace, screen: Screen) -> int:
    entry = schedules.turn(args.name, False)
    screen.line(f"Paused {entry.name}. To resume it: frugal schedule resume {entry.name}", style="bold")
    return 0


def _resume(args: argparse.Namespace, screen: Screen) -> int:
    entry = schedules.turn(args.name, True)
    looked = schedules.look_at(entry.name, time.time_ns())
    when = f", next at {moment_text(looked.next_ns)}" if looked.next_ns is not None else ""
    screen.line(f"{entry.name} is {looked.word}{when}.", style="bold")
    _tell_troubles(screen, [looked])
    return 0


def _remove(args: argparse.Namespace, screen: Screen) -> int:
    entry = schedules.remove(args.name)
    screen.line(f"Removed {entry.name}. Its past runs remain in: frugal history --by {entry.name}", style="bold")
    return 0
