"""Carries a plan out, step by step, and writes it down; the only way a file is ever changed."""

from __future__ import annotations

import logging
import os
import time
from collections import Counter
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
from frugal_sorter.work.trash import Restore, Trash
from frugal_sorter.work.verbs import verbs_for

BATCH = 1_000
# Before the first span; no step comes after it.
_NO_SPAN = [-2, -2, 0]
# They leave the folder of their entry as it is.
_STAYING = frozenset({"set-attribute", "run", "copy", "link"})
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

    def counts(self) -> dict[Outcome | None, int]:
        """Return how many steps that a person asked for ended in which way."""
        counts: Counter[Outcome | None] = Counter(
            mark.outcome for step, mark in self.not_done if step.verb not in ATTENDING
        )
        return {Outcome.DONE: self.done, **counts}


class _Ends:
    """Takes in how the steps of a run end, and writes it down by the thousand.

    Most are done and leave their entries as they were but for their places, which is said in spans.
    """

    def __init__(
        self, journal: Journal, result: Result, told: Callable[[Step, Mark], None], catch_up: Callable[[], None]
    ) -> None:
        self._journal = journal
        self._result = result
        self._told = told
        self._catch_up = catch_up
        self._spans: list[list[int]] = [_NO_SPAN]
        self._others: list[Mark] = []
        self._waiting = 0

    def take(self, step: Step, mark: Mark) -> None:
        """Take in the end of a step."""
        result = self._result
        _, outcome, reason, now, data = mark
        if not result.stopped:
            self._told(step, mark)
        if outcome is not Outcome.DONE:
            if step.verb not in ATTENDING or step.verb == "make-folder":
                result.not_done.append((step, mark))
            if outcome in (Outcome.SKIPPED, Outcome.FAILED):
                _LOG.warning("run %s: %s %r: %s", result.run, step.verb, step.place.path, mark.reason)
            self._others.append(mark)
        else:
            verb, number = step.verb, step.id
            if verb not in ATTENDING:
                result.by_verb[verb] = result.by_verb.get(verb, 0) + 1
            if data or reason or not (now is None or now is step.was or now == step.was):
                self._others.append(mark)
                self._count_lost(step, mark)
            else:
                last = self._spans[-1]
                if last[1] == number - 1 and last[2] == (now is not None):
                    last[1] = number
                else:
                    self._spans.append([number, number, now is not None])
        self._waiting += 1
        if self._waiting >= BATCH:
            self.write_down()

    def _count_lost(self, step: Step, mark: Mark) -> None:
        if mark.data and mark.data.get("lost") and mark.now and step.target:
            kinds = {kind for one in mark.data["lost"].values() for kind in one}
            self._result.lost.setdefault(mark.now.dev, (step.target.folder, set()))[1].update(kinds)

    def write_down(self) -> None:
        """Write down what was taken in since the last time, when nothing that belongs to it is left to do."""
        self._catch_up()
        self._journal.mark_done(
            self._result.run, [(first, last, bool(there)) for first, last, there in self._spans[1:]]
        )
        self._journal.mark(self._result.run, self._others)
        self._spans, self._others, self._waiting = [_NO_SPAN], [], 0


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
    with Descriptors() as descriptors:
        # A clock that was set back tells nothing about what was seen before what.
        planned_ns = plan.made_ns if plan.made_ns <= began_ns else 0
        job = Job(descriptors, run, began_ns, planned_ns, lambda mark: journal.note(run, mark))
        verbs = verbs_for(job)
        trash, restore = verbs["trash"], verbs["restore"]
        assert isinstance(trash, Trash) and isinstance(restore, Restore)
        ends = _Ends(journal, result, told, restore.catch_up)
        try:
            restore.lag()
            trash.prepare([step for step in plan.steps if step.verb == "trash"])
            for steps in plan.in_groups():
                if not result.stopped and stop():
                    result.stopped = True
                if result.stopped and steps[0].verb != "note-times":
                    for step in steps:
                        ends.take(step, Mark(step.id, Outcome.LEFT, "the run was stopped before it"))
                elif len(steps) == 1:
                    ends.take(steps[0], attempt(verbs[steps[0].verb], steps[0]))
                else:
                    for step, mark in zip(steps, _whole_or_not(verbs, steps), strict=True):
                        ends.take(step, mark)
        finally:
            trash.finish()
            restore.finish()
            ends.write_down()
    journal.close(run, "stopped" if result.stopped else "done", time.time_ns(), result.counts())
    _LOG.info("run %s ends: %s done, %s not", run, result.done, len(result.not_done))
    return result


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
    places: dict[str, None] = {}
    for step in plan.steps:
        if step.source is not None and step.verb not in _STAYING:
            places[step.source[0]] = None
        if step.target is not None and step.verb != "trash":
            places[step.target[0]] = None
        if step.args:
            places |= dict.fromkeys(os.path.dirname(member["path"]) for member in step.args.get("members", ()))
    for folder in places:
        if folder in made or folder == os.path.dirname(folder):
            continue
        try:
            found = look(place_of(folder))
        except OSError:
            continue  # then its steps will fail, and say why
        plan.add("note-times", "", "", found.place, None, found.identity, {"mtime_ns": found.mtime_ns})
