"""Removing an entry of the trash for good."""

from __future__ import annotations

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.delete import Delete
from frugal_sorter.steps.info_files import remove_infos
from frugal_sorter.steps.step import Step


class Empty(Delete):
    """Removes an entry of a trash for good, and then the note of where it was; of an orphan, what there is of it."""

    def do(self, step: Step) -> Mark:
        mark = super().do(step)
        self._forget(step)
        return mark

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        mark = super().resolve_after_crash(step, note, repair)
        if mark.outcome == Outcome.DONE and repair:
            self._forget(step)
        return mark

    def _forget(self, step: Step) -> None:
        assert step.source is not None
        remove_infos(self._context, [step.source])
