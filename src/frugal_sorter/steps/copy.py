"""Copying an entry to another folder."""

from __future__ import annotations

from frugal_sorter.changes.copier import Copier
from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.held_entry import ends_of, find
from frugal_sorter.steps.move_across import InTouch
from frugal_sorter.steps.parts import Making, finish_part, part_beside
from frugal_sorter.steps.step import Step


class Copy(Making):
    """Puts a copy of an entry into another folder."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        source_fd, before = find(self._context, source, was)
        copier = Copier(heed=self._context.heed)
        with part_beside(self._context, step) as part:
            touched = InTouch(source_fd, source.name, before)
            copier.copy(source_fd, source.name, part.fd, part.name, part.made)
            find(self._context, source, was)
            touched.refuse()
            data = {"lost": copier.lost} if copier.lost else None
            made = finish_part(self._context, step, part, data)
        return Mark(step.id, Outcome.DONE, now=made.identity, data=data)
