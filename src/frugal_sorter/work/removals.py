"""Removing for good: what a rule deletes, and what an earlier step has made."""

from __future__ import annotations

import os

from frugal_sorter.files.record import Place
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.plans.plan_file import step_of_line
from frugal_sorter.work.entry import Held, held, put_back, remove_tree, there
from frugal_sorter.work.leases import is_free
from frugal_sorter.work.mark import INTERRUPTED, Job, Mark, NotDone, Outcome

REMOVING = "removing"


class Delete:
    """Removes an entry for good; a folder with all that is in it.

    Between the last look at a file and its removal there is a moment in which another program can
    put another file there; both are done relative to an open folder, so that it is as short as can be.
    """

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, was = step.source, step.was
        assert source is not None and was is not None
        if was.kind == "file" and was.sample is None and step.witness is None:
            # The same as below, for the many; where anything is unusual, the long way says what.
            fd = self._job.descriptors.folder(source.folder)
            if is_free(source.name, fd, was, self._job.planned_ns):
                os.unlink(source.name, dir_fd=fd)
                return Mark(step.id, Outcome.DONE)
        with held(self._job, step, removal=True) as entry:
            self._remove(step, entry)
        return Mark(step.id, Outcome.DONE)

    def _remove(self, step: Step, entry: Held) -> None:
        if entry.record.identity.kind != "folder":
            os.unlink(entry.place.name, dir_fd=entry.fd)
            return
        self._job.note(Mark(step.id, Outcome.NOTED, REMOVING))
        remove_tree(entry.fd, entry.place.name)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.source is not None and step.was is not None
        aside = Place(step.source.folder, self._job.private(step))
        try:
            if there(step.source, step.was):
                return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
            if there(aside, step.was):
                if note is None and repair and put_back(self._job, aside, step.source, step.was):
                    return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
                if note is None or not repair:
                    return Mark(step.id, Outcome.OPEN, f"set aside as {aside.path}")
                remove_tree(self._job.descriptors.folder(aside.folder), aside.name)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if not os.path.lexists(step.source.folder):
            return Mark(step.id, Outcome.OPEN, "its folder is not there")
        return Mark(step.id, Outcome.DONE)

    def back(self, step: Step, mark: Mark) -> None:
        return None


class RemoveMade:
    """Removes what a step of an earlier run made, if nobody has touched it since."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        try:
            with held(self._job, step) as entry:
                if entry.record.identity.kind == "folder":
                    self._job.note(Mark(step.id, Outcome.NOTED, REMOVING))
                remove_tree(entry.fd, entry.place.name)
        except NotDone as not_done:
            if not_done.outcome == Outcome.SKIPPED and not_done.reason == "no longer there":
                return Mark(step.id, Outcome.LEFT, not_done.reason)
            raise
        return Mark(step.id, Outcome.DONE)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return Delete(self._job).settle(step, note, repair)

    def back(self, step: Step, mark: Mark) -> Step:
        again = step_of_line(step.args["again"])
        again.id = step.id
        return again
