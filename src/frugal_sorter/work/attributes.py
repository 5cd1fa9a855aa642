"""Tags and comments, as other desktop programs keep them in extended attributes."""

from __future__ import annotations

import os

from frugal_sorter.files.attributes import read_attribute
from frugal_sorter.files.record import Identity, Place
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.entry import find, there
from frugal_sorter.work.mark import CHANGED, INTERRUPTED, Job, Mark, NotDone, Outcome


class SetAttribute:
    """Gives an extended attribute another text; an empty one is no attribute."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, was = _ends(step)
        name, old, new = step.args["attribute"], step.args["old"], step.args["new"]
        fd, found = find(self._job, source, was)
        # By the open folder: no link on the way is followed, and no right to read the file is needed.
        path = f"/proc/self/fd/{fd}/{source.name}"
        if read_attribute(path, name) != old:
            raise NotDone(Outcome.SKIPPED, CHANGED)
        if new:
            os.setxattr(path, name, new.encode("utf-8", "surrogateescape"), follow_symlinks=False)
        else:
            os.removexattr(path, name, follow_symlinks=False)
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, was = _ends(step)
        source = self._job.now_at.get(source, source)
        try:
            found = there(source, was)
            if found is None:
                return Mark(step.id, Outcome.OPEN, "no longer there")
            now = read_attribute(source.path, step.args["attribute"])
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if now == step.args["new"]:
            return Mark(step.id, Outcome.DONE, now=found.identity)
        return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

    def back(self, step: Step, mark: Mark) -> Step:
        source, was = _ends(step)
        args = {**step.args, "old": step.args["new"], "new": step.args["old"]}
        args |= {"entry": [*source], "entry_was": [*was]}
        return Step(step.id, "set-attribute", step.rule, step.rule_key, source, None, mark.now or was, args)


def _ends(step: Step) -> tuple[Place, Identity]:
    assert step.source is not None and step.was is not None
    return step.source, step.was
