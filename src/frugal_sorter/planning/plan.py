"""A plan: its steps, and what is left alone; and plans as files."""

from __future__ import annotations

import io
import json
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import chain
from typing import Literal, NamedTuple, cast

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.filesystem.status import look_like_or_none
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Reason, Why
from frugal_sorter.state import distrusted, machine_id, read_input, refuse_distrusted
from frugal_sorter.steps.kinds import ATTENDING, MAKING, Details, VerbName
from frugal_sorter.steps.step import (
    NONE,
    Count,
    NotTouched,
    Step,
    Tally,
    Witness,
    proper_place,
    step_as_line,
    step_of_line,
    total,
)
from frugal_sorter.values import field, mutable, replace

JobName = Literal["tidy", "sort", "purge", "gather", "empty", "duplicates", "rules", "leftovers", "undo", "restore"]
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
    reason: Reason

    def __str__(self) -> str:
        return f"{self.rule}: {self.reason}"


@mutable
class Plan:
    """Steps in order, and everything that a person should know before they are carried out.

    Args:
        kind: which command made it.
        made_ns: when, in ns since the epoch, before anything was looked at for it.
        origin: the rule file, or what else it was made from.
        undoes: the run that it takes back.
        at_home: entries that already are as their rules would leave them.
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

    kind: JobName
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
        self,
        verb: VerbName,
        rule: str,
        rule_key: str,
        source: Place | None,
        target: Place | None,
        was: Identity | None,
        details: Details | None = None,
        witness: Witness | None = None,
    ) -> Step:
        """Append a step and return it."""
        step = Step(self._next_id, verb, rule, rule_key, source, target, was, details or {}, 0, witness)
        self.steps.append(step)
        return step

    def add_group(self, steps: Sequence[Step]) -> None:
        """Append steps that are done whole or put back whole."""
        if len(steps) > 1:
            self.groups += 1
        for step in steps:
            step.group = self.groups if len(steps) > 1 else 0
            step.id = self._next_id
            self.steps.append(step)

    @property
    def _next_id(self) -> int:
        # The number of a step that was taken out is not used again.
        return self.steps[-1].id + 1 if self.steps else 1

    def refuse(self, refusal: Refusal, unwanted: Callable[[Step], bool]) -> None:
        """Take steps out that are refused; their entries are named as left alone."""
        self.refused.append(refusal)
        left = {step.source: step.not_touched(Why.REFUSED_BELOW()) for step in self.drop(unwanted) if step.source}
        self.not_touched += left.values()

    def without(self, unwanted: Callable[[Step], bool]) -> tuple[Plan, list[Step]]:
        """Return the plan without some steps, their groups, and the folders that then nothing goes into; the others keep
        their numbers.

        Returns:
            the new plan, and what was taken out, the folders aside.
        """
        rest = replace(self)
        out = rest.drop(unwanted)
        return rest, out

    def drop(self, unwanted: Callable[[Step], bool]) -> list[Step]:
        """Take steps out of a plan that is being made; see `without`.

        Returns:
            what was taken out, the folders aside.
        """
        dropped = [step for step in self.steps if step.verb not in ATTENDING and unwanted(step)]
        groups = {step.group for step in dropped if step.group}
        gone = {step.id for step in dropped}
        out = [step for step in self.steps if step.id in gone or (step.group and step.group in groups)]
        gone |= {step.id for step in out}
        self.steps = [step for step in self.steps if step.id not in gone]
        needed = {step.target.folder for step in self.steps if step.target and step.verb in MAKING}
        kept = []
        for step in reversed(self.steps):
            if step.verb == "make-folder" and step.target is not None:
                if step.target.path not in needed:
                    continue
                needed.add(step.target.folder)
            kept.append(step)
        self.steps = kept[::-1]
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

    def numbered(self) -> Plan:
        """Return the plan with steps that are numbered without a gap, as it is carried out and written down."""
        if all(step.id == number for number, step in enumerate(self.steps, 1)):
            return self
        return replace(self, steps=[replace(step, id=number) for number, step in enumerate(self.steps, 1)])

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
        claimed = self.entries + self.at_home + self.kept + self.aside + total(left.counted for left in self.not_touched)
        return self.seen.without(claimed)

    @property
    def problems(self) -> list[str]:
        """What is missing or in the way as a whole, such as a folder, in words."""
        return [note.text for note in self.notes if note.problem]

    @property
    def has_problem(self) -> bool:
        """Whether something is missing or in the way that a person should know of."""
        return any(left.reason.problem for left in self.not_touched) or bool(self.problems)


_SHOWN = 60


def struck_lines(written: Sequence[str], edited: str) -> set[int]:
    """Return which of the lines that were written are gone, or are comments now; by index.

    Args:
        written: the lines, each another one; what begins with `#` besides them is a comment.
        edited: what came back.

    Raises:
        UsageError: something else was changed; says in which line.
    """
    at = {line.rstrip(): index for index, line in enumerate(written)}
    left: dict[int, int] = {}
    # What an editor of another system does to the ends of lines is not a change.
    for number, line in enumerate(edited.removeprefix("\ufeff").replace("\r\n", "\n").split("\n"), 1):
        text = line.rstrip()
        if not text or text.lstrip().startswith("#"):
            continue
        index = at.get(text)
        if index is None:
            near = text if len(text) <= _SHOWN else f"{text[: _SHOWN - 1]}…"
            raise UsageError(
                f"line {number} of the plan was edited ({near.strip()!r})",
                "you can only delete lines; to change anything else, edit the rule",
            )
        if index in left:
            raise UsageError(f"line {number} of the plan appears twice (also on line {left[index]})", "leave each line once")
        left[index] = number
    return set(range(len(written))) - left.keys()


FORMAT = 1
LARGEST_FILE = 1_000_000_000


def save_plan(plan: Plan, path: Path) -> None:
    """Write a plan to a new file that only this account can read.

    Raises:
        UsageError: the file is there already, or cannot be written.
    """
    head = {
        "frugal-plan": FORMAT, "machine": machine_id(), "kind": plan.kind, "made_ns": plan.made_ns,
        "origin": plan.origin, "levels": plan.levels, "rules": plan.rules, "seen": plan.seen,
        "ceilings": plan.ceilings, "groups": {str(group): size for group, size in _group_sizes(plan).items()},
    }  # fmt: skip
    try:
        descriptor = disk.open(path, disk.O_WRONLY | disk.O_CREAT | disk.O_EXCL | disk.O_CLOEXEC, 0o600)
        with open(descriptor, "w", encoding="ascii") as file:
            for line in chain([head], map(step_as_line, plan.numbered().steps)):
                file.write(json.dumps(line) + "\n")
    except FileExistsError:
        raise UsageError(f"{path}: the file already exists", "choose another name, or remove it") from None
    except OSError as error:
        raise UsageError(f"{path}: the plan cannot be written ({error.strerror})", "choose another place") from None


def load_plan(path: Path) -> Plan:
    """Read a plan that was saved; steps whose lines were deleted are not done.

    Raises:
        UsageError: it is not a plan, is one of another machine, or is damaged; says in which line.
        StateError: root reads it and others could have written it.
    """
    try:
        raw = read_input(path, LARGEST_FILE, lambda _: _refuse_others(path))
    except OSError as error:
        raise UsageError(
            f"{path}: the plan cannot be read ({(error.strerror or '').lower()})", "`frugal preview --save` makes one"
        ) from None
    if not raw.isascii():
        raise UsageError(f"{path} is not a frugal plan", "create one with `frugal preview --save PLAN`")
    # Line by line, since all of them as texts would take more room than the plan.
    lines = io.BytesIO(raw)
    plan, sizes = _head(path, lines.readline())
    for number, text in enumerate(lines, 2):
        if not text.strip():
            continue
        try:
            step = step_of_line(json.loads(text))
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError) as error:
            what = str(error) if isinstance(error, ValueError) else "something is missing in it"
            raise UsageError(f"{path}:{number}: not a valid plan line ({what})", "create the plan again") from None
        plan.steps.append(_on_this_device(step))
    plan.groups = max((step.group for step in plan.steps), default=0)
    plan.matched = {step.rule for step in plan.steps}
    now = _group_sizes(plan)
    torn = {group for group, size in sizes.items() if now[group] != size}
    # A file can hold a number twice.
    plan.number()
    plan.drop(lambda step: step.group in torn)
    return plan


def _refuse_others(path: Path) -> None:
    refuse_distrusted(path)
    if who := distrusted(path):
        raise UsageError(
            f"other accounts can change the plan {path}: {who}", "check its contents, then run `chmod go-w` on what is named"
        )


def _head(path: Path, line: bytes) -> tuple[Plan, dict[int, int]]:
    try:
        head = json.loads(line)
        version, machine = head["frugal-plan"], head["machine"]
    except (ValueError, KeyError, TypeError, RecursionError):
        raise UsageError(f"{path}:1: not a frugal plan", "create one with `frugal preview --save PLAN`") from None
    if version != FORMAT:
        raise UsageError(f"{path}:1: this is a plan of format {version!r}", f"this version reads format {FORMAT}")
    if machine != machine_id():
        raise UsageError(f"{path}:1: this plan was made on another machine", "create the plan again on this machine")
    try:
        plan = Plan(cast(JobName, str(head["kind"])), int(head["made_ns"]), str(head["origin"]))
        plan.levels = {proper_place(folder).path: _count_or_none(most) for folder, most in head["levels"].items()}
        plan.rules = list(map(str, head["rules"]))
        plan.seen = Count(*map(int, head["seen"]))
        plan.ceilings = {str(rule): _count_or_none(most) for rule, most in head["ceilings"].items()}
        sizes = {int(group): int(size) for group, size in head["groups"].items()}
        if not 0 < plan.made_ns < 1 << 63 or not all(0 <= count < 1 << 63 for count in plan.seen):
            raise ValueError
    except (ValueError, KeyError, TypeError, AttributeError, OverflowError):
        raise UsageError(f"{path}:1: the plan's header is damaged", "create the plan again") from None
    if plan.kind not in SAVED:
        raise UsageError(f"{path}:1: a plan to {plan.kind} is not kept in a file", "create the plan again")
    return plan, sizes


def _count_or_none(value: object) -> int | None:
    if value is not None and (not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < 1 << 63):
        raise ValueError(f"{value!r} is not a number")
    return value


def _on_this_device(step: Step) -> Step:
    """Take the device number as it is now; it changes when a volume is mounted anew."""
    if step.source is not None and step.was is not None:
        step.was = _with_device(step.source, step.was)
    if step.witness is not None:
        step.witness = Witness(step.witness.place, _with_device(step.witness.place, step.witness.identity))
    return step


def _with_device(place: Place, was: Identity) -> Identity:
    try:
        found = look_like_or_none(place, was)
    except OSError:
        return was
    return was._replace(dev=found.identity.dev) if found is not None and found.identity.same_who(was) else was


def _group_sizes(plan: Plan) -> Counter[int]:
    """Count the steps of each group: a group that lost a line in the editor is not done at all."""
    return Counter(step.group for step in plan.steps if step.group)
