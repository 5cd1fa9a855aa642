"""Removing for good: what a rule deletes, and what an earlier step has made."""

from __future__ import annotations

import os
from collections.abc import Callable

from frugal_sorter.changes.leases import remove_if_free
from frugal_sorter.changes.outcome import NotDone, Outcome, why
from frugal_sorter.changes.removal import remove_name, remove_tree, same_as
from frugal_sorter.filesystem.record import Place
from frugal_sorter.steps.base import INTERRUPTED, Mark, RunContext, Verb
from frugal_sorter.steps.held_entry import Held, held, resolve_set_aside, there
from frugal_sorter.steps.step import Step

REMOVING = "removing"
IsWanted = Callable[[int, str, os.stat_result], None]


class Delete(Verb):
    """Removes an entry for good; a folder with all that is in it.

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
                return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
            if there(self._context, aside, step.was):
                if note is None or not repair:
                    return resolve_set_aside(self._context, step, aside, repair)
                remove_tree(self._context.descriptors.folder(aside.folder), aside.name)
            self._context.descriptors.folder(step.source.folder)
        except NotDone as not_done:
            return Mark(step.id, Outcome.OPEN, f"removed in part, the rest is {aside.path}: {not_done.reason}")
        except FileNotFoundError:
            return Mark(step.id, Outcome.OPEN, "its folder is not there")
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
        raise NotDone(Outcome.FAILED, f"removed in part only: {why(failed)}") from None
