"""Making something new: copies, links and folders."""

from __future__ import annotations

import base64
import os
import stat
from collections.abc import Iterable
from contextlib import suppress

from frugal_sorter.changes.copier import Copier, give_attributes, give_mode, give_owner, opened
from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.changes.removal import remove_folder
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, AsItWas
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.tree import LIST
from frugal_sorter.platforms import accounts, disk
from frugal_sorter.steps.base import INTERRUPTED, Mark, RunContext, Verb
from frugal_sorter.steps.held_entry import ends_of, find, look_at
from frugal_sorter.steps.moving import InTouch
from frugal_sorter.steps.parts import Making, finish_part, part_beside
from frugal_sorter.steps.step import Step


class Copy(Making):
    """Puts a copy of an entry into another folder."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        source_fd, before = find(self._context, source, was)
        copier = Copier(heed=self._context.heed)
        with part_beside(self._context, step) as part:
            touched = InTouch(source_fd, source.name, before)
            copier.copy(source_fd, source.name, part.fd, part.name, part.made)
            find(self._context, source, was)
            touched.refuse()
            data = {"lost": copier.lost} if copier.lost else None
            made = finish_part(self._context, step, part, data)
        return Mark(step.id, Outcome.DONE, now=made.identity, data=data)


class Link(Making):
    """Puts a link to an entry into a folder."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        find(self._context, source, was)
        with part_beside(self._context, step) as part:
            disk.symlink(source.path, part.name, dir_fd=part.fd)
            part.made()
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)


# The clock by which a disk notes times may be so much behind the one that a program reads.
_TICK_NS = 10_000_000


class MakeFolder(Verb):
    """Makes one folder in a folder that exists; one that was removed comes back with its mode and owner.

    Root gives a new one its parent's owner and mode.
    """

    def do(self, step: Step) -> Mark:
        assert step.target is not None
        name = step.target.name
        parent_fd = self._context.descriptors.folder(step.target.folder)
        time = FolderTime(parent_fd)
        try:
            disk.mkdir(name, dir_fd=parent_fd)
        except FileExistsError:
            return Mark(step.id, Outcome.NOT_RUN, "there already")
        time.note()
        self._context.making[step.id] = time
        try:
            with opened(name, LIST, parent_fd) as made:
                # Whoever may write in the parent can put another folder in its place at once; what is done to
                # this one must not be done to that.
                if disk.fstat(made).st_uid == accounts.user_id() and not disk.listdir(made):
                    self._describe(made, parent_fd, step.details)
            return Mark(step.id, Outcome.DONE, now=look(step.target, parent_fd).identity)
        except OSError:
            with suppress(OSError):
                remove_folder(parent_fd, name)
            raise

    @staticmethod
    def _describe(made: int, parent_fd: int, was: AsItWas) -> None:
        if "mode" in was:
            give_owner(made, was["uid"], was["gid"])
            give_attributes(made, {key: base64.b64decode(value) for key, value in was["attributes"].items()})
            give_mode(made, was["mode"], was["uid"], was["gid"])
            return
        parent = disk.stat(parent_fd)
        # A sticky parent is a shared one, such as a temp folder: what is in it is its maker's.
        if accounts.is_admin() and not parent.st_mode & stat.S_ISVTX:
            give_owner(made, parent.st_uid, parent.st_gid)
            give_mode(made, stat.S_IMODE(parent.st_mode), parent.st_uid, parent.st_gid)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.target is not None
        found = look_at(self._context, step.target)
        if found is None or found.identity.kind != "folder":
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        # Where no birth is kept, one that was touched last before the run was there before it, too.
        born_ns = found.identity.born_ns if found.identity.born_ns is not None else found.ctime_ns
        behind_ns = COARSEST_TIME_NS if found.identity.born_ns is None else _TICK_NS
        if born_ns < self._context.began_ns - behind_ns:
            return Mark(step.id, Outcome.NOT_RUN, "there already")
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return Step(step.id, "remove-folder", step.rule, step.rule_key, step.target, None, mark.now)


def remove_unused(context: RunContext, ended: Iterable[tuple[Step, Mark]]) -> list[Mark]:
    """Remove the folders again that a run has made for entries none of which came into them.

    Args:
        context: of the run.
        ended: its steps, each with how it ended.

    Returns:
        the marks of those folders, which hold from now on.
    """
    made: dict[str, tuple[Step, Mark]] = {}
    # Whether something came into a folder that something was meant for.
    meant: dict[str, bool] = {}
    for step, mark in ended:
        if step.target is None:
            continue
        done = mark.outcome == Outcome.DONE
        # One that an undo brings back was there before, whatever comes into it.
        if step.verb == "make-folder":
            if done and "mode" not in step.details and mark.now is not None:
                made[step.target.path] = step, mark
            continue
        folder = step.target.folder
        while folder in made:
            meant[folder] = meant.get(folder, False) or done
            folder = os.path.dirname(folder)
    marks = []
    for path, (step, mark) in reversed(made.items()):
        if meant.get(path, True):
            continue
        assert step.target is not None and mark.now is not None
        with suppress(OSError):
            fd, found = context.descriptors.entry(step.target)
            if found.identity.same_who(mark.now):
                context.descriptors.forget(path)
                # Where nothing else was done in it since, the folder around it looks as if it had never been there.
                time = context.making.get(step.id)
                is_ours = time is not None and time.at(fd).is_ours()
                remove_folder(fd, step.target.name)
                if time is not None and is_ours:
                    time.give_back()
                marks.append(Mark(step.id, Outcome.NOT_RUN, "removed again, since nothing came into it"))
    return marks
