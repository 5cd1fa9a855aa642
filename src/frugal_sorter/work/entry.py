"""Getting hold of the entry of a step: it must be the planned one, and a folder unchanged inside."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from frugal_sorter.files.fingerprint import look_like, look_like_or_none, same_contents
from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import FileRecord, Identity, Place, Unknown
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.leases import leased
from frugal_sorter.work.mark import CHANGED, Job, NotDone, Outcome
from frugal_sorter.work.rename import rename_without_replacing

_GONE = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ELOOP})


def ends_of(step: Step) -> tuple[Place, Place, Identity]:
    """Return where the entry of a step is, where it will be, and what it is."""
    assert step.source is not None and step.target is not None and step.was is not None
    return step.source, step.target, step.was


def same_entry(found: Identity, planned: Identity) -> bool:
    """Tell whether an entry is the planned one, and was not written to since."""
    if found == planned:
        return True
    outside = planned._replace(inside=None)
    return found.dev == planned.dev and found.same_who(planned) and found.same_state(outside)


def find(job: Job, place: Place, was: Identity) -> tuple[int, FileRecord]:
    """Return a descriptor of the folder of an entry, and its status.

    Raises:
        NotDone: it is gone, or not as planned.
    """
    try:
        descriptor = job.descriptors.folder(place.folder)
        found = look_like(place, was, descriptor)
    except OSError as error:
        gone = error.errno in _GONE
        why = "no longer there" if error.errno == errno.ENOENT else reason_of(error)
        raise NotDone(Outcome.SKIPPED if gone else Outcome.FAILED, why) from None
    if not same_entry(found.identity, was):
        raise NotDone(Outcome.SKIPPED, CHANGED)
    return descriptor, found


def is_same_inside(place: Place, was: Identity) -> bool:
    """Tell whether nothing below a folder changed; its own numbers do not show that."""
    if was.inside is None:
        return True
    found = look_inside(place.path)
    return not isinstance(found, Unknown) and found.digest == was.inside


@dataclass(frozen=True, slots=True)
class Held:
    """An entry that is as planned: an open folder, and where it stands in it now."""

    fd: int
    place: Place
    record: FileRecord


@contextmanager
def held(job: Job, step: Step, removal: bool = False) -> Iterator[Held]:
    """Get hold of the entry of a step; a folder is set aside under a private name and looked at inside.

    If the block does not take the entry away, it is put back under its name.

    Args:
        job: of the run.
        step: its source and `was` say what must be there.
        removal: nobody may be writing to it.

    Raises:
        NotDone: it is not as planned, or in use.
    """
    assert step.source is not None and step.was is not None
    place, was = step.source, step.was
    if step.witness is not None and not _witnessed(job, step):
        raise NotDone(Outcome.SKIPPED, f"{step.witness.place.path} is not the same any more")
    fd, record = find(job, place, was)
    if was.kind != "folder":
        if removal and was.kind == "file":
            with leased(place, fd) as writer:
                if writer:
                    raise NotDone(Outcome.LEFT, writer)
                # Once more: somebody may have written to it and closed it a moment ago.
                find(job, place, was)
        yield Held(fd, place, record)
        return
    aside = Place(place.folder, job.private(step))
    job.descriptors.forget(place.path)
    rename_without_replacing(fd, place.name, fd, aside.name)
    try:
        if removal and (writer := writer_inside(aside)):
            raise NotDone(Outcome.LEFT, writer)
        # After that: who wrote a moment ago and has closed the file is found by what changed.
        if not is_same_inside(aside, was):
            raise NotDone(Outcome.SKIPPED, CHANGED)
        yield Held(fd, aside, record)
    except BaseException:
        put_back(job, aside, place, was)
        raise


def writer_inside(folder: Place) -> str:
    """Return who writes to a file somewhere below a folder, or an empty text."""
    for parent, _, names in os.walk(folder.path):
        for name in names:
            with leased(Place(parent, name), None) as found:
                if found:
                    return f"{os.path.relpath(os.path.join(parent, name), folder.path)} inside is {found}"
    return ""


def put_back(job: Job, aside: Place, place: Place, was: Identity) -> bool:
    """Give an entry that was set aside its name again, if it still is there; tell whether it has it."""
    try:
        fd = job.descriptors.folder(place.folder)
        found = look_like_or_none(aside, was, fd)
        if found is not None and found.identity.same_who(was):
            rename_without_replacing(fd, aside.name, fd, place.name)
            return True
    except OSError:
        return False
    return False


def _witnessed(job: Job, step: Step) -> bool:
    witness = step.witness
    assert witness is not None and step.source is not None
    try:
        _, found = find(job, witness.place, witness.identity)
        return found.identity.kind == "file" and same_contents(step.source, witness.place)
    except (NotDone, OSError):
        return False


def there(place: Place, was: Identity) -> FileRecord | None:
    """Return what stands at a place if it is a certain entry, changed or not.

    Raises:
        OSError: that cannot be found out.
    """
    found = look_like_or_none(place, was)
    return found if found is not None and found.identity.same_who(was) else None


def remove_tree(fd: int, name: str) -> None:
    """Remove an entry of an open folder with all that is in it; no link is followed.

    Args:
        fd: a descriptor of its folder.
        name: its name there.

    Raises:
        OSError: something cannot be removed; what was removed before it is gone.
    """
    try:
        below = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=fd)
    except OSError as error:
        if error.errno not in (errno.ENOTDIR, errno.ELOOP):
            raise
        os.unlink(name, dir_fd=fd)
        return
    try:
        for inner in os.listdir(below):
            remove_tree(below, inner)
    finally:
        os.close(below)
    os.rmdir(name, dir_fd=fd)
