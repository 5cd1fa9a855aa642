"""The planner of `duplicates`: which file of a group stays and why, and what becomes of the others."""

from __future__ import annotations

import base64
import os
import stat
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from frugal_sorter.files.fingerprint import BLOCK, open_to_read, with_sample
from frugal_sorter.files.record import FileRecord, Place, is_inside, place_of
from frugal_sorter.files.status import look
from frugal_sorter.files.types import TYPE_OF_SUFFIX
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.by_content import Duplicates, Group, Same
from frugal_sorter.plans.guard import refused_folder, version_control_root
from frugal_sorter.plans.limits import hold_ceilings
from frugal_sorter.plans.plan import Left, Plan, Step, Witness
from frugal_sorter.plans.removals import Removals
from frugal_sorter.rules.condition import Node
from frugal_sorter.rules.fields import Facts, World, unmarked_name
from frugal_sorter.rules.keys import DEFAULT_KEEP, Do, Keep

# What steps have in place of the name of a rule.
RULE = "duplicates"
_WHY: Mapping[Keep, str] = {
    "unmarked": "the one without a copy mark",
    "oldest": "the oldest",
    "newest": "the newest",
    "shortest-path": "the shortest path",
}


def _rank(one: Same, keep: Keep) -> int:
    if keep == "unmarked":
        return min(unmarked_name(os.path.basename(name)) is not None for name in one.names)
    if keep == "shortest-path":
        return min(len(name) for name in one.names)
    return one.found.mtime_ns if keep == "oldest" else -one.found.mtime_ns


class Choice(NamedTuple):
    """What becomes of a group: the file that stays, why that one, those that may go, and why others stay, by path."""

    group: Group
    kept: Same
    why: str
    going: list[Same]
    staying: Mapping[str, str] = {}

    @property
    def frees(self) -> int:
        """How many bytes it frees on the disk."""
        return sum(one.disk for one in self.going if not one.further_names)


def choose(group: Group, keep: Sequence[Keep] = DEFAULT_KEEP, keep_in: Sequence[str] = ()) -> Choice:
    """Choose the file of a group that stays.

    Args:
        group: files with the same contents.
        keep: by what it is chosen, the first that tells them apart.
        keep_in: resolved folders; files there stay all, and without one there nothing goes.
    """
    files = group.files
    if keep_in:
        inside = [one for one in files if any(is_inside(name, folder) for name in one.names for folder in keep_in)]
        kept, _ = _best(inside or files, keep)
        going = [one for one in files if one not in inside] if inside else []
        why = "in the folder to keep" if inside else "none of them is in the folder to keep"
        others = {one.path: f"{why}, too" if inside else "" for one in files if one not in going and one is not kept}
        return Choice(group, kept, why, going, others)
    kept, why = _best(files, keep)
    return Choice(group, kept, why, [one for one in files if one is not kept])


def _best(files: Sequence[Same], keep: Sequence[Keep]) -> tuple[Same, str]:
    left = list(files)
    for one in keep:
        ranks = [_rank(file, one) for file in left]
        best = [file for file, rank in zip(left, ranks, strict=True) if rank == min(ranks)]
        if len(best) == 1 and len(left) > 1:
            return best[0], _WHY[one]
        left = best
    return min(left, key=lambda file: file.path), "the first by name"


def limited(choice: Choice, where: Node, world: World) -> Choice:
    """Return a choice of which only those go that a condition is true of."""
    going, staying = [], dict(choice.staying)
    for one in choice.going:
        try:
            facts = Facts(look(place_of(one.path)), os.path.dirname(one.path), TYPE_OF_SUFFIX, world)
            fits = where.test(facts) is True
        except OSError:
            fits = False
        if fits:
            going.append(one)
        else:
            staying[one.path] = "left out by the condition"
    return choice._replace(going=going, staying=staying)


@dataclass
class Removing:
    """How the files that may go are taken away.

    Args:
        do: by which way.
        world: the moment.
        across_owners: hard links also between files of different owners or rights.
        at_most: how many may go, None for the usual.
    """

    do: Do
    world: World
    across_owners: bool = False
    at_most: int | None = None
    removals: Removals = field(default_factory=Removals)
    _trees: dict[str, str | None] = field(default_factory=dict)


def plan_duplicates(choices: Iterable[Choice], removing: Removing, origin: str, folders: Sequence[str]) -> Plan:
    """Plan to take away the files that may go; each step has the file that stays as its witness.

    Args:
        choices: what becomes of each group.
        removing: how.
        origin: the command, for the history.
        folders: those that were searched.
    """
    plan = Plan("duplicates", removing.world.now_ns, origin, rules=[RULE], matched={RULE})
    plan.levels = dict.fromkeys(folders, None)
    for choice in choices:
        plan.seen += len(choice.group.files)
        add_removals(plan, choice, removing, RULE, "")
    if removing.at_most is not None:
        plan.ceilings[RULE] = removing.at_most
    hold_ceilings(plan)
    return plan


def add_removals(plan: Plan, choice: Choice, removing: Removing, rule: str, key: str) -> None:
    """Append the steps for a group; what cannot go is left, with its reason."""
    try:
        kept = _record(choice.kept)
    except _Stays as stays:
        plan.left += [Left(place_of(one.path), rule, f"{choice.kept.path}: {stays}", True) for one in choice.going]
        return
    for one in choice.going:
        try:
            record = _record(one)
            plan.add_group([_step(one, record, kept, removing, rule, key)])
        except _Stays as stays:
            plan.left.append(Left(place_of(one.path), rule, str(stays), stays.problem))
    plan.left += [Left(place_of(path), rule, why, False) for path, why in choice.staying.items() if why]


class _Stays(Exception):
    def __init__(self, reason: str, problem: bool = False) -> None:
        super().__init__(reason)
        self.problem = problem


def _record(one: Same) -> FileRecord:
    try:
        record = with_sample(look(place_of(one.path)))
    except OSError as error:
        raise _Stays(reason_of(error), problem=True) from None
    who = record.identity
    now = (who.dev, who.ino, who.size, record.mtime_ns, record.ctime_ns)
    if who.kind != "file" or now != one.found[1:]:
        raise _Stays("changed since it was read", problem=True)
    return record


def _step(one: Same, record: FileRecord, kept: FileRecord, removing: Removing, rule: str, key: str) -> Step:
    folder = record.place.folder
    if refused := refused_folder(folder):
        raise _Stays(f"{folder} is {refused}", problem=True)
    if folder not in removing._trees:
        removing._trees[folder] = version_control_root(folder)
    if tree := removing._trees[folder]:
        raise _Stays(f"{tree} is under version control and is left whole")
    if one.further_names:
        raise _Stays("it has further names (hard links), so that taking one away frees nothing")
    witness = Witness(kept.place, kept.identity)
    if removing.do == "trash":
        return removing.removals.trash(rule, key, record, None, witness)
    if removing.do == "delete":
        return Step(0, "delete", rule, key, record.place, None, record.identity, {}, 0, witness)
    if record.identity.dev != kept.identity.dev:
        raise _Stays("on another volume than the file that stays")
    if (record.uid, record.gid, record.mode) != (kept.uid, kept.gid, kept.mode) and not removing.across_owners:
        raise _Stays("another owner or other rights than the file that stays (--across-owners)")
    return Step(0, "hard-link", rule, key, record.place, record.place, record.identity, as_it_is(record), 0, witness)


def as_it_is(record: FileRecord) -> dict[str, object]:
    """Return what is needed to make a file of its own again as it was, but for its contents."""
    found: dict[str, object] = {
        "mode": stat.S_IMODE(record.mode), "uid": record.uid, "gid": record.gid, "mtime_ns": record.mtime_ns,
        "atime_ns": record.atime_ns,
    }  # fmt: skip
    path = record.place.path
    try:
        names = os.listxattr(path, follow_symlinks=False)
        values = {name: os.getxattr(path, name, follow_symlinks=False) for name in names}
    except OSError:
        values = {}
    return {**found, "attributes": {name: base64.b64encode(value).decode("ascii") for name, value in values.items()}}


# Names that look like copies


class LookAlike(NamedTuple):
    """A file named as file managers name copies.

    Args:
        path: the file.
        original: the path without the mark.
        kind: `copy` where both hold the same, `differs` where they do not, `alone` where the unmarked one is missing.
        differs: what differs, of those that do: their sizes, their times in ns, and the first byte that is
            not the same, counted from 0 (None where it could not be found out).
    """

    path: str
    original: str
    kind: Literal["copy", "differs", "alone"]
    sizes: tuple[int, int] = (0, 0)
    times_ns: tuple[int, int] = (0, 0)
    first: int | None = None


def look_alikes(found: Duplicates) -> list[LookAlike]:
    """Return what becomes of the names that look like copies."""
    group_of = {name: number for number, group in enumerate(found.groups) for one in group.files for name in one.names}
    result = []
    for folder, name, original, there in found.marked:
        path, other = f"{folder.rstrip('/')}/{name}", f"{folder.rstrip('/')}/{original}"
        if not there:
            result.append(LookAlike(path, other, "alone"))
        elif path in group_of and group_of[path] == group_of.get(other):
            result.append(LookAlike(path, other, "copy"))
        else:
            try:
                one, second = os.lstat(path), os.lstat(other)
                first = first_difference(place_of(path), place_of(other))
            except OSError:
                continue
            if first is not None:
                sizes, times = (one.st_size, second.st_size), (one.st_mtime_ns, second.st_mtime_ns)
                result.append(LookAlike(path, other, "differs", sizes, times, first))
    return sorted(result)


def first_difference(one: Place, other: Place) -> int | None:
    """Return the first byte in which two files differ, counted from 0; None where they hold the same.

    Raises:
        OSError: one of them cannot be read.
    """
    first, second = open_to_read(one), -1
    try:
        second = open_to_read(other)
        at = 0
        while True:
            mine, theirs = os.pread(first, BLOCK, at), os.pread(second, BLOCK, at)
            if mine != theirs:
                shorter = min(len(mine), len(theirs))
                same = next((index for index in range(shorter) if mine[index] != theirs[index]), shorter)
                return at + same
            if not mine:
                return None
            at += len(mine)
    finally:
        os.close(first)
        if second >= 0:
            os.close(second)


def plan_unmark(alone: Iterable[LookAlike], world: World, origin: str, folders: Sequence[str]) -> Plan:
    """Plan to take the mark off names whose unmarked form is free."""
    plan = Plan("duplicates", world.now_ns, origin, rules=[RULE], matched={RULE})
    plan.levels = dict.fromkeys(folders, None)
    given: set[str] = set()
    for one in alone:
        plan.seen += 1
        place = place_of(one.path)
        refused = refused_folder(place.folder)
        tree = version_control_root(place.folder)
        if refused or tree:
            why = f"{place.folder} is {refused}" if refused else f"{tree} is under version control and is left whole"
            plan.left.append(Left(place, RULE, why, bool(refused)))
        elif one.original in given or os.path.lexists(one.original):
            plan.left.append(Left(place, RULE, f"{one.original} is taken", True))
        else:
            given.add(one.original)
            record = with_sample(look(place))
            plan.add_group([Step(0, "move", RULE, "", place, place_of(one.original), record.identity)])
    return plan


# Folders that hold the same


def same_folders(found: Duplicates) -> list[list[str]]:
    """Return the folders with the same contents, the outermost only, those with the most files first."""
    content = {name: number for number, group in enumerate(found.groups) for one in group.files for name in one.names}
    known: dict[str, tuple[object, ...] | None] = {}

    def signature(folder: str) -> tuple[object, ...] | None:
        if folder not in known:
            known[folder] = None
            names, folders = found.whole_folders.get(folder, ((), ()))
            parts: list[object] = []
            for name in sorted(names):
                number = content.get(f"{folder}/{name}")
                if number is None:
                    return None
                parts.append((name, number))
            for name in sorted(folders):
                inside = signature(f"{folder}/{name}")
                if inside is None:
                    return None
                parts.append((name, inside))
            known[folder] = tuple(parts) or None
        return known[folder]

    groups: dict[tuple[object, ...], list[str]] = {}
    for folder in found.whole_folders:
        told = signature(folder)
        if told is not None:
            groups.setdefault(told, []).append(folder)
    same = [sorted(ones) for ones in groups.values() if len(ones) > 1]
    inside = {folder for ones in same for folder in ones}
    outermost = [ones for ones in same if not all(os.path.dirname(folder) in inside for folder in ones)]
    return sorted(outermost, key=lambda ones: ones[0])
