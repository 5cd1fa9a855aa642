"""Whether the disk is as a run left it."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.execution.earlier_runs import taken_from
from frugal_sorter.filesystem.status import look_like_or_none
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.journal.database import Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.steps.kinds import ATTENDING, FINAL, MAKING
from frugal_sorter.steps.step import Mark, Step


class Difference(NamedTuple):
    """An entry that is not as a run left it: its path, and how it differs."""

    path: str
    how: str


class Verified(NamedTuple):
    """What became of what a run did.

    Args:
        checked: how many entries were looked at.
        bytes: how large these are.
        moved_on: how many of them a later run has moved on.
        not_done: how many steps of the run were not done, so that there is nothing to look at.
        differences: what is not as the run left it.
    """

    checked: int
    bytes: int
    moved_on: int
    not_done: int
    differences: list[Difference]


def verify(journal: Journal, run: Run, on_progress: Callable[[int, int], None]) -> Verified:
    """Compare the disk with what a run did: each entry is where it was put, itself, and was not written to since.

    Itself means the same inode, or where these do not last the same first and last block; not written to means the same
    size and modification time. What was deleted must be gone.

    Args:
        journal: with the run.
        run: which.
        on_progress: called with how many steps were looked at, of how many.
    """
    checked = size = moved_on = not_done = 0
    differences: list[Difference] = []
    of = journal.counts(run.id).get(Outcome.DONE, 0)
    for step, mark in journal.steps(run.id):
        if step.verb in ATTENDING:
            continue
        if mark is None or mark.outcome != Outcome.DONE:
            not_done += 1
            continue
        checked, size = checked + 1, size + step.bytes
        on_progress(checked, of)
        how = _difference(step, mark)
        if how == _MISSING and step.target is not None:
            later = taken_from(journal, step.target.path)
            if later is not None and later.run > run.id:
                moved_on += 1
                continue
        if how:
            place = step.target if step.target is not None and step.verb not in FINAL else step.place
            differences.append(Difference(place.path, how))
    return Verified(checked, size, moved_on, not_done, differences)


_MISSING = "missing"


def _difference(step: Step, mark: Mark) -> str:
    """Return how an entry differs from what a step left; empty where it does not, or the step left nothing to look at."""
    try:
        if step.verb in FINAL:
            there = look_like_or_none(step.place, step.was) if step.was is not None else None
            return "there again" if there is not None and step.was is not None and there.identity.same_who(step.was) else ""
        expected = mark.now if mark.now is not None else step.was
        if step.target is None or expected is None or not (step.verb in MAKING or step.verb == "trash"):
            return ""
        found = look_like_or_none(step.target, expected)
    except OSError as error:
        return reason_of(error)
    if found is None:
        return _MISSING
    if not found.identity.same_who(expected):
        return "another file is in its place"
    return "" if found.identity.same_state(expected) else "changed since"
