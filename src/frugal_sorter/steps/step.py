"""One step of a plan: a change to one entry, and what is known of it beforehand."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.steps.count import NONE, ONE_FILE, Count, folder_of
from frugal_sorter.steps.details import Details
from frugal_sorter.steps.kinds import VerbName
from frugal_sorter.values import field, mutable


class Witness(NamedTuple):
    """An entry that must be there and hold the same bytes when the turn of a step comes."""

    place: Place
    identity: Identity


@mutable
class Step:
    """One change to one entry.

    Args:
        id: its number within the plan, from 1.
        verb: what is done.
        rule: the name of the rule that asks for it; empty for what only goes with other steps.
        rule_key: the digest of that rule.
        source: where the entry is; None for a folder that is made.
        target: where it will be; None for a folder that is removed.
        was: the entry as planned; None for what is made.
        details: what only this verb needs.
        group: steps of one group follow each other, and are done whole or put back whole; 0 is none.
        witness: what must still be there, the same byte for byte.
        of: in an undo, the step of the run that it takes back; 0 where it only goes with others.
    """

    id: int
    verb: VerbName
    rule: str
    rule_key: str
    source: Place | None
    target: Place | None
    was: Identity | None
    details: Details = field(default_factory=Details)
    group: int = 0
    witness: Witness | None = None
    of: int = 0

    @property
    def place(self) -> Place:
        """The place that the step is about: where its entry is, or will be."""
        place = self.source or self.target
        assert place is not None
        return place

    @property
    def files(self) -> int:
        """How many files it takes away, for ceilings: those inside a folder count, and a folder is one at least."""
        return max(int(self.details.get("files", 1)), 1)

    def not_touched(self, reason: str, problem: bool = False) -> NotTouched:
        """Return that its entry is left alone, and why."""
        return NotTouched(self.place, self.rule, reason, problem, self.count)

    @property
    def count(self) -> Count:
        """The entry that it is about."""
        if self.was is None or self.was.kind != "folder":
            return ONE_FILE
        # A step that only goes with others, such as a tag, does not know what is inside.
        return folder_of(int(self.details.get("files", 0)))

    @property
    def bytes(self) -> int:
        """How much it is about, in bytes."""
        return int(self.details.get("bytes", self.was.size if self.was else 0))


class ByVerb(dict[VerbName, Count]):
    """The entries that some steps are about, by verb; one with several steps of a kind is counted once."""

    def __init__(self) -> None:
        super().__init__()
        self._last: dict[VerbName, Place] = {}

    def add(self, step: Step) -> None:
        """Take in one more step; those about one entry follow each other."""
        self.add_all([step])

    def add_all(self, steps: Iterable[Step]) -> None:
        """Take in more steps, in their order."""
        last, files = self._last, dict[VerbName, int]()
        for step in steps:
            verb, place = step.verb, step.source or step.target
            if place == last.get(verb):
                continue
            assert place is not None
            last[verb] = place
            self.setdefault(verb, NONE)  # in the order in which they are met
            if step.was is None or step.was.kind != "folder":
                files[verb] = files.get(verb, 0) + 1
            else:
                self[verb] |= step.count
        for verb, number in files.items():
            self[verb] |= Count(number)


class NotTouched(NamedTuple):
    """An entry that a rule claims and that is left alone all the same.

    `problem` says that a person should know: it makes the run end with 1.
    """

    place: Place
    rule: str
    reason: str
    problem: bool
    counted: Count = ONE_FILE
