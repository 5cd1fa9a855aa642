"""`frugal history`: all runs, or the steps of one."""

from __future__ import annotations

import argparse
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from frugal_sorter.cli.options import add_for, add_format, run_number
from frugal_sorter.cli.output.results import Column, Table, print_csv, print_json
from frugal_sorter.cli.output.text import (
    WORDS,
    common_base,
    count_text,
    done_text,
    held_text,
    iso_text,
    moment_text,
    shown,
    size_text,
    step_as_json,
    step_text,
)
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Place
from frugal_sorter.journal.database import Driver, Run, Visit
from frugal_sorter.journal.journal import Journal
from frugal_sorter.platforms import processes, slashed
from frugal_sorter.reasons import Outcome
from frugal_sorter.rules.units import DAY_NS
from frugal_sorter.state import adopt, of_other_machines, ready_state_folder, writer_is_active
from frugal_sorter.steps.kinds import ATTENDING
from frugal_sorter.steps.step import Mark, Step, Tally
from frugal_sorter.values import as_dict, mutable, replace

if TYPE_CHECKING:
    from frugal_sorter.cli.output.screen import Screen

EXAMPLES = """
  frugal history
  frugal history 12
  frugal history --file "glaze list.csv"     where a file went
  frugal history --file "*.pdf"
  frugal history --since yesterday --by nightly
  frugal history --format json
"""
# What nobody else needs.
_INNER = frozenset({"token", "volumes"})
# With fewer columns there is no room for the rule file.
_WIDE = 100
# With fewer there is none for the size either.
_NARROW = 70
# At most this many reasons are printed below the table.
_TROUBLES = 5
_Counts = Mapping[Outcome | None, int]
# Nothing to worry about.
_USUAL = ("done", "nothing to do")
_WEEK_NS = 7 * DAY_NS
# A table without `--since` goes back this far, and has at least this many lines.
_RECENT_NS, _FEW = 30 * DAY_NS, 20

# How many steps of a run had each outcome, and how many entries it changed.
_Ends = tuple[_Counts, int]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", nargs="?", type=run_number, help="show the steps of one run")
    parser.add_argument(
        "--since",
        metavar="WHEN",
        help='only runs since this time (default for the table: 30 days ago): 14:00, yesterday, "3 days", 2026-11-01',
    )
    parser.add_argument("--by", metavar="NAME", help="only what this schedule, watcher or account did")
    parser.add_argument(
        "--file", metavar="NAME", help=("trace files with this name or path: where they came from and went; wildcards allowed")
    )
    parser.add_argument("--adopt", metavar="MACHINE", help="take over the records of another machine (the history names it)")
    add_format(parser, "table", "json", "csv")
    add_for(parser)


def run(args: argparse.Namespace) -> int:
    folder = ready_state_folder()
    if args.adopt is not None:
        adopt(args.adopt)
    with Journal(folder, write=False) as journal:
        active = writer_is_active(folder)
        if args.format == "csv" and (args.file is not None or args.run is not None):
            raise UsageError(
                "--format csv lists runs, not single changes or files", "remove RUN and --file, or use --format json"
            )
        if args.file is not None:
            return _show_file(journal, args.file, args.format)
        if args.run is not None:
            return _show_run(journal, journal.run(args.run), active, args.format)
        return _show_runs(journal, active, args)


def _killed(one: Run, active: bool) -> bool:
    return one.state == "open" and not active


def _ends(journal: Journal, one: Run, active: bool) -> _Ends:
    """Count what became of a run; of a killed one as the disk tells."""
    if not _killed(one, active):
        counts, entries = journal.counts(one.id), journal.entries(one.id)
        return counts, counts.get(Outcome.DONE, 0) if entries is None else entries
    asked = [(step, mark.outcome) for step, mark in _after_crash(journal, one) if step.verb not in ATTENDING]
    done = Tally(step for step, outcome in asked if outcome is Outcome.DONE)
    return Counter(outcome for _, outcome in asked), done.all.entries


def _after_crash(journal: Journal, one: Run) -> list[tuple[Step, Mark]]:
    # All verbs are loaded with it, which a list of runs that ended does not need.
    from frugal_sorter.execution.recovery import state_after_crash

    return state_after_crash(journal, one)


def _state(one: Run, counts: _Counts, active: bool) -> str:
    total, done = sum(counts.values()), counts.get(Outcome.DONE, 0)
    if one.undone_by is not None:
        return f"undone by run {one.undone_by}"
    if one.taken_back:
        return f"{one.taken_back:,} of {one.undoable:,} undone"
    if one.state == "open" and active:
        return "running now"
    if one.state in ("open", "interrupted"):
        undecided = counts.get(Outcome.OPEN, 0)
        unclear = f", {undecided:,} unclear" if undecided else ""
        return f"interrupted after {done:,} of {total:,} steps{unclear}"
    if one.state == "stopped":
        return f"stopped after {done:,} of {total:,} steps"
    return "done"


def _what(one: Run) -> str:
    return f"undo of run {one.undoes}" if one.undoes is not None else one.kind


def _not_done(counts: _Counts) -> int:
    return counts.get(Outcome.SKIPPED, 0) + counts.get(Outcome.FAILED, 0)


def _past(text: str | None) -> int | None:
    """Return the moment that `--since` names."""
    if text is None:
        return None
    # What follows is imported where it is needed: the list of runs asks for none of it.
    from frugal_sorter.cli.reading import since

    return since(text, time.time_ns())


@mutable
class _Line:
    """A line of the history: a run, a visit without one, or the runs of a watcher on one day.

    Args:
        runs: their numbers.
        at_ns: when the last of it began.
        by: who came.
        driver: as what.
        what: what was to be done.
        done: how many entries.
        bytes: how much these are; None where that is not known.
        state: what came of it.
        rules: the rule file or the command.
        trouble: what else a person must know.
        freed: how many bytes are permanently removed.
        times: how often it came.
    """

    runs: Sequence[int]
    at_ns: int
    by: str
    driver: Driver
    what: str
    done: int
    bytes: int | None
    state: str
    rules: str
    trouble: str = ""
    freed: int = 0
    times: int = 1


def _lines(counted: Mapping[int, _Ends], runs: Sequence[Run], visits: Sequence[Visit], active: bool) -> list[_Line]:
    """Return runs, and visits without one, in the order of time."""
    of_run = {run: visit for visit in visits for run in visit.runs}
    lines = []
    for one in runs:
        (counts, done), visit = counted[one.id], of_run.get(one.id)
        failed = _not_done(counts)
        state = _state(one, counts, active) + (f", {failed:,} not done" if failed else "")
        size = visit.amount.bytes if visit is not None else None
        by, driver = (visit.by, visit.driver) if visit is not None else (one.account, "person")
        # A person was there and has read it.
        trouble = visit.reason if visit is not None and driver != "person" and visit.outcome == "done" else ""
        freed = visit.freed if visit is not None else 0
        what = _what(one)
        lines.append(_Line([one.id], one.began_ns, by, driver, what, done, size, state, one.origin, trouble, freed))
    for visit in visits:
        if not visit.runs:
            lines.append(_line_of_visit(visit, active))
    lines.sort(key=lambda line: (line.at_ns, max(line.runs, default=0)))
    return _folded(lines, time.time_ns())


def _line_of_visit(visit: Visit, active: bool) -> _Line:
    words = processes.split(visit.command) if visit.command.count("'") % 2 == 0 else visit.command.split()
    what = words[1] if len(words) > 1 else visit.driver
    state: str = visit.outcome
    if state == "running":
        state = "running now" if active else "interrupted"
    trouble = visit.reason if visit.driver != "person" and visit.is_in_trouble else ""
    rules = visit.rules or visit.command
    return _Line([], visit.began_ns, visit.by, visit.driver, what, 0, None, state, rules, trouble, times=visit.times)


def _folded(lines: Sequence[_Line], now_ns: int) -> list[_Line]:
    """Return the lines with what a watcher did on one day in one, and what a schedule did in one week before this.

    Only what was done, or found nothing to do, is put together; whatever went otherwise keeps a line of its own.
    """
    found: dict[object, _Line] = {}
    for line in lines:
        key: object = id(line)
        if line.state in _USUAL and not line.trouble and line.driver != "person":
            day = datetime.fromtimestamp(line.at_ns // 10**9)
            if line.driver == "watch":
                key = line.by, line.state, day.date()
            elif line.at_ns < now_ns - _WEEK_NS:
                key = line.by, line.what, line.state, day.isocalendar()[:2]
        found[key] = _joined(found[key], line) if key in found else line
    for line in found.values():
        line.state += f" ×{line.times:,}" if line.times > 1 else ""
    return sorted(found.values(), key=lambda line: (line.at_ns, max(line.runs, default=0)))


def _joined(first: _Line, other: _Line) -> _Line:
    size = None if first.bytes is None or other.bytes is None else first.bytes + other.bytes
    done, freed, times = first.done + other.done, first.freed + other.freed, first.times + other.times
    return replace(other, runs=[*first.runs, *other.runs], done=done, bytes=size, freed=freed, times=times)


def _unsolved(lines: Sequence[_Line]) -> list[_Line]:
    """Return the lines of problems after which the same schedule or watcher did not do its work without one."""
    solved: set[str] = set()
    found = []
    for line in reversed(lines):
        if line.driver == "person":
            continue
        if line.trouble and line.by not in solved:
            found.append(line)
        elif line.state.partition(" ×")[0] in _USUAL:
            solved.add(line.by)
    return found[::-1]


def _numbers(runs: Sequence[int]) -> str:
    """Return the numbers of runs, such as `12-14`, or `12…19` where others are between them."""
    if len(runs) < 2:
        return str(runs[0]) if runs else "–"
    return f"{runs[0]}{'-' if runs[-1] - runs[0] == len(runs) - 1 else '…'}{runs[-1]}"


def _show_runs(journal: Journal, active: bool, args: argparse.Namespace) -> int:
    since_ns = _past(args.since)
    all_visits = journal.visits(None, since_ns)
    visits = [one for one in all_visits if args.by in (None, one.by)]
    own = {run for visit in visits for run in visit.runs}
    recorded = {run for visit in all_visits for run in visit.runs}
    runs = [
        one
        for one in journal.runs()
        if (since_ns is None or one.began_ns >= since_ns)
        and (args.by is None or one.id in own or (one.id not in recorded and one.account == args.by))
    ]
    if args.format == "csv":
        return _print_csv(visits, active)
    # Once for all: of a killed run the disk is asked.
    counted = {one.id: _ends(journal, one, active) for one in runs}
    if args.format == "json":
        return _print_json(counted, runs, visits, active)
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    lines = _lines(counted, runs, visits, active)
    if not lines:
        screen.line("No runs yet." if args.by is None and since_ns is None else "No matching runs in the history.")
        for machine in of_other_machines():
            screen.line(f"Records of another machine were found. If this machine replaces it: `frugal history --adopt {machine}`")
        return 0
    recent_ns = time.time_ns() - _RECENT_NS
    old = 0 if since_ns is not None else sum(line.at_ns < recent_ns for line in lines)
    earlier = max(0, min(old, len(lines) - _FEW))
    lines = lines[earlier:]
    # What is cut first is what `frugal history RUN` says in full.
    is_wide = screen.width >= _WIDE
    columns = [
        Column("run", lambda line: _numbers(line.runs), is_right=True, is_whole=True),
        Column.moment("started", lambda line: line.at_ns, is_whole=True),
        Column("by", lambda line: line.by),
        Column("command", lambda line: line.what),
        Column.count("changes", lambda line: line.done if line.runs else None, is_whole=True),
        *([Column.size("size", lambda line: line.bytes, is_whole=True)] if screen.width >= _NARROW else []),
        *([Column.size("freed", lambda line: line.freed or None, is_whole=True)] if is_wide else []),
        Column("result", lambda line: line.state, is_whole=True),
        *([Column("rules", lambda line: line.rules)] if is_wide else []),
    ]
    screen.table(Table("", columns, lines), below=None if is_wide else lambda line: line.rules)
    if earlier:
        first = moment_text(min([*(one.began_ns for one in runs), *(one.began_ns for one in visits)]))[:10]
        screen.line(f"{count_text(earlier, 'earlier line')} not shown; frugal history --since {first} shows all", style="dim")
    troubles = _unsolved(lines)
    if troubles:
        screen.line()
    for line in troubles[-_TROUBLES:]:
        screen.line(f"{moment_text(line.at_ns)}  {shown(line.by)}: {shown(line.trouble)}", style="warn")
    if len(troubles) > _TROUBLES:
        screen.line(f"{len(troubles) - _TROUBLES:,} earlier problems; --format csv lists all", style="dim")
    _show_ways_back(journal, runs, counted, screen)
    return 0


def _show_ways_back(journal: Journal, runs: Sequence[Run], counted: Mapping[int, _Ends], screen: Screen) -> None:
    listed = [one for one in reversed(runs) if counted[one.id][1]]
    last = next((one for one in listed if one.kind != "undo" and one.undone_by is None and journal.can_be_undone(one.id)), None)
    if listed:
        screen.line()
        back = f"; to undo it: frugal undo {last.id}" if last is listed[0] else ""
        screen.line(f"To list the changes of run {listed[0].id}: frugal history {listed[0].id}{back}")
        if last is not None and not back:
            screen.line(f"To undo run {last.id}: frugal undo {last.id}")


def _print_json(counted: Mapping[int, _Ends], runs: Sequence[Run], visits: Sequence[Visit], active: bool) -> int:
    rows = []
    for one in runs:
        counts, done = counted[one.id]
        rows.append(
            {
                **{key: value for key, value in as_dict(one).items() if not key.endswith("_ns") and key not in _INNER},
                "began": iso_text(one.began_ns),
                "ended": None if one.ended_ns is None else iso_text(one.ended_ns),
                "state": "interrupted" if _killed(one, active) else one.state,
                "done": done,
                "not_done": sum(counts.values()) - counts.get(Outcome.DONE, 0),
            }
        )
    print_json({"runs": rows, "visits": [_visit_as_json(visit, active) for visit in visits]})
    return 0


def _visit_as_json(visit: Visit, active: bool) -> dict[str, object]:
    return {
        "visit": visit.id, "runs": [*visit.runs], "driver": visit.driver, "name": visit.name, "account": visit.account,
        "command": visit.command, "rules": visit.rules, "first": iso_text(visit.first_ns),
        "began": iso_text(visit.began_ns), "ended": None if visit.ended_ns is None else iso_text(visit.ended_ns),
        "times": visit.times, "outcome": _outcome_of(visit, active), "reason": visit.reason,
        "amount": visit.amount._asdict(),
        "done": {verb: amount._asdict() for verb, amount in visit.counts.items()}, "freed": visit.freed,
        "free_before": visit.free_before, "free_after": visit.free_after, "environment": visit.environment,
    }  # fmt: skip


def _outcome_of(visit: Visit, active: bool) -> str:
    return "interrupted" if visit.outcome == "running" and not active else visit.outcome


def _print_csv(visits: Sequence[Visit], active: bool) -> int:
    print_csv(
        "visit runs driver name account command rules first began ended times outcome reason files folders bytes freed"
        " free_before free_after".split(),
        (
            [
                one.id,
                " ".join(map(str, one.runs)),
                one.driver,
                one.name,
                one.account,
                one.command,
                one.rules,
                iso_text(one.first_ns),
                iso_text(one.began_ns),
                "" if one.ended_ns is None else iso_text(one.ended_ns),
                one.times,
                _outcome_of(one, active),
                one.reason,
                one.amount.files + one.amount.inside,
                one.amount.folders,
                one.amount.bytes,
                one.freed,
                one.free_before,
                one.free_after,
            ]
            for one in visits
        ),
    )
    return 0


def _show_run(journal: Journal, one: Run, active: bool, wanted: str) -> int:
    ended = _after_crash(journal, one) if _killed(one, active) else list(journal.steps(one.id))
    asked = [(step, mark) for step, mark in ended if step.verb not in ATTENDING]
    visit = next((visit for visit in journal.visits() if one.id in visit.runs), None)
    approved = visit.environment.get("approved", "") if visit is not None else ""
    if wanted == "json":
        steps = [{**step_as_json(step), "outcome": _outcome(mark), **_why(mark)} for step, mark in ended]
        print_json({"run": one.id, "what": _what(one), "approved": approved, "steps": steps})
        return 0
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    counts: _Counts = Counter(mark.outcome if mark else None for _, mark in asked)
    screen.parts(
        (f"Run {one.id}: {_what(one)}", "bold"),
        (f"  {moment_text(one.began_ns)}, as {one.account}, {_state(one, counts, active)}", ""),
    )
    screen.line(f"by {shown(one.origin)}" + (f", approved by {shown(approved)}" if approved else ""))
    from frugal_sorter.reports.saved import kept_totals

    sums = kept_totals(ready_state_folder(), one.id)
    if sums is not None:
        texts = [f"{count_text(each.files, 'file')} of {size_text(each.bytes)}" for each in sums]
        counted = held_text(sums[0].levels.values())
        screen.line(f"its folders held {texts[0]} before and {texts[1]} after ({counted})")
    near = {place.folder for step, _ in asked for place in (step.source, step.target) if place and not _is_trash(step, place)}
    base = common_base(sorted(near))
    screen.line(f"paths relative to {shown(base)}")
    screen.line()
    for step, mark in asked:
        screen.line(_line(step, mark, base))
    screen.line()
    text = done_text(Tally(step for step, mark in asked if mark and mark.outcome == Outcome.DONE))
    screen.line(f"{text[:1].upper()}{text[1:]}. Not done: {_not_done(counts):,}.", style="bold")
    if visit is not None and visit.freed and visit.free_after is not None:
        screen.line(f"It freed {size_text(visit.freed)}, leaving {size_text(visit.free_after)} free.")
    return 0


def _outcome(mark: Mark | None) -> str:
    if mark is None:
        return "not yet"
    return "left" if mark.outcome is Outcome.NOT_RUN else mark.outcome.name.lower()


def _why(mark: Mark | None) -> Mapping[str, str]:
    return {"reason": mark.reason if mark else "", "code": mark.code if mark else ""}


def _is_trash(step: Step, place: Place) -> bool:
    return place == (step.target if step.verb == "trash" else step.source if step.verb == "restore" else None)


def _line(step: Step, mark: Mark | None, base: str) -> str:
    word = WORDS[step.verb].done if mark and mark.outcome == Outcome.DONE else _outcome(mark)
    why = f": {shown(mark.reason)}" if mark and mark.reason else ""
    return f"{word:9}{step_text(step, base)}{why}"


def _show_file(journal: Journal, name: str, wanted: str) -> int:
    """Print every step that was about files of one name, and where they are now, as far as runs tell."""
    named = slashed.abspath(name) if "/" in name else name
    from frugal_sorter.execution.earlier_runs import about

    found = about(journal, slashed.slashed(named))
    if wanted == "json":
        rows = [{"run": run, **step_as_json(step), "outcome": _outcome(mark), **_why(mark)} for run, step, mark in found]
        print_json({"file": named, "steps": rows})
        return 0
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    if not found:
        screen.line(f"No run changed {shown(named)}.")
        return 0
    runs = {one.id: one for one in journal.runs()}
    for run, step, mark in found:
        one = runs[run]
        screen.parts((f"run {run:<4}{moment_text(one.began_ns)}  ", "dim"), (_line(step, mark, "/"), ""))
    return 0
