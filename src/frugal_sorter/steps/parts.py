"""What grows under a private name beside its final place, until it is finished or given up.

It gets its name only when it was checked and its inode was written down. So a kill never leaves half a
file under a real name; and what lies under a private name is removed only if this run has made it.
"""

from __future__ import annotations

import errno
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any, Literal

from frugal_sorter.changes.copier import opened
from frugal_sorter.changes.descriptors import FolderTime
from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.changes.removal import remove_tree
from frugal_sorter.changes.rename import rename_without_replacing
from frugal_sorter.filesystem.inside import look_inside
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, FileRecord, Identity, Place, Unknown
from frugal_sorter.filesystem.status import look, with_sample
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import accounts, kernel
from frugal_sorter.steps.base import INTERRUPTED, Mark, RunContext, Verb
from frugal_sorter.steps.held_entry import there
from frugal_sorter.steps.lines import step_as_line
from frugal_sorter.steps.step import Details, Step

# What is noted of a part: it is there; it is finished, and gets its name.
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
    """Give the private name beside the target of a step; what was made there is removed if the block fails.

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
        why = "the target folder is not there" if error.errno == errno.ENOENT else reason_of(error)
        raise NotDone(Outcome.FAILED, why) from None
    part = Part(context, step, fd, Place(beside.folder, context.private(step)))
    try:
        yield part
    except BaseException:
        is_ours = part.time.is_ours()
        if remove_part(fd, part.place, part.identity, context.began_ns) == "removed" and is_ours:
            part.time.give_back()
        raise


def remove_part(
    fd: int, place: Place, made: Identity | None, began_ns: int
) -> Literal["removed", "not there", "stays"]:
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
        # Whoever may write in a folder may still not look into what lies in it.
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
            for met in below(folder) if met.how != "leave"
        )  # fmt: skip


def finish_part(context: RunContext, step: Step, part: Part, data: Mapping[str, Any] | None = None) -> FileRecord:
    """Write the inode of a finished part down, then give it its name, durably.

    Raises:
        NotDone: the name was taken meanwhile.
    """
    assert step.target is not None
    made = identity_of(part.place, part.fd)
    if part.identity is not None and (made.identity.dev, made.identity.ino) != (part.identity.dev, part.identity.ino):
        raise NotDone(Outcome.FAILED, f"{part.place.path} was replaced by another program")
    context.note(Mark(step.id, Outcome.NOTED, COPIED, made.identity, data), True)
    try:
        rename_without_replacing(part.fd, part.name, part.fd, step.target.name)
    except FileExistsError:
        raise NotDone(Outcome.SKIPPED, f"the name {step.target.name} was taken meanwhile") from None
    try:
        kernel.sync_folder(part.fd)
    except OSError:
        # A name that may not last is none: the part has its own again, and is given up.
        rename_without_replacing(part.fd, step.target.name, part.fd, part.name)
        raise
    return made


def identity_of(place: Place, fd: int) -> FileRecord:
    """Return the status of what was made, with all that later says whether it is still the same.

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
        return Mark(step.id, Outcome.OPEN, left)
    return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)


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
