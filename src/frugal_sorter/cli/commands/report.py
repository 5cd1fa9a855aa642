"""`frugal report`: one page for the owner of the machine; changes nothing."""

from __future__ import annotations

import argparse
import textwrap
import time
from collections.abc import Sequence

from frugal_sorter.app.report import Report, RuleDone, report
from frugal_sorter.app.session import Session
from frugal_sorter.cli.options import add_for, add_format
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import (
    below,
    came_back_text,
    common_base,
    count_text,
    date_text,
    done_text,
    entries_text,
    held_text,
    iso_text,
    moment_text,
    share_text,
    shown,
    size_text,
    unread_as_json,
    unread_text,
)
from frugal_sorter.cli.reading import require_library, since
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.planning.selection import ranges_of
from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import reason_of
from frugal_sorter.reports.fleet import Machine, idle_everywhere, read_machines
from frugal_sorter.reports.saved import Totals
from frugal_sorter.values import replace

EXAMPLES = """
  frugal report                                        the last seven days, as text for a mail
  frugal report --since 2026-11-01 --format html > november.html
  frugal report --runs 12-19
  frugal report --format json > reports/desk-1.json    on each machine; then, where they are together:
  frugal report --from reports
"""
_SINCE = "7 days"
# This many rows of each table fit on two sheets.
_ROWS, _TROUBLES, _WIDTH = 12, 6, 72
_MOST_RUNS = 100_000
_MACHINES = 40


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--since", metavar="WHEN", help=(f'report on runs since this time: yesterday, "30 days", 2026-11-01 (default: {_SINCE})')
    )
    parser.add_argument(
        "--from", dest="folder", metavar="FOLDER", help="show the reports of many machines: a file of `report --format json` each"
    )
    parser.add_argument("--runs", metavar="RUNS", type=_runs, help="only these runs: 12, 12-19, or several with commas")
    add_format(parser, "text", "html", "json")
    add_for(parser)


def _runs(text: str) -> frozenset[int]:
    ranges = ranges_of(text)
    if not ranges:
        raise argparse.ArgumentTypeError(f"{text!r} is not a run number; use 12, 12-19, or several separated by commas")
    for one in ranges:
        if one.last - one.first > _MOST_RUNS:
            raise argparse.ArgumentTypeError(f"{one.text} are too many runs")
    return frozenset(run for one in ranges for run in range(one.first, one.last + 1))


def run(args: argparse.Namespace) -> int:
    if args.since is not None and args.runs is not None:
        raise UsageError("--since and --runs cannot be combined", "remove one of them")
    if args.format == "html":
        require_library("--format html", "jinja2", "reports")
    if args.folder is not None:
        return _machines(args)
    session = Session.begin()
    since_ns = since(args.since or _SINCE, time.time_ns())
    found = report(session, since_ns, args.runs)
    if args.format == "json":
        print_json({"machine": session.machine, **_as_json(found)})
    elif args.format == "html":
        from frugal_sorter.cli.output.views import report_page as page_of

        said, *more = _paragraphs(found, is_page=True)
        print(page_of(_title(found, session.machine), found, said, more, _ROWS))
    else:
        _print(found, session.machine)
    return 0


def _machines(args: argparse.Namespace) -> int:
    """Show the reports of many machines, those that need a person first."""
    if args.since is not None or args.runs is not None:
        raise UsageError("--from shows what the machines reported", "remove --since and --runs")
    unread: list[Unread] = []
    try:
        machines = read_machines(slashed.realpath(args.folder), unread.append)
    except OSError as error:
        raise UsageError(f"{shown(args.folder)}: {reason_of(error)}", "name a folder of reports") from None
    now_ns = time.time_ns()
    machines.sort(key=lambda one: one.rank(now_ns))
    idle = idle_everywhere(machines)
    if args.format == "json":
        rows = []
        for one in machines:
            row = one._asdict()
            to_ns, full_ns = row.pop("to_ns"), row.pop("full_ns")
            full = None if full_ns is None else iso_text(full_ns)
            rows.append({**row, "to": iso_text(to_ns), "full": full, "silent": one.is_silent(now_ns)})
        print_json({"idle_rules": idle, "not_read": [unread_as_json(one) for one in unread]}, machines=rows)
        return 1 if unread else 0
    columns = (
        Column("machine", lambda one: one.name),
        Column.moment("reported", lambda one: one.to_ns, is_whole=True),
        Column("free", lambda one: one.free * 100 // max(one.total, 1), "{}%".format, is_right=True, is_whole=True),
        Column.date("full on", lambda one: one.full_ns or "", is_whole=True),
        Column.size("freed", lambda one: one.freed),
        Column.count("problems", lambda one: one.troubles or ""),
        Column("to look at", lambda one: _to_look_at(one, now_ns)),
    )
    lines = _of_all(machines, idle, unread, now_ns)
    table = Table("Machines", columns, machines)
    if args.format == "html":
        from frugal_sorter.cli.output.results import page

        print(page(f"Machines in {shown(args.folder)}", lines[1:], [table], lead=lines[0]))
        return 1 if unread else 0
    screen = Screen()
    screen.lines(lines[0])
    if machines:
        screen.line()
        # Those that need a person come first; the others are of interest one by one only to programs.
        shown_rows = max(sum(bool(_to_look_at(one, now_ns)) for one in machines), _MACHINES)
        screen.table(replace(table, rows=machines[:shown_rows]))
        if len(machines) > shown_rows:
            screen.line(f"and {len(machines) - shown_rows:,} more with nothing to look at; --format json and html list all")
    for line in lines[1:]:
        screen.line()
        screen.lines(line)
    return 1 if unread else 0


def _to_look_at(one: Machine, now_ns: int) -> str:
    """Return in a few words why a person should look at a machine; empty for no reason."""
    found = ["no report for a week"] if one.is_silent(now_ns) else []
    found += [shown(one.last_trouble)] if one.troubles else []
    found += ["nearly full"] if one.is_nearly_full else []
    found += [f"{', '.join(map(shown, one.differs))} differs"] if one.differs else []
    return "; ".join(found)


def _of_all(machines: Sequence[Machine], idle: Sequence[str], unread: Sequence[Unread], now_ns: int) -> list[str]:
    """Return the sums of all machines."""
    counts = (
        (sum(one.is_silent(now_ns) for one in machines), "has not reported for a week", "have not reported for a week"),
        (sum(one.troubles > 0 for one in machines), "had problems", "had problems"),
        (sum(one.is_nearly_full for one in machines), "is nearly full", "are nearly full"),
        (sum(bool(one.differs) for one in machines), "has other rules", "have other rules"),
    )
    freed = sum(one.freed for one in machines)
    said = [f"{count:,} {one if count == 1 else several}" for count, one, several in counts if count]
    lines = [f"{count_text(len(machines), 'machine')}, {size_text(freed)} freed. {'; '.join(said) or 'Nothing to look at'}."]
    if idle:
        lines.append(
            f"Rules that did nothing on any machine: {', '.join(map(shown, idle[:_ROWS]))}{' …' if len(idle) > _ROWS else ''}."
        )
    lines += [f"{unread_text(one)}." for one in unread[:_ROWS]]
    if len(unread) > _ROWS:
        lines.append(f"{len(unread) - _ROWS:,} more files were not read.")
    return lines


def _paragraphs(found: Report, is_page: bool = False) -> list[str]:
    """Return in plain words what a person should know, a text for each thing.

    Args:
        found: what was done.
        is_page: of a page, the first says everything that its owner needs, and what went wrong is left to the technician.
    """
    said = []
    times = sum(found.visits.values())
    if not found.runs:
        looked = f"Ran {_times(times)}; there was nothing to do."
        said.append(looked if times else "No files were moved or removed in this period.")
    else:
        what = done_text(found.done)
        size = f", {size_text(found.done.bytes)} in all" if found.done.bytes else ""
        rest = f"{size}, in {count_text(len(found.runs), 'run')}"
        if is_page and found.freed:
            rest = f", which freed {size_text(found.freed)}"
        said.append(f"{what[:1].upper()}{what[1:]}{rest}.")
    if found.taken_back:
        were = "was" if found.taken_back == 1 else "were"
        said.append(f"{count_text(found.taken_back, 'run')} {were} undone; restored files are not counted.")
    if found.before is not None and found.after is not None:
        where = shown(next(iter(found.after.levels))) if len(found.after.levels) == 1 else "The folders"
        counted = held_text(found.after.levels.values())
        said.append(f"{where} held {_held(found.before)} before and {_held(found.after)} after ({counted}).")
    room = f"{size_text(found.free)} of {size_text(found.total)} are free now ({share_text(found.free, found.total)})"
    said.append(f"Freed {size_text(found.freed)}; {room}." if found.freed and not is_page else f"{room[:1].upper()}{room[1:]}.")
    if found.full_ns is not None:
        said.append(f"At this rate the disk will be full on {date_text(found.full_ns)}.")
    count, trashed = found.trashed
    if count.entries and found.trashed_until_ns is not None:
        what = f"{entries_text(count)} ({size_text(trashed)}) in the trash can be restored"
        said.append(f"{what} until {date_text(found.trashed_until_ns)}, unless the trash is emptied first.")
    said += [came_back_text(*one) for one in found.back if not is_page]
    if found.troubles:
        last = found.troubles[-1]
        what = count_text(len(found.troubles), "run")
        if is_page:
            return [*said, f"{what} had problems. Your technician can see which: frugal history."]
        said.append(f"{what} had problems, most recently on {moment_text(last.began_ns)}: {shown(last.reason or last.outcome)}.")
    elif times:
        said.append("No problems.")
    return said


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count:,} times"


def _held(totals: Totals) -> str:
    return f"{count_text(totals.files, 'file')} of {size_text(totals.bytes)}"


def _title(found: Report, machine: str) -> str:
    return f"{shown(machine)}, {date_text(found.from_ns)} to {date_text(found.to_ns)}"


def _print(found: Report, machine: str) -> None:
    screen = Screen()
    title = _title(found, machine)
    screen.line(title, style="bold")
    screen.line("=" * len(title))
    for text in _paragraphs(found):
        screen.line()
        screen.lines(textwrap.fill(text, _WIDTH, break_long_words=False))
    if found.rules:
        screen.line()
        screen.line("What was done", style="bold")
        for name, done in found.ranked[:_ROWS]:
            what = done_text(done.tally) + (f" ({size_text(done.tally.bytes)})" if done.tally.bytes else "")
            screen.lines(textwrap.fill(f"{shown(name)}: {what}", _WIDTH, initial_indent="- ", subsequent_indent="  "))
        _rest(screen, len(found.rules))
    if found.folders:
        screen.line()
        base = common_base([folder for folder, _ in found.folders])
        screen.line(f"Where the files are now, in {shown(base)}", style="bold")
        for folder, count in found.folders[:_ROWS]:
            screen.line(f"- {below(folder, base)}: {count:,}")
        _rest(screen, len(found.folders))
    if found.troubles:
        screen.line()
        screen.line("Problems", style="bold")
        for visit in found.troubles[-_TROUBLES:]:
            why = f"{moment_text(visit.began_ns)} {shown(visit.by)}: {shown(visit.reason or visit.outcome)}"
            screen.lines(textwrap.fill(why, _WIDTH, initial_indent="- ", subsequent_indent="  "))


def _rest(screen: Screen, rows: int) -> None:
    if rows > _ROWS:
        screen.line(f"  and {rows - _ROWS:,} more")


def _as_json(found: Report) -> dict[str, object]:
    def moment(ns: int | None) -> str | None:
        return None if ns is None else iso_text(ns)

    count, size = found.trashed
    return {
        "from": iso_text(found.from_ns), "to": iso_text(found.to_ns), "runs": found.runs, "taken_back": found.taken_back,
        "rules": [_rule_as_json(name, done) for name, done in found.ranked],
        "bytes": found.done.bytes, "freed": found.freed, "free": found.free, "total": found.total, "full": moment(found.full_ns),
        "folders": [{"path": folder, "there": there} for folder, there in found.folders],
        "trash": {**count._asdict(), "bytes": size, "until": moment(found.trashed_until_ns)},
        "before": _totals(found.before), "after": _totals(found.after), "visits": dict(found.visits),
        "rule_files": [one._asdict() for one in found.rule_files], "installed_again": [one._asdict() for one in found.back],
        "troubles": [
            {"began": iso_text(visit.began_ns), "by": visit.by, "outcome": visit.outcome, "reason": visit.reason}
            for visit in found.troubles
        ],
    }  # fmt: skip


def _totals(totals: Totals | None) -> dict[str, object] | None:
    return None if totals is None else {"folders": totals.levels, "files": totals.files, "bytes": totals.bytes}


def _rule_as_json(name: str, done: RuleDone) -> dict[str, object]:
    counts = {verb: count._asdict() for verb, count in done.tally.items()}
    return {"rule": name, "done": counts, "bytes": done.tally.bytes, "last": iso_text(done.last_ns)}
