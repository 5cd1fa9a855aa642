"""Running a program that makes a file, which then belongs to the run."""

from __future__ import annotations

from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.held_entry import look_at
from frugal_sorter.steps.parts import inverse_of_made
from frugal_sorter.steps.run import RunProgram
from frugal_sorter.steps.step import Step


class RunMaking(RunProgram):
    """Runs a program once and looks for what it was to make; that is removed again if the step is taken back."""

    def do(self, step: Step) -> Mark:
        assert step.target is not None
        if look_at(self._context, step.target) is not None:
            raise NotDone(Outcome.SKIPPED, "the file already exists")
        done = super().do(step)
        made = look_at(self._context, step.target)
        if made is None:
            raise NotDone(Outcome.FAILED, f"{step.details['command'][0]} ended well, but made no {step.target.name}")
        return Mark(step.id, Outcome.DONE, now=made.identity, data=done.data)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return inverse_of_made(step, mark)
