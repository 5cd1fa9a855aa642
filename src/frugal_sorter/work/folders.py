"""Making folders, and removing those that were made and are empty again."""

from __future__ import annotations

import base64
import errno
import os
import stat
from contextlib import suppress

from frugal_sorter.files.status import look, look_or_none
from frugal_sorter.files.volumes import volume_of
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.mark import INTERRUPTED, Job, Mark, NotDone, Outcome


class MakeFolder:
    """Makes one folder in a folder that exists; one that was removed comes back with its mode and owner.

    Root gives a new one its parent's owner and mode.
    """

    def __init__(self, job: Job) -> None:
        self._descriptors = job.descriptors
        self._began_ns = job.began_ns

    def do(self, step: Step) -> Mark:
        assert step.target is not None
        name = step.target.name
        try:
            parent_fd = self._descriptors.folder(step.target.folder)
            os.mkdir(name, dir_fd=parent_fd)
        except FileExistsError:
            return Mark(step.id, Outcome.LEFT, "there already")
        if "mode" in step.args:
            with suppress(OSError):
                os.chown(name, step.args["uid"], step.args["gid"], dir_fd=parent_fd, follow_symlinks=False)
            with suppress(PermissionError):
                os.chmod(name, step.args["mode"], dir_fd=parent_fd)
            for key, value in step.args["attributes"].items():
                with suppress(OSError):
                    path = f"/proc/self/fd/{parent_fd}/{name}"
                    os.setxattr(path, key, base64.b64decode(value), follow_symlinks=False)
        elif os.geteuid() == 0:
            parent = os.stat(parent_fd)
            # A sticky parent is a shared one, such as a temp folder: what is in it is its maker's.
            if not parent.st_mode & stat.S_ISVTX:
                with suppress(PermissionError):  # some volumes know neither
                    os.chown(name, parent.st_uid, parent.st_gid, dir_fd=parent_fd, follow_symlinks=False)
                    os.chmod(name, stat.S_IMODE(parent.st_mode), dir_fd=parent_fd)
        return Mark(step.id, Outcome.DONE, now=look(step.target, parent_fd).identity)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.target is not None
        try:
            found = look_or_none(step.target)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if found is None or found.identity.kind != "folder":
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        born_ns = found.identity.born_ns
        if born_ns is not None and born_ns < self._began_ns:
            return Mark(step.id, Outcome.LEFT, "there already")
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def back(self, step: Step, mark: Mark) -> Step:
        return Step(step.id, "remove-folder", step.rule, step.rule_key, step.target, None, mark.now)


class RemoveFolder:
    """Removes one empty folder; what is not empty stays."""

    def __init__(self, job: Job) -> None:
        self._descriptors = job.descriptors

    def do(self, step: Step) -> Mark:
        assert step.source is not None and step.was is not None
        try:
            parent_fd, found = self._descriptors.entry(step.source)
            # Where inode numbers do not last an empty folder of that name is as good as the one meant.
            lasts = volume_of(found.identity.dev, step.source.folder).inodes_last
            if lasts and not found.identity.same_who(step.was):
                raise NotDone(Outcome.SKIPPED, "another folder stands there by now")
            self._descriptors.forget(step.source.path)
            os.rmdir(step.source.name, dir_fd=parent_fd)
        except OSError as error:
            if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
                raise NotDone(Outcome.LEFT, "not empty, so it stays") from None
            if error.errno == errno.ENOENT:
                raise NotDone(Outcome.LEFT, "gone already") from None
            raise
        return Mark(step.id, Outcome.DONE)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        assert step.source is not None
        try:
            gone = look_or_none(step.source) is None
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        return Mark(step.id, Outcome.DONE) if gone else Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

    def back(self, step: Step, mark: Mark) -> Step:
        return Step(step.id, "make-folder", step.rule, step.rule_key, None, step.source, None, step.args)
