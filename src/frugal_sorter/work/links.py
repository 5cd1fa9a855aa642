"""Symbolic links to where an entry finally lies."""

from __future__ import annotations

import os

from frugal_sorter.files.status import look, look_or_none
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.copies import take_back_made
from frugal_sorter.work.entry import ends_of, find
from frugal_sorter.work.mark import INTERRUPTED, Job, Mark, NotDone, Outcome


class Link:
    """Puts a link to an entry into a folder."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, target, was = ends_of(step)
        find(self._job, source, was)
        fd = self._job.descriptors.folder(target.folder)
        try:
            os.symlink(source.path, target.name, dir_fd=fd)
        except FileExistsError:
            raise NotDone(Outcome.SKIPPED, f"the name {target.name} was taken meanwhile") from None
        return Mark(step.id, Outcome.DONE, now=look(target, fd).identity)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, target, _ = ends_of(step)
        try:
            found = look_or_none(target)
            if found is not None and found.identity.kind == "link" and os.readlink(target.path) == source.path:
                return Mark(step.id, Outcome.DONE, now=found.identity)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

    def back(self, step: Step, mark: Mark) -> Step:
        return take_back_made(step, mark)
