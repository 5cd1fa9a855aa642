"""What only some verbs need to know of a step, as it is kept: one key, one type.

Which verb has which of them is its row in `kinds`; `shapes` holds every step that was read to it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypedDict

from frugal_sorter.filesystem.record import AsItWas

# A folder and a name, and the fields of an `Identity`, as JSON has them.
PlaceValues = Sequence[str]
IdentityValues = Sequence[Any]


class Member(TypedDict):
    """An entry that is packed: where it is, its name in the zip, and what it was as planned."""

    path: str
    name: str
    was: IdentityValues


class Weight(TypedDict, total=False):
    """How much is inside a folder: files and bytes."""

    files: int
    bytes: int


class Details(AsItWas, Weight, total=False):
    """What a step has besides the fields of all steps; none where its verb needs none.

    Args:
        across: the entry goes to, or comes from, a trash on another volume.
        top: of the volume with that trash; missing for the trash of the home.
        restore: by path inside the entry, what the other volume could not keep.
        original: where an entry of the trash had been.
        again: the step that made it, as a line.
        entry: what it was made of, or what carries the attribute; its folder and name.
        entry_was: the identity of that.
        kept: the other name of a file with several, and what it was.
        members: what is packed.
        attribute: the name of an extended attribute.
        old: its text before; empty for none.
        new: its text after.
        command: a program and its arguments.
        now_ns: the time of a folder after the run, in ns.
    """

    across: bool
    top: str
    restore: Mapping[str, Any]
    original: str
    again: Mapping[str, Any]
    entry: PlaceValues
    entry_was: IdentityValues
    kept: tuple[PlaceValues, IdentityValues] | Sequence[Any]
    members: Sequence[Member]
    attribute: str
    old: str
    new: str
    command: Sequence[str]
    now_ns: int
