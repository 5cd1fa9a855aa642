"""Which file of a group stays, and planning what becomes of the others."""

from __future__ import annotations

import base64
import os
import stat
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Literal, NamedTuple

from frugal_sorter.duplicates import Duplicates, Group, Same
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, FileRecord, Place, is_inside, place_of, storable_ns
from frugal_sorter.filesystem.status import BLOCK, look, open_to_read, with_sample
from frugal_sorter.filesystem.volumes import mount_at
from frugal_sorter.planning.guard import Downloads, enforce_removal_limits, leave_unwritable, refused_folder, version_control_root
from frugal_sorter.planning.matched import Removals
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import attributes, disk
from frugal_sorter.reasons import NotDone, Why, reason_of
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.keys import DEFAULT_KEEP, Do, Keep
from frugal_sorter.rules.tree import Node
from frugal_sorter.steps.kinds import Details
from frugal_sorter.steps.step import ONE_FILE, Count, NotTouched, Step, Witness
from frugal_sorter.values import field, mutable

_WHY: Mapping[Keep, str] = {
    "unmarked": "no copy mark in its name",
    "oldest": "the oldest",
    "newest": "the newest",
    "shortest-path": "the shortest path",
}


_RANKS: Mapping[Keep, Callable[[Same], int]] = {
    "unmarked": lambda one: one.is_marked,
    "oldest": lambda one: one.mtime_ns,
    "newest": lambda one: -one.mtime_ns,
    "shortest-path": lambda one: min(map(len, one.names)),
}


class Choice(NamedTuple):
    """What becomes of a group: the file that stays, why that one, those that may go, and why others stay, by path."""

    group: Group
    kept: Same
    why: str
    going: list[Same]
    staying: Mapping[str, str] = {}

    @property
    def frees(self) -> int:
        """How many bytes go, by the sizes of the files, as in all amounts."""
        return sum(self.group.size for one in self.going if not one.further)


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
        why = "in the --keep-in folder" if inside else "no copy in the --keep-in folder"
        others = {one.path: f"{why}, too" if inside else "" for one in files if one not in going and one is not kept}
        return Choice(group, kept, why, going, others)
    kept, why = _best(files, keep)
    return Choice(group, kept, why, [one for one in files if one is not kept])


def _best(files: Sequence[Same], keep: Sequence[Keep]) -> tuple[Same, str]:
    left = files
    for one in keep:
        ranks = list(map(_RANKS[one], left))
        first = min(ranks)
        ties = ranks.count(first)
        if ties == 1 and len(left) > 1:
            return left[ranks.index(first)], _WHY[one]
        if ties < len(left):
            left = [file for file, rank in zip(left, ranks, strict=True) if rank == first]
    return min(left, key=lambda file: file.path), "the first by name"


# Names that look like copies


class LookAlike(NamedTuple):
    """A file named as file managers name copies.

    Args:
        path: the file.
        original: the path without the mark.
        kind: `copy` where both hold the same, `differs` where they do not, `alone` where the unmarked one is missing.
        sizes: of those that differ, their bytes.
        times_ns: and when each was written.
        first: and the first byte that is not the same, counted from 0.
    """

    path: str
    original: str
    kind: Literal["copy", "differs", "alone"]
    sizes: tuple[int, int] = (0, 0)
    times_ns: tuple[int, int] = (0, 0)
    first: int | None = None


def look_alikes(found: Duplicates) -> list[LookAlike]:
    """Return what becomes of the names that look like copies."""
    if not found.marked:
        return []
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
                one, second = disk.lstat(path), disk.lstat(other)
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
            mine, theirs = disk.pread(first, BLOCK, at), disk.pread(second, BLOCK, at)
            if mine != theirs:
                shorter = min(len(mine), len(theirs))
                same = next((index for index in range(shorter) if mine[index] != theirs[index]), shorter)
                return at + same
            if not mine:
                return None
            at += len(mine)
    finally:
        disk.close(first)
        if second >= 0:
            disk.close(second)


# Folders that hold the same


def same_folders(found: Duplicates) -> list[list[str]]:
    """Return the folders with the same contents, the outermost only, those with the most files first."""
    places = [
        (one.columns.folders[one.columns.folder[at]], one.columns.names[at], number)
        for number, group in enumerate(found.groups)
        for one in group.files
        for at in (one.at, *one.further)
    ]
    shared = Counter(folder for folder, _, _ in places)
    # Only folders whose files all have a copy somewhere.
    whole = {folder: inside for folder, inside in found.whole_folders.items() if shared[folder] == inside[0]}
    content = defaultdict[str, list[tuple[str, object]]](list)
    for folder, name, number in places:
        if folder in whole:
            content[folder].append((name, number))
    # The innermost first; folders with the same contents get the same number.
    numbers: dict[tuple[object, ...], int] = {}
    known: dict[str, int] = {}
    groups: dict[int, list[str]] = {}
    for folder in sorted(whole, key=lambda folder: -folder.count("/")):
        inside = [(name, known.get(f"{folder}/{name}")) for name in sorted(whole[folder][1])]
        parts = tuple(sorted(content[folder])), tuple(inside)
        if any(parts) and all(number is not None for _, number in inside):
            known[folder] = numbers.setdefault(parts, len(numbers))
    for folder in whole:
        if folder in known:
            groups.setdefault(known[folder], []).append(folder)
    same = [sorted(ones) for ones in groups.values() if len(ones) > 1]
    alike = {folder for ones in same for folder in ones}
    outermost = [ones for ones in same if not all(os.path.dirname(folder) in alike for folder in ones)]
    return sorted(outermost, key=lambda ones: ones[0])


# What steps have instead of the name of a rule.
RULE = "duplicates"


def limited(choice: Choice, where: Node, world: World) -> Choice:
    """Return a choice that takes away only files for which a condition is true."""
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


@mutable
class Removing:
    """How the files that may go are taken away.

    Args:
        do: the action.
        world: the moment.
        across_owners: hard links also between files of different owners or rights.
        at_most: how many may go, None for the usual.
    """

    do: Do
    world: World
    across_owners: bool = False
    at_most: int | None = None
    removals: Removals = field(default_factory=Removals)
    downloads: Downloads = field(default_factory=lambda: Downloads(TYPE_OF_SUFFIX))
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
        plan.seen += Count(len(choice.group.files))
        add_removals(plan, choice, removing, RULE, "")
    if removing.at_most is not None:
        plan.ceilings[RULE] = removing.at_most
    leave_unwritable(plan)
    enforce_removal_limits(plan)
    return plan


def add_removals(plan: Plan, choice: Choice, removing: Removing, rule: str, key: str) -> None:
    """Append the steps for a group; what cannot go is left, with its reason."""
    try:
        kept = _record(choice.kept)
    except NotDone as stays:
        why = stays.reason.reworded(f"{choice.kept.path}: {stays.reason}", "failed")
        plan.not_touched += [NotTouched(place_of(one.path), rule, why) for one in choice.going]
        return
    for one in choice.going:
        try:
            record = _record(one)
            plan.add_group([_step(one, record, kept, removing, rule, key)])
        except NotDone as stays:
            plan.not_touched.append(NotTouched(place_of(one.path), rule, stays.reason))
    staying = [(place_of(path), Why.DUPLICATE_STAYS(text)) for path, text in choice.staying.items() if text]
    plan.not_touched += [NotTouched(place, rule, reason) for place, reason in staying]


def _record(one: Same) -> FileRecord:
    try:
        record = with_sample(look(place_of(one.path)))
    except OSError as error:
        raise NotDone(reason_of(error)) from None
    who = record.identity
    now = (who.dev, who.ino, who.size, storable_ns(record.mtime_ns), storable_ns(record.ctime_ns))
    if who.kind != "file" or now != one.found[1:]:
        raise NotDone(Why.CHANGED_SINCE_READ())
    return record


def _step(one: Same, record: FileRecord, kept: FileRecord, removing: Removing, rule: str, key: str) -> Step:
    folder = record.place.folder
    if refused := refused_folder(folder):
        raise NotDone(Why.GUARDED(f"{folder} is {refused}"))
    if folder not in removing._trees:
        removing._trees[folder] = version_control_root(folder)
    if tree := removing._trees[folder]:
        raise NotDone(Why.VERSION_CONTROL(tree))
    if why := removing.downloads.waits(record.place):
        raise NotDone(why)
    if one.further:
        raise NotDone(Why.OTHER_HARD_LINKS())
    witness = Witness(kept.place, kept.identity)
    if removing.do == "trash":
        return removing.removals.trash(rule, key, record, None, witness)
    if removing.do == "delete":
        return Step(0, "delete", rule, key, record.place, None, record.identity, {}, 0, witness)
    if mount_at(record.place.folder) != mount_at(kept.place.folder):
        raise NotDone(Why.OTHER_VOLUME_THAN_KEPT())
    if (record.uid, record.gid, record.mode) != (kept.uid, kept.gid, kept.mode) and not removing.across_owners:
        raise NotDone(Why.OTHER_OWNER_THAN_KEPT())
    return Step(0, "hard-link", rule, key, record.place, record.place, record.identity, as_it_is(record), 0, witness)


def as_it_is(record: FileRecord) -> Details:
    """Return what is needed to restore a separate file, except for its contents."""
    found: Details = {
        "mode": stat.S_IMODE(record.mode),
        "uid": record.uid,
        "gid": record.gid,
        "mtime_ns": record.mtime_ns,
        "atime_ns": record.atime_ns,
    }
    path = record.place.path
    try:
        names = attributes.listxattr(path, follow_symlinks=False)
        values = {name: attributes.getxattr(path, name, follow_symlinks=False) for name in names}
    except OSError:
        values = {}
    return {**found, "attributes": {name: base64.b64encode(value).decode("ascii") for name, value in values.items()}}


def plan_unmark(alone: Iterable[LookAlike], world: World, origin: str, folders: Sequence[str]) -> Plan:
    """Plan to take the mark off names whose unmarked form is free."""
    plan = Plan("duplicates", world.now_ns, origin, rules=[RULE], matched={RULE})
    plan.levels = dict.fromkeys(folders, None)
    given: set[str] = set()
    for one in alone:
        plan.seen += ONE_FILE
        place = place_of(one.path)
        refused = refused_folder(place.folder)
        tree = version_control_root(place.folder)
        if refused or tree:
            why = Why.GUARDED(f"{place.folder} is {refused}") if refused else Why.VERSION_CONTROL(tree)
            plan.not_touched.append(NotTouched(place, RULE, why))
        elif one.original in given or disk.lexists(one.original):
            plan.not_touched.append(NotTouched(place, RULE, Why.OTHER_FILE_AT(one.original)))
        else:
            given.add(one.original)
            record = with_sample(look(place))
            plan.add_group([Step(0, "move", RULE, "", place, place_of(one.original), record.identity)])
    return plan
