"""The planner of `duplicates`: what becomes of the files that need not stay."""

from __future__ import annotations

import base64
import os
import stat
from collections.abc import Iterable, Sequence

from frugal_sorter.duplicates.columns import Same
from frugal_sorter.duplicates.which_stays import Choice, LookAlike
from frugal_sorter.filesystem.fingerprint import with_sample
from frugal_sorter.filesystem.record import FileRecord, place_of, storable_ns
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.types import TYPE_OF_SUFFIX
from frugal_sorter.filesystem.volumes import mount_at
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.planning.constraints import enforce_removal_limits
from frugal_sorter.planning.guard import refused_folder, version_control_root
from frugal_sorter.planning.in_use import Downloads
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.to_trash import Removals
from frugal_sorter.platforms import attributes, disk
from frugal_sorter.rules.conditions.tree import Node
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.file.keys import Do
from frugal_sorter.steps.count import ONE_FILE, Count
from frugal_sorter.steps.details import Details
from frugal_sorter.steps.step import NotTouched, Step, Witness
from frugal_sorter.values import field, mutable

# What steps have in place of the name of a rule.
RULE = "duplicates"


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


@mutable
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
        plan.seen |= Count(len(choice.group.files))
        add_removals(plan, choice, removing, RULE, "")
    if removing.at_most is not None:
        plan.ceilings[RULE] = removing.at_most
    enforce_removal_limits(plan)
    return plan


def add_removals(plan: Plan, choice: Choice, removing: Removing, rule: str, key: str) -> None:
    """Append the steps for a group; what cannot go is left, with its reason."""
    try:
        kept = _record(choice.kept)
    except _Stays as stays:
        plan.not_touched += [
            NotTouched(place_of(one.path), rule, f"{choice.kept.path}: {stays}", True) for one in choice.going
        ]
        return
    for one in choice.going:
        try:
            record = _record(one)
            plan.add_group([_step(one, record, kept, removing, rule, key)])
        except _Stays as stays:
            plan.not_touched.append(NotTouched(place_of(one.path), rule, str(stays), stays.problem))
    plan.not_touched += [NotTouched(place_of(path), rule, why, False) for path, why in choice.staying.items() if why]


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
    now = (who.dev, who.ino, who.size, storable_ns(record.mtime_ns), storable_ns(record.ctime_ns))
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
    if why := removing.downloads.waits(record.place):
        raise _Stays(why)
    if one.further:
        raise _Stays("it has further names (hard links), so that taking one away frees nothing")
    witness = Witness(kept.place, kept.identity)
    if removing.do == "trash":
        return removing.removals.trash(rule, key, record, None, witness)
    if removing.do == "delete":
        return Step(0, "delete", rule, key, record.place, None, record.identity, {}, 0, witness)
    if mount_at(record.place.folder) != mount_at(kept.place.folder):
        raise _Stays("on another volume than the file that stays")
    if (record.uid, record.gid, record.mode) != (kept.uid, kept.gid, kept.mode) and not removing.across_owners:
        raise _Stays("another owner or other rights than the file that stays (--across-owners)")
    return Step(0, "hard-link", rule, key, record.place, record.place, record.identity, as_it_is(record), 0, witness)


def as_it_is(record: FileRecord) -> Details:
    """Return what is needed to make a file of its own again as it was, but for its contents."""
    found: Details = {
        "mode": stat.S_IMODE(record.mode), "uid": record.uid, "gid": record.gid, "mtime_ns": record.mtime_ns,
        "atime_ns": record.atime_ns,
    }  # fmt: skip
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
        plan.seen |= ONE_FILE
        place = place_of(one.path)
        refused = refused_folder(place.folder)
        tree = version_control_root(place.folder)
        if refused or tree:
            why = f"{place.folder} is {refused}" if refused else f"{tree} is under version control and is left whole"
            plan.not_touched.append(NotTouched(place, RULE, why, bool(refused)))
        elif one.original in given or disk.lexists(one.original):
            plan.not_touched.append(NotTouched(place, RULE, f"{one.original} is taken", True))
        else:
            given.add(one.original)
            record = with_sample(look(place))
            plan.add_group([Step(0, "move", RULE, "", place, place_of(one.original), record.identity)])
    return plan
