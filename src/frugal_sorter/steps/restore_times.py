"""Giving a folder the modification time again that it had."""

from __future__ import annotations

from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import disk
from frugal_sorter.steps.base import INTERRUPTED, Mark, Verb
from frugal_sorter.steps.details import Details
from frugal_sorter.steps.step import Step


class RestoreTimes(Verb):
    """Sets the modification time of a folder to what it was, after all else is done."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None
        try:
            parent_fd, found = self._context.descriptors.entry(step.source)
            if step.was is not None and not found.identity.same_who(step.was):
                raise NotDone(Outcome.NOT_RUN, "another folder stands there by now")
            times = (found.atime_ns, step.details["mtime_ns"])
            disk.utime(step.source.name, ns=times, dir_fd=parent_fd, follow_symlinks=False)
        except OSError as error:
            # Only the owner may set times; the files themselves are where they belong.
            raise NotDone(Outcome.NOT_RUN, reason_of(error)) from None
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return Mark(step.id, Outcome.NOT_RUN, INTERRUPTED)

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        if "now_ns" not in step.details:
            return None
        details: Details = {"mtime_ns": step.details["now_ns"], "now_ns": step.details["mtime_ns"]}
        return Step(step.id, "restore-times", "", "", step.source, None, step.was, details)
