"""Carries a plan out, step by step, and writes it down; the only way a file is ever changed."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from frugal_sorter.files.record import place_of
from frugal_sorter.files.status import look
from frugal_sorter.plans.plan import ATTENDING, Plan, Step, VerbName
from frugal_sorter.state.lock import writer_lock
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.journal import Journal
from frugal_sorter.work.mark import Job, Mark, Outcome, Verb, attempt
from frugal_sorter.work.recover import put_group_back, settle_unfinished
from frugal_sorter.work.trash import Trash
from frugal_sorter.work.verbs import verbs_for

BATCH = 1_000
_LOG = logging.getLogger("frugal_sorter")


@dataclass(slots=True)
class Result:
    """What became of a plan: the number of its run, and the marks of its steps by outcome.

    Args:
        run: its number.
        stopped: it was stopped before its end.
        done: how many steps that a person asked for were done, by verb.
        not_done: the steps that were not, folders among them.
        lost: for each volume that did not take all that a file had: a folder on it, and what.
    """

    run: int
    stopped: bool = False
    by_verb: dict[VerbName, int] = field(default_factory=dict)
    not_done: list[tuple[Step, Mark]] = field(default_factory=list)
    lost: dict[int, tuple[str, set[str]]] = field(default_factory=dict)

    @property
    def done(self) -> int:
        """How many steps that a person asked for were done."""
        return sum(self.by_verb.values())

    @property
    def has_problem(self) -> bool:
        """Whether a step was skipped or failed, which a person should know of."""
        return any(mark.outcome in (Outcome.SKIPPED, Outcome.FAILED) for _, mark in self.not_done)

    def count(self, step: Step, mark: Mark) -> None:
        """Take in how a step ended."""
        if mark.outcome != Outcome.DONE:
            if step.verb not in ATTENDING or step.verb == "make-folder":
                self.not_done.append((step, mark))
            return
        if step.verb not in ATTENDING:
            self.by_verb[step.verb] = self.by_verb.get(step.verb, 0) + 1
        if mark.data and mark.data.get("lost") and mark.now and step.target:
            kinds = {kind for one in mark.data["lost"].values() for kind in one}
            self.lost.setdefault(mark.now.dev, (step.target.folder, set()))[1].update(kinds)


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
    if plan.kind != "undo":
        _note_times(plan)
    began_ns = time.time_ns()
    run = journal.begin(plan, began_ns)
    _LOG.info("run %s begins: %s by %s, %s steps", run, plan.kind, plan.origin, len(plan.steps))
    result = Result(run)
    ended_so_far: list[tuple[Step, Mark]] = []
    with Descriptors() as descriptors:
        job = Job(descriptors, run, began_ns, lambda mark: journal.note(run, mark))
        verbs = verbs_for(job)
        trash = verbs["trash"]
        assert isinstance(trash, Trash)
        try:
            trash.prepare([step for step in plan.steps if step.verb == "trash"])
            for steps in plan.in_groups():
                if not result.stopped and stop():
                    result.stopped = True
                if result.stopped and steps[0].verb != "note-times":
                    ended = [Mark(step.id, Outcome.LEFT, "the run was stopped before it") for step in steps]
                elif len(steps) == 1:
                    ended = [attempt(verbs[steps[0].verb], steps[0])]
                else:
                    ended = _whole_or_not(verbs, steps)
                for step, mark in zip(steps, ended, strict=True):
                    if not result.stopped:
                        told(step, mark)
                    result.count(step, mark)
                    ended_so_far.append((step, mark))
                if len(ended_so_far) >= BATCH:
                    _write_down(journal, run, ended_so_far)
                    ended_so_far = []
        finally:
            trash.finish()
            _write_down(journal, run, ended_so_far)
    journal.close(run, "stopped" if result.stopped else "done", time.time_ns())
    _LOG.info("run %s ends: %s done, %s not", run, result.done, len(result.not_done))
    return result


def _write_down(journal: Journal, run: int, ended: Sequence[tuple[Step, Mark]]) -> None:
    """Write down how steps ended: most are done and left their entries as they were, which is said in spans."""
    spans: list[tuple[int, int, bool]] = []
    others: list[Mark] = []
    for step, mark in ended:
        same = mark.now is None or mark.now == step.was
        if mark.outcome != Outcome.DONE or mark.data or mark.reason or not same:
            others.append(mark)
            if mark.outcome in (Outcome.SKIPPED, Outcome.FAILED):
                _LOG.warning("run %s: %s %r: %s", run, step.verb, step.place.path, mark.reason)
        elif spans and spans[-1][1:] == (step.id - 1, mark.now is not None):
            spans[-1] = (spans[-1][0], step.id, spans[-1][2])
        else:
            spans.append((step.id, step.id, mark.now is not None))
    journal.mark_done(run, spans)
    journal.mark(run, others)


def _whole_or_not(verbs: Mapping[VerbName, Verb], steps: Sequence[Step]) -> list[Mark]:
    """Carry out the steps of a group; when one is not done, those before it are put back."""
    ended: list[Mark] = []
    for step in steps:
        mark = attempt(verbs[step.verb], step)
        if mark.outcome != Outcome.DONE:
            return put_group_back(verbs, steps, ended, mark)
        ended.append(mark)
    return ended


def _note_times(plan: Plan) -> None:
    """Append to a plan what lets its undo restore the times of the folders that it changes."""
    made = {step.target.path for step in plan.steps if step.verb == "make-folder" and step.target}
    places: list[str] = []
    for step in plan.steps:
        if step.source is not None and step.verb not in ("set-attribute", "run", "copy", "link"):
            places.append(step.source.folder)
        if step.target is not None and step.verb != "trash":
            places.append(step.target.folder)
        places += [os.path.dirname(member["path"]) for member in step.args.get("members", ())]
    for folder in dict.fromkeys(places):
        if folder in made or folder == os.path.dirname(folder):
            continue
        try:
            found = look(place_of(folder))
        except OSError:
            continue  # then its steps will fail, and say why
        plan.add("note-times", "", "", found.place, None, found.identity, {"mtime_ns": found.mtime_ns})
