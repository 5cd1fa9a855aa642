"""One file instead of two with the same contents: under both names, and back into a file of its own."""

from __future__ import annotations

import base64
import os
from contextlib import suppress
from typing import Any

from frugal_sorter.files.fingerprint import READ
from frugal_sorter.files.record import FileRecord, Identity, Place
from frugal_sorter.files.status import look
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step, Witness
from frugal_sorter.work.copier import Copier, opened
from frugal_sorter.work.entry import ends_of, find, held, look_at, put_back, same_entry, there
from frugal_sorter.work.leases import Lease, changed_if
from frugal_sorter.work.mark import CHANGED, INTERRUPTED, Job, Mark, NotDone, Outcome
from frugal_sorter.work.parts import identity_of, leftover, part_beside
from frugal_sorter.work.remove import numbered_as, remove_name, same_as
from frugal_sorter.work.rename import rename_without_replacing, sync_folder
from frugal_sorter.work.rights import attributes_of, give_attributes, give_mode, give_owner
from frugal_sorter.work.witness import witnessed

MADE = "made"


class HardLink:
    """Gives the name of a file to its witness, which holds the same bytes; the file itself goes.

    The file is set aside first, so that nothing is ever renamed over it. It goes only while nobody can
    write to either of the two, after both were compared.
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
                record = look(aside, entry.fd)
                changed_if(not same_entry(record.identity, was))
                kept_fd = self._job.descriptors.folder(kept.place.folder)
                os.link(kept.place.name, place.name, src_dir_fd=kept_fd, dst_dir_fd=entry.fd, follow_symlinks=False)
                made = look(place, entry.fd)
                if not made.identity.same_who(kept.identity):
                    remove_name(entry.fd, place.name, same_as(made))
                    raise NotDone(Outcome.SKIPPED, CHANGED)
                remove_name(entry.fd, aside.name, same_as(record))
            except (NotDone, OSError) as failed:
                self._put_back(entry.fd, aside, place, was, kept)
                raise failed
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def _put_back(self, fd: int, aside: Place, place: Place, was: Identity, kept: Witness) -> None:
        """Take the new link away, if there is one, and give the file its name again.

        Raises:
            NotDone: that cannot be; says where the file is.
        """
        with suppress(NotDone, OSError):
            # The witness has another name: that is where the link was made from.
            is_link = numbered_as(kept.identity)
            remove_name(fd, place.name, lambda found: is_link(found) and found.st_nlink > 1)
        if where := put_back(self._job, aside, place, was):
            raise NotDone(Outcome.FAILED, where) from None

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        place, _, was = ends_of(step)
        kept = step.witness
        assert kept is not None
        aside = Place(place.folder, self._job.private(step))
        try:
            here, at_aside = look_at(self._job, place), there(self._job, aside, was)
            linked = here is not None and here.identity.same_who(kept.identity)
            if at_aside and not repair:
                return Mark(step.id, Outcome.OPEN, f"set aside as {aside.path}")
            if at_aside:
                return self._settle_aside(step, at_aside, here if linked else None)
        except NotDone as not_done:
            return Mark(step.id, Outcome.OPEN, not_done.reason)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if linked and here is not None:
            return Mark(step.id, Outcome.DONE, now=here.identity)
        if here is not None and here.identity.same_who(was):
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "neither the file nor a link to the other one is there")

    def _settle_aside(self, step: Step, at_aside: FileRecord, linked: FileRecord | None) -> Mark:
        """Finish what was begun if both still hold the same; else the file gets its name again.

        Raises:
            NotDone, OSError: neither can be; all that is there stays.
        """
        place, _, was = ends_of(step)
        assert step.witness is not None
        aside = at_aside.place
        fd = self._job.descriptors.folder(place.folder)
        if linked is not None:
            try:
                with witnessed(fd, aside.name, fd, place.name):
                    remove_name(fd, aside.name, same_as(at_aside))
                return Mark(step.id, Outcome.DONE, now=linked.identity)
            except NotDone:
                pass  # one of them was edited since, or is being edited: then both are kept
        self._put_back(fd, aside, place, was, step.witness)
        return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)

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
        with part_beside(self._job, step, place) as part:
            Copier(heed=self._job.heed).copy(source_fd, place.name, part.fd, part.name, part.made)
            with opened(part.name, READ, part.fd) as copy:
                self._describe(copy, step.args)
            made = identity_of(part.place, part.fd).identity
            with Lease(source_fd, place.name) as lease:
                _, now = find(self._job, place, was)
                changed_if(now.nlink < 2 or now.ctime_ns != before.ctime_ns)
                self._job.note(Mark(step.id, Outcome.NOTED, MADE, made), True)
                remove_name(part.fd, place.name, lambda found: found.st_nlink > 1 and same_as(now)(found), "", lease)
                try:
                    rename_without_replacing(part.fd, part.name, part.fd, place.name)
                except FileExistsError:
                    raise NotDone(Outcome.SKIPPED, f"the name {place.name} was taken meanwhile") from None
            with suppress(OSError):  # the link is gone, and this is what stands for it
                sync_folder(part.fd)
        return Mark(step.id, Outcome.DONE, now=made)

    @staticmethod
    def _describe(fd: int, args: Any) -> None:
        """Give back mode, owner, attributes and times, as far as this account may."""
        give_owner(fd, args["uid"], args["gid"])
        for attribute in set(attributes_of(fd)) - set(args["attributes"]):
            with suppress(OSError):
                os.removexattr(fd, attribute)
        give_attributes(fd, {name: base64.b64decode(value) for name, value in args["attributes"].items()})
        give_mode(fd, args["mode"], args["uid"], args["gid"])
        os.utime(fd, ns=(args["atime_ns"], args["mtime_ns"]))

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        place, _, was = ends_of(step)
        part = Place(place.folder, self._job.private(step))
        try:
            fd = self._job.descriptors.folder(place.folder)
            made = note.now if note is not None and note.reason == MADE else None
            here = look_at(self._job, place)
            if made is not None and here is not None and here.identity.same_who(made):
                return Mark(step.id, Outcome.DONE, now=here.identity)
            if made is not None and here is None and there(self._job, part, made):
                if not repair:
                    return Mark(step.id, Outcome.OPEN, f"made as {part.path}")
                rename_without_replacing(fd, part.name, fd, place.name)
                return Mark(step.id, Outcome.DONE, now=made)
            if repair and (left := leftover(self._job, step, place.folder, note)):
                return Mark(step.id, Outcome.OPEN, left)
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
