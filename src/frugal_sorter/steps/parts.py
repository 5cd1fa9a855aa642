"""Opening a step's entry, and making what is not visible until it is finished."""

from __future__ import annotations

import errno
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from typing import Any, Literal

from frugal_sorter.changes.copier import opened
from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.changes.removal import Lease, refuse_unremovable, remove_tree, rename_without_replacing, witnessed
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, FileRecord, Identity, Place, Unknown
from frugal_sorter.filesystem.status import look, look_like, look_like_or_none, with_sample
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import look_inside
from frugal_sorter.platforms import accounts, disk, system
from frugal_sorter.reasons import NotDone, Outcome, Why, reason_of, why_not
from frugal_sorter.steps.kinds import Details
from frugal_sorter.steps.step import Mark, RunContext, Step, Verb, Witness, left_undone, step_as_line
from frugal_sorter.values import frozen

_GONE = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ELOOP})
_MOST_NUMBERS = 1_000


def ends_of(step: Step) -> tuple[Place, Place, Identity]:
    """Return where the entry of a step is, where it will be, and what it is."""
    assert step.source is not None and step.target is not None and step.was is not None
    return step.source, step.target, step.was


def same_entry(found: Identity, planned: Identity) -> bool:
    """Return True if an entry is the planned one, and was not written to since."""
    if found == planned:
        return True
    outside = planned._replace(inside=None)
    return found.dev == planned.dev and found.same_who(planned) and found.same_state(outside)


def find(context: RunContext, place: Place, was: Identity) -> tuple[int, FileRecord]:
    """Return a descriptor of the folder of an entry, and its status.

    Raises:
        NotDone: it is gone, or not as planned.
    """
    try:
        descriptor = context.descriptors.folder(place.folder)
        found = look_like(place, was, descriptor)
    except OSError as error:
        if error.errno == errno.ENOENT:
            raise NotDone(Why.GONE()) from None
        reason = reason_of(error)
        raise NotDone(reason.reworded(reason, "skipped") if error.errno in _GONE else reason) from None
    if not same_entry(found.identity, was):
        raise NotDone(Why.CHANGED())
    return descriptor, found


def is_same_inside(fd: int, name: str, was: Identity) -> bool:
    """Return True if nothing below a folder of an open one changed; its own numbers do not show that."""
    if was.inside is None:
        return True
    found = look_inside(name, fd)
    return not isinstance(found, Unknown) and found.digest == was.inside


@frozen
class Held:
    """An entry that is as planned: an open folder, and where it is in it now."""

    fd: int
    place: Place
    record: FileRecord


@contextmanager
def held(context: RunContext, step: Step, removal: bool = False) -> Iterator[Held]:
    """Open the entry of a step; a folder is set aside under a private name and looked at inside.

    If the block does not take the entry away, it is put back under its name.

    Args:
        context: of the run.
        step: its source, `was` and `witness` say what must be there.
        removal: nobody may be writing to it, nor begin to before the block is left.

    Raises:
        NotDone: it is not as planned, or in use.
    """
    assert step.source is not None and step.was is not None
    place, was = step.source, step.was
    fd, record = find(context, place, was)
    if was.kind != "folder":
        with ExitStack() as holding:
            if was.kind == "file" and (removal or step.witness is not None):
                holding.enter_context(Lease(fd, place.name))
                if step.witness is not None:
                    _hold_witness(holding, context, fd, place.name, step.witness)
                # Once more: somebody may have written to it and closed it a moment ago.
                fd, record = find(context, place, was)
            yield Held(fd, place, record)
        return
    aside = Place(place.folder, context.private(step))
    # A descriptor of it would mean the folder under its private name.
    context.descriptors.forget(place.path)
    time = FolderTime(fd)
    try:
        rename_without_replacing(fd, place.name, fd, aside.name)
    except OSError as error:
        if error.errno == errno.EXDEV:
            raise NotDone(Why.LOWER_LAYER()) from None
        raise
    time.note()
    try:
        if removal:
            refuse_unremovable(fd, aside.name)
        # After that: who wrote a moment ago and has closed the file is found by what changed.
        if not is_same_inside(fd, aside.name, was):
            raise NotDone(Why.CHANGED())
        yield Held(fd, aside, record)
    except (NotDone, OSError) as failed:
        is_ours = time.is_ours()
        try:
            where = put_back(context, aside, place, was)
        except NotDone as still_aside:
            raise NotDone(still_aside.reason.reworded(f"{why_not(failed)}; {still_aside.reason}")) from None
        if where:
            raise NotDone(why_not(failed).reworded(f"{why_not(failed)}; {where}", "failed")) from None
        if is_ours:
            time.give_back()
        raise


def _hold_witness(holding: ExitStack, context: RunContext, fd: int, name: str, witness: Witness) -> None:
    """Compare a file with its witness, and let nobody begin to write to either while something is held."""
    path = witness.place.path
    try:
        kept_fd, _ = find(context, witness.place, witness.identity)
        holding.enter_context(witnessed(fd, name, kept_fd, witness.place.name))
        find(context, witness.place, witness.identity)
    except OSError as error:
        raise NotDone(Why.WITNESS_UNREADABLE(path, reason_of(error))) from None
    except NotDone as not_done:
        if not_done.reason.why is Why.CHANGED:
            raise NotDone(Why.WITNESS_CHANGED(path)) from None
        raise NotDone(not_done.reason.reworded(f"{path}: {not_done.reason}")) from None


def put_back(context: RunContext, aside: Place, place: Place, was: Identity) -> str:
    """Rename an entry that was set aside back, or to a numbered name where its own is taken by now.

    Args:
        context: of the run.
        aside: where it was set aside.
        place: where it was.
        was: what it is.

    Returns:
        what to say of that: where it is, if not under its own name; empty where it has it.

    Raises:
        NotDone: it is still set aside; the outcome is OPEN, so that the next command puts it back.
    """
    try:
        fd = context.descriptors.folder(place.folder)
        found = look_like_or_none(aside, was, fd)
        if found is None or not found.identity.same_who(was):
            return f"it is not there any more as {aside.path}"
        for number in range(1, _MOST_NUMBERS):
            name = place.name if number == 1 else system.shortened(place.name, f"_{number}")
            try:
                rename_without_replacing(fd, aside.name, fd, name)
                return "" if number == 1 else f"it is now named {name}, because its name was taken in the meantime"
            except FileExistsError:
                continue
    except OSError as error:
        raise NotDone(Why.STILL_ASIDE(f"{set_aside(aside)} ({reason_of(error)})")) from None
    raise NotDone(Why.STILL_ASIDE(f"{set_aside(aside)} (its name is taken)"))


def where_put_back(context: RunContext, aside: Place, place: Place, was: Identity) -> str:
    """Do what `put_back` does, and return what to say of it, also where the entry is still set aside."""
    try:
        return put_back(context, aside, place, was)
    except NotDone as still_aside:
        return still_aside.reason


def set_aside(aside: Place) -> str:
    """Return what to say of an entry that has its private name."""
    return f"it is temporarily named {aside.path}; the next frugal command that changes files renames it back"


def resolve_set_aside(context: RunContext, step: Step, aside: Place, repair: bool) -> Mark:
    """Settle a step whose entry was set aside when it was killed, and which is not done.

    Args:
        context: of the run.
        step: the step.
        aside: where its entry is.
        repair: put it back under its name.
    """
    assert step.source is not None and step.was is not None
    if not repair:
        return left_undone(step, Why.SET_ASIDE(aside.path))
    where = where_put_back(context, aside, step.source, step.was)
    interrupted = Why.INTERRUPTED()
    return left_undone(step, interrupted.reworded(f"{interrupted}; {where}", "open") if where else interrupted)


def there(context: RunContext, place: Place, was: Identity) -> FileRecord | None:
    """Return what is at a place if it is a certain entry, changed or not.

    Raises:
        OSError: that cannot be found out.
    """
    found = look_at(context, place, was)
    return found if found is not None and found.identity.same_who(was) else None


def look_at(context: RunContext, place: Place, was: Identity | None = None) -> FileRecord | None:
    """Return what is at a place, or None; by descriptor, no folder on the way is a link.

    Args:
        context: whose descriptors are used.
        place: where to look.
        was: what it will be compared with, if with anything.

    Raises:
        OSError: that cannot be found out.
    """
    try:
        fd = context.descriptors.folder(place.folder)
    except OSError as error:
        if error.errno in _GONE:
            return None
        raise
    return look_like_or_none(place, was or _ANYTHING, fd)


_ANYTHING = Identity("other", 0, 0, 0, 0)


# The notes of a part: it is there; it is finished, and gets its name.
BEGUN, COPIED = "begun", "copied"


class Part:
    """Something that grows under a private name, until it is finished or given up.

    Args:
        context: of the run.
        step: that makes it.
        fd: a descriptor of the folder that it is in.
        place: where it is.
    """

    def __init__(self, context: RunContext, step: Step, fd: int, place: Place) -> None:
        self._context = context
        self._step = step
        self.fd = fd
        self.time = FolderTime(fd)
        self.place = place
        self.name = place.name
        self.identity: Identity | None = None

    def made(self) -> None:
        """Write down what it is, as soon as it is there: only that is ever removed again under its name."""
        self.time.note()
        self.identity = look(self.place, self.fd).identity
        self._context.note(Mark(self._step.id, Outcome.NOTED, BEGUN, self.identity), False)


@contextmanager
def part_beside(context: RunContext, step: Step, place: Place | None = None) -> Iterator[Part]:
    """Yield the private name beside the target of a step; what was made there is removed if the block fails.

    Args:
        context: of the run.
        step: the step.
        place: beside what; the target of the step where it is left out.

    Raises:
        NotDone: the target folder is not there.
    """
    beside = place or step.target
    assert beside is not None
    try:
        fd = context.descriptors.folder(beside.folder)
    except OSError as error:
        raise NotDone(Why.NO_TARGET_FOLDER() if error.errno == errno.ENOENT else reason_of(error)) from None
    part = Part(context, step, fd, Place(beside.folder, context.private(step)))
    try:
        yield part
    except BaseException:
        is_ours = part.time.is_ours()
        if remove_part(fd, part.place, part.identity, context.began_ns) == "removed" and is_ours:
            part.time.give_back()
        raise


def remove_part(fd: int, place: Place, made: Identity | None, began_ns: int) -> Literal["removed", "not there", "stays"]:
    """Remove what was made under a private name; tell what became of it.

    Only what the run has made is removed, by what it wrote down of it or, where it came to nothing of the kind,
    by what `_is_from_this_run` takes for proof.

    Args:
        fd: a descriptor of its folder.
        place: where it is.
        made: what was written down of it, if anything was.
        began_ns: when the run began.
    """
    try:
        found = look(place, fd)
        if made is None and not _is_from_this_run(found, fd, began_ns):
            return "stays"
        lasts = volume_of(found.identity.dev, place.folder).inodes_last
        if made is not None and lasts and not found.identity.same_who(made):
            return "stays"
        remove_tree(fd, place.name)
    except FileNotFoundError:
        return "not there"
    except (NotDone, OSError):
        # An account that may write in a folder may still not read what is in it.
        return "stays"
    return "removed"


def _is_from_this_run(found: FileRecord, fd: int, began_ns: int) -> bool:
    """Return True if a run made an entry and could not write down what it is before the power went.

    Nobody could guess its name, which was on the disk before the entry was made. So an entry that is no older than the
    run, has no other name and belongs to this account is its own; root gives what it makes to other owners.
    """
    earliest_ns = began_ns - COARSEST_TIME_NS
    if (found.born_ns is not None and found.born_ns < earliest_ns) or found.ctime_ns < earliest_ns:
        return False
    if found.uid != accounts.user_id() and not accounts.is_admin():
        return False
    if found.identity.kind != "folder":
        return found.identity.kind in ("file", "link") and found.nlink == 1
    with opened(found.place.name, LIST, fd) as folder:
        return all(
            met.status.st_ctime_ns >= earliest_ns and (met.how == "enter" or met.status.st_nlink == 1)
            for met in below(folder)
            if met.how != "leave"
        )


def finish_part(context: RunContext, step: Step, part: Part, data: Mapping[str, Any] | None = None) -> FileRecord:
    """Write the inode of a finished part down, then give it its name, durably.

    Raises:
        NotDone: the name was taken meanwhile.
    """
    assert step.target is not None
    made = identity_of(part.place, part.fd)
    if part.identity is not None and (made.identity.dev, made.identity.ino) != (part.identity.dev, part.identity.ino):
        raise NotDone(Why.REPLACED(part.place.path))
    context.note(Mark(step.id, Outcome.NOTED, COPIED, made.identity, data), True)
    try:
        rename_without_replacing(part.fd, part.name, part.fd, step.target.name)
    except FileExistsError:
        raise NotDone(Why.NAME_TAKEN(step.target.name)) from None
    try:
        disk.sync_folder(part.fd)
    except OSError:
        # A name that may not last is none: the part has its own again, and is given up.
        rename_without_replacing(part.fd, step.target.name, part.fd, part.name)
        raise
    return made


def identity_of(place: Place, fd: int) -> FileRecord:
    """Return the status of what was made, with everything that later says whether it is still the same.

    Raises:
        OSError: it is gone.
    """
    found = with_sample(look(place, fd), fd)
    if found.identity.kind != "folder":
        return found
    inside = look_inside(place.name, fd)
    digest = None if isinstance(inside, Unknown) else inside.digest
    return found._replace(identity=found.identity._replace(inside=digest))


def resolve_made(context: RunContext, step: Step, note: Mark | None, repair: bool) -> Mark:
    """Settle a step that makes something new: the part goes, what has its name and inode is done."""
    assert step.target is not None
    # It got its name, and was killed before that was written down.
    if note is not None and note.now is not None and (made := there(context, step.target, note.now)):
        now = made.identity._replace(inside=note.now.inside)
        return Mark(step.id, Outcome.DONE, now=now, data=note.data)
    if repair and (left := leftover(context, step, step.target.folder, note)):
        return left_undone(step, Why.PART_LEFT(left))
    return left_undone(step, Why.INTERRUPTED())


def leftover(context: RunContext, step: Step, folder: str, note: Mark | None) -> str:
    """Remove the part that a killed step has left in a folder; return what to say of one that is not its own.

    Raises:
        OSError: the folder cannot be opened.
    """
    try:
        fd = context.descriptors.folder(folder)
    except FileNotFoundError:
        return ""  # its folder is not there, so neither is the part
    part = Place(folder, context.private(step))
    became = remove_part(fd, part, note.now if note is not None else None, context.began_ns)
    if became == "removed":
        context.removed.append(part.path)
    if became != "stays":
        return ""
    return f"{part.path} is not what this run had made, or cannot be removed; it is left there"


def inverse_of_made(step: Step, mark: Mark) -> Step:
    """Return the step that removes what a step has made, and can itself be taken back."""
    details: Details = {"again": step_as_line(step)}
    if step.source is not None and step.was is not None:
        details["entry"] = [*step.source]
        details["entry_was"] = [*step.was]
    return Step(step.id, "remove-made", step.rule, step.rule_key, step.target, None, mark.now, details)


class Making(Verb):
    """A verb that makes something new at its target, from what stays where it is."""

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return resolve_made(self._context, step, note, repair)

    def inverse(self, step: Step, mark: Mark) -> Step:
        return inverse_of_made(step, mark)
