"""Symbolic links to where an entry finally lies."""

from __future__ import annotations

import os

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.steps.base import Job, Mark
from frugal_sorter.steps.held_entry import ends_of, find
from frugal_sorter.steps.parts import finish_part, part_beside, settle_made, take_back_made
from frugal_sorter.steps.step import Step


class Link:
    """Puts a link to an entry into a folder."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        find(self._job, source, was)
        with part_beside(self._job, step) as part:
            os.symlink(source.path, part.name, dir_fd=part.fd)
            part.made()
            made = finish_part(self._job, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return settle_made(self._job, step, note, repair)

    def back(self, step: Step, mark: Mark) -> Step:
        return take_back_made(step, mark)
