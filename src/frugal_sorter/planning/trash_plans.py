"""Planning what leaves the trash: removed permanently, or restored."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence

from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, FileRecord, Unknown, place_of
from frugal_sorter.filesystem.status import look, look_or_none, with_sample
from frugal_sorter.filesystem.volumes import mount_at
from frugal_sorter.filesystem.walk import Inside, look_inside, unread_for
from frugal_sorter.planning.guard import refused_folder
from frugal_sorter.planning.matched import TargetFolders, identity_inside
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.reasons import Why
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.keys import MOST_REMOVALS
from frugal_sorter.rules.model import TrashLimits
from frugal_sorter.rules.units import SECOND_NS, Duration
from frugal_sorter.steps.kinds import Details
from frugal_sorter.steps.step import ONE_FILE, Count, NotTouched, Step, folder_of, total
from frugal_sorter.trash.base import Trashed
from frugal_sorter.trash.bins import all_bins, contents_of
from frugal_sorter.values import frozen, replace


def all_trashed() -> tuple[list[Trashed], list[Note]]:
    """Return what is in every trash of this account, the oldest first, and what could not be read."""
    found: list[Trashed] = []
    notes: list[Note] = []
    for trash in all_bins():
        try:
            found += contents_of(trash)
        except OSError as error:
            notes.append(Note(f"{trash.root}: {unread_for(trash.root, error).reason}", True))
    return sorted(found, key=lambda one: (str(one.deleted or ""), one.original, one.name)), notes


def plan_restore(wanted: Sequence[Trashed], made_ns: int) -> Plan:
    """Plan to bring entries back to where they were; nothing is changed.

    Args:
        wanted: what is to come back.
        made_ns: the moment of planning.
    """
    plan = Plan("restore", made_ns, "the trash", seen=total(_count(one) for one in wanted))
    folders = TargetFolders()
    given: set[str] = set()
    for one in wanted:
        why = _blocked(one, folders, given)
        if why:
            plan.not_touched.append(NotTouched(one.place, "", Why.CANNOT_COME_BACK(why), _count(one)))
            continue
        given.add(one.original)
        plan.add_group([_restore(one)])
    plan.make_folders(folders.to_make)
    return plan


def _count(one: Trashed) -> Count:
    inside = look_inside(one.place.path) if disk.isdir(one.place.path) and not disk.islink(one.place.path) else None
    if inside is None:
        return ONE_FILE
    return folder_of(inside.files if isinstance(inside, Inside) else 0)


def _blocked(one: Trashed, folders: TargetFolders, given: set[str]) -> str:
    """Return why an entry cannot come back, or an empty text."""
    if one.orphan == "info":
        return "its file is no longer in the trash"
    if not one.original:
        return "its original location is unknown; it is in " + one.bin.files
    if one.original in given or disk.lexists(one.original):
        return f"another file is now at {one.original}"
    folder = os.path.dirname(one.original)
    if slashed.unfollowed(folder):
        return f"the path to {folder} contains a symbolic link"
    return refused_folder(folder) or folders.usable(folder, folder)


def _restore(one: Trashed) -> Step:
    record = with_sample(look(one.place))
    identity = record.identity
    details: Details = {"top": one.bin.top} if one.bin.top else {}
    if identity.kind == "folder" and isinstance(inside := look_inside(one.place.path), Inside):
        identity = identity_inside(identity, inside)
        details |= {"files": inside.files, "bytes": inside.bytes}
    target = place_of(one.original)
    if mount_at(target.folder) != mount_at(one.place.folder):
        details["across"] = True
    return Step(0, "restore", "", "", one.place, target, identity, details)


# What steps have instead of the name of a rule.
RULE = "the trash"


@frozen
class Weighed:
    """An entry of a trash with what is known of it.

    Args:
        trashed: the entry.
        record: what its status says; None where it is gone.
        inside: of a folder, what is in it.
        deleted_ns: when it came to the trash: as its info says, else by the time its inode was changed.
    """

    trashed: Trashed
    record: FileRecord | None
    inside: Inside | Unknown | None
    deleted_ns: int

    @property
    def bytes(self) -> int:
        """Its size; of a folder, all inside."""
        if isinstance(self.inside, Inside):
            return self.inside.bytes
        return self.record.identity.size if self.record is not None and self.inside is None else 0

    @property
    def counted(self) -> Count:
        """The entry as it is counted."""
        is_folder = self.record is not None and self.record.identity.kind == "folder"
        return folder_of(self.inside.files if isinstance(self.inside, Inside) else 0) if is_folder else ONE_FILE

    @property
    def files(self) -> int:
        """How many files it is: those inside a folder count."""
        return max(self.inside.files, 1) if isinstance(self.inside, Inside) else 1


def weigh(one: Trashed) -> Weighed:
    """Look at an entry of a trash."""
    try:
        record = look_or_none(one.place)
    except OSError:
        record = None
    is_folder = record is not None and record.identity.kind == "folder"
    inside = look_inside(one.place.path) if is_folder else None
    if one.deleted is not None:
        deleted_ns = int(one.deleted.timestamp()) * SECOND_NS
    else:
        deleted_ns = record.ctime_ns if record is not None else 0
    return Weighed(one, record, inside, deleted_ns)


def leaving(entries: Iterable[Weighed], limits: TrashLimits, world: World, coming: int = 0) -> list[Weighed]:
    """Return what leaves the trash, the oldest first; orphans stay.

    Args:
        entries: everything there.
        limits: what is given.
        world: the moment.
        coming: bytes that are about to go to the trash; they count, and stay.
    """
    entries = list(entries)
    oldest_first = sorted(
        (one for one in entries if not one.trashed.orphan and one.record is not None),
        key=lambda one: (one.deleted_ns, one.trashed.name),
    )
    total = sum(one.bytes for one in entries) + coming
    unlimited = limits.older_than is None and limits.shrink_to is None
    going = []
    for one in oldest_first:
        too_old = limits.older_than is not None and one.deleted_ns < limits.older_than.before(world.now_ns)
        too_much = limits.shrink_to is not None and total > limits.shrink_to
        if (too_old or too_much or unlimited) and _fits(one, limits, world):
            total -= one.bytes
            going.append(one)
    return going


def held_back(entries: Iterable[Weighed], limits: TrashLimits, world: World, coming: int = 0) -> int:
    """Return how many entries stay only because they came to the trash a short time ago."""
    entries = list(entries)
    without = replace(limits, keep=Duration(0, 0))
    return len(leaving(entries, without, world, coming)) - len(leaving(entries, limits, world, coming))


def _fits(one: Weighed, limits: TrashLimits, world: World) -> bool:
    if one.deleted_ns > limits.keep.before(world.now_ns):
        return False
    if limits.where is None:
        return True
    assert one.record is not None
    record = one.record._replace(place=place_of(one.trashed.original or one.trashed.place.path))
    known = replace(world, arrived=lambda _record: one.deleted_ns)
    return limits.where.test(Facts(record, "/", TYPE_OF_SUFFIX, known, one.inside)) is True


def add_emptying(plan: Plan, entries: Sequence[Weighed], rule: str = RULE) -> None:
    """Append to a plan the steps that permanently remove entries of the trash.

    Args:
        plan: the plan.
        entries: what leaves; of an orphan, whichever half is there.
        rule: what the steps have in place of the name of a rule.
    """
    for one in entries:
        trashed = one.trashed
        if trashed.orphan == "info":
            place = trashed.info_place
            record = look_or_none(place)
        else:
            place, record = trashed.place, one.record
        if record is None:
            continue
        identity = with_sample(record).identity
        details: Details = {"original": trashed.original} if trashed.original else {}
        if isinstance(one.inside, Inside):
            identity = identity_inside(identity, one.inside)
            details |= {"files": one.files, "bytes": one.bytes}
        plan.add_group([Step(0, "empty", rule, "", place, None, identity, details)])


def named_limits(all_limits: Sequence[TrashLimits]) -> list[tuple[str, TrashLimits]]:
    """Return limits, each with the name that its steps have in place of a rule's."""
    several = len(all_limits) > 1
    return [(f"{RULE}, limit {number}" if several else RULE, one) for number, one in enumerate(all_limits, start=1)]


def empty_by_rule(plan: Plan, all_limits: Sequence[TrashLimits], world: World, at_most: int | None) -> None:
    """Append to the plan of a rule file what its `[trash]` removes; what the plan itself puts there stays.

    Args:
        plan: all else that is to be done.
        all_limits: of the rule file; each sees what the ones before it leave.
        world: the moment.
        at_most: how much may leave by each, whatever the file says.
    """
    found, notes = all_trashed()
    entries = [weigh(one) for one in found]
    coming = sum(step.bytes for step in plan.asked if step.verb == "trash")
    plan.notes += notes
    for rule, limits in named_limits(all_limits):
        plan.rules.append(rule)
        most = limits.at_most if at_most is None else at_most
        plan.ceilings[rule] = MOST_REMOVALS if most is None else most
        going = leaving(entries, limits, world, coming)
        add_emptying(plan, going, rule)
        if going:
            plan.matched.add(rule)
        if young := held_back(entries, limits, world, coming):
            stay = f"{young:,} {'entry stays' if young == 1 else 'entries stay'} in the trash"
            plan.notes.append(
                Note((f"{rule}: {stay} for now, because `keep` protects what was trashed within {limits.keep.text}"), False)
            )
        gone = set(map(id, going))
        entries = [one for one in entries if id(one) not in gone]
