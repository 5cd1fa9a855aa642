"""What would be done, step by step, and what would be left alone and why."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from frugal_sorter.files.record import Identity, Place, place_of

VerbName = Literal["make-folder", "move", "remove-folder", "note-times", "restore-times"]


@dataclass(slots=True)
class Step:
    """One change to one entry.

    Args:
        id: its number within the plan, from 1.
        verb: what is done.
        rule: the name of the rule that asks for it; empty for what only goes with other steps.
        rule_key: the digest of that rule.
        source: where the entry is; None for a folder that is made.
        target: where it will be; None for a folder that is removed.
        was: the entry as planned; None for a folder that is made.
        args: what only this verb needs, as JSON values.
    """

    id: int
    verb: VerbName
    rule: str
    rule_key: str
    source: Place | None
    target: Place | None
    was: Identity | None
    args: Mapping[str, int] = field(default_factory=dict)

    @property
    def place(self) -> Place:
        """The place that the step is about: where its entry is, or will be."""
        place = self.source or self.target
        assert place is not None
        return place


class Left(NamedTuple):
    """An entry that a rule claims and that is left alone all the same.

    `problem` says that a person should know: it makes the run end with 1.
    """

    place: Place
    rule: str
    reason: str
    problem: bool


class Note(NamedTuple):
    """Something about the plan as a whole, such as a folder that is missing."""

    text: str
    problem: bool


class Refusal(NamedTuple):
    """A rule that is not carried out at all, and why."""

    rule: str
    reason: str


@dataclass(slots=True)
class Plan:
    """Steps in order, and all that a person should know before they are carried out.

    Args:
        kind: which command made it.
        made_ns: when, in ns since the epoch.
        origin: the rule file, or what else it was made from.
        undoes: the run that it takes back.
        at_home: files that already are where a rule would put them.
        kept: files that an exception keeps where they are, by rule.
        seen: files that were looked at.
        roots: the resolved folders that the rules act in.
        rules: the names of the rules that acted, in order.
        matched: the names of those that some entry matched.
    """

    kind: Literal["tidy", "undo"]
    made_ns: int
    origin: str
    undoes: int | None = None
    steps: list[Step] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    refused: list[Refusal] = field(default_factory=list)
    at_home: int = 0
    kept: int = 0
    seen: int = 0
    roots: list[str] = field(default_factory=list)
    rules: list[str] = field(default_factory=list)
    matched: set[str] = field(default_factory=set)

    def add(
        self, verb: VerbName, rule: str, rule_key: str, source: Place | None, target: Place | None,
        was: Identity | None, args: Mapping[str, int] | None = None,
    ) -> Step:  # fmt: skip
        """Append a step and return it."""
        step = Step(len(self.steps) + 1, verb, rule, rule_key, source, target, was, args or {})
        self.steps.append(step)
        return step

    def drop(self, unwanted: Callable[[Step], bool]) -> None:
        """Take moves out, and the folders that then nothing goes into."""
        self.steps = [step for step in self.steps if step.verb != "move" or not unwanted(step)]
        needed = {step.target.folder for step in self.moves if step.target}
        kept = []
        for step in reversed(self.steps):
            if step.verb == "make-folder" and step.target is not None:
                if step.target.path not in needed:
                    continue
                needed.add(step.target.folder)
            kept.append(step)
        self.steps = kept[::-1]
        self._number()

    def make_folders(self, to_make: Callable[[str], list[str]]) -> None:
        """Put in front of each move the folders that must be made for it.

        Args:
            to_make: returns those for a target folder, the outermost first, each only once.
        """
        steps: list[Step] = []
        for step in self.steps:
            for folder in to_make(step.target.folder) if step.verb == "move" and step.target else ():
                steps.append(Step(0, "make-folder", step.rule, step.rule_key, None, place_of(folder), None))
            steps.append(step)
        self.steps = steps
        self._number()

    def _number(self) -> None:
        for number, step in enumerate(self.steps, 1):
            step.id = number

    @property
    def moves(self) -> list[Step]:
        """The steps that a person asked for, without those that only go with them."""
        return [step for step in self.steps if step.verb == "move"]

    @property
    def has_problem(self) -> bool:
        """Whether something is missing or in the way that a person should know of."""
        return any(left.problem for left in self.left) or any(note.problem for note in self.notes)
