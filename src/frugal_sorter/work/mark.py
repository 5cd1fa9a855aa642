"""What became of a step."""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple, Protocol

from frugal_sorter.files.record import Identity
from frugal_sorter.plans.plan import Step

# Why a step of a killed run has no effect.
INTERRUPTED = "interrupted before it was done"


class Outcome(IntEnum):
    """How a step ended. LEFT is as designed; OPEN is what a kill left undecided."""

    DONE = 1
    SKIPPED = 2
    FAILED = 3
    OPEN = 4
    LEFT = 5


class Mark(NamedTuple):
    """The end of a step: why, where it is not DONE, and the entry as it is now, where it is."""

    step: int
    outcome: Outcome
    reason: str = ""
    now: Identity | None = None


class Verb(Protocol):
    """One kind of change: doing it, finding out after a kill whether it was done, and its way back."""

    def do(self, step: Step) -> Mark:
        """Carry a step out. What goes wrong with one file is in the mark, not raised."""
        ...

    def settle(self, step: Step, began_ns: int, repair: bool) -> Mark:
        """Tell from the disk alone how a step of a killed run ended; may be called again.

        Args:
            step: a step without a mark.
            began_ns: when its run began.
            repair: also put right what the kill left half done.
        """
        ...

    def back(self, step: Step, mark: Mark) -> Step | None:
        """Return the step that takes a done one back, or None where nothing is to do.

        Its `was` is what must be there; the undo planner looks whether it is.
        """
        ...
