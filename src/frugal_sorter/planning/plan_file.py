"""Plans as files, and as text in an editor."""

from __future__ import annotations

import io
import json
from collections import Counter
from collections.abc import Sequence
from itertools import chain
from typing import cast

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.filesystem.status import look_like_or_none
from frugal_sorter.planning.plan import SAVED, Kind, Plan
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import machine_id
from frugal_sorter.state.inputs import read_input
from frugal_sorter.state.settings import distrusted, refuse_distrusted
from frugal_sorter.steps.lines import proper_place, step_as_line, step_of_line
from frugal_sorter.steps.step import Count, Step, Witness

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
    # What an editor of another system does to the ends of lines is no change.
    for number, line in enumerate(edited.removeprefix("\ufeff").replace("\r\n", "\n").split("\n"), 1):
        text = line.rstrip()
        if not text or text.lstrip().startswith("#"):
            continue
        index = at.get(text)
        if index is None:
            near = text if len(text) <= _SHOWN else f"{text[: _SHOWN - 1]}…"
            raise UsageError(
                f"line {number} of the plan was changed ({near.strip()!r})",
                "lines can only be taken out; for anything else change the rule",
            )
        if index in left:
            raise UsageError(f"line {number} of the plan stands in line {left[index]} already", "leave each line once")
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
            for line in chain([head], map(step_as_line, plan.steps)):
                file.write(json.dumps(line) + "\n")
    except FileExistsError:
        raise UsageError(f"{path}: the file already exists", "choose another name, or remove it") from None
    except OSError as error:
        raise UsageError(f"{path}: the plan cannot be written ({error.strerror})", "choose another place") from None


def load_plan(path: Path) -> Plan:
    """Read a plan that was saved; steps whose lines were deleted are not done.

    Raises:
        UsageError: it is no plan, of another machine, or damaged; says in which line.
        StateError: root reads it and others could have written it.
    """
    try:
        raw = read_input(path, LARGEST_FILE, lambda _: _refuse_others(path))
    except OSError as error:
        raise UsageError(
            f"{path}: the plan cannot be read ({(error.strerror or '').lower()})", "`frugal preview --save` makes one"
        ) from None
    if not raw.isascii():
        raise UsageError(f"{path}: this is no plan of this tool", "`frugal preview --save PLAN` makes one")
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
            raise UsageError(f"{path}:{number}: this line is no step ({what})", "make the plan anew") from None
        plan.steps.append(_on_this_device(step))
    plan.groups = max((step.group for step in plan.steps), default=0)
    plan.matched = {step.rule for step in plan.steps}
    now = _group_sizes(plan)
    torn = {group for group, size in sizes.items() if now[group] != size}
    plan.drop(lambda step: step.group in torn)
    plan.number()
    return plan


def _refuse_others(path: Path) -> None:
    refuse_distrusted(path)
    if who := distrusted(path):
        raise UsageError(
            f"{path}: other accounts can change this plan: {who}", "read it, then chmod go-w what is named"
        )


def _head(path: Path, line: bytes) -> tuple[Plan, dict[int, int]]:
    try:
        head = json.loads(line)
        version, machine = head["frugal-plan"], head["machine"]
    except (ValueError, KeyError, TypeError, RecursionError):
        raise UsageError(f"{path}:1: this is no plan of this tool", "`frugal preview --save PLAN` makes one") from None
    if version != FORMAT:
        raise UsageError(f"{path}:1: this is a plan of format {version!r}", f"this version reads format {FORMAT}")
    if machine != machine_id():
        raise UsageError(f"{path}:1: this plan was made on another machine", "make it anew on this one")
    try:
        plan = Plan(cast(Kind, str(head["kind"])), int(head["made_ns"]), str(head["origin"]))
        plan.levels = {proper_place(folder).path: _count_or_none(most) for folder, most in head["levels"].items()}
        plan.rules = list(map(str, head["rules"]))
        plan.seen = Count(*map(int, head["seen"]))
        plan.ceilings = {str(rule): _count_or_none(most) for rule, most in head["ceilings"].items()}
        sizes = {int(group): int(size) for group, size in head["groups"].items()}
        if not 0 < plan.made_ns < 1 << 63 or not all(0 <= count < 1 << 63 for count in plan.seen):
            raise ValueError
    except (ValueError, KeyError, TypeError, AttributeError, OverflowError):
        raise UsageError(f"{path}:1: the head of the plan is damaged", "make the plan anew") from None
    if plan.kind not in SAVED:
        raise UsageError(f"{path}:1: a plan to {plan.kind} is not kept in a file", "make the plan anew")
    return plan, sizes


def _count_or_none(value: object) -> int | None:
    if value is not None and (not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < 1 << 63):
        raise ValueError(f"{value!r} is no number")
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
    """Count the steps of each group: one of which a person deleted a line is not done at all."""
    return Counter(step.group for step in plan.steps if step.group)
