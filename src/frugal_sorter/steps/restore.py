"""Bringing an entry of the trash back to where it was."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from frugal_sorter.changes.deferred import Deferred
from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.filesystem.record import Place
from frugal_sorter.steps.base import Mark, RunContext, Verb
from frugal_sorter.steps.held_entry import ends_of, look_at
from frugal_sorter.steps.info_files import remove_infos
from frugal_sorter.steps.move import Move
from frugal_sorter.steps.move_across import MoveAcross
from frugal_sorter.steps.step import Step


class Restore(Verb):
    """Brings an entry of the trash back to where it was; its info file goes at once, or a little later once prepared.

    Then no step is written down as done before `catch_up`: what a kill leaves is found by what is not.
    """

    def __init__(self, context: RunContext) -> None:
        super().__init__(context)
        self._move = Move(context)
        self._across = MoveAcross(context)
        self._infos: Deferred[Place] | None = None

    def prepare(self, steps: Sequence[Step]) -> None:
        """Leave the info files to a thread from now on."""
        self._infos = Deferred(partial(remove_infos, self._context))

    def catch_up(self) -> None:
        """Wait until all info files are gone that were left to the thread."""
        if self._infos is not None:
            self._infos.catch_up()

    def finish(self) -> None:
        """Wait for the same, and end the thread."""
        if self._infos is not None:
            self._infos.close()
            self._infos = None

    def do(self, step: Step) -> Mark:
        source, _, _ = ends_of(step)
        mark = (self._across if step.details.get("across") else self._move).do(step)
        if self._infos is None:
            remove_infos(self._context, [source])
        else:
            self._infos.add(source)
        return mark

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, _, _ = ends_of(step)
        verb = self._across if step.details.get("across") else self._move
        mark = verb.resolve_after_crash(step, note, repair)
        if mark.outcome == Outcome.DONE and repair and look_at(self._context, source) is None:
            remove_infos(self._context, [source])
        return mark

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        return Step(step.id, "trash", step.rule, step.rule_key, target, source, mark.now or was, step.details)
