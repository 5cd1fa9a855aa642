"""Making something new: copies, links, folders, and hard links in the place of files."""

from __future__ import annotations

import base64
import os
import stat
from collections.abc import Iterable
from contextlib import suppress

from frugal_sorter.changes.copier import Copier, attributes_of, give_attributes, give_mode, give_owner, opened
from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.changes.removal import (
    Lease,
    changed_if,
    numbered_as,
    remove_folder,
    remove_name,
    rename_without_replacing,
    same_as,
    witnessed,
)
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, AsItWas, FileRecord, Identity, Place
from frugal_sorter.filesystem.status import READ, look
from frugal_sorter.filesystem.tree import LIST
from frugal_sorter.platforms import accounts, attributes, disk
from frugal_sorter.reasons import NotDone, Outcome, Why
from frugal_sorter.steps.kinds import Details
from frugal_sorter.steps.moving import InTouch
from frugal_sorter.steps.parts import (
    Making,
    ends_of,
    find,
    finish_part,
    held,
    identity_of,
    leftover,
    look_at,
    part_beside,
    put_back,
    same_entry,
    there,
)
from frugal_sorter.steps.step import Mark, RunContext, Step, Verb, Witness, left_undone


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
            return left_undone(step, Why.ALREADY_THERE())
        time.note()
        self._context.making[step.id] = time
        try:
            with opened(name, LIST, parent_fd) as made:
                # An account that may write in the parent can put another folder in its place at once; what is done to
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
            return left_undone(step, Why.INTERRUPTED())
        # Where no birth is kept, one that was touched last before the run was there before it, too.
        born_ns = found.identity.born_ns if found.identity.born_ns is not None else found.ctime_ns
        behind_ns = COARSEST_TIME_NS if found.identity.born_ns is None else _TICK_NS
        if born_ns < self._context.began_ns - behind_ns:
            return left_undone(step, Why.ALREADY_THERE())
        return Mark(step.id, Outcome.DONE, now=found.identity)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return Step(step.id, "remove-folder", step.rule, step.rule_key, step.target, None, mark.now)


def remove_unused(context: RunContext, ended: Iterable[tuple[Step, Mark]]) -> list[Mark]:
    """Remove the folders that a run has made and nothing came into.

    Args:
        context: of the run.
        ended: its steps, each with how it ended.

    Returns:
        the marks of those folders, which hold from now on.
    """
    made: dict[str, tuple[Step, Mark]] = {}
    # Whether something came into a folder that something was meant for; folders in folders are all to be made, whichever were.
    to_make: set[str] = set()
    meant: dict[str, bool] = {}
    for step, mark in ended:
        if step.target is None:
            continue
        done = mark.outcome == Outcome.DONE
        # One that an undo brings back was there before, whatever comes into it.
        if step.verb == "make-folder":
            to_make.add(step.target.path)
            if done and "mode" not in step.details and mark.now is not None:
                made[step.target.path] = step, mark
            continue
        folder = step.target.folder
        while folder in to_make:
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
                marks.append(left_undone(step, Why.UNUSED()))
    return marks


MADE = "made"


class HardLink(Verb):
    """Gives the name of a file to its witness, which holds the same bytes; the file itself goes.

    The file is set aside first, so that nothing is ever renamed over it. It goes only while nobody can
    write to either of the two, after both were compared.
    """

    def do(self, step: Step) -> Mark:
        place, _, was = ends_of(step)
        kept = step.witness
        assert kept is not None
        aside = Place(place.folder, self._context.private(step))
        with held(self._context, step, removal=True) as entry:
            rename_without_replacing(entry.fd, place.name, entry.fd, aside.name)
            try:
                record = look(aside, entry.fd)
                changed_if(not same_entry(record.identity, was))
                kept_fd = self._context.descriptors.folder(kept.place.folder)
                disk.link(kept.place.name, place.name, src_dir_fd=kept_fd, dst_dir_fd=entry.fd, follow_symlinks=False)
                made = look(place, entry.fd)
                if not made.identity.same_who(kept.identity):
                    remove_name(entry.fd, place.name, same_as(made))
                    raise NotDone(Why.CHANGED())
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
        if where := put_back(self._context, aside, place, was):
            raise NotDone(Why.NAMED_OTHERWISE(where)) from None

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        place, _, was = ends_of(step)
        kept = step.witness
        assert kept is not None
        aside = Place(place.folder, self._context.private(step))
        here, at_aside = look_at(self._context, place), there(self._context, aside, was)
        linked = here is not None and here.identity.same_who(kept.identity)
        if at_aside and not repair:
            return left_undone(step, Why.SET_ASIDE(aside.path))
        if at_aside:
            return self._resolve_aside(step, at_aside, here if linked else None)
        if linked and here is not None:
            return Mark(step.id, Outcome.DONE, now=here.identity)
        if here is not None and here.identity.same_who(was):
            return left_undone(step, Why.INTERRUPTED())
        return left_undone(step, Why.LINK_LOST())

    def _resolve_aside(self, step: Step, at_aside: FileRecord, linked: FileRecord | None) -> Mark:
        """Finish what was begun if both still hold the same; else the file gets its name again.

        Raises:
            NotDone, OSError: neither can be; everything that is there stays.
        """
        place, _, was = ends_of(step)
        assert step.witness is not None
        aside = at_aside.place
        fd = self._context.descriptors.folder(place.folder)
        if linked is not None:
            try:
                with witnessed(fd, aside.name, fd, place.name):
                    remove_name(fd, aside.name, same_as(at_aside))
                return Mark(step.id, Outcome.DONE, now=linked.identity)
            except NotDone:
                pass  # one of them was edited since, or is being edited: then both are kept
        self._put_back(fd, aside, place, was, step.witness)
        return left_undone(step, Why.INTERRUPTED())

    def inverse(self, step: Step, mark: Mark) -> Step:
        place, target, _ = ends_of(step)
        assert step.witness is not None and mark.now is not None
        details: Details = {**step.details, "kept": [[*step.witness.place], [*step.witness.identity]]}
        return Step(step.id, "own-file", step.rule, step.rule_key, place, target, mark.now, details)


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
                raise NotDone(Why.NAME_TAKEN(place.name)) from None
            with suppress(OSError):  # the link is gone, and this is what stands for it
                disk.sync_folder(part.fd)
        return Mark(step.id, Outcome.DONE, now=made)

    @staticmethod
    def _describe(fd: int, was: AsItWas) -> None:
        """Restore mode, owner, attributes and times, as far as this account may."""
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
                return left_undone(step, Why.MADE_AS(part.path))
            rename_without_replacing(fd, part.name, fd, place.name)
            return Mark(step.id, Outcome.DONE, now=made)
        if repair and (left := leftover(self._context, step, place.folder, note)):
            return left_undone(step, Why.PART_LEFT(left))
        if here is not None and here.identity.same_who(was):
            return left_undone(step, Why.INTERRUPTED())
        return left_undone(step, Why.COPY_LOST())

    def inverse(self, step: Step, mark: Mark) -> Step:
        place, target, _ = ends_of(step)
        where, identity = step.details["kept"]
        details = step.details.copy()
        del details["kept"]
        witness = Witness(Place(*where), Identity(*identity))
        return Step(step.id, "hard-link", step.rule, step.rule_key, place, target, mark.now, details, 0, witness)
