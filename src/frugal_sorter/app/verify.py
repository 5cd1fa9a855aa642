"""Whether the disk is as a run left it."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import NamedTuple

from frugal_sorter.execution.earlier_runs import taken_from
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import digest_of_contents, look_like_or_none
from frugal_sorter.journal.database import Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.reasons import Outcome, reason_of
from frugal_sorter.reports.saved import kept_digests
from frugal_sorter.state import ready_state_folder
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
        read: how many were read through, and have the contents that they had before the run.
        moved_on: how many of them a later run has moved on.
        not_done: how many steps of the run were not done, so that there is nothing to look at.
        differences: what is not as the run left it.
    """

    checked: int
    bytes: int
    read: int
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
    checked = size = read = moved_on = not_done = 0
    digests = kept_digests(ready_state_folder(), run.id)
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
        if not how and step.target is not None and (before := digests.get(str(step.id))):
            how = _other_contents(step.target, before)
            read += not how
        if how:
            place = step.target if step.target is not None and step.verb not in FINAL else step.place
            differences.append(Difference(place.path, how))
    return Verified(checked, size, read, moved_on, not_done, differences)


def digests_before(plan: Plan, on_progress: Callable[[int, int], None]) -> dict[str, str]:
    """Return a digest of the contents of each file that a plan moves, by the number of its step, to compare after the run.

    What cannot be read has none.

    Args:
        plan: it was not carried out yet.
        on_progress: called with how many files were read, of how many.
    """
    steps = [step for step in plan.asked if step.source and step.target and step.was is not None and step.was.kind == "file"]
    found = {}
    for number, step in enumerate(steps, 1):
        assert step.source is not None
        with suppress(OSError):
            found[str(step.id)] = digest_of_contents(step.source)
        on_progress(number, len(steps))
    return found


def _other_contents(place: Place, before: str) -> str:
    try:
        return "" if digest_of_contents(place) == before else "other contents than before the run"
    except OSError as error:
        return reason_of(error)


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
