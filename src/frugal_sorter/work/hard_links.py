"""One file instead of two with the same contents: under both names, and back into a file of its own."""

from __future__ import annotations

import base64
import os
from contextlib import suppress
from typing import Any

from frugal_sorter.files.record import Identity, Place
from frugal_sorter.files.status import look, look_or_none
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step, Witness
from frugal_sorter.work.copies import Copier, identity_of, part_beside, remove_part
from frugal_sorter.work.entry import ends_of, find, held, put_back, same_entry, there
from frugal_sorter.work.mark import CHANGED, INTERRUPTED, Job, Mark, NotDone, Outcome
from frugal_sorter.work.rename import rename_without_replacing, sync_folder

MADE = "made"


class HardLink:
    """Gives the name of a file to its witness, which holds the same bytes; the file itself goes.

    The file is set aside first, so that nothing is ever renamed over it.
    """

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        place, _, was = ends_of(step)
        kept = step.witness
        assert kept is not None
        aside = Place(place.folder, self._job.private(step))
        with held(self._job, step, removal=True) as entry:
            rename_without_replacing(entry.fd, place.name, entry.fd, aside.name)
            try:
                if not same_entry(look(aside, entry.fd).identity, was):
                    raise NotDone(Outcome.SKIPPED, CHANGED)
                kept_fd = self._job.descriptors.folder(kept.place.folder)
                os.link(kept.place.name, place.name, src_dir_fd=kept_fd, dst_dir_fd=entry.fd, follow_symlinks=False)
                made = look(place, entry.fd).identity
                if not made.same_who(kept.identity) or not same_entry(look(aside, entry.fd).identity, was):
                    os.unlink(place.name, dir_fd=entry.fd)
                    raise NotDone(Outcome.SKIPPED, CHANGED)
            except (NotDone, OSError) as failed:
                if not put_back(self._job, aside, place, was):
                    raise NotDone(Outcome.FAILED, f"set aside as {aside.path}: {failed}") from None
                raise
            os.unlink(aside.name, dir_fd=entry.fd)
        return Mark(step.id, Outcome.DONE, now=made)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        place, _, was = ends_of(step)
        assert step.witness is not None
        aside = Place(place.folder, self._job.private(step))
        try:
            here, at_aside = look_or_none(place), there(aside, was)
            linked = here is not None and here.identity.same_who(step.witness.identity)
            if at_aside and linked and repair:
                # Both held the same bytes before it was set aside.
                os.unlink(aside.path)
            elif at_aside and here is None and repair and put_back(self._job, aside, place, was):
                return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
            elif at_aside:
                return Mark(step.id, Outcome.OPEN, f"set aside as {aside.path}")
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if linked and here is not None:
            return Mark(step.id, Outcome.DONE, now=here.identity)
        if here is not None and here.identity.same_who(was):
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "neither the file nor a link to the other one is there")

    def back(self, step: Step, mark: Mark) -> Step:
        place, target, _ = ends_of(step)
        assert step.witness is not None and mark.now is not None
        args = {**step.args, "kept": [list(step.witness.place), list(step.witness.identity)]}
        return Step(step.id, "own-file", step.rule, step.rule_key, place, target, mark.now, args)


class OwnFile:
    """Makes a name of a file with several into a file of its own, as it was before they became one."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        place, _, was = ends_of(step)
        source_fd, before = find(self._job, place, was)
        with part_beside(self._job, step) as (fd, part):
            Copier().copy(source_fd, place.name, fd, part.name)
            self._describe(fd, part.name, step.args)
            made = identity_of(part, fd).identity
            _, now = find(self._job, place, was)
            if now.nlink < 2 or now.ctime_ns != before.ctime_ns:
                raise NotDone(Outcome.SKIPPED, CHANGED)
            self._job.note(Mark(step.id, Outcome.NOTED, MADE, made))
            os.unlink(place.name, dir_fd=fd)
            try:
                rename_without_replacing(fd, part.name, fd, place.name)
            except FileExistsError:
                raise NotDone(Outcome.SKIPPED, f"the name {place.name} was taken meanwhile") from None
            sync_folder(fd)
        return Mark(step.id, Outcome.DONE, now=made)

    @staticmethod
    def _describe(fd: int, name: str, args: Any) -> None:
        """Give back mode, owner, attributes and times, as far as this account may."""
        path = f"/proc/self/fd/{fd}/{name}"
        with suppress(OSError):
            os.chown(name, args["uid"], args["gid"], dir_fd=fd, follow_symlinks=False)
        with suppress(OSError):
            for attribute in set(os.listxattr(path)) - set(args["attributes"]):
                os.removexattr(path, attribute)
        for attribute, value in args["attributes"].items():
            with suppress(OSError):
                os.setxattr(path, attribute, base64.b64decode(value))
        with suppress(OSError):
            os.chmod(name, args["mode"], dir_fd=fd)
        os.utime(name, ns=(args["atime_ns"], args["mtime_ns"]), dir_fd=fd, follow_symlinks=False)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        place, _, was = ends_of(step)
        part = Place(place.folder, self._job.private(step))
        try:
            fd = self._job.descriptors.folder(place.folder)
            made = note.now if note is not None else None
            here = look_or_none(place)
            if made is not None and here is not None and here.identity.same_who(made):
                return Mark(step.id, Outcome.DONE, now=here.identity)
            if made is not None and here is None and there(part, made):
                if not repair:
                    return Mark(step.id, Outcome.OPEN, f"made as {part.path}")
                rename_without_replacing(fd, part.name, fd, place.name)
                return Mark(step.id, Outcome.DONE, now=made)
            if repair:
                remove_part(fd, part.name)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if here is not None and here.identity.same_who(was):
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "neither the link nor the file made of it is there")

    def back(self, step: Step, mark: Mark) -> Step:
        place, target, _ = ends_of(step)
        where, identity = step.args["kept"]
        args = {key: value for key, value in step.args.items() if key != "kept"}
        witness = Witness(Place(*where), Identity(*identity))
        return Step(step.id, "hard-link", step.rule, step.rule_key, place, target, mark.now, args, 0, witness)
