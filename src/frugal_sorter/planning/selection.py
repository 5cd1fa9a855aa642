"""Which steps of a plan a person means: by the numbers of a list, by paths, by folders and by wildcards; and by the answer of the
owner of a machine to a saved plan."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from itertools import pairwise
from operator import attrgetter
from typing import Any, NamedTuple

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Place, is_inside
from frugal_sorter.planning.plan import LARGEST_FILE, Plan
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.rules.editing import Value, quoted
from frugal_sorter.rules.fields import is_like, is_wild
from frugal_sorter.state import decoded, read_input
from frugal_sorter.steps.step import Step

_RANGES = re.compile(r"\d{1,9}(-\d{1,9})?(,\d{1,9}(-\d{1,9})?)*")
# A condition may be no longer (`rules.file.keys`).
_LONGEST_CONDITION = 4_000
Keys = dict[str, Value]


def target_folder(step: Step) -> str:
    """Return the folder that a step puts something into; empty where it puts nothing anywhere, or into a trash."""
    return step.target.folder if step.target is not None and step.verb != "trash" else ""


def going_along(plan: Plan) -> set[int]:
    """Return the steps to the trash that another step of their group tells of: they make room, or were packed."""
    found = set()
    for steps in plan.in_groups():
        if len(steps) == 1:
            continue
        telling = [step for step in steps if step.verb in ("pack", "unpack", "move", "move-across", "copy")]
        targets = {step.target for step in telling}
        archives = {step.source for step in telling if step.verb == "unpack"}
        packed = {member["path"] for step in telling if step.verb == "pack" for member in step.details["members"]}
        for step in steps:
            if step.verb == "trash" and step.source is not None:
                told = step.source in targets or step.source in archives or step.source.path in packed
                found |= {step.id} if told else set()
    return found


def together(steps: Iterable[Step]) -> list[list[Step]]:
    """Return steps in the groups that they are listed in: with one verb, from one folder, into one folder."""
    groups: dict[tuple[str, str, str], list[Step]] = {}
    for step in steps:
        groups.setdefault((step.verb, target_folder(step), step.place.folder), []).append(step)
    return [sorted(groups[key], key=attrgetter("id")) for key in sorted(groups)]


def by_rule(plan: Plan) -> dict[str, list[Step]]:
    """Return what a person asked for by rule, in the order of the rules."""
    found: dict[str, list[Step]] = {rule: [] for rule in plan.rules}
    for step in plan.asked:
        found.setdefault(step.rule, []).append(step)
    return {rule: steps for rule, steps in found.items() if steps}


class Numbers:
    """The numbers by which a person names the steps of a plan, from 1 on in the order in which they are listed.

    What is taken out of the plan later leaves a gap: the others are called as before.

    Args:
        plan: their plan.
        order: returns what they are sorted by, where that is not rule, verb and folder.
    """

    def __init__(self, plan: Plan, order: Callable[[Step], Any] | None = None) -> None:
        aside = going_along(plan)
        asked = list(by_rule(plan).values()) if order is None else [sorted(plan.asked, key=order)]
        listed = (group for steps in asked for group in (together(steps) if order is None else [steps]))
        self.steps = [step for group in listed for step in group if step.id not in aside]
        self._of = {step.id: number for number, step in enumerate(self.steps, 1)}

    def of(self, step: Step) -> int:
        """Return the number of a step; 0 for one that only goes with others."""
        return self._of.get(step.id, 0)

    @property
    def width(self) -> int:
        """How many digits the last one has."""
        return len(str(len(self.steps)))


class Range(NamedTuple):
    """Numbers from the first to the last, and how they were written."""

    first: int
    last: int
    text: str


def ranges_of(text: str) -> list[Range]:
    """Return the numbers that a text such as `3-7,12` names; none where it is not such a text."""
    found = []
    for part in text.split(",") if _RANGES.fullmatch(text) else ():
        first, _, last = part.partition("-")
        found.append(Range(int(first), int(last or first), part))
    return found


class Chosen(NamedTuple):
    """What some words mean: steps by their ids, and rules that leave their entries alone from now on."""

    steps: frozenset[int]
    rules: Sequence[Keys]


def choose(plan: Plan, numbers: Numbers, words: Iterable[str], here: str) -> Chosen:
    """Return the steps that some words mean.

    Args:
        plan: their plan.
        numbers: what they are called.
        words: each a number, a range such as `3-7`, several of those with commas, a path, a folder, or wildcards.
        here: the folder that paths are seen from, absolute; what is not there is looked for below the folders of the plan.

    Raises:
        UsageError: a word means none.
    """
    found: set[int] = set()
    places: dict[str, list[str]] = {}
    whole: list[Keys] = []
    for word in words:
        steps, wide = _by_number(numbers, ranges) if (ranges := ranges_of(word)) else _by_path(plan, numbers, word, here)
        found |= {step.id for step in steps}
        if wide:
            whole += [one for one in wide if one not in whole]
            continue
        for step in steps:
            for place in _places(step):
                places.setdefault(place.folder, []).append(place.name)
    named = [rule for folder, names in places.items() for rule in _leave_names(folder, list(dict.fromkeys(names)))]
    return Chosen(frozenset(found), [*whole, *named])


def _by_number(numbers: Numbers, ranges: Sequence[Range]) -> tuple[list[Step], list[Keys]]:
    steps: list[Step] = []
    for first, last, text in ranges:
        if not 1 <= first <= last <= len(numbers.steps):
            known = f"the list goes from 1 to {len(numbers.steps):,}" if numbers.steps else "the list is empty"
            raise UsageError(f"{text} is not a number in the list", (f"{known}; for a file with that name, write ./{text}"))
        steps += numbers.steps[first - 1 : last]
    return steps, []


def _by_path(plan: Plan, numbers: Numbers, word: str, here: str) -> tuple[list[Step], list[Keys]]:
    """Return the steps, and and, if the word stands for more than these, the rules that leave everything it stands for."""
    paths = []
    for base in (here, *plan.roots) if word else ():
        path = slashed.normpath(slashed.join(base, word))
        # The folder is resolved and the name is not: it may be a link.
        paths.append(slashed.join(slashed.realpath(os.path.dirname(path)), os.path.basename(path)))
    # A name may hold what elsewhere is a wildcard: it is tried as it is first.
    for path in dict.fromkeys(paths):
        if steps := _about(numbers, lambda place, path=path: place.path == path or is_inside(place.folder, path)):  # type: ignore[misc]
            is_folder = all(is_inside(place.folder, path) for step in steps for place in _places(step))
            return steps, [_leave_folder(path)] if is_folder else []
    if is_wild(word) and "/" not in word:
        if steps := _about(numbers, lambda place: is_like(place.name, word)):
            return steps, [_leave_like(root, word) for root in plan.roots if any(_is_below(step, root) for step in steps)]
    elif is_wild(word):
        for path in dict.fromkeys(paths):
            if steps := _about(numbers, lambda place, path=path: _is_path_like(place.path, path)):  # type: ignore[misc]
                return steps, []
    raise UsageError(f"{word or '(empty)'} matches nothing in the list", ("use a number, path or wildcard from the list"))


def _about(numbers: Numbers, is_meant: Callable[[Place], bool]) -> list[Step]:
    return [step for step in numbers.steps if any(map(is_meant, _places(step)))]


def _places(step: Step) -> list[Place]:
    """Return the entries that a step is about: of a pack those that go into it."""
    members = [Place(*os.path.split(member["path"])) for member in step.details["members"]] if step.verb == "pack" else []
    return [step.place, *members]


def _is_path_like(path: str, wild: str) -> bool:
    return path.count("/") == wild.count("/") and is_like(path, wild)


def _is_below(step: Step, root: str) -> bool:
    return any(is_inside(place.folder, root) for place in _places(step))


def _leave_names(folder: str, names: Sequence[str]) -> list[Keys]:
    """Return rules that leave some entries of a folder: one for all, or as many as their conditions have room for."""
    tests: list[list[str]] = [[]]
    for name in names:
        test = f"name is exactly {quoted(name)}"
        if sum(map(len, tests[-1])) + 4 * len(tests[-1]) + len(test) > _LONGEST_CONDITION:
            tests.append([])
        tests[-1].append(test)
    what = names[0] if len(names) == 1 else f"{len(names):,} of {os.path.basename(folder) or folder}"
    return [
        {
            "name": f"Leave {what}" + (f" ({at})" if at > 1 else ""),
            "in": folder,
            "where": " or ".join(some),
            "take": "items",
            "hidden": True,
            "leave": True,
        }
        for at, some in enumerate(tests, 1)
    ]


def _leave_like(root: str, wild: str) -> Keys:
    where = f"name like {quoted(wild)}"
    return {"name": f"Leave {wild}", "in": root, "where": where, "levels": "all", "hidden": True, "leave": True}


def _leave_folder(folder: str) -> Keys:
    name = f"Leave all of {os.path.basename(folder) or folder}"
    return {"name": name, "in": folder, "where": "everything", "levels": "all", "hidden": True, "leave": True}


FORMAT = "Answer to a frugal plan, format 1"
# Its lines after the first, in this order.
FIELDS = ("Plan", "From", "On", "Changes", "Stays")
NOTHING = "nothing"
_LARGEST, _LONGEST_NAME = 1_000_000, 200


class Approval(NamedTuple):
    """What an owner answered.

    Args:
        by: the name that was typed.
        at_ns: when, in ns since the epoch, by the clock of that computer.
        stays: the numbers of what stays, as ranges such as `3-7,12`; empty for nothing.
        kept: how many these are.
        changes: how many changes were shown.
    """

    by: str
    at_ns: int
    stays: str
    kept: int
    changes: int


def digest_of(plan: Path) -> str:
    """Return what tells a saved plan from every other one.

    Raises:
        UsageError: it cannot be read.
    """
    try:
        return blake2b(read_input(plan, LARGEST_FILE), digest_size=16).hexdigest()
    except OSError as error:
        why = (error.strerror or "").lower()
        raise UsageError(f"{plan}: the plan cannot be read ({why})", "`frugal preview --save` makes one") from None


def read_approval(path: Path, plan: Path, changes: int) -> Approval:
    """Read an answer.

    Args:
        path: of the file that the page saved.
        plan: of the plan that it must be about.
        changes: how many changes that has.

    Raises:
        UsageError: it is not an answer, is damaged, or is about another plan; says in which line.
    """
    again = "save the answer on the page again"
    try:
        text = decoded(read_input(path, _LARGEST))
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(
            f"{path}: the answer cannot be read ({getattr(error, 'strerror', None) or 'not a text'})", again
        ) from None
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    if not lines or lines[0] != FORMAT:
        raise UsageError(f"{path}:1: not the answer to a plan", "name the file that the page of `--page` saved")
    found: dict[str, str] = {}
    for number, line in enumerate(lines[1:], 2):
        name, colon, value = line.partition(":")
        if not colon or number - 2 >= len(FIELDS) or name != FIELDS[number - 2] or not value.strip():
            raise UsageError(f"{path}:{number}: this line of the answer was changed", again)
        found[name] = value.strip()
    if len(found) < len(FIELDS):
        raise UsageError(f"{path}: the answer is not whole", again)
    if found["Plan"] != digest_of(plan) or found["Changes"] != str(changes):
        raise UsageError(f"{path}: this is the answer to another plan than {plan}", "name the plan that the page was made from")
    by = found["From"]
    if len(by) > _LONGEST_NAME or not by.isprintable():
        raise UsageError(f"{path}:3: this is not a name", again)
    try:
        at_ns = int(datetime.fromisoformat(found["On"]).timestamp()) * 1_000_000_000
    except (ValueError, OverflowError):
        raise UsageError(f"{path}:4: this is not a date", again) from None
    stays = "" if found["Stays"] == NOTHING else found["Stays"]
    ranges = ranges_of(stays)
    in_order = [number for one in ranges for number in (one.first, one.last)]
    # Each number once, and none that was not on the page.
    is_rising = all(one < other or (one == other and at % 2 == 0) for at, (one, other) in enumerate(pairwise(in_order)))
    if (stays and not ranges) or not is_rising or (in_order and not 1 <= in_order[0] <= in_order[-1] <= changes):
        raise UsageError(f"{path}:6: {stays[:60]!r} are not numbers of the plan, in order", again)
    return Approval(by, at_ns, stays, sum(one.last - one.first + 1 for one in ranges), changes)
