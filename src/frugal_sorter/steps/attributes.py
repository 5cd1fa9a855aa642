"""Tags, comments, and the times of folders."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from frugal_sorter.changes.outcome import CHANGED, NotDone, Outcome
from frugal_sorter.filesystem.extended_attributes import read_attribute
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, Identity, Place
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import attributes, disk
from frugal_sorter.steps.parts import find, there
from frugal_sorter.steps.step import INTERRUPTED, Details, Mark, RunContext, Step, Verb


class SetAttribute(Verb):
    """Gives an extended attribute another text; an empty one is no attribute."""

    def __init__(self, context: RunContext) -> None:
        super().__init__(context)
        # By file and attribute: what an entry had before the later steps of the run, as these tell.
        self._before: dict[tuple[int, int, str], str] = {}

    def do(self, step: Step) -> Mark:
        source, was = _ends(step)
        name, old, new = step.details["attribute"], step.details["old"], step.details["new"]
        fd, _ = find(self._context, source, was)
        with _entry(fd, source.name) as (path, numbers):
            # Once more, since another one may have come to stand there before it was opened.
            _, found = find(self._context, source, was)
            if numbers != (found.identity.dev, found.identity.ino) or read_attribute(path, name) != old:
                raise NotDone(Outcome.SKIPPED, CHANGED)
            if new:
                attributes.setxattr(path, name, new.encode("utf-8", "surrogateescape"))
            else:
                attributes.removexattr(path, name)
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, was = _ends(step)
        place, identity = self._context.now_at.get(source, (source, self._context.became.get(source)))
        found = there(self._context, place, identity or was)
        if found is None:
            return Mark(step.id, Outcome.OPEN, "no longer there")
        with _entry(self._context.descriptors.folder(place.folder), place.name) as (path, _):
            now = read_attribute(path, step.details["attribute"])
        # Several rules, and several names of one file, may have changed it one after the other.
        now = self._before.get((found.identity.dev, found.identity.ino, step.details["attribute"]), now)
        # What was last touched before this run began was not given anything by it.
        if now == step.details["new"] and found.ctime_ns >= self._context.began_ns - COARSEST_TIME_NS:
            return Mark(step.id, Outcome.DONE, now=found.identity)
        return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

    def was_done(self, step: Step, mark: Mark) -> None:
        identity = mark.now or step.was
        if identity is not None:
            self._before[identity.dev, identity.ino, step.details["attribute"]] = step.details["old"]

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, was = _ends(step)
        details: Details = {
            **step.details,
            "old": step.details["new"],
            "new": step.details["old"],
            "entry": [*source],
            "entry_was": [*was],
        }
        return Step(step.id, "set-attribute", step.rule, step.rule_key, source, None, mark.now or was, details)


@contextmanager
def _entry(fd: int, name: str) -> Iterator[tuple[str, tuple[int, int]]]:
    """Open an entry for nothing but itself; yield a path that means it whatever becomes of its name, and its numbers.

    No right to read it is needed for that.
    """
    descriptor = disk.open(name, disk.O_PATH | disk.O_NOFOLLOW | disk.O_CLOEXEC, dir_fd=fd)
    try:
        found = disk.fstat(descriptor)
        yield f"/proc/self/fd/{descriptor}", (found.st_dev, found.st_ino)
    finally:
        disk.close(descriptor)


def _ends(step: Step) -> tuple[Place, Identity]:
    assert step.source is not None and step.was is not None
    return step.source, step.was


class NoteTimes(Verb):
    """Changes nothing: notes the time of a folder after a run, beside that before it."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None
        try:
            _, found = self._context.descriptors.entry(step.source)
        except OSError as error:
            raise NotDone(Outcome.NOT_RUN, reason_of(error)) from None
        return Mark(step.id, Outcome.DONE, now=found.identity._replace(mtime_ns=found.mtime_ns))

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return Mark(step.id, Outcome.NOT_RUN, INTERRUPTED)

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        if mark.now is None:
            return None
        details: Details = {"mtime_ns": step.details["mtime_ns"], "now_ns": mark.now.mtime_ns}
        return Step(step.id, "restore-times", "", "", step.source, None, step.was, details)


class RestoreTimes(Verb):
    """Sets the modification time of a folder to what it was, after all else is done."""

    def do(self, step: Step) -> Mark:
        assert step.source is not None
        try:
            parent_fd, found = self._context.descriptors.entry(step.source)
            if step.was is not None and not found.identity.same_who(step.was):
                raise NotDone(Outcome.NOT_RUN, "another folder stands there by now")
            times = (found.atime_ns, step.details["mtime_ns"])
            disk.utime(step.source.name, ns=times, dir_fd=parent_fd, follow_symlinks=False)
        except OSError as error:
            # Only the owner may set times; the files themselves are where they belong.
            raise NotDone(Outcome.NOT_RUN, reason_of(error)) from None
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return Mark(step.id, Outcome.NOT_RUN, INTERRUPTED)

    def inverse(self, step: Step, mark: Mark) -> Step | None:
        if "now_ns" not in step.details:
            return None
        details: Details = {"mtime_ns": step.details["now_ns"], "now_ns": step.details["mtime_ns"]}
        return Step(step.id, "restore-times", "", "", step.source, None, step.was, details)
