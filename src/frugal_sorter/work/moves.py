"""Moving and renaming files within a volume."""

from __future__ import annotations

import errno
import os

from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import FileRecord, Identity, Place, Unknown
from frugal_sorter.files.status import look_or_none
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.mark import INTERRUPTED, Mark, Outcome
from frugal_sorter.work.rename import Rename, rename_without_replacing

CHANGED = "changed since it was planned"


def same_entry(found: Identity, planned: Identity) -> bool:
    """Tell whether an entry is the planned one, and was not written to since."""
    outside = planned._replace(inside=None)
    return found.dev == planned.dev and found.same_who(planned) and found.same_state(outside)


def _changed_inside(place: Place, was: Identity) -> bool:
    """Tell whether something below a folder changed; its own numbers do not show that."""
    if was.inside is None:
        return False
    found = look_inside(place.path)
    return isinstance(found, Unknown) or found.digest != was.inside


class Move:
    """Gives an entry another folder or name; its contents are never touched."""

    def __init__(self, descriptors: Descriptors, rename: Rename = rename_without_replacing) -> None:
        self._descriptors = descriptors
        self._rename = rename

    def do(self, step: Step) -> Mark:
        source, target, was = _ends(step)
        try:
            source_fd, found = self._descriptors.entry(source)
        except OSError as error:
            gone = error.errno in (errno.ENOENT, errno.ENOTDIR, errno.ELOOP)
            why = "no longer there" if error.errno == errno.ENOENT else reason_of(error)
            return Mark(step.id, Outcome.SKIPPED if gone else Outcome.FAILED, why)
        if not same_entry(found.identity, was) or _changed_inside(source, was):
            return Mark(step.id, Outcome.SKIPPED, CHANGED)
        try:
            self._descriptors.forget(source.path)
            target_fd = self._descriptors.folder(target.folder)
            self._rename(source_fd, source.name, target_fd, target.name)
        except FileExistsError:
            return Mark(step.id, Outcome.SKIPPED, f"the name {target.name} was taken meanwhile")
        except OSError as error:
            return Mark(step.id, Outcome.FAILED, _failure(error))
        return self._look_once_more(step, source, source_fd, target, target_fd)

    def _look_once_more(self, step: Step, source: Place, source_fd: int, target: Place, target_fd: int) -> Mark:
        """Put an entry back that slipped in between the look at the source and its rename."""
        assert step.was is not None
        now = look_or_none(target, target_fd)
        if now is None:
            return Mark(step.id, Outcome.FAILED, "moved, and taken away from there at once by another program")
        if now.identity.same_who(step.was):
            return Mark(step.id, Outcome.DONE, now=now.identity._replace(inside=step.was.inside))
        try:
            self._rename(target_fd, target.name, source_fd, source.name)
        except OSError as error:
            why = f"another file was moved to {target.path} and could not be put back: {_failure(error)}"
            return Mark(step.id, Outcome.FAILED, why)
        return Mark(step.id, Outcome.SKIPPED, CHANGED)

    def settle(self, step: Step, began_ns: int, repair: bool) -> Mark:
        source, target, was = _ends(step)
        try:
            at_source, at_target = _there(look_or_none(source), was), _there(look_or_none(target), was)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if at_source and at_target and was.kind == "file":
            # Killed between the two halves of a rename by link: one file under two names.
            return self._finish_link(step, source, target) if repair else Mark(step.id, Outcome.OPEN, "half done")
        if at_target:
            return Mark(step.id, Outcome.DONE, now=at_target.identity._replace(inside=was.inside))
        if at_source:
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "found neither where it was nor where it was to go")

    def _finish_link(self, step: Step, source: Place, target: Place) -> Mark:
        source_fd, first = self._descriptors.entry(source)
        _, second = self._descriptors.entry(target)
        if first.nlink < 2 or first.identity != second.identity:
            return Mark(step.id, Outcome.OPEN, "changed while it was looked at")
        os.unlink(source.name, dir_fd=source_fd)
        return Mark(step.id, Outcome.DONE, now=second.identity)

    def back(self, step: Step, mark: Mark) -> Step:
        source, target, was = _ends(step)
        return Step(0, "move", step.rule, step.rule_key, target, source, mark.now or was)


def _ends(step: Step) -> tuple[Place, Place, Identity]:
    assert step.source is not None and step.target is not None and step.was is not None
    return step.source, step.target, step.was


def _there(found: FileRecord | None, was: Identity) -> FileRecord | None:
    return found if found is not None and found.identity.same_who(was) else None


def _failure(error: OSError) -> str:
    if error.errno == errno.EXDEV:
        return "the target is on another volume"
    if error.errno == errno.ENOENT:
        return "the target folder is not there"
    return reason_of(error)
