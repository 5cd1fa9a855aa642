"""The info files of the trash: they say where an entry was, and go when it has left."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from urllib.parse import unquote_to_bytes

from frugal_sorter.changes.descriptors import NEW_FILE, Descriptors
from frugal_sorter.changes.outcome import NotDone
from frugal_sorter.changes.removal import remove_name, remove_note, same_as
from frugal_sorter.filesystem.inside import look_inside
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, Place, Unknown, place_of
from frugal_sorter.filesystem.status import look, look_or_none, open_to_read
from frugal_sorter.platforms import disk
from frugal_sorter.steps.parts import ends_of, look_at
from frugal_sorter.steps.step import RunContext, Step
from frugal_sorter.trash.bins import bin_at, info_place
from frugal_sorter.trash.freedesktop import SIZES, FreedesktopBin, encoded

_LARGEST_SIZES = 10_000_000


def remove_infos(context: RunContext, entries: Sequence[Place]) -> None:
    """Remove the info files of entries that are not in the trash any more: they say nothing that is still true."""
    # With descriptors of their own: those of the run belong to another thread.
    with Descriptors() as descriptors:
        for entry in entries:
            info = info_place(entry)
            try:
                remove_note(descriptors.folder(info.folder), info.name)
            except FileNotFoundError:
                continue
            except OSError:
                context.stray.append(entry)


def remove_stray_infos(context: RunContext) -> list[str]:
    """Remove the info files that could not be removed in their turn, and return the paths of those that stay."""
    stray, context.stray = context.stray, []
    for entry in dict.fromkeys(stray):
        with suppress(OSError):
            # What was put back in the trash since has a use for it.
            if look_at(context, entry) is None:
                remove_infos(context, [entry])
    return [info_place(entry).path for entry in context.stray]


def remove_own_info(context: RunContext, step: Step) -> None:
    """Remove the info file of a step that was not done, if it is the one that the step wrote."""
    source, target, _ = ends_of(step)
    info = info_place(target)
    trash = bin_at(target.folder, step.details.get("top", ""))
    with Descriptors() as descriptors, suppress(NotDone, OSError):
        if look_or_none(target, descriptors.folder(target.folder)) is not None:
            return
        folder = descriptors.folder(info.folder)
        found = look(info, folder)
        with open(open_to_read(info, folder), "rb") as file:
            raw = file.read(65_536)
        # One that was cut short is what a kill leaves between creating and writing.
        born_ns = found.identity.born_ns or context.began_ns
        is_begun = born_ns >= context.began_ns - COARSEST_TIME_NS and trash.may_begin(raw, source)
        if is_begun or trash.parse(raw)[0] == source.path:
            try:
                remove_name(folder, info.name, same_as(found))
            except OSError:
                context.stray.append(target)


def make_above(descriptors: Descriptors, path: str) -> None:
    """Make a folder and those above it, as far as they are missing."""
    missing: list[Place] = []
    while True:
        try:
            descriptors.folder(path)
            break
        except FileNotFoundError:
            missing.append(place_of(path))
            path = os.path.dirname(path)
    for place in reversed(missing):
        disk.mkdir(place.name, 0o700, dir_fd=descriptors.folder(place.folder))


def note_size(context: RunContext, target: Place) -> None:
    """Write down how big a trashed folder is, so that others need not look (specification, `directorysizes`)."""
    trash = bin_at(target.folder, "")
    if not isinstance(trash, FreedesktopBin):
        return
    with suppress(NotDone, OSError):
        inside = look_inside(target.name, context.descriptors.folder(target.folder))
        if isinstance(inside, Unknown):
            return
        info = info_place(target)
        stamp = disk.stat(info.name, dir_fd=context.descriptors.folder(info.folder), follow_symlinks=False).st_mtime_ns
        root = context.descriptors.folder(trash.root)
        own = encoded(target.name)
        kept = []
        for line in _lines(root):
            name = line.split(" ", 2)[-1]
            if name != own and look_or_none(Place(trash.files, _decoded(name)), context.descriptors.folder(trash.files)):
                kept.append(line)
        kept.append(f"{inside.bytes} {stamp // 1_000_000_000} {own}")
        private = f".{SIZES}-{context.run}-{context.token}"
        with open(disk.open(private, NEW_FILE, 0o600, dir_fd=root), "w", encoding="ascii") as file:
            file.write("\n".join(kept) + "\n")
        disk.replace(private, SIZES, src_dir_fd=root, dst_dir_fd=root)


def _lines(root: int) -> list[str]:
    """Return the lines that say how big trashed folders are; a file too long to be that holds none."""
    try:
        with open(open_to_read(Place("", SIZES), root), "rb") as file:
            raw = file.read(_LARGEST_SIZES + 1)
    except OSError:
        return []
    return [] if len(raw) > _LARGEST_SIZES else raw.decode("ascii", "replace").splitlines()


def _decoded(name: str) -> str:
    return os.fsdecode(unquote_to_bytes(name)).replace("/", "").replace("\0", "") or "."
