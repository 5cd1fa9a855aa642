"""Moving an entry, within a volume and to another one."""

from __future__ import annotations

import errno
from collections.abc import Callable, Collection
from contextlib import ExitStack, suppress

from frugal_sorter.changes.copier import Copier
from frugal_sorter.changes.removal import (
    Lease,
    Rename,
    list_folder,
    refuse_unremovable,
    refuse_writer,
    remove_folder,
    remove_name,
    remove_tree,
    rename_without_replacing,
    same_as,
    same_tree,
    witnessed,
)
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, FileRecord, Identity, Place, Unknown
from frugal_sorter.filesystem.status import is_same_file, look, look_like, look_like_or_none
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import Inside, look_inside
from frugal_sorter.platforms import disk, system
from frugal_sorter.reasons import NotDone, Outcome, Why, reason_of, why_not
from frugal_sorter.steps.kinds import Details
from frugal_sorter.steps.parts import (
    BEGUN,
    Held,
    ends_of,
    find,
    finish_part,
    held,
    is_same_inside,
    leftover,
    part_beside,
    put_back,
    resolve_set_aside,
    there,
    where_put_back,
)
from frugal_sorter.steps.step import Mark, RunContext, Step, Verb, left_undone


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
        """Rename an entry that is held to its target name."""
        _, target, was = ends_of(step)
        try:
            target_fd = self._context.descriptors.folder(target.folder)
        except OSError as error:
            raise NotDone(Why.NO_TARGET_FOLDER() if error.errno == errno.ENOENT else reason_of(error)) from None
        try:
            self._rename(entry.fd, entry.place.name, target_fd, target.name)
        except FileExistsError:
            if not self._differs_in_case_alone(entry, target):
                raise NotDone(Why.NAME_TAKEN(target.name)) from None
            self._rename_case(step, entry, target)
        except OSError as error:
            if error.errno == errno.EXDEV:
                raise NotDone(Why.OTHER_VOLUME()) from None
            raise
        return self._look_once_more(step, entry.fd, entry.place, target, target_fd, was)

    def _look_once_more(self, step: Step, source_fd: int, source: Place, target: Place, target_fd: int, was: Identity) -> Mark:
        """Put an entry back that slipped in between the look at the source and its rename."""
        if was.sample is None and _is_same_inode(target, target_fd, was):
            return Mark(step.id, Outcome.DONE, "", was)
        try:
            now = look_like_or_none(target, was, target_fd)
        except OSError:
            # It was looked at before, and has its name.
            return Mark(step.id, Outcome.DONE, "", was)
        if now is None:
            raise NotDone(Why.REMOVED_AT_ONCE())
        if now.identity.same_who(was):
            found = now.identity
            return Mark(step.id, Outcome.DONE, "", found if was.inside is None else found._replace(inside=was.inside))
        try:
            self._rename(target_fd, target.name, source_fd, source.name)
        except OSError as error:
            raise NotDone(Why.WRONG_ONE_MOVED(target.path, reason_of(error))) from None
        raise NotDone(Why.CHANGED())

    def _differs_in_case_alone(self, entry: Held, target: Place) -> bool:
        if entry.place.folder != target.folder or system.folded(entry.place.name) != system.folded(target.name):
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
                raise NotDone(reason_of(failed).reworded(f"{reason_of(failed)}; {where}")) from None
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
                return left_undone(step, Why.HALF_DONE())
            else:
                return self._finish_link(step, source, target)
        if at_target:
            return Mark(step.id, Outcome.DONE, now=at_target.identity._replace(inside=was.inside))
        if at_source:
            if repair:
                self._remove_placeholder(target)
            return left_undone(step, Why.INTERRUPTED())
        return left_undone(step, Why.AT_NEITHER_PLACE())

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
            return left_undone(step, Why.CHANGED_WHILE_CHECKED())
        remove_name(source_fd, source.name, lambda now: now.st_nlink > 1 and same_as(first)(now))
        return Mark(step.id, Outcome.DONE, now=second.identity)

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        return Step(step.id, "move", step.rule, step.rule_key, target, source, mark.now or was)


def _is_same_inode(place: Place, fd: int, was: Identity) -> bool:
    """Return True if an entry seen a moment ago is what is here now, at the cost of one status call."""
    try:
        now = disk.stat(place.name, dir_fd=fd, follow_symlinks=False)
    except OSError:
        return False
    kind, dev, ino, size, mtime_ns, *_ = was
    if now.st_ino != ino or now.st_dev != dev:
        return False
    return kind == "folder" or (now.st_size == size and now.st_mtime_ns == mtime_ns)


# Noted before the first of a folder that was copied is removed.
REMOVING = "removing"


class InTouch:
    """Whether somebody changed an entry since, its attributes or contents included.

    Args:
        fd: a descriptor of its folder.
        name: its name there.
        record: as it is now.
    """

    def __init__(self, fd: int, name: str, record: FileRecord) -> None:
        self._fd = fd
        self._name = name
        self._record = record
        self._inside = self._look_inside()

    def _look_inside(self) -> Inside | Unknown | None:
        return look_inside(self._name, self._fd) if self._record.identity.kind == "folder" else None

    def refuse(self) -> None:
        """Check that nobody did.

        Raises:
            NotDone: somebody did, or that cannot be known.
        """
        found = disk.stat(self._name, dir_fd=self._fd, follow_symlinks=False)
        changed = not same_as(self._record)(found) if self._inside is None else isinstance(self._inside, Unknown)
        if changed or self._look_inside() != self._inside:
            raise NotDone(Why.CHANGED_WHILE_COPIED())


class MoveAcross(Verb):
    """Moves an entry to another volume: copy, check, then remove."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        with ExitStack() as holding:
            if was.kind != "folder":
                # Not while it is copied: whoever opens it for writing would have to wait for so long.
                fd, record = find(self._context, source, was)
                entry = Held(fd, source, record)
                if was.kind == "file":
                    refuse_writer(fd, source.name)
            else:
                entry = holding.enter_context(held(self._context, step, removal=True))
                entry = Held(entry.fd, entry.place, look(entry.place, entry.fd))
            touched = InTouch(entry.fd, entry.place.name, entry.record)
            copier = Copier(step.details.get("restore"), self._context.heed)
            with part_beside(self._context, step) as part:
                copier.copy(entry.fd, entry.place.name, part.fd, part.name, part.made)
                lease = holding.enter_context(Lease(entry.fd, entry.place.name)) if was.kind == "file" else None
                find(self._context, entry.place, was)
                touched.refuse()
                data = {"lost": copier.lost} if copier.lost else None
                made = finish_part(self._context, step, part, data)
            self._remove_source(step, entry, made, part.fd, touched, lease)
        return Mark(step.id, Outcome.DONE, now=made.identity, data=data)

    def _remove_source(self, step: Step, entry: Held, made: FileRecord, fd: int, touched: InTouch, lease: Lease | None) -> None:
        _, target, was = ends_of(step)
        try:
            touched.refuse()
            if was.kind == "folder":
                refuse_unremovable(entry.fd, entry.place.name)
                self._context.note(Mark(step.id, Outcome.NOTED, REMOVING, made.identity), True)
                self._remove_folder(entry, target, fd)
            else:
                remove_name(entry.fd, entry.place.name, same_as(entry.record), self._context.private(step), lease)
        except (NotDone, OSError) as failed:
            # What cannot go from there does not come here: only our own copy is removed again, and only
            # while what it was made of is still there, whole.
            source = look_like_or_none(entry.place, was, entry.fd)
            if source is None or not source.identity.same_who(was):
                raise NotDone(Why.REMOVED_DURING_MOVE(target.path)) from None
            try:
                remove_copy(self._context, step, fd, target.name, made.identity, entry.fd, entry.place.name)
            except (NotDone, OSError):
                raise NotDone(Why.BOTH_KEPT(why_not(failed), target.path)) from None
            raise

    @staticmethod
    def _remove_folder(entry: Held, target: Place, fd: int) -> None:
        """Remove a folder that was copied; if that fails on the way, what is gone of it is copied back."""
        try:
            remove_tree(entry.fd, entry.place.name)
        except (NotDone, OSError):
            Copier().missing(fd, target.name, entry.fd, entry.place.name)
            raise

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, target, was = ends_of(step)
        context = self._context
        aside = Place(source.folder, context.private(step))
        at_source, at_aside = there(context, source, was), there(context, aside, was)
        begun = at_source or at_aside
        # The note says which inode the finished copy has: a file of that name alone could be anybody's.
        copied = note.now if note is not None and note.reason != BEGUN else None
        made = there(context, target, copied) if copied is not None else None
        if made is not None and copied is not None and note is not None:
            now = made.identity._replace(inside=copied.inside)
            done = Mark(step.id, Outcome.DONE, now=now, data=note.data)
            if begun is None:
                return done
            if not repair:
                return left_undone(step, Why.ORIGINAL_THERE())
            return self._resolve_both(step, note, copied, aside if at_aside else None, done)
        if begun is None and copied is not None and repair and self._finish(step, copied):
            return Mark(step.id, Outcome.DONE, now=copied, data=note.data if note else None)
        if repair and (left := leftover(context, step, target.folder, note)):
            return left_undone(step, Why.PART_LEFT(left))
        if at_aside:
            return resolve_set_aside(context, step, aside, repair)
        if begun:
            return left_undone(step, Why.INTERRUPTED())
        return left_undone(step, Why.AT_NEITHER_PLACE())

    def _resolve_both(self, step: Step, note: Mark, copied: Identity, aside: Place | None, done: Mark) -> Mark:
        """Settle a step whose copy has its name while what it was made of is still there, set aside or not."""
        source, target, was = ends_of(step)
        context = self._context
        source_fd, target_fd = context.descriptors.folder(source.folder), context.descriptors.folder(target.folder)
        if aside is not None and (was.kind != "folder" or note.reason == REMOVING):
            # It was set aside to be removed.
            try:
                if was.kind == "folder":
                    same_tree(source_fd, aside.name, target_fd, target.name)
                    remove_tree(source_fd, aside.name)
                else:
                    with witnessed(source_fd, aside.name, target_fd, target.name):
                        remove_name(source_fd, aside.name, same_as(look(aside, source_fd)))
                return done
            except (NotDone, OSError):
                if was.kind == "folder":
                    # Back to where it was, whole, rather than in two halves.
                    Copier().missing(target_fd, target.name, source_fd, aside.name)
        try:
            remove_copy(context, step, target_fd, target.name, copied, source_fd, aside.name if aside else source.name)
        except NotDone as kept:
            where = where_put_back(context, aside, source, was) if aside else ""
            return left_undone(step, Why.BOTH_THERE(target.path, kept.reason, f"; {where}" if where else ""))
        return resolve_set_aside(context, step, aside, True) if aside else left_undone(step, Why.INTERRUPTED())

    def _finish(self, step: Step, copied: Identity) -> bool:
        """Rename a finished copy to its target where its original is gone: it may be the only one by now."""
        _, target, _ = ends_of(step)
        part = Place(target.folder, self._context.private(step))
        if there(self._context, part, copied) is None:
            return False
        fd = self._context.descriptors.folder(target.folder)
        rename_without_replacing(fd, part.name, fd, target.name)
        return True

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        lost = mark.data.get("lost") if mark.data else None
        details: Details = {"restore": lost} if lost else {}
        return Step(step.id, "move-across", step.rule, step.rule_key, target, source, mark.now or was, details)


def remove_copy(context: RunContext, step: Step, fd: int, name: str, made: Identity, kept_fd: int, kept: str) -> None:
    """Remove a copy that this tool has made, if nobody edited it and what it was made of holds the same bytes.

    Args:
        context: of the run.
        step: that made it, or takes it back.
        fd: a descriptor of the folder of the copy.
        name: its name there.
        made: what the copy was when it was finished.
        kept_fd: a descriptor of the folder of what it was made of.
        kept: its name there.

    Raises:
        NotDone: one of the two was edited, or is being written to; both stay.
        OSError: one of the two is gone, or cannot be removed.
    """
    record = look_like(Place("", name), made, fd)
    if not record.identity.same_who(made) or not record.identity.same_state(made._replace(inside=None)):
        raise NotDone(Why.COPY_EDITED())
    private = context.private(step)
    if made.kind == "folder":
        if not is_same_inside(fd, name, made):
            raise NotDone(Why.COPY_EDITED())
        refuse_unremovable(fd, name)
        same_tree(fd, name, kept_fd, kept)
        remove_tree(fd, name)
    elif made.kind == "file":
        with witnessed(fd, name, kept_fd, kept):
            remove_name(fd, name, same_as(record), private)
    else:
        remove_name(fd, name, same_as(record), private)


def lost_text(near: str, dev: int, kinds: Collection[str]) -> str:
    """Return one line on what a volume does not keep of the files that went there.

    Args:
        near: a folder on it.
        dev: its device.
        kinds: keys of what was lost.
    """
    words = {"mode": "modes", "mtime_ns": "fine times", "owner": "owners", "attributes": "extended attributes"}
    volume = volume_of(dev, near)
    lost = ", ".join(word for key, word in words.items() if key in kinds)
    return f"the volume at {volume.top} ({volume.kind}) does not store {lost}; undo restores them"
