"""Removing what a step of an earlier run made."""

from __future__ import annotations

import os
from collections.abc import Mapping
from contextlib import ExitStack
from typing import Any

from frugal_sorter.changes.leases import changed_if
from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.changes.witness import same_tree, witnessed
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.steps.base import Mark, Verb
from frugal_sorter.steps.delete import Delete, IsWanted, remove_held
from frugal_sorter.steps.held_entry import NO_LONGER_THERE, Held, held
from frugal_sorter.steps.lines import step_of_line
from frugal_sorter.steps.pack import refuse_unless_packed
from frugal_sorter.steps.step import Step
from frugal_sorter.steps.unpack import refuse_unless_archived


class RemoveMade(Verb):
    """Removes what a step of an earlier run made, if nobody has touched it and what it was made of is still there."""

    def do(self, step: Step) -> Mark:
        try:
            with held(self._context, step, removal=True) as entry, ExitStack() as holding:
                is_wanted = self._refuse_last_copy(step, entry, holding)
                remove_held(self._context, step, entry, private=True, is_wanted=is_wanted)
        except NotDone as not_done:
            if not_done.outcome == Outcome.SKIPPED and not_done.reason == NO_LONGER_THERE:
                return Mark(step.id, Outcome.NOT_RUN, not_done.reason)
            raise
        return Mark(step.id, Outcome.DONE)

    def _refuse_last_copy(self, step: Step, entry: Held, holding: ExitStack) -> IsWanted | None:
        """See that all that is in it is also in what it was made of.

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
            raise NotDone(not_done.outcome, f"it stays: {not_done.reason}") from None
        except OSError as error:
            reason = f"it stays, since what it was made of is not there to compare it with ({reason_of(error)})"
            raise NotDone(Outcome.SKIPPED, reason) from None
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
