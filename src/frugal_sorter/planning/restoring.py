"""The planner of `trash --restore`: what brings entries back from the trash."""

from __future__ import annotations

import os
from collections.abc import Sequence

from frugal_sorter.filesystem.fingerprint import with_sample
from frugal_sorter.filesystem.inside import Inside, look_inside
from frugal_sorter.filesystem.record import place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.volumes import mount_at
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.planning.guard import refused_folder
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.planning.target_folders import TargetFolders
from frugal_sorter.planning.to_trash import identity_inside
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.steps.count import ONE_FILE, Count, folder_of, total
from frugal_sorter.steps.details import Details
from frugal_sorter.steps.step import NotTouched, Step
from frugal_sorter.trash.base import Trashed
from frugal_sorter.trash.bins import all_bins, contents_of


def all_trashed() -> tuple[list[Trashed], list[Note]]:
    """Return what lies in every trash of this account, the oldest first, and what could not be read."""
    found: list[Trashed] = []
    notes: list[Note] = []
    for trash in all_bins():
        try:
            found += contents_of(trash)
        except OSError as error:
            notes.append(Note(f"{trash.root}: {reason_of(error)}", True))
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
            plan.not_touched.append(NotTouched(one.place, "", why, True, _count(one)))
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
        return "where it was is not known; it lies in " + one.bin.files
    if one.original in given or disk.lexists(one.original):
        return f"{one.original} is taken"
    folder = os.path.dirname(one.original)
    if slashed.unfollowed(folder):
        return f"the way to {folder} leads through a link"
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
