"""Moving and renaming entries within a volume."""

from __future__ import annotations

import errno
from collections.abc import Callable
from contextlib import suppress

from frugal_sorter.changes.outcome import CHANGED, NotDone, Outcome
from frugal_sorter.changes.removal import remove_folder, remove_name, same_as
from frugal_sorter.changes.rename import Rename, list_folder, rename_without_replacing
from frugal_sorter.filesystem.fingerprint import look_like_or_none
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, Identity, Place
from frugal_sorter.filesystem.status import is_same_file
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import disk
from frugal_sorter.steps.base import INTERRUPTED, Mark, RunContext, Verb
from frugal_sorter.steps.held_entry import Held, ends_of, held, put_back, resolve_set_aside, there
from frugal_sorter.steps.step import Step


class Move(Verb):
    """Gives an entry another folder or name; its contents are never touched."""

    def __init__(self, context: RunContext, rename: Rename = rename_without_replacing) -> None:
        super().__init__(context)
        self._rename = rename

    def do(self, step: Step) -> Mark:
        mark = self.at_once(step, is_same_file)
        if mark is not None:
            return mark
        with held(self._context, step) as entry:
            return self.put(step, entry)

    def at_once(self, step: Step, is_fit: Callable[[str, int, Identity, int], bool]) -> Mark | None:
        """Do what `do` does the quick way, as for the many files; None says that it takes a closer look.

        Args:
            step: the step.
            is_fit: tells whether the name in an open folder is the planned file, seen after a moment.
        """
        source, target, was = step.source, step.target, step.was
        assert source is not None and target is not None and was is not None
        if was.kind != "file" or was.sample is not None or step.witness is not None:
            return None
        folders = self._context.descriptors
        try:
            source_fd = folders.folder(source[0])
            if not is_fit(source[1], source_fd, was, self._context.planned_ns):
                return None
            target_fd = folders.folder(target[0])
            self._rename(source_fd, source[1], target_fd, target[1])
        except OSError as error:
            if error.errno not in (errno.EEXIST, errno.ENOENT, errno.ENOTDIR, errno.ELOOP, errno.EXDEV):
                raise
            return None
        if _is_same_inode(target, target_fd, was):
            return Mark(step.id, Outcome.DONE, "", was)
        return self._look_once_more(step, source_fd, source, target, target_fd, was)

    def put(self, step: Step, entry: Held) -> Mark:
        """Give an entry that is held its target name."""
        _, target, was = ends_of(step)
        try:
            target_fd = self._context.descriptors.folder(target.folder)
        except OSError as error:
            missing = "the target folder is not there"
            raise NotDone(Outcome.FAILED, missing if error.errno == errno.ENOENT else reason_of(error)) from None
        try:
            self._rename(entry.fd, entry.place.name, target_fd, target.name)
        except FileExistsError:
            if not self._differs_in_case_alone(entry, target):
                raise NotDone(Outcome.SKIPPED, f"the name {target.name} was taken meanwhile") from None
            self._rename_case(step, entry, target)
        except OSError as error:
            if error.errno == errno.EXDEV:
                raise NotDone(Outcome.FAILED, "the target is on another volume by now") from None
            raise
        return self._look_once_more(step, entry.fd, entry.place, target, target_fd, was)

    def _look_once_more(
        self, step: Step, source_fd: int, source: Place, target: Place, target_fd: int, was: Identity
    ) -> Mark:  # fmt: skip
        """Put an entry back that slipped in between the look at the source and its rename."""
        if was.sample is None and _is_same_inode(target, target_fd, was):
            return Mark(step.id, Outcome.DONE, "", was)
        try:
            now = look_like_or_none(target, was, target_fd)
        except OSError:
            # It was looked at before, and has its name.
            return Mark(step.id, Outcome.DONE, "", was)
        if now is None:
            raise NotDone(Outcome.FAILED, "moved, and taken away from there at once by another program")
        if now.identity.same_who(was):
            found = now.identity
            return Mark(step.id, Outcome.DONE, "", found if was.inside is None else found._replace(inside=was.inside))
        try:
            self._rename(target_fd, target.name, source_fd, source.name)
        except OSError as error:
            why = f"another file was moved to {target.path} and could not be put back: {reason_of(error)}"
            raise NotDone(Outcome.FAILED, why) from None
        raise NotDone(Outcome.SKIPPED, CHANGED)

    def _differs_in_case_alone(self, entry: Held, target: Place) -> bool:
        if entry.place.folder != target.folder or entry.place.name.casefold() != target.name.casefold():
            return False
        now = look_like_or_none(target, entry.record.identity, entry.fd)
        return now is not None and now.identity.same_who(entry.record.identity)

    def _rename_case(self, step: Step, entry: Held, target: Place) -> None:
        """On a volume that ignores case both names are one, so that a third is needed between them."""
        private = self._context.private(step)
        self._rename(entry.fd, entry.place.name, entry.fd, private)
        try:
            self._rename(entry.fd, private, entry.fd, target.name)
        except OSError as failed:
            aside = Place(entry.place.folder, private)
            if where := put_back(self._context, aside, entry.place, entry.record.identity):
                raise NotDone(Outcome.FAILED, f"{reason_of(failed)}; {where}") from None
            raise

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, target, was = ends_of(step)
        aside = Place(source.folder, self._context.private(step))
        at_source, at_target, at_aside = (there(self._context, one, was) for one in (source, target, aside))
        # Set aside for the look inside, and killed before it had its new name.
        if at_aside and not at_target:
            return resolve_set_aside(self._context, step, aside, repair)
        if at_source and at_target and at_source.identity.ino == at_target.identity.ino:
            if at_source.nlink == 1 or was.kind == "folder":
                # A volume that ignores case takes both names for the one that it has.
                is_done = target.name in list_folder(self._context.descriptors.folder(target.folder))
                at_source, at_target = (None, at_target) if is_done else (at_source, None)
            elif not repair:
                return Mark(step.id, Outcome.OPEN, "half done")
            else:
                return self._finish_link(step, source, target)
        if at_target:
            return Mark(step.id, Outcome.DONE, now=at_target.identity._replace(inside=was.inside))
        if at_source:
            if repair:
                self._remove_placeholder(target)
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "found neither where it was nor where it was to go")

    def _remove_placeholder(self, target: Place) -> None:
        """Remove what a kill left of a rename over a placeholder: something empty, made during the run."""
        with suppress(NotDone, OSError):
            fd, found = self._context.descriptors.entry(target)
            needed = not volume_of(found.identity.dev, target.folder).inodes_last
            if not needed or found.mtime_ns < self._context.began_ns - COARSEST_TIME_NS:
                return
            if found.identity.kind == "file" and found.identity.size == 0 and found.nlink == 1:
                remove_name(fd, target.name, same_as(found))
            elif found.identity.kind == "folder":
                remove_folder(fd, target.name)

    def _finish_link(self, step: Step, source: Place, target: Place) -> Mark:
        source_fd, first = self._context.descriptors.entry(source)
        _, second = self._context.descriptors.entry(target)
        if first.nlink < 2 or first.identity != second.identity:
            return Mark(step.id, Outcome.OPEN, "changed while it was looked at")
        remove_name(source_fd, source.name, lambda now: now.st_nlink > 1 and same_as(first)(now))
        return Mark(step.id, Outcome.DONE, now=second.identity)

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        return Step(step.id, "move", step.rule, step.rule_key, target, source, mark.now or was)


def _is_same_inode(place: Place, fd: int, was: Identity) -> bool:
    """Tell cheaply whether an entry that was looked at a moment ago is what stands here now."""
    try:
        now = disk.stat(place.name, dir_fd=fd, follow_symlinks=False)
    except OSError:
        return False
    kind, dev, ino, size, mtime_ns, *_ = was
    if now.st_ino != ino or now.st_dev != dev:
        return False
    return kind == "folder" or (now.st_size == size and now.st_mtime_ns == mtime_ns)
