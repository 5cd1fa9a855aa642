"""Carries a plan out, step by step, and writes it down; the only way a file is ever changed."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.execution.recovery import Recovered, catch_up, recover_interrupted, roll_group_back
from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import PROBLEMS, Outcome, Why
from frugal_sorter.state import log, writer_lock
from frugal_sorter.steps.kinds import ATTENDING, REPLACING, STAYING, TAKING, VerbName
from frugal_sorter.steps.making import remove_unused
from frugal_sorter.steps.step import Mark, RunContext, Step, Tally, attempt, left_undone, verbs_for
from frugal_sorter.steps.trashing import remove_stray_infos
from frugal_sorter.values import field, mutable

BATCH = 1_000


@mutable
class Result:
    """What became of a plan: the number of its run, and the marks of its steps by outcome.

    Args:
        run: its number.
        stopped: it was stopped before its end.
        done: what was done of what a person asked for.
        not_done: the steps that were not, folders among them.
        lost: for each volume that did not take everything that a file had: a folder on it, and what.
        stray: the paths of info files of a trash whose entries are gone, and which could not be removed.
    """

    run: int
    stopped: bool = False
    done: Tally = field(default_factory=Tally)
    not_done: list[tuple[Step, Mark]] = field(default_factory=list)
    lost: dict[int, tuple[str, set[str]]] = field(default_factory=dict)
    stray: list[str] = field(default_factory=list)

    @property
    def has_problem(self) -> bool:
        """Whether a step was skipped or failed, or its end is not known, which a person should know of."""
        return any(mark.outcome in PROBLEMS for _, mark in self.not_done)

    def counts(self) -> dict[Outcome | None, int]:
        """Return how many of the steps that a person asked for had each outcome."""
        counts: Counter[Outcome | None] = Counter(mark.outcome for step, mark in self.not_done if step.verb not in ATTENDING)
        return {Outcome.DONE: self.done.steps, **counts}


@mutable
class _Span:
    """Steps that follow each other, were done, and left their entries alike: there, or gone."""

    first: int
    last: int
    is_there: bool


class _Ends:
    """Collects how the steps of a run end, and writes it down by the thousand.

    Most are done and only move their entries, which is written as spans.
    """

    def __init__(
        self, journal: Journal, result: Result, on_step: Callable[[Step, Mark], None], catch_up: Callable[[], None]
    ) -> None:
        self._journal = journal
        self.result = result
        self._on_step = on_step
        self._catch_up = catch_up
        self._spans: list[_Span] = []
        self._others: list[Mark] = []
        # Counted together when they are written down.
        self._done: list[Step] = []
        self._waiting = 0
        self.unheard: OSError | None = None
        self.has_open = False
        self.renewed: set[int] = set()
        self._last = 0
        # What folders that were made are.
        self._made: dict[int, Identity | None] = {}

    def take(self, step: Step, mark: Mark) -> None:
        """Note the end of a step."""
        result = self.result
        _, outcome, reason, now, data = mark
        self._last = step.id
        if step.verb == "make-folder":
            self._made[step.id] = now
        if not result.stopped and self.unheard is None:
            try:
                self._on_step(step, mark)
            except OSError as error:
                # A failed message does not stop the work; it is reported when everything is written.
                self.unheard = error
        if outcome is not Outcome.DONE:
            # A folder that could not be made explains why what was to go into it was not done.
            if step.verb not in ATTENDING or step.verb == "make-folder":
                result.not_done.append((step, mark))
            if outcome in PROBLEMS:
                log().warning("run %s: %s %r: %r", result.run, step.verb, step.place.path, mark.reason)
            if outcome is Outcome.OPEN:
                # Without a mark, so that the recovery finds out and puts right what is left of it.
                self.has_open = True
            else:
                self._others.append(mark)
        else:
            verb, number = step.verb, step.id
            if verb not in ATTENDING:
                self._done.append(step)
            # A mark without an identity means that of the journal, which knows a renewed step as it was before.
            if data or reason or number in self.renewed or not (now is None or now is step.was or now == step.was):
                self._others.append(mark)
                self._count_lost(step, mark)
            else:
                last = self._spans[-1] if self._spans else None
                if last is not None and last.last == number - 1 and last.is_there == (now is not None):
                    last.last = number
                else:
                    self._spans.append(_Span(number, number, now is not None))
        self._waiting += 1
        # A transaction a step would cost more than the step; what a crash leaves unwritten is read off the disk.
        if self._waiting >= BATCH:
            self.write_down()

    def _count_lost(self, step: Step, mark: Mark) -> None:
        if mark.data and mark.data.get("lost") and mark.now and step.target:
            kinds = {kind for one in mark.data["lost"].values() for kind in one}
            self.result.lost.setdefault(mark.now.dev, (step.target.folder, set()))[1].update(kinds)

    def seen(self, plan: Plan) -> list[tuple[Step, Mark]]:
        """Return the steps that have ended, each with its mark, where some of them were not done."""
        # In a run without a fault every folder that was made is used: nothing is to be looked at again.
        if not self.result.not_done:
            return []
        ended = {step.id: mark for step, mark in self.result.not_done}
        return [
            (step, ended.get(step.id) or Mark(step.id, Outcome.DONE, "", self._made.get(step.id)))
            for step in plan.steps
            if step.id <= self._last
        ]

    def take_back(self, marks: Sequence[Mark]) -> None:
        """Note that steps which were done have been taken back."""
        self._others += marks

    def write_down(self) -> None:
        """Write down how steps have ended since the last time, once nothing is left to do for them."""
        self._catch_up()
        self._journal.mark_done(self.result.run, [(span.first, span.last, span.is_there) for span in self._spans])
        self._journal.mark(self.result.run, self._others)
        self.result.done.add(self._done)
        self._spans, self._others, self._done, self._waiting = [], [], [], 0


@contextmanager
def changing(
    folder: Path, what: str, on_recovered: Callable[[Recovered], None] = lambda _recovered: None, patience: float = 0
) -> Iterator[Journal]:
    """Hold the right to change files, with the journal open and interrupted runs recovered.

    Args:
        folder: the state folder.
        what: the command, shown to other writers.
        on_recovered: called for each run that was interrupted, with what became of it.
        patience: for how many seconds another process that is changing files is waited for.

    Raises:
        RefusedError: another process is changing files.
        StateError: the journal cannot be used.
    """
    with writer_lock(folder, what, patience), Journal(folder, write=True) as journal:
        for recovered in recover_interrupted(journal):
            on_recovered(recovered)
        journal.interrupt_visits()
        yield journal


def execute(
    plan: Plan, journal: Journal, on_step: Callable[[Step, Mark], None], stop: Callable[[], bool] = lambda: False
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
        # As they are before the first change; the steps come last, and note what they have become.
        with Descriptors() as descriptors:
            _note_times(plan, descriptors)
    # From here on a crash leaves a run behind that the next command finds, with everything that was meant.
    began_ns = time.time_ns()
    run = journal.begin(plan, began_ns)
    log().info("run %s begins: %s by %s, %s steps", run, plan.kind, plan.origin, len(plan.steps))
    with Descriptors() as descriptors:
        # A clock that was set back does not tell what was seen first.
        planned_ns = plan.made_ns if plan.made_ns <= began_ns else 0
        context = RunContext(
            descriptors,
            run,
            began_ns,
            planned_ns,
            journal.token(run),
            lambda mark, durable: journal.note(run, mark, durable),
            stop,
            journal.likely_ns(began_ns),
        )
        execution = _Execution(plan, journal, context, on_step)
        try:
            execution.carry_out()
        finally:
            execution.finish()
    result = execution.ends.result
    # With an open step the run stays open too: it is the recovery of the next command that ends it.
    if not execution.ends.has_open:
        journal.close(run, "stopped" if result.stopped else "done", time.time_ns(), result.counts(), result.done)
    log().info("run %s ends: %s done, %s not", run, result.done.steps, len(result.not_done))
    # Only now, when all is done and written down: the exit code says that the list is not complete.
    if execution.ends.unheard is not None:
        raise execution.ends.unheard
    return result


class _Execution:
    """One run, from its first step to its last."""

    def __init__(self, plan: Plan, journal: Journal, context: RunContext, on_step: Callable[[Step, Mark], None]) -> None:
        self._plan = plan
        self._context = context
        self._verbs = verbs_for(context)
        self.ends = _Ends(journal, Result(context.run), on_step, lambda: catch_up(self._verbs))
        self._renewed = _Renewed(self.ends.renewed)
        self._are_folders_tidied = False

    def carry_out(self) -> None:
        """Carry out all steps, or those before a person or a signal says stop."""
        by_verb: dict[VerbName, list[Step]] = {}
        for step in self._plan.steps:
            by_verb.setdefault(step.verb, []).append(step)
        # What many steps share is begun beside them, such as the info files of the trash.
        for verb, steps in by_verb.items():
            self._verbs[verb].prepare(steps)
        for steps in self._plan.in_groups():
            self._group(steps)
        self._tidy_folders()

    def _group(self, steps: Sequence[Step]) -> None:
        """Carry out steps that are done whole or put back whole."""
        result = self.ends.result
        if not result.stopped and self._context.stop():
            result.stopped = True
        # Their times are noted after the last change, also where it came early.
        is_noting = steps[0].verb == "note-times"
        if is_noting:
            self._tidy_folders()
        if result.stopped and not is_noting:
            for step in steps:
                self.ends.take(step, left_undone(step, Why.STOPPED()))
        elif len(steps) == 1:
            self.ends.take(steps[0], self._do(steps[0]))
        else:
            for step, mark in zip(steps, self._whole_or_not(steps), strict=True):
                self.ends.take(step, mark)

    def _do(self, step: Step) -> Mark:
        self._renewed.lead(step)
        mark = attempt(self._verbs[step.verb], step)
        self._renewed.follow(step, mark)
        return mark

    def _whole_or_not(self, steps: Sequence[Step]) -> list[Mark]:
        """Carry out the steps of a group; when one is not done, those before it are put back."""
        ended: list[Mark] = []
        for step in steps:
            mark = self._do(step)
            if mark.outcome != Outcome.DONE:
                return roll_group_back(self._verbs, steps, ended, mark)
            ended.append(mark)
        return ended

    def _tidy_folders(self) -> None:
        """Remove the folders that were made and that nothing came into; once, after the last step of the plan."""
        if not self._are_folders_tidied:
            self._are_folders_tidied = True
            self.ends.take_back(remove_unused(self._context, self.ends.seen(self._plan)))

    def finish(self) -> None:
        """End what lags behind, and write down what was done, whatever happened."""
        # Before the last marks: none may say done while what belongs to its step is under way.
        for verb in self._verbs.values():
            verb.finish()
        self.ends.result.stray = remove_stray_infos(self._context)
        self.ends.write_down()


class _Renewed:
    """The entries that are others by their numbers since a step of the run: a copy on another volume, for one.

    Args:
        steps: filled in: the steps that know their entry by that.
    """

    def __init__(self, steps: set[int]) -> None:
        self._now: dict[Place, Identity] = {}
        self._steps = steps

    # A move to another volume makes another inode: later steps of the entry know it by the one of the plan.
    def lead(self, step: Step) -> None:
        """Let a step know its entry, if an earlier one made it another one."""
        if self._now and step.source in self._now and step.was is not None:
            step.was = self._now[step.source]._replace(inside=step.was.inside and self._now[step.source].inside)
            self._steps.add(step.id)

    def follow(self, step: Step, mark: Mark) -> None:
        """Note what a step made of its entry."""
        if mark.outcome is not Outcome.DONE or mark.now is None or step.was is None or mark.now is step.was:
            return
        if step.verb in TAKING | REPLACING and not mark.now.same_who(step.was):
            # What replaces a file is under its name; what takes one away is at the target.
            place = step.source if step.verb in REPLACING else step.target
            assert place is not None
            self._now[place] = mark.now


def _note_times(plan: Plan, descriptors: Descriptors) -> None:
    """Append to a plan what lets its undo restore the times of the folders that it changes."""
    made = {step.target.path for step in plan.steps if step.verb == "make-folder" and step.target}
    places: dict[str, None] = {}
    for step in plan.steps:
        # The time of a folder changes with the names in it.
        if step.source is not None and step.verb not in STAYING:
            places[step.source[0]] = None
        if step.target is not None and step.verb != "trash":
            places[step.target[0]] = None
        if step.details:
            places |= dict.fromkeys(os.path.dirname(member["path"]) for member in step.details.get("members", ()))
    for folder in places:
        # What the run makes goes with its undo, and nobody sets the time of the root.
        if folder in made or folder == os.path.dirname(folder):
            continue
        try:
            _, found = descriptors.entry(place_of(folder))
        except OSError:
            continue  # then its steps will fail, and say why
        plan.add("note-times", "", "", found.place, None, found.identity, {"mtime_ns": found.mtime_ns})
