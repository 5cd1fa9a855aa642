"""`frugal history`: all runs, or the steps of one."""

from __future__ import annotations

import argparse
import json
import os
from collections import Counter
from collections.abc import Mapping
from dataclasses import asdict

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.cli.options import add_for, add_format, run_number
from frugal_sorter.cli.output.plan_view import step_as_json, step_text
from frugal_sorter.cli.output.text import common_base, count_text, iso_text, moment_text, shown, size_text
from frugal_sorter.cli.output.words import WORDS, done_text
from frugal_sorter.execution.earlier_runs import about
from frugal_sorter.execution.recovery import state_after_crash
from frugal_sorter.filesystem.record import Place
from frugal_sorter.journal.journal import Journal
from frugal_sorter.journal.run import Run
from frugal_sorter.reports.totals import kept_totals
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.state.lock import writer_is_active
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.kinds import ATTENDING
from frugal_sorter.steps.step import ByVerb, Step

EXAMPLES = """
  frugal history
  frugal history 12
  frugal history --file "glaze list.csv"     where a file went
  frugal history --format json
"""
# What is of no use to anybody else.
_INNER = frozenset({"token", "volumes"})
_Counts = Mapping[Outcome | None, int]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", nargs="?", type=run_number, help="show the steps of one run")
    parser.add_argument("--file", metavar="NAME", help="where files of this name, or at this path, came from and went")
    add_format(parser, "table", "json")
    add_for(parser)


def run(args: argparse.Namespace) -> int:
    folder = ready_state_folder()
    with Journal(folder, write=False) as journal:
        active = writer_is_active(folder)
        if args.file is not None:
            return _show_file(journal, args.file, args.format)
        if args.run is not None:
            return _show_run(journal, journal.run(args.run), active, args.format)
        return _show_runs(journal, active, args.format)


def _killed(one: Run, active: bool) -> bool:
    return one.state == "open" and not active


def _counts(journal: Journal, one: Run, active: bool) -> _Counts:
    """Count the steps of a run by outcome; of a killed one as the disk tells."""
    if not _killed(one, active):
        return journal.counts(one.id)
    return Counter(mark.outcome for step, mark in state_after_crash(journal, one) if step.verb not in ATTENDING)


def _state(one: Run, counts: _Counts, active: bool) -> str:
    total, done = sum(counts.values()), counts.get(Outcome.DONE, 0)
    if one.undone_by is not None:
        return f"taken back by run {one.undone_by}"
    if one.taken_back:
        return f"{one.taken_back:,} of {one.undoable:,} taken back"
    if one.state == "open" and active:
        return "running now"
    if one.state in ("open", "interrupted"):
        undecided = counts.get(Outcome.OPEN, 0)
        unclear = f", {undecided:,} unclear" if undecided else ""
        return f"interrupted after {done:,} of {total:,}{unclear}"
    if one.state == "stopped":
        return f"stopped after {done:,} of {total:,}"
    return "done"


def _what(one: Run) -> str:
    return f"undo of run {one.undoes}" if one.undoes is not None else one.kind


def _not_done(counts: _Counts) -> int:
    return counts.get(Outcome.SKIPPED, 0) + counts.get(Outcome.FAILED, 0)


def _show_runs(journal: Journal, active: bool, wanted: str) -> int:
    runs = [(one, _counts(journal, one, active)) for one in journal.runs()]
    if wanted == "json":
        rows = [
            {
                **{key: value for key, value in asdict(one).items() if not key.endswith("_ns") and key not in _INNER},
                "began": iso_text(one.began_ns),
                "ended": None if one.ended_ns is None else iso_text(one.ended_ns),
                "state": "interrupted" if _killed(one, active) else one.state,
                "done": counts.get(Outcome.DONE, 0),
                "not_done": sum(counts.values()) - counts.get(Outcome.DONE, 0),
            }
            for one, counts in runs
        ]
        print(json.dumps({"runs": rows}, indent=2))
        return 0
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    if not runs:
        screen.line("No run yet.")
        return 0
    columns = [("run", "right"), ("began", "left"), ("what", "left"), ("done", "right"), ("not", "right"),
               ("state", "left"), ("rules", "left")]  # fmt: skip
    screen.table(
        columns,
        [
            [
                str(one.id), moment_text(one.began_ns), _what(one), f"{counts.get(Outcome.DONE, 0):,}",
                f"{_not_done(counts):,}", _state(one, counts, active), shown(one.origin),
            ]
            for one, counts in runs
        ],
        whole=("run", "began", "what", "done", "not", "state"),
    )  # fmt: skip
    listed = [one for one, counts in reversed(runs) if counts.get(Outcome.DONE)]
    last = next(
        (one for one in listed if one.kind != "undo" and one.undone_by is None and journal.can_be_undone(one.id)), None
    )
    if listed:
        screen.line()
        back = f", `frugal undo {last.id}` takes it back" if last is listed[0] else ""
        screen.line(f"`frugal history {listed[0].id}` shows what it did{back}.")
        if last is not None and not back:
            screen.line(f"`frugal undo {last.id}` takes back run {last.id}.")
    return 0


def _show_run(journal: Journal, one: Run, active: bool, wanted: str) -> int:
    ended = state_after_crash(journal, one) if _killed(one, active) else list(journal.steps(one.id))
    asked = [(step, mark) for step, mark in ended if step.verb not in ATTENDING]
    if wanted == "json":
        steps = [
            {**step_as_json(step), "outcome": _outcome(mark), "reason": mark.reason if mark else ""}
            for step, mark in ended
        ]
        print(json.dumps({"run": one.id, "what": _what(one), "steps": steps}, indent=2))
        return 0
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    counts: _Counts = Counter(mark.outcome if mark else None for _, mark in asked)
    screen.parts(
        (f"Run {one.id}: {_what(one)}", "bold"),
        (f"  {moment_text(one.began_ns)}, as {one.account}, {_state(one, counts, active)}", ""),
    )
    screen.line(f"by {shown(one.origin)}")
    sums = kept_totals(ready_state_folder(), one.id)
    if sums is not None:
        texts = [f"{count_text(each.files, 'file')} of {size_text(each.bytes)}" for each in sums]
        screen.line(f"its folders held {texts[0]} before it and {texts[1]} after it, hidden ones too")
    near = {
        place.folder
        for step, _ in asked
        for place in (step.source, step.target)
        if place and not _is_trash(step, place)
    }
    base = common_base(sorted(near))
    screen.line(f"all below {shown(base)}")
    screen.line()
    for step, mark in asked:
        screen.line(_line(step, mark, base))
    screen.line()
    done = ByVerb()
    for step, mark in asked:
        if mark and mark.outcome == Outcome.DONE:
            done.add(step)
    text = done_text(done)
    screen.line(f"{text[:1].upper()}{text[1:]}; {_not_done(counts):,} not done.", style="bold")
    return 0


def _outcome(mark: Mark | None) -> str:
    if mark is None:
        return "not yet"
    return "left" if mark.outcome is Outcome.NOT_RUN else mark.outcome.name.lower()


def _is_trash(step: Step, place: Place) -> bool:
    return place == (step.target if step.verb == "trash" else step.source if step.verb == "restore" else None)


def _line(step: Step, mark: Mark | None, base: str) -> str:
    word = WORDS[step.verb].done if mark and mark.outcome == Outcome.DONE else _outcome(mark)
    why = f": {shown(mark.reason)}" if mark and mark.reason else ""
    return f"{word:9}{step_text(step, base)}{why}"


def _show_file(journal: Journal, name: str, wanted: str) -> int:
    """Print every step that was about files of one name, and where they are now, as far as runs tell."""
    named = os.path.abspath(name) if "/" in name else name
    found = about(journal, named)
    if wanted == "json":
        rows = [
            {"run": run, **step_as_json(step), "outcome": _outcome(mark), "reason": mark.reason if mark else ""}
            for run, step, mark in found
        ]
        print(json.dumps({"file": named, "steps": rows}, indent=2))
        return 0
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    if not found:
        screen.line(f"No run was about {shown(named)}.")
        return 0
    runs = {one.id: one for one in journal.runs()}
    for run, step, mark in found:
        one = runs[run]
        screen.parts((f"run {run:<4}{moment_text(one.began_ns)}  ", "dim"), (_line(step, mark, "/"), ""))
    return 0
