"""Getting hold of the entry of a step: it must be the planned one, and a folder unchanged inside."""

from __future__ import annotations

import errno
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.changes.leases import Lease
from frugal_sorter.changes.outcome import CHANGED, NotDone, Outcome, why
from frugal_sorter.changes.removal import refuse_unremovable
from frugal_sorter.changes.rename import rename_without_replacing
from frugal_sorter.changes.witness import witnessed
from frugal_sorter.filesystem.inside import look_inside
from frugal_sorter.filesystem.record import FileRecord, Identity, Place, Unknown
from frugal_sorter.filesystem.status import look_like, look_like_or_none
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import names
from frugal_sorter.steps.base import INTERRUPTED, Mark, RunContext
from frugal_sorter.steps.step import Step, Witness
from frugal_sorter.values import frozen

_GONE = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ELOOP})
NO_LONGER_THERE = "no longer there"
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
        gone = error.errno in _GONE
        reason = NO_LONGER_THERE if error.errno == errno.ENOENT else reason_of(error)
        raise NotDone(Outcome.SKIPPED if gone else Outcome.FAILED, reason) from None
    if not same_entry(found.identity, was):
        raise NotDone(Outcome.SKIPPED, CHANGED)
    return descriptor, found


def is_same_inside(fd: int, name: str, was: Identity) -> bool:
    """Return True if nothing below a folder of an open one changed; its own numbers do not show that."""
    if was.inside is None:
        return True
    found = look_inside(name, fd)
    return not isinstance(found, Unknown) and found.digest == was.inside


@frozen
class Held:
    """An entry that is as planned: an open folder, and where it stands in it now."""

    fd: int
    place: Place
    record: FileRecord


@contextmanager
def held(context: RunContext, step: Step, removal: bool = False) -> Iterator[Held]:
    """Get hold of the entry of a step; a folder is set aside under a private name and looked at inside.

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
            why_not = "this volume cannot rename the folder, which lies in a lower layer of an overlay"
            raise NotDone(Outcome.FAILED, why_not) from None
        raise
    time.note()
    try:
        if removal:
            refuse_unremovable(fd, aside.name)
        # After that: who wrote a moment ago and has closed the file is found by what changed.
        if not is_same_inside(fd, aside.name, was):
            raise NotDone(Outcome.SKIPPED, CHANGED)
        yield Held(fd, aside, record)
    except (NotDone, OSError) as failed:
        is_ours = time.is_ours()
        try:
            where = put_back(context, aside, place, was)
        except NotDone as still_aside:
            raise NotDone(still_aside.outcome, f"{why(failed)}; {still_aside.reason}") from None
        if where:
            raise NotDone(Outcome.FAILED, f"{why(failed)}; {where}") from None
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
        raise NotDone(Outcome.SKIPPED, f"{path} cannot be compared: {reason_of(error)}") from None
    except NotDone as not_done:
        if not_done.reason == CHANGED:
            raise NotDone(Outcome.SKIPPED, f"{path} is not the same any more") from None
        raise NotDone(not_done.outcome, f"{path}: {not_done.reason}") from None


def put_back(context: RunContext, aside: Place, place: Place, was: Identity) -> str:
    """Give an entry that was set aside its name again, or a numbered one where that is taken by now.

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
            name = place.name if number == 1 else names.shortened(place.name, f"_{number}")
            try:
                rename_without_replacing(fd, aside.name, fd, name)
                return "" if number == 1 else f"it is now {name}, since its name was taken meanwhile"
            except FileExistsError:
                continue
    except OSError as error:
        raise NotDone(Outcome.OPEN, f"{set_aside(aside)} ({reason_of(error)})") from None
    raise NotDone(Outcome.OPEN, f"{set_aside(aside)} (its name is taken)")


def where_put_back(context: RunContext, aside: Place, place: Place, was: Identity) -> str:
    """Do what `put_back` does, and return what to say of it, also where the entry is still set aside."""
    try:
        return put_back(context, aside, place, was)
    except NotDone as still_aside:
        return still_aside.reason


def set_aside(aside: Place) -> str:
    """Return what to say of an entry that has its private name."""
    return f"it is set aside as {aside.path} until the next command that changes files puts it back"


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
        return Mark(step.id, Outcome.OPEN, f"set aside as {aside.path}")
    where = where_put_back(context, aside, step.source, step.was)
    return (
        Mark(step.id, Outcome.OPEN, f"{INTERRUPTED}; {where}") if where else Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
    )


def there(context: RunContext, place: Place, was: Identity) -> FileRecord | None:
    """Return what stands at a place if it is a certain entry, changed or not.

    Raises:
        OSError: that cannot be found out.
    """
    found = look_at(context, place, was)
    return found if found is not None and found.identity.same_who(was) else None


def look_at(context: RunContext, place: Place, was: Identity | None = None) -> FileRecord | None:
    """Return what stands at a place, or None; by descriptor, no folder on the way is a link.

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
