"""The modification times of folders, which every move in or out of them resets.

A run notes what they were before and after it; its undo puts the first back, if the second is
still what is there: then nobody else has been in the folder since.
"""

from __future__ import annotations

from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.steps.base import INTERRUPTED, Mark, Verb
from frugal_sorter.steps.details import Details
from frugal_sorter.steps.step import Step


class NoteTimes(Verb):
    """Changes nothing: notes the time of a folder after a run, beside that before it."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None
        try:
            _, found = self._context.descriptors.entry(step.source)
        except OSError as error:
            raise NotDone(Outcome.NOT_RUN, reason_of(error)) from None
        return Mark(step.id, Outcome.DONE, now=found.identity._replace(mtime_ns=found.mtime_ns))

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return Mark(step.id, Outcome.NOT_RUN, INTERRUPTED)

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        if mark.now is None:
            return None
        details: Details = {"mtime_ns": step.details["mtime_ns"], "now_ns": mark.now.mtime_ns}
        return Step(step.id, "restore-times", "", "", step.source, None, step.was, details)
