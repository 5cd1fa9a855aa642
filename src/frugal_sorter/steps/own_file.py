"""Making a name that is a hard link a file of its own again."""

from __future__ import annotations

import base64
from contextlib import suppress

from frugal_sorter.changes.copier import Copier, opened
from frugal_sorter.changes.leases import Lease, changed_if
from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.changes.removal import remove_name, same_as
from frugal_sorter.changes.rename import rename_without_replacing
from frugal_sorter.changes.rights import attributes_of, give_attributes, give_mode, give_owner
from frugal_sorter.filesystem.fingerprint import READ
from frugal_sorter.filesystem.record import AsItWas, Identity, Place
from frugal_sorter.platforms import attributes, disk, kernel
from frugal_sorter.steps.base import INTERRUPTED, Mark, Verb
from frugal_sorter.steps.hard_link import MADE
from frugal_sorter.steps.held_entry import ends_of, find, look_at, there
from frugal_sorter.steps.parts import identity_of, leftover, part_beside
from frugal_sorter.steps.step import Step, Witness


class OwnFile(Verb):
    """Makes a name of a file with several into a file of its own, as it was before they became one."""

    def do(self, step: Step) -> Mark:
        place, _, was = ends_of(step)
        source_fd, before = find(self._context, place, was)
        with part_beside(self._context, step, place) as part:
            Copier(heed=self._context.heed).copy(source_fd, place.name, part.fd, part.name, part.made)
            with opened(part.name, READ, part.fd) as copy:
                self._describe(copy, step.details)
            made = identity_of(part.place, part.fd).identity
            with Lease(source_fd, place.name) as lease:
                _, now = find(self._context, place, was)
                changed_if(now.nlink < 2 or now.ctime_ns != before.ctime_ns)
                self._context.note(Mark(step.id, Outcome.NOTED, MADE, made), True)
                remove_name(part.fd, place.name, lambda found: found.st_nlink > 1 and same_as(now)(found), "", lease)
            # Not before the lease is given back: on some systems a name goes when its file is closed.
            try:
                rename_without_replacing(part.fd, part.name, part.fd, place.name)
            except FileExistsError:
                raise NotDone(Outcome.SKIPPED, f"the name {place.name} was taken meanwhile") from None
            with suppress(OSError):  # the link is gone, and this is what stands for it
                kernel.sync_folder(part.fd)
        return Mark(step.id, Outcome.DONE, now=made)

    @staticmethod
    def _describe(fd: int, was: AsItWas) -> None:
        """Give back mode, owner, attributes and times, as far as this account may."""
        give_owner(fd, was["uid"], was["gid"])
        for attribute in set(attributes_of(fd)) - set(was["attributes"]):
            with suppress(OSError):
                attributes.removexattr(fd, attribute)
        give_attributes(fd, {name: base64.b64decode(value) for name, value in was["attributes"].items()})
        give_mode(fd, was["mode"], was["uid"], was["gid"])
        disk.utime(fd, ns=(was["atime_ns"], was["mtime_ns"]))

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        place, _, was = ends_of(step)
        part = Place(place.folder, self._context.private(step))
        fd = self._context.descriptors.folder(place.folder)
        made = note.now if note is not None and note.reason == MADE else None
        here = look_at(self._context, place)
        if made is not None and here is not None and here.identity.same_who(made):
            return Mark(step.id, Outcome.DONE, now=here.identity)
        if made is not None and here is None and there(self._context, part, made):
            if not repair:
                return Mark(step.id, Outcome.OPEN, f"made as {part.path}")
            rename_without_replacing(fd, part.name, fd, place.name)
            return Mark(step.id, Outcome.DONE, now=made)
        if repair and (left := leftover(self._context, step, place.folder, note)):
            return Mark(step.id, Outcome.OPEN, left)
        if here is not None and here.identity.same_who(was):
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "neither the link nor the file made of it is there")

    def inverse(self, step: Step, mark: Mark) -> Step:
        place, target, _ = ends_of(step)
        where, identity = step.details["kept"]
        details = step.details.copy()
        del details["kept"]
        witness = Witness(Place(*where), Identity(*identity))
        return Step(step.id, "hard-link", step.rule, step.rule_key, place, target, mark.now, details, 0, witness)
