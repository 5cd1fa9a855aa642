"""Copying an entry to another folder."""

from __future__ import annotations

from frugal_sorter.changes.copier import Copier
from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.steps.base import Job, Mark
from frugal_sorter.steps.held_entry import ends_of, find
from frugal_sorter.steps.move_across import InTouch
from frugal_sorter.steps.parts import finish_part, part_beside, settle_made, take_back_made
from frugal_sorter.steps.step import Step


class Copy:
    """Puts a copy of an entry into another folder."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        source_fd, before = find(self._job, source, was)
        copier = Copier(heed=self._job.heed)
        with part_beside(self._job, step) as part:
            touched = InTouch(source_fd, source.name, before)
            copier.copy(source_fd, source.name, part.fd, part.name, part.made)
            find(self._job, source, was)
            touched.refuse()
            data = {"lost": copier.lost} if copier.lost else None
            made = finish_part(self._job, step, part, data)
        return Mark(step.id, Outcome.DONE, now=made.identity, data=data)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return settle_made(self._job, step, note, repair)

    def back(self, step: Step, mark: Mark) -> Step:
        return take_back_made(step, mark)
