"""What would be done, step by step, and what would be left alone and why."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Literal, NamedTuple

from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.steps.kinds import ATTENDING, MAKING, VerbName
from frugal_sorter.steps.step import NONE, Count, Details, NotTouched, Step, Tally, Witness, total
from frugal_sorter.values import field, mutable

Kind = Literal["tidy", "sort", "purge", "gather", "empty", "duplicates", "rules", "leftovers", "undo", "restore"]
# They bring things back to where they were.
TAKING_BACK = frozenset({"undo", "restore"})
# Their plans can be kept in a file, and be carried out later.
SAVED = frozenset({"tidy", "sort", "purge", "gather", "duplicates", "leftovers"})
# They keep the sums of their folders, before and after.
SUMMED = frozenset({"tidy", "sort", "purge"})


class Note(NamedTuple):
    """Something about the plan as a whole, such as a folder that is missing.

    Args:
        text: in words.
        problem: a person should know of it.
        rules: those that it is about; empty for all.
    """

    text: str
    problem: bool
    rules: tuple[str, ...] = ()


class Refusal(NamedTuple):
    """A rule that is not carried out at all, and why."""

    rule: str
    reason: str


@mutable
class Plan:
    """Steps in order, and all that a person should know before they are carried out.

    Args:
        kind: which command made it.
        made_ns: when, in ns since the epoch, before anything was looked at for it.
        origin: the rule file, or what else it was made from.
        undoes: the run that it takes back.
        at_home: entries that already are where a rule would put them.
        kept: entries that an exception keeps where they are.
        aside: entries that other rules take than those that were asked for.
        seen: entries that were looked at.
        links: symbolic links that were met, which nothing touches.
        specials: pipes, sockets and devices that were met.
        levels: the resolved folders that are acted in, each with how deep, None for all levels.
        rules: the names of the rules that acted, in order.
        matched: the names of those that some entry matched.
        ceilings: by rule, how many removals it may have, None for as many as there are.
        groups: the number of the last group.
    """

    kind: Kind
    made_ns: int
    origin: str
    undoes: int | None = None
    steps: list[Step] = field(default_factory=list)
    not_touched: list[NotTouched] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    refused: list[Refusal] = field(default_factory=list)
    at_home: Count = NONE
    kept: Count = NONE
    aside: Count = NONE
    seen: Count = NONE
    links: int = 0
    specials: int = 0
    levels: dict[str, int | None] = field(default_factory=dict)
    rules: list[str] = field(default_factory=list)
    matched: set[str] = field(default_factory=set)
    ceilings: dict[str, int | None] = field(default_factory=dict)
    groups: int = 0

    def add(
        self, verb: VerbName, rule: str, rule_key: str, source: Place | None, target: Place | None,
        was: Identity | None, details: Details | None = None, witness: Witness | None = None,
    ) -> Step:  # fmt: skip
        """Append a step and return it."""
        step = Step(len(self.steps) + 1, verb, rule, rule_key, source, target, was, details or {}, 0, witness)
        self.steps.append(step)
        return step

    def add_group(self, steps: Sequence[Step]) -> None:
        """Append steps that are done whole or put back whole."""
        if len(steps) > 1:
            self.groups += 1
        for step in steps:
            step.group = self.groups if len(steps) > 1 else 0
            step.id = len(self.steps) + 1
            self.steps.append(step)

    def refuse(self, refusal: Refusal, unwanted: Callable[[Step], bool]) -> None:
        """Take steps out that are refused; their entries are named as not touched."""
        self.refused.append(refusal)
        left = {step.source: step.not_touched("refused, see below") for step in self.drop(unwanted) if step.source}
        self.not_touched += left.values()

    def drop(self, unwanted: Callable[[Step], bool]) -> list[Step]:
        """Take steps out with their groups, and the folders that then nothing goes into.

        Returns:
            what was taken out, the folders aside.
        """
        dropped = [step for step in self.steps if step.verb not in ATTENDING and unwanted(step)]
        groups = {step.group for step in dropped if step.group}
        gone = {id(step) for step in dropped}
        out = [step for step in self.steps if id(step) in gone or (step.group and step.group in groups)]
        gone |= {id(step) for step in out}
        self.steps = [step for step in self.steps if id(step) not in gone]
        needed = {step.target.folder for step in self.steps if step.target and step.verb in MAKING}
        kept = []
        for step in reversed(self.steps):
            if step.verb == "make-folder" and step.target is not None:
                if step.target.path not in needed:
                    continue
                needed.add(step.target.folder)
            kept.append(step)
        self.steps = kept[::-1]
        self.number()
        return out

    def in_groups(self) -> Iterator[list[Step]]:
        """Yield the steps in order, those of a group together."""
        if not self.groups:
            for step in self.steps:
                yield [step]
            return
        together: list[Step] = []
        for step in self.steps:
            if together and step.group != together[0].group:
                yield together
                together = []
            if step.group:
                together.append(step)
            else:
                yield [step]
        if together:
            yield together

    def make_folders(self, to_make: Callable[[str], list[str]]) -> None:
        """Put in front of each step the folders that must be made for it; in front of its group, if it has one.

        Args:
            to_make: returns those for a target folder, the outermost first, each only once.
        """
        numbered: list[Step] = []
        for steps in list(self.in_groups()):
            for step in steps:
                if step.verb in MAKING and step.target:
                    numbered += [
                        Step(0, "make-folder", step.rule, step.rule_key, None, place_of(folder), None)
                        for folder in to_make(step.target.folder)
                    ]
            numbered += steps
        self.steps = numbered
        self.number()

    def number(self) -> None:
        """Number the steps anew, in order."""
        for number, step in enumerate(self.steps, 1):
            step.id = number

    @property
    def roots(self) -> list[str]:
        """The resolved folders that are acted in."""
        return list(self.levels)

    @property
    def asked(self) -> list[Step]:
        """The steps that a person asked for, without those that only go with them."""
        return [step for step in self.steps if step.verb not in ATTENDING]

    @property
    def entries(self) -> Count:
        """The entries that the steps are about, what leaves the trash aside; one can have several steps."""
        return Tally(step for step in self.asked if step.verb != "empty").all

    @property
    def others(self) -> Count:
        """The entries that were looked at and that no step is about."""
        return self.seen.without(self.entries)

    @property
    def unclaimed(self) -> Count:
        """The entries that were looked at and that no rule asks for."""
        claimed = (
            self.entries | self.at_home | self.kept | self.aside | total(left.counted for left in self.not_touched)
        )
        return self.seen.without(claimed)

    @property
    def problems(self) -> list[str]:
        """What is missing or in the way as a whole, such as a folder, in words."""
        return [note.text for note in self.notes if note.problem]

    @property
    def has_problem(self) -> bool:
        """Whether something is missing or in the way that a person should know of."""
        return any(left.problem for left in self.not_touched) or bool(self.problems)
