"""One carried-out plan, as the journal knows it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.filesystem.volumes import Seen
from frugal_sorter.values import frozen

RunState = Literal["open", "done", "stopped", "interrupted"]
Counts = Mapping[Outcome | None, int]


@frozen
class Run:
    """One carried-out plan.

    Args:
        undone_by: the undo that took back the last of it; None where something of it is left to take back.
        taken_back: how many of its steps have been taken back.
        undoable: how many of its steps were done and can be, or have been, taken back.
        began_ns: when it began, in ns since the epoch.
        ended_ns: when it ended.
        token: what makes its private names its own.
        volumes: those that it works on.
    """

    id: int
    kind: str
    origin: str
    undoes: int | None
    undone_by: int | None
    account: str
    began_ns: int
    ended_ns: int | None
    state: RunState
    token: str = ""
    volumes: tuple[Seen, ...] = ()
    taken_back: int = 0
    undoable: int = 0

    def away(self, path: str) -> str:
        """Return where the volume of a path is mounted when it is there, if it is not there now; else an empty text."""
        on = [volume for volume in self.volumes if is_inside(path, volume.top)]
        if not on:
            return ""
        nearest = max(on, key=lambda volume: len(volume.top))
        return "" if nearest.is_here() else nearest.top
