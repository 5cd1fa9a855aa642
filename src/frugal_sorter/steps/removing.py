"""Removing entries permanently: what a person asked for, what the trash held, and what a run had made."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from typing import Any

from frugal_sorter.changes.removal import (
    changed_if,
    remove_folder,
    remove_if_free,
    remove_name,
    remove_tree,
    same_as,
    same_tree,
    witnessed,
)
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.reasons import NotDone, Outcome, Why, reason_of, why_not
from frugal_sorter.steps.archives import refuse_unless_archived, refuse_unless_packed
from frugal_sorter.steps.parts import Held, held, look_at, resolve_set_aside, there
from frugal_sorter.steps.step import Mark, RunContext, Step, Verb, left_undone, step_of_line
from frugal_sorter.steps.trashing import remove_infos

REMOVING = "removing"
IsWanted = Callable[[int, str, os.stat_result], None]


class Delete(Verb):
    """Permanently removes an entry; a folder with everything in it.

    Between the last look at a file and its removal there is a moment in which another program can
    put another file there; both are done relative to an open folder, so that it is as short as can be.
    """

    def do(self, step: Step) -> Mark:
        source, was = step.source, step.was
        assert source is not None and was is not None
        if was.kind == "file" and was.sample is None and step.witness is None:
            # The same as below, for the many; where anything is unusual, the long way says what.
            fd = self._context.descriptors.folder(source.folder)
            if remove_if_free(source.name, fd, was, self._context.planned_ns):
                return Mark(step.id, Outcome.DONE)
        with held(self._context, step, removal=True) as entry:
            remove_held(self._context, step, entry, private=step.witness is not None)
        return Mark(step.id, Outcome.DONE)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.source is not None and step.was is not None
        aside = Place(step.source.folder, self._context.private(step))
        try:
            if there(self._context, step.source, step.was):
                return left_undone(step, Why.INTERRUPTED())
            if there(self._context, aside, step.was):
                if note is None or not repair:
                    return resolve_set_aside(self._context, step, aside, repair)
                remove_tree(self._context.descriptors.folder(aside.folder), aside.name)
            self._context.descriptors.folder(step.source.folder)
        except NotDone as not_done:
            return left_undone(step, Why.REMOVED_IN_PART(aside.path, not_done.reason))
        except FileNotFoundError:
            return left_undone(step, Why.NO_FOLDER_THERE())
        return Mark(step.id, Outcome.DONE)

    def inverse(self, step: Step, mark: Mark) -> None:
        return None


def remove_held(context: RunContext, step: Step, entry: Held, private: bool, is_wanted: IsWanted | None = None) -> None:
    """Remove an entry that is held for removal.

    Args:
        context: of the run.
        step: the step.
        entry: what is held.
        private: whether it is looked at once more under a private name, since nobody asked for its removal.
        is_wanted: asked before each file of a folder goes; see `remove_tree`.

    Raises:
        NotDone: it is not removed, or not the whole folder.
        OSError: it cannot be removed.
    """
    if entry.record.identity.kind != "folder":
        name = context.private(step) if private else ""
        remove_name(entry.fd, entry.place.name, same_as(entry.record), name)
        return
    context.note(Mark(step.id, Outcome.NOTED, REMOVING), True)
    try:
        remove_tree(entry.fd, entry.place.name, is_wanted)
    except (NotDone, OSError) as failed:
        raise NotDone(Why.PARTLY_REMOVED(why_not(failed))) from None


class Empty(Delete):
    """Permanently removes an entry of a trash, and then the note of where it was; of an orphan, what is left of it."""

    def do(self, step: Step) -> Mark:
        mark = super().do(step)
        self._forget(step)
        return mark

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        mark = super().resolve_after_crash(step, note, repair)
        if mark.outcome == Outcome.DONE and repair:
            self._forget(step)
        return mark

    def _forget(self, step: Step) -> None:
        assert step.source is not None
        remove_infos(self._context, [step.source])


class RemoveMade(Verb):
    """Removes what a step of an earlier run made, if nobody has touched it and what it was made of is still there."""

    def do(self, step: Step) -> Mark:
        try:
            with held(self._context, step, removal=True) as entry, ExitStack() as holding:
                is_wanted = self._refuse_last_copy(step, entry, holding)
                remove_held(self._context, step, entry, private=True, is_wanted=is_wanted)
        except NotDone as not_done:
            if not_done.reason.why is Why.GONE:
                return left_undone(step, not_done.reason.by_design)
            raise
        return Mark(step.id, Outcome.DONE)

    def _refuse_last_copy(self, step: Step, entry: Held, holding: ExitStack) -> IsWanted | None:
        """Check that everything in it is also in what it was made of.

        Raises:
            NotDone: it is not; then this is the only one.
        """
        again: Mapping[str, Any] = step.details["again"]
        verb = again["verb"]
        try:
            if verb == "pack":
                refuse_unless_packed(self._context, entry.fd, entry.place.name, again["args"]["members"])
            elif verb == "unpack":
                refuse_unless_archived(self._context, entry.fd, entry.place.name, Place(*step.details["entry"]))
            elif verb == "copy":
                return self._refuse_unless_copied(step, entry, holding)
        except NotDone as not_done:
            raise NotDone(not_done.reason.reworded(f"it stays: {not_done.reason}")) from None
        except OSError as error:
            raise NotDone(Why.SOURCE_GONE(reason_of(error))) from None
        return None

    def _refuse_unless_copied(self, step: Step, entry: Held, holding: ExitStack) -> IsWanted | None:
        original = Place(*step.details["entry"])
        kept_fd = self._context.descriptors.folder(original.folder)
        kind = entry.record.identity.kind
        if kind == "file":
            holding.enter_context(witnessed(entry.fd, entry.place.name, kept_fd, original.name))
        if kind != "folder":
            return None
        states = same_tree(entry.fd, entry.place.name, kept_fd, original.name)

        def is_wanted(fd: int, name: str, found: os.stat_result) -> None:
            state = (found.st_size, found.st_mtime_ns, found.st_ctime_ns)
            is_file = states.get((found.st_dev, found.st_ino), state)
            changed_if(is_file != state)

        return is_wanted

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return Delete(self._context).resolve_after_crash(step, note, repair)

    def inverse(self, step: Step, mark: Mark) -> Step:
        again = step_of_line(step.details["again"])
        again.id = step.id
        return again


class RemoveFolder(Verb):
    """Removes one empty folder; what is not empty stays."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None and step.was is not None
        try:
            parent_fd, found = self._context.descriptors.entry(step.source)
            # Where inode numbers do not last an empty folder of that name is as good as the one meant.
            lasts = volume_of(found.identity.dev, step.source.folder).inodes_last
            if lasts and not found.identity.same_who(step.was):
                raise NotDone(Why.OTHER_FOLDER_THERE())
            self._context.descriptors.forget(step.source.path)
            remove_folder(parent_fd, step.source.name)
        except OSError as error:
            if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
                raise NotDone(Why.FOLDER_IN_USE()) from None
            if error.errno == errno.ENOENT:
                raise NotDone(Why.ALREADY_REMOVED()) from None
            raise
        return Mark(step.id, Outcome.DONE)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.source is not None
        gone = look_at(self._context, step.source) is None
        return Mark(step.id, Outcome.DONE) if gone else left_undone(step, Why.INTERRUPTED())

    def inverse(self, step: Step, mark: Mark) -> Step:
        return Step(step.id, "make-folder", step.rule, step.rule_key, None, step.source, None, step.details)
