"""What a kill left behind: found out from the disk, put right, and written down."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from itertools import groupby
from typing import NamedTuple

from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.changes.removal import list_folder
from frugal_sorter.errors import FrugalError
from frugal_sorter.journal.database import DAMAGED, Counts, Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.reasons import NotDone, Outcome, Why, reason_of
from frugal_sorter.steps.kinds import ATTENDING, TAKING, VerbName
from frugal_sorter.steps.making import remove_unused
from frugal_sorter.steps.step import (
    PRIVATE,
    Mark,
    RunContext,
    Step,
    Tally,
    Verb,
    attempt,
    left_undone,
    refuse_malformed,
    verbs_for,
)
from frugal_sorter.steps.trashing import remove_stray_infos


class Recovered(NamedTuple):
    """What became of a run that was interrupted.

    Args:
        run: it.
        counts: how many of the steps that a person asked for had each outcome.
        away: where the volumes are mounted that some steps wait for; these stay open until then.
        apart: what was set apart, since it cannot be resolved, and why.
        removed: the paths of unfinished parts that were removed.
        stray: the paths of info files of a trash whose entries are gone, and which could not be removed.
    """

    run: Run
    counts: Counts
    away: tuple[str, ...]
    apart: tuple[str, ...]
    removed: tuple[str, ...]
    stray: tuple[str, ...]


def state_after_crash(journal: Journal, run: Run) -> list[tuple[Step, Mark]]:
    """Return how the steps of a killed run ended, as the disk tells; nothing is changed."""
    return _look(journal, run, repair=False).ended


def recover_interrupted(journal: Journal) -> list[Recovered]:
    """Write down how the steps of killed runs ended, and close the runs that can be seen whole."""
    recovered = []
    for run in journal.interrupted_runs():
        looked = _look(journal, run, repair=True)
        ended = looked.ended
        # What waits for a volume gets no mark, so that it is asked again when the volume is there.
        journal.mark(run.id, [mark for step, mark in ended if mark.outcome != Outcome.NOTED and step.id not in looked.stuck])
        counts: Counter[Outcome | None] = Counter(mark.outcome for step, mark in ended if step.verb not in ATTENDING)
        away = tuple(dict.fromkeys(mark.reason for _, mark in ended if mark.outcome == Outcome.NOTED))
        apart = tuple(f"{step.place.path}: {mark.reason}" for step, mark in ended if mark.outcome == Outcome.OPEN)
        if not away and not looked.stuck:
            done = Tally(step for step, mark in ended if mark.outcome == Outcome.DONE and step.verb not in ATTENDING)
            journal.close(run.id, "interrupted", time.time_ns(), counts, done)
            journal.credit(run.id, done)
        recovered.append(Recovered(run, counts, away, apart, tuple(looked.removed), tuple(looked.stray)))
    return recovered


def recover_unfinished_parts(journal: Journal, run: Run) -> Recovered | None:
    """Settle the steps that a closed run says are done, and whose parts still have their private names.

    A disk that loses power may lose even what it said it had written. Return what became of them, None for none.
    """
    with Descriptors() as descriptors:
        context = RunContext(descriptors, run.id, run.began_ns, token=run.token)
        verbs, left = verbs_for(context), _PrivateNames(context)
        unfinished = [
            step
            for step, mark in journal.steps(run.id)
            if mark is not None and mark.outcome == Outcome.DONE and left.may_have(step)
            if verbs[step.verb].left_under_private_name(step)
        ]
        marks = [_resolve(verbs, step, None, repair=True) for step in unfinished]
    if not marks:
        return None
    journal.mark(run.id, marks)
    journal.recount(run.id)
    apart = tuple(mark.reason for mark in marks if mark.outcome == Outcome.OPEN)
    return Recovered(run, Counter(mark.outcome for mark in marks), (), apart, tuple(context.removed), ())


# Up to this many steps of a folder, each name is looked up separately: the folder can hold a hundred thousand names.
_ASKED_SINGLY = 20


class _PrivateNames:
    """The private names that a run left in its folders.

    A folder that many steps are about is read once, which takes a third of the time of a question for each of them.

    Args:
        context: of the run.
    """

    def __init__(self, context: RunContext) -> None:
        self._context = context
        self._asked: Counter[str] = Counter()
        # None for a folder that cannot be read: its names can still be asked for one by one.
        self._names: dict[str, frozenset[str] | None] = {}

    def may_have(self, step: Step) -> bool:
        """Return False if nothing is under the private name of a step."""
        name = self._context.private(step)
        return any(self._may_hold(place.folder, name) for place in (step.source, step.target) if place is not None)

    def _may_hold(self, folder: str, name: str) -> bool:
        self._asked[folder] += 1
        if self._asked[folder] < _ASKED_SINGLY:
            return True
        if folder not in self._names:
            self._names[folder] = self._in(folder)
        names = self._names[folder]
        return names is None or name in names

    def _in(self, folder: str) -> frozenset[str] | None:
        try:
            found = list_folder(self._context.descriptors.folder(folder))
        except FileNotFoundError:
            return frozenset()
        except OSError:
            return None
        return frozenset(name for name in found if name.startswith(PRIVATE))


class _Looked(NamedTuple):
    """How the steps of a killed run ended, and what its repair removed and could not remove.

    A step that waits for a volume is NOTED, with the place of that as its reason. One is `stuck` as long as
    something is under its private name.
    """

    ended: list[tuple[Step, Mark]]
    removed: Sequence[str] = ()
    stray: Sequence[str] = ()
    stuck: Collection[int] = ()


def _look(journal: Journal, run: Run, repair: bool) -> _Looked:
    ended: list[tuple[Step, Mark]] = []
    steps = list(journal.steps(run.id))
    waiting = _waiting(run, steps)
    stuck: set[int] = set()
    with Descriptors() as descriptors:
        context = RunContext(
            descriptors, run.id, run.began_ns, token=run.token, note=lambda mark, durable: journal.note(run.id, mark, durable)
        )
        verbs = verbs_for(context)
        # An earlier step is judged by what a later one, which has its mark already, made of its entry.
        context.became = {step.target: mark.now for step, mark in steps if step.target and mark is not None and mark.now}
        # The last first, so that an earlier step knows where its entry has got to.
        for step, mark in reversed(steps):
            if mark is None or mark.outcome == Outcome.NOTED:
                top = waiting.get(step.id)
                mark = Mark(step.id, Outcome.NOTED, top) if top else _resolve(verbs, step, mark, repair)
                if repair and not top and (left := verbs[step.verb].left_under_private_name(step)):
                    cannot = Why.CANNOT_PUT_RIGHT(left)
                    mark = left_undone(step, cannot.reworded(mark.reason or cannot))
                    stuck.add(step.id)
            if mark.outcome == Outcome.DONE:
                verbs[step.verb].was_done(step, mark)
            if mark.outcome == Outcome.DONE and step.verb in TAKING and step.source and step.target:
                context.now_at[step.source] = step.target, mark.now
            ended.append((step, mark))
        ended.reverse()
        if not repair:
            return _Looked(ended)
        # Only now, when the end of every step is known: a group is judged as a whole.
        ended = _roll_back_torn_groups(verbs, ended)
        unused = {mark.step: mark for mark in remove_unused(context, ended)}
        ended = [(step, unused.get(step.id, mark)) for step, mark in ended]
        return _Looked(ended, context.removed, remove_stray_infos(context), stuck)


def _waiting(run: Run, steps: Sequence[tuple[Step, Mark | None]]) -> dict[int, str]:
    """Return for each step that has not ended the volume that it waits for, if it waits for one."""
    # Nothing is decided about what cannot be looked at: a drive that is unplugged proves nothing.
    if all(volume.is_here() for volume in run.volumes):
        return {}
    waiting: dict[int, str] = {}
    groups: dict[int, str] = {}
    for step, mark in steps:
        if mark is not None and mark.outcome != Outcome.NOTED:
            continue
        places = [step.source, step.target, step.witness and step.witness.place]
        paths = [place.path for place in places if place] + [one["path"] for one in step.details.get("members", ())]
        top = next(filter(None, map(run.away, paths)), "")
        if top:
            waiting[step.id] = top
            groups.setdefault(step.group, top)
    # What belongs together is decided together.
    waiting |= {step.id: groups[step.group] for step, _ in steps if step.group and step.group in groups}
    return waiting


def _resolve(verbs: Mapping[VerbName, Verb], step: Step, note: Mark | None, repair: bool) -> Mark:
    """Settle one step; one that cannot be is set apart, so that the others are."""
    try:
        refuse_malformed(step)
        return verbs[step.verb].resolve_after_crash(step, note, repair)
    except (NotDone, FrugalError) as error:
        return left_undone(step, Why.CANNOT_LOOK(error))
    except OSError as error:
        return left_undone(step, reason_of(error).reworded(reason_of(error), "open"))
    # A journal is a file that anything can have written to: one bad step must not keep the others from their end.
    except DAMAGED as error:
        return left_undone(step, Why.DAMAGED_RECORD(error))


def _roll_back_torn_groups(verbs: Mapping[VerbName, Verb], ended: list[tuple[Step, Mark]]) -> list[tuple[Step, Mark]]:
    """Put back what was done of groups that were not done whole; what is undecided is not acted on."""
    result: list[tuple[Step, Mark]] = []
    for group, together in groupby(ended, key=lambda one: one[0].group):
        members = list(together)
        outcomes = {mark.outcome for _, mark in members}
        if group and Outcome.DONE in outcomes and len(outcomes) > 1 and not outcomes & {Outcome.OPEN, Outcome.NOTED}:
            steps = [step for step, _ in members]
            first = next(at for at, (_, mark) in enumerate(members) if mark.outcome != Outcome.DONE)
            done = [mark for _, mark in members[:first]]
            # A step after the first that was not done cannot have begun.
            result += zip(steps, roll_group_back(verbs, steps, done, members[first][1]), strict=True)
        else:
            result += members
    return result


def catch_up(verbs: Mapping[VerbName, Verb]) -> None:
    """End what lags behind the steps of all verbs."""
    for verb in verbs.values():
        verb.catch_up()


def roll_group_back(verbs: Mapping[VerbName, Verb], steps: Sequence[Step], done: Sequence[Mark], failed: Mark) -> list[Mark]:
    """Put back the steps of a group before one that was not done, the last first.

    Args:
        verbs: all verbs.
        steps: the group.
        done: the marks of the steps before that one.
        failed: its mark.

    Returns:
        the marks of all steps of the group.
    """
    marks: list[Mark] = []
    # What is undecided is the one step alone.
    outcome = Outcome.FAILED if failed.outcome is Outcome.OPEN else failed.outcome
    # What goes back to the trash needs the name of the info file that it just lost.
    catch_up(verbs)
    for step, mark in reversed(list(zip(steps, done, strict=False))):
        back = verbs[step.verb].inverse(step, mark)
        # Nothing takes it back, as with a program that ran: what was written of it stays true.
        if back is None:
            marks.append(mark)
            continue
        back_mark = attempt(verbs[back.verb], back)
        # Not run: there was nothing to put back, such as a folder that others use by now.
        if back_mark.outcome in (Outcome.DONE, Outcome.NOT_RUN):
            marks.append(Mark(step.id, outcome, Why.RELATED_UNDONE()))
        else:
            marks.append(mark._replace(reason=Why.NOT_UNDONE(back_mark.reason)))
    rest = [Mark(step.id, outcome, Why.RELATED_NOT_DONE()) for step in steps[len(done) + 1 :]]
    return [*reversed(marks), failed, *rest]
