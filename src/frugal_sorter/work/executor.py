"""Carries a plan out, step by step, and writes it down; the only way a file is ever changed."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from frugal_sorter.files.record import place_of
from frugal_sorter.files.status import look
from frugal_sorter.plans.plan import Plan, Step, VerbName
from frugal_sorter.state.lock import writer_lock
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.folders import MakeFolder, RemoveFolder
from frugal_sorter.work.journal import Journal, Run
from frugal_sorter.work.mark import Mark, Outcome, Verb
from frugal_sorter.work.moves import Move
from frugal_sorter.work.times import NoteTimes, RestoreTimes

BATCH = 1_000


def verbs_over(descriptors: Descriptors) -> Mapping[VerbName, Verb]:
    """Return every verb by its name."""
    return {
        "make-folder": MakeFolder(descriptors),
        "move": Move(descriptors),
        "remove-folder": RemoveFolder(descriptors),
        "note-times": NoteTimes(descriptors),
        "restore-times": RestoreTimes(descriptors),
    }


@dataclass(slots=True)
class Result:
    """What became of a plan: the number of its run, and the marks of its moves by outcome."""

    run: int
    stopped: bool = False
    done: int = 0
    not_done: list[tuple[Step, Mark]] = field(default_factory=list)

    @property
    def has_problem(self) -> bool:
        """Whether a step was skipped or failed, which a person should know of."""
        return any(mark.outcome in (Outcome.SKIPPED, Outcome.FAILED) for _, mark in self.not_done)


@contextmanager
def changing(folder: Path, what: str) -> Iterator[Journal]:
    """Hold the right to change files, with the journal open and killed runs settled.

    Args:
        folder: the state folder.
        what: the command, shown to other writers.

    Raises:
        RefusedError: another process is changing files.
        StateError: the journal cannot be used.
    """
    with writer_lock(folder, what), Journal(folder, write=True) as journal:
        settle_unfinished(journal)
        yield journal


def execute(
    plan: Plan,
    journal: Journal,
    told: Callable[[Step, Mark], None],
    stop: Callable[[], bool] = lambda: False,
) -> Result:
    """Carry out a plan. Every intent is on the disk before the first change.

    Args:
        plan: what to do.
        journal: open for writing, under the writer lock.
        told: called after each step.
        stop: asked before each step; when it says so the rest is not done.

    Raises:
        StateError: the journal cannot be written.
    """
    if plan.kind == "tidy":
        _note_times(plan)
    run = journal.begin(plan, time.time_ns())
    result = Result(run)
    marks: list[Mark] = []
    with Descriptors() as descriptors:
        verbs = verbs_over(descriptors)
        try:
            for step in plan.steps:
                if not result.stopped and stop():
                    result.stopped = True
                if result.stopped and step.verb != "note-times":
                    mark = Mark(step.id, Outcome.LEFT, "the run was stopped before it")
                else:
                    mark = verbs[step.verb].do(step)
                    told(step, mark)
                _count(result, step, mark)
                marks.append(mark)
                if len(marks) >= BATCH:
                    journal.mark(run, marks)
                    marks = []
        finally:
            journal.mark(run, marks)
    journal.close(run, "stopped" if result.stopped else "done", time.time_ns())
    return result


def _count(result: Result, step: Step, mark: Mark) -> None:
    if mark.outcome != Outcome.DONE:
        if step.verb in ("move", "make-folder"):
            result.not_done.append((step, mark))
    elif step.verb == "move":
        result.done += 1


def _note_times(plan: Plan) -> None:
    """Append to a plan what lets its undo restore the times of the folders that it changes."""
    made = {step.target.path for step in plan.steps if step.verb == "make-folder" and step.target}
    changed = dict.fromkeys(place.folder for step in plan.steps for place in (step.source, step.target) if place)
    for folder in changed:
        if folder in made or folder == os.path.dirname(folder):
            continue
        try:
            found = look(place_of(folder))
        except OSError:
            continue  # then its steps will fail, and say why
        plan.add("note-times", "", "", found.place, None, found.identity, {"mtime_ns": found.mtime_ns})


def found_after_kill(journal: Journal, run: Run) -> list[tuple[Step, Mark]]:
    """Return how the steps of a killed run ended, as the disk tells; nothing is changed."""
    return _settled(journal, run, repair=False)


def settle_unfinished(journal: Journal) -> None:
    """Write down how the steps of killed runs ended, and close those runs."""
    for run in journal.unsettled():
        marks = [mark for _, mark in _settled(journal, run, repair=True)]
        journal.mark(run.id, marks)
        journal.close(run.id, "interrupted", time.time_ns())


def _settled(journal: Journal, run: Run, repair: bool) -> list[tuple[Step, Mark]]:
    ended = []
    with Descriptors() as descriptors:
        verbs = verbs_over(descriptors)
        for step, mark in journal.steps(run.id):
            ended.append((step, mark or verbs[step.verb].settle(step, run.began_ns, repair)))
    return ended
