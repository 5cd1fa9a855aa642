"""How a change ended, and what is raised where it was not made."""

from __future__ import annotations

from enum import IntEnum

from frugal_sorter.filesystem.walk import reason_of

CHANGED = "changed since the plan was made"


class Outcome(IntEnum):
    """How a step ended.

    NOT_RUN is as designed, such as for a file that is in use. OPEN is not known yet: a kill left it undecided, or an
    entry is set aside and waits for the recovery to be put back. NOTED is not an end: it is what a verb wrote down before
    a point of no return.
    """

    DONE = 1
    SKIPPED = 2
    FAILED = 3
    OPEN = 4
    NOT_RUN = 5
    NOTED = 6


# How a step ends that a person should know of.
PROBLEMS = (Outcome.SKIPPED, Outcome.FAILED, Outcome.OPEN)


class NotDone(Exception):
    """A step was not done; nothing of it is left on the disk, unless its outcome is OPEN."""

    def __init__(self, outcome: Outcome, reason: str) -> None:
        super().__init__(reason)
        self.outcome = outcome
        self.reason = reason


def why(failed: NotDone | OSError) -> str:
    """Say why something was not done, whichever way that was told."""
    return failed.reason if isinstance(failed, NotDone) else reason_of(failed)
