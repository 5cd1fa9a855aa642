"""What a kill left behind: found out from the disk, put right, and written down."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import groupby

from frugal_sorter.plans.plan import ATTENDING, TAKING, Step, VerbName
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.journal import Journal, Run
from frugal_sorter.work.mark import Job, Mark, Outcome, Verb, attempt
from frugal_sorter.work.verbs import verbs_for


def found_after_kill(journal: Journal, run: Run) -> list[tuple[Step, Mark]]:
    """Return how the steps of a killed run ended, as the disk tells; nothing is changed."""
    return _settled(journal, run, repair=False)


def settle_unfinished(journal: Journal) -> None:
    """Write down how the steps of killed runs ended, and close those runs."""
    for run in journal.unsettled():
        ended = _settled(journal, run, repair=True)
        journal.mark(run.id, [mark for _, mark in ended])
        counts: Counter[Outcome | None] = Counter(mark.outcome for step, mark in ended if step.verb not in ATTENDING)
        journal.close(run.id, "interrupted", time.time_ns(), counts)


def _settled(journal: Journal, run: Run, repair: bool) -> list[tuple[Step, Mark]]:
    ended: list[tuple[Step, Mark]] = []
    with Descriptors() as descriptors:
        job = Job(descriptors, run.id, run.began_ns, note=lambda mark: journal.note(run.id, mark))
        verbs = verbs_for(job)
        # The last first, so that an earlier step knows where its entry has got to.
        for step, mark in reversed(list(journal.steps(run.id))):
            if mark is None or mark.outcome == Outcome.NOTED:
                mark = verbs[step.verb].settle(step, mark, repair)
            if mark.outcome == Outcome.DONE and step.verb in TAKING and step.source and step.target:
                job.now_at[step.source] = step.target
            ended.append((step, mark))
        ended.reverse()
        return _groups_put_back(verbs, ended) if repair else ended


def _groups_put_back(verbs: Mapping[VerbName, Verb], ended: list[tuple[Step, Mark]]) -> list[tuple[Step, Mark]]:
    """Put back what was done of groups that were not done whole; what is undecided is not acted on."""
    result: list[tuple[Step, Mark]] = []
    for group, together in groupby(ended, key=lambda one: one[0].group):
        members = list(together)
        outcomes = {mark.outcome for _, mark in members}
        if group and Outcome.DONE in outcomes and len(outcomes) > 1 and Outcome.OPEN not in outcomes:
            steps = [step for step, _ in members]
            first = next(at for at, (_, mark) in enumerate(members) if mark.outcome != Outcome.DONE)
            done = [mark for _, mark in members[:first]]
            # A step after the first that was not done cannot have begun.
            result += zip(steps, put_group_back(verbs, steps, done, members[first][1]), strict=True)
        else:
            result += members
    return result


def put_group_back(
    verbs: Mapping[VerbName, Verb], steps: Sequence[Step], done: Sequence[Mark], failed: Mark
) -> list[Mark]:  # fmt: skip
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
    for step, mark in reversed(list(zip(steps, done, strict=False))):
        back = verbs[step.verb].back(step, mark)
        if back is None:
            marks.append(mark)
            continue
        ended = attempt(verbs[back.verb], back)
        if ended.outcome in (Outcome.DONE, Outcome.LEFT):
            marks.append(Mark(step.id, failed.outcome, "put back, since what goes with it was not done"))
        else:
            marks.append(mark._replace(reason=f"could not be put back: {ended.reason}"))
    rest = [
        Mark(step.id, failed.outcome, "not done, since what goes with it was not") for step in steps[len(done) + 1 :]
    ]
    return [*reversed(marks), failed, *rest]
