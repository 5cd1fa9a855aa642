"""What each system says of its volumes."""

from __future__ import annotations

from typing import Literal, NamedTuple

Keeping = Literal["always", "daily", "never"]


class Mount(NamedTuple):
    """A mounted volume: its devices as status calls number them, the folder it is mounted at, and its kind."""

    dev: int
    top: str
    kind: str


class Room(NamedTuple):
    """How much this account can still write to a volume, and how big it is, in bytes."""

    free: int
    total: int
