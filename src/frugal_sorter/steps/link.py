"""Symbolic links to where an entry finally lies."""

from __future__ import annotations

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.platforms import disk
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.held_entry import ends_of, find
from frugal_sorter.steps.parts import Making, finish_part, part_beside
from frugal_sorter.steps.step import Step


class Link(Making):
    """Puts a link to an entry into a folder."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        find(self._context, source, was)
        with part_beside(self._context, step) as part:
            disk.symlink(source.path, part.name, dir_fd=part.fd)
            part.made()
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)
