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

from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.execution.recovery import Recovered, recover_interrupted, roll_group_back
from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.state.lock import writer_lock
from frugal_sorter.steps.base import STOPPED, Mark, RunContext, Verb, attempt
from frugal_sorter.steps.info_files import remove_stray_infos
from frugal_sorter.steps.kinds import ATTENDING, REPLACING, STAYING, TAKING
from frugal_sorter.steps.make_folder import remove_unused
from frugal_sorter.steps.registry import verbs_for
from frugal_sorter.steps.restore import Restore
from frugal_sorter.steps.step import ByVerb, Step, VerbName
from frugal_sorter.steps.trash import Trash

BATCH = 1_000
# What a person should know of.
_PROBLEMS = (Outcome.SKIPPED, Outcome.FAILED, Outcome.OPEN)
# Before the first span; no step comes after it.
_NO_SPAN = [-2, -2, 0]
_LOG = logging.getLogger("frugal_sorter")


@dataclass(slots=True)
class Result:
    """What became of a plan: the number of its run, and the marks of its steps by outcome.

    Args:
        run: its number.
        stopped: it was stopped before its end.
        by_verb: how many steps that a person asked for were done.
        counted: the entries that these were about; one can have several.
        not_done: the steps that were not, folders among them.
        lost: for each volume that did not take all that a file had: a folder on it, and what.
        stray: the paths of info files of a trash whose entries are gone, and which could not be removed.
    """

    run: int
    stopped: bool = False
    by_verb: dict[VerbName, int] = field(default_factory=dict)
    counted: ByVerb = field(default_factory=ByVerb)
    not_done: list[tuple[Step, Mark]] = field(default_factory=list)
    lost: dict[int, tuple[str, set[str]]] = field(default_factory=dict)
    stray: list[str] = field(default_factory=list)

    @property
    def done(self) -> int:
        """How many steps that a person asked for were done."""
        return sum(self.by_verb.values())

    @property
    def has_problem(self) -> bool:
        """Whether a step was skipped or failed, or its end is not known, which a person should know of."""
        return any(mark.outcome in _PROBLEMS for _, mark in self.not_done)

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
        self, journal: Journal, result: Result, on_step: Callable[[Step, Mark], None], catch_up: Callable[[], None]
    ) -> None:
        self._journal = journal
        self._result = result
        self._on_step = on_step
        self._catch_up = catch_up
        self._spans: list[list[int]] = [_NO_SPAN]
        self._others: list[Mark] = []
        self._waiting = 0
        self.unheard: OSError | None = None
        self.has_open = False
        self.renewed: set[int] = set()
        self._last = 0
        # What folders that were made are.
        self._made: dict[int, Identity | None] = {}

    def take(self, step: Step, mark: Mark) -> None:
        """Take in the end of a step."""
        result = self._result
        _, outcome, reason, now, data = mark
        self._last = step.id
        if step.verb == "make-folder":
            self._made[step.id] = now
        if not result.stopped and self.unheard is None:
            try:
                self._on_step(step, mark)
            except OSError as error:
                # That nobody can be told does not stop what was asked for; it is said when all is written down.
                self.unheard = error
        if outcome is not Outcome.DONE:
            if step.verb not in ATTENDING or step.verb == "make-folder":
                result.not_done.append((step, mark))
            if outcome in _PROBLEMS:
                _LOG.warning("run %s: %s %r: %r", result.run, step.verb, step.place.path, mark.reason)
            if outcome is Outcome.OPEN:
                # Without a mark, so that the recovery finds out and puts right what is left of it.
                self.has_open = True
            else:
                self._others.append(mark)
        else:
            verb, number = step.verb, step.id
            if verb not in ATTENDING:
                result.by_verb[verb] = result.by_verb.get(verb, 0) + 1
                result.counted.add(step)
            # A mark without an identity means that of the journal, which knows a renewed step as it was before.
            if data or reason or number in self.renewed or not (now is None or now is step.was or now == step.was):
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

    def seen(self, plan: Plan) -> list[tuple[Step, Mark]]:
        """Return the steps that have ended, each with its mark, where some of them were not done."""
        if not self._result.not_done:
            return []
        ended = {step.id: mark for step, mark in self._result.not_done}
        return [(step, ended.get(step.id) or Mark(step.id, Outcome.DONE, "", self._made.get(step.id)))
                for step in plan.steps if step.id <= self._last]  # fmt: skip

    def take_back(self, marks: Sequence[Mark]) -> None:
        """Take in that steps which were done have been taken back."""
        self._others += marks

    def write_down(self) -> None:
        """Write down what was taken in since the last time, when nothing that belongs to it is left to do."""
        self._catch_up()
        self._journal.mark_done(
            self._result.run, [(first, last, bool(there)) for first, last, there in self._spans[1:]]
        )
        self._journal.mark(self._result.run, self._others)
        self._spans, self._others, self._waiting = [_NO_SPAN], [], 0


@contextmanager
def changing(
    folder: Path, what: str, on_recovered: Callable[[Recovered], None] = lambda _settled: None
) -> Iterator[Journal]:  # fmt: skip
    """Hold the right to change files, with the journal open and killed runs settled.

    Args:
        folder: the state folder.
        what: the command, shown to other writers.
        on_recovered: called for each run that was interrupted, with what became of it.

    Raises:
        RefusedError: another process is changing files.
        StateError: the journal cannot be used.
    """
    with writer_lock(folder, what), Journal(folder, write=True) as journal:
        for settled in recover_interrupted(journal):
            on_recovered(settled)
        yield journal


def execute(
    plan: Plan,
    journal: Journal,
    on_step: Callable[[Step, Mark], None],
    stop: Callable[[], bool] = lambda: False,
) -> Result:
    """Carry out a plan. Every intent is on the disk before the first change.

    Args:
        plan: what to do.
        journal: open for writing, under the writer lock.
        on_step: called after each step.
        stop: asked before each step; when it says so the rest is not done.

    Raises:
        StateError: the journal cannot be written.
    """
    if plan.kind != "undo":
        with Descriptors() as descriptors:
            _note_times(plan, descriptors)
    began_ns = time.time_ns()
    run = journal.begin(plan, began_ns)
    _LOG.info("run %s begins: %s by %s, %s steps", run, plan.kind, plan.origin, len(plan.steps))
    result = Result(run)
    with Descriptors() as descriptors:
        # A clock that was set back tells nothing about what was seen before what.
        planned_ns = plan.made_ns if plan.made_ns <= began_ns else 0
        context = RunContext(
            descriptors, run, began_ns, planned_ns, journal.token(run),
            lambda mark, durable: journal.note(run, mark, durable), stop,
        )  # fmt: skip
        verbs = verbs_for(context)
        trash, restore = verbs["trash"], verbs["restore"]
        assert isinstance(trash, Trash) and isinstance(restore, Restore)
        ends = _Ends(journal, result, on_step, restore.catch_up)
        renewed = _Renewed(ends.renewed)
        try:
            restore.lag()
            trash.prepare([step for step in plan.steps if step.verb == "trash"])
            tidied = False
            for steps in plan.in_groups():
                if not result.stopped and stop():
                    result.stopped = True
                if steps[0].verb == "note-times" and not tidied:
                    tidied = True
                    ends.take_back(remove_unused(context, ends.seen(plan)))
                if result.stopped and steps[0].verb != "note-times":
                    for step in steps:
                        ends.take(step, Mark(step.id, Outcome.NOT_RUN, STOPPED))
                elif len(steps) == 1:
                    renewed.lead(steps[0])
                    mark = attempt(verbs[steps[0].verb], steps[0])
                    renewed.follow(steps[0], mark)
                    ends.take(steps[0], mark)
                else:
                    for step, mark in zip(steps, _whole_or_not(verbs, steps, renewed), strict=True):
                        ends.take(step, mark)
            if not tidied:
                ends.take_back(remove_unused(context, ends.seen(plan)))
        finally:
            trash.finish()
            restore.finish()
            result.stray = remove_stray_infos(context)
            ends.write_down()
    if not ends.has_open:
        journal.close(run, "stopped" if result.stopped else "done", time.time_ns(), result.counts())
    _LOG.info("run %s ends: %s done, %s not", run, result.done, len(result.not_done))
    if ends.unheard is not None:
        raise ends.unheard
    return result


class _Renewed:
    """The entries that are others by their numbers since a step of the run: a copy on another volume, for one.

    Args:
        steps: filled in: the steps that know their entry by that.
    """

    def __init__(self, steps: set[int]) -> None:
        self._now: dict[Place, Identity] = {}
        self._steps = steps

    def lead(self, step: Step) -> None:
        """Let a step know its entry, if an earlier one made it another one."""
        if self._now and step.source in self._now and step.was is not None:
            step.was = self._now[step.source]._replace(inside=step.was.inside and self._now[step.source].inside)
            self._steps.add(step.id)

    def follow(self, step: Step, mark: Mark) -> None:
        """Take in what a step made of its entry."""
        if mark.outcome is not Outcome.DONE or mark.now is None or step.was is None or mark.now is step.was:
            return
        if step.verb in TAKING | REPLACING and not mark.now.same_who(step.was):
            place = step.source if step.verb in REPLACING else step.target
            assert place is not None
            self._now[place] = mark.now


def _whole_or_not(verbs: Mapping[VerbName, Verb], steps: Sequence[Step], renewed: _Renewed) -> list[Mark]:
    """Carry out the steps of a group; when one is not done, those before it are put back."""
    ended: list[Mark] = []
    for step in steps:
        renewed.lead(step)
        mark = attempt(verbs[step.verb], step)
        if mark.outcome != Outcome.DONE:
            return roll_group_back(verbs, steps, ended, mark)
        renewed.follow(step, mark)
        ended.append(mark)
    return ended


def _note_times(plan: Plan, descriptors: Descriptors) -> None:
    """Append to a plan what lets its undo restore the times of the folders that it changes."""
    made = {step.target.path for step in plan.steps if step.verb == "make-folder" and step.target}
    places: dict[str, None] = {}
    for step in plan.steps:
        if step.source is not None and step.verb not in STAYING:
            places[step.source[0]] = None
        if step.target is not None and step.verb != "trash":
            places[step.target[0]] = None
        if step.args:
            places |= dict.fromkeys(os.path.dirname(member["path"]) for member in step.args.get("members", ()))
    for folder in places:
        if folder in made or folder == os.path.dirname(folder):
            continue
        try:
            _, found = descriptors.entry(place_of(folder))
        except OSError:
            continue  # then its steps will fail, and say why
        plan.add("note-times", "", "", found.place, None, found.identity, {"mtime_ns": found.mtime_ns})
