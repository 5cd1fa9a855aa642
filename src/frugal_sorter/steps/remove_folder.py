"""Removing a folder that is empty by then."""

from __future__ import annotations

import errno

from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.changes.removal import remove_folder
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.steps.base import INTERRUPTED, Mark, Verb
from frugal_sorter.steps.held_entry import look_at
from frugal_sorter.steps.step import Step


class RemoveFolder(Verb):
    """Removes one empty folder; what is not empty stays."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None and step.was is not None
        try:
            parent_fd, found = self._context.descriptors.entry(step.source)
            # Where inode numbers do not last an empty folder of that name is as good as the one meant.
            lasts = volume_of(found.identity.dev, step.source.folder).inodes_last
            if lasts and not found.identity.same_who(step.was):
                raise NotDone(Outcome.SKIPPED, "another folder stands there by now")
            self._context.descriptors.forget(step.source.path)
            remove_folder(parent_fd, step.source.name)
        except OSError as error:
            if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
                raise NotDone(Outcome.NOT_RUN, "not empty, so it stays") from None
            if error.errno == errno.ENOENT:
                raise NotDone(Outcome.NOT_RUN, "gone already") from None
            raise
        return Mark(step.id, Outcome.DONE)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.source is not None
        gone = look_at(self._context, step.source) is None
        return Mark(step.id, Outcome.DONE) if gone else Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return Step(step.id, "make-folder", step.rule, step.rule_key, None, step.source, None, step.details)
