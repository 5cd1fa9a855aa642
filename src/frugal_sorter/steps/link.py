"""Symbolic links to where an entry finally lies."""

from __future__ import annotations

import os

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.steps.base import Mark, Verb
from frugal_sorter.steps.held_entry import ends_of, find
from frugal_sorter.steps.parts import finish_part, inverse_of_made, part_beside, resolve_made
from frugal_sorter.steps.step import Step


class Link(Verb):
    """Puts a link to an entry into a folder."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        find(self._context, source, was)
        with part_beside(self._context, step) as part:
            os.symlink(source.path, part.name, dir_fd=part.fd)
            part.made()
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return resolve_made(self._context, step, note, repair)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return inverse_of_made(step, mark)
