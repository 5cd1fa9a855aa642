"""Making folders, and removing those that were made and are empty again."""

from __future__ import annotations

import errno
import os
import stat

from frugal_sorter.files.status import look, look_or_none
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.mark import INTERRUPTED, Mark, Outcome


class MakeFolder:
    """Makes one folder in a folder that exists. Root gives it its parent's owner and mode."""

    def __init__(self, descriptors: Descriptors) -> None:
        self._descriptors = descriptors

    def do(self, step: Step) -> Mark:
        assert step.target is not None
        name = step.target.name
        try:
            parent_fd = self._descriptors.folder(step.target.folder)
            os.mkdir(name, dir_fd=parent_fd)
            parent = os.stat(parent_fd)
            # A sticky parent is a shared one, such as a temp folder: what is in it is its maker's.
            if os.geteuid() == 0 and not parent.st_mode & stat.S_ISVTX:
                os.chown(name, parent.st_uid, parent.st_gid, dir_fd=parent_fd, follow_symlinks=False)
                os.chmod(name, stat.S_IMODE(parent.st_mode), dir_fd=parent_fd)
            return Mark(step.id, Outcome.DONE, now=look(step.target, parent_fd).identity)
        except FileExistsError:
            return Mark(step.id, Outcome.LEFT, "there already")
        except OSError as error:
            return Mark(step.id, Outcome.FAILED, reason_of(error))

    def settle(self, step: Step, began_ns: int, repair: bool) -> Mark:
        assert step.target is not None
        try:
            found = look_or_none(step.target)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if found is None or found.identity.kind != "folder":
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        born_ns = found.identity.born_ns
        if born_ns is not None and born_ns < began_ns:
            return Mark(step.id, Outcome.LEFT, "there already")
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def back(self, step: Step, mark: Mark) -> Step:
        return Step(0, "remove-folder", step.rule, step.rule_key, step.target, None, mark.now)


class RemoveFolder:
    """Removes one empty folder; what is not empty stays."""

    def __init__(self, descriptors: Descriptors) -> None:
        self._descriptors = descriptors

    def do(self, step: Step) -> Mark:
        assert step.source is not None and step.was is not None
        try:
            parent_fd, found = self._descriptors.entry(step.source)
            if not found.identity.same_who(step.was):
                return Mark(step.id, Outcome.SKIPPED, "another folder stands there by now")
            self._descriptors.forget(step.source.path)
            os.rmdir(step.source.name, dir_fd=parent_fd)
        except OSError as error:
            if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
                return Mark(step.id, Outcome.LEFT, "not empty, so it stays")
            if error.errno == errno.ENOENT:
                return Mark(step.id, Outcome.LEFT, "gone already")
            return Mark(step.id, Outcome.FAILED, reason_of(error))
        return Mark(step.id, Outcome.DONE)

    def settle(self, step: Step, began_ns: int, repair: bool) -> Mark:
        assert step.source is not None
        try:
            gone = look_or_none(step.source) is None
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        return Mark(step.id, Outcome.DONE) if gone else Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

    def back(self, step: Step, mark: Mark) -> Step:
        return Step(0, "make-folder", step.rule, step.rule_key, None, step.source, None)
