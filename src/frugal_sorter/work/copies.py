"""Copies: to another folder, and across volumes, where a move is copy, check, then remove.

A copy grows under a private name beside its final place. It gets its name only when it was read
back and found the same, and its inode was written down; so a kill never leaves half a file under a
real name, nor two whole ones.
"""

from __future__ import annotations

import base64
import errno
import os
import stat
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from frugal_sorter.files.fingerprint import look_like_or_none, same_bytes, with_sample
from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import FileRecord, Identity, Place, Unknown
from frugal_sorter.files.status import look
from frugal_sorter.files.volumes import volume_of
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Step
from frugal_sorter.plans.plan_file import step_as_line
from frugal_sorter.work.entry import Held, ends_of, find, held, is_same_inside, put_back, remove_tree, there
from frugal_sorter.work.mark import CHANGED, INTERRUPTED, Job, Mark, NotDone, Outcome
from frugal_sorter.work.rename import rename_without_replacing, sync_folder

_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
_MAKE = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_LIST = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_BLOCK = 1 << 22
# What a target does not take, by path below the copied entry: mode, times, owner, attributes.
Lost = dict[str, dict[str, Any]]
COPIED, REMOVING = "copied", "removing"


class Copier:
    """Copies one entry with all that is in it, and sees that the copy is the same.

    Args:
        restore: what an earlier target could not hold, to be given back.
    """

    def __init__(self, restore: Mapping[str, Mapping[str, Any]] | None = None) -> None:
        self._restore = restore or {}
        self.lost: Lost = {}

    def copy(self, source_fd: int, name: str, target_fd: int, new: str, path: str = "") -> None:
        """Copy an entry of one open folder into another, where the name must be free.

        Raises:
            NotDone: the copy is not the same, or the entry is of a kind that is not copied.
            OSError: it cannot be read or written.
        """
        found = os.stat(name, dir_fd=source_fd, follow_symlinks=False)
        if stat.S_ISREG(found.st_mode):
            self._file(source_fd, name, target_fd, new, path, found)
        elif stat.S_ISDIR(found.st_mode):
            self._folder(source_fd, name, target_fd, new, path, found)
        elif stat.S_ISLNK(found.st_mode):
            os.symlink(os.readlink(name, dir_fd=source_fd), new, dir_fd=target_fd)
            os.utime(new, ns=(found.st_atime_ns, found.st_mtime_ns), dir_fd=target_fd, follow_symlinks=False)
        else:
            raise NotDone(Outcome.FAILED, f"{path or name} is neither file, folder nor link")

    def _file(
        self, source_fd: int, name: str, target_fd: int, new: str, path: str, found: os.stat_result
    ) -> None:  # fmt: skip
        with (
            _opened(name, _READ, source_fd) as source,
            _opened(new, _MAKE, target_fd) as target,
        ):
            copy_bytes(source, target, found.st_size)
            os.fsync(target)
            # From the disk rather than from memory, as far as the system heeds it.
            os.posix_fadvise(target, 0, 0, os.POSIX_FADV_DONTNEED)
            if not same_bytes(source, target):
                raise NotDone(Outcome.SKIPPED, "it changed while it was copied")
            self._describe(source, target, path, found)
            os.fsync(target)

    def _folder(
        self, source_fd: int, name: str, target_fd: int, new: str, path: str, found: os.stat_result
    ) -> None:  # fmt: skip
        with _opened(name, _LIST, source_fd) as source:
            os.mkdir(new, 0o700, dir_fd=target_fd)
            with _opened(new, _LIST, target_fd) as target:
                for inner in sorted(os.listdir(source)):
                    self.copy(source, inner, target, inner, f"{path}/{inner}" if path else inner)
                self._describe(source, target, path, found)
                os.fsync(target)

    def _describe(self, source: int, target: int, path: str, found: os.stat_result) -> None:
        """Give a copy owner, mode, attributes and times, and note what the volume does not take."""
        given = self._restore.get(path, {})
        uid, gid = given.get("owner", (found.st_uid, found.st_gid))
        mode = given.get("mode", stat.S_IMODE(found.st_mode))
        mtime_ns = given.get("mtime_ns", found.st_mtime_ns)
        lost: dict[str, Any] = {}
        now = os.fstat(target)
        if (uid, gid) != (now.st_uid, now.st_gid):
            try:
                os.fchown(target, uid, gid)
            except OSError:
                lost["owner"] = [uid, gid]
        attributes = _attributes(source) | {
            key: base64.b64decode(value) for key, value in given.get("attributes", {}).items()
        }
        refused = _set_attributes(target, attributes)
        if refused:
            lost["attributes"] = {key: base64.b64encode(value).decode() for key, value in refused.items()}
        try:
            os.fchmod(target, mode)
        except OSError:
            lost["mode"] = mode
        os.utime(target, ns=(found.st_atime_ns, mtime_ns))
        now = os.fstat(target)
        if stat.S_IMODE(now.st_mode) != mode:
            lost["mode"] = mode
        if now.st_mtime_ns != mtime_ns:
            lost["mtime_ns"] = mtime_ns
        if (now.st_uid, now.st_gid) != (uid, gid):
            lost["owner"] = [uid, gid]
        if lost:
            self.lost[path] = lost


@contextmanager
def _opened(name: str, flags: int, dir_fd: int) -> Iterator[int]:
    """Open an entry of an open folder; what is made by that, only this account can read for now."""
    descriptor = os.open(name, flags, 0o600, dir_fd=dir_fd)
    try:
        yield descriptor
    finally:
        os.close(descriptor)


def copy_bytes(source: int, target: int, size: int) -> None:
    """Copy the bytes of an open file; holes stay holes.

    Args:
        source: a descriptor.
        target: a descriptor of an empty file.
        size: in bytes.

    Raises:
        OSError: it cannot be read, or there is no room (ENOSPC).
    """
    at = 0
    while at < size:
        try:
            begin = os.lseek(source, at, os.SEEK_DATA)
            end = os.lseek(source, begin, os.SEEK_HOLE)
        except OSError as error:
            if error.errno == errno.ENXIO:
                break  # nothing but a hole up to the end
            begin, end = at, size
        _copy_range(source, target, begin, min(end, size))
        at = end
    os.ftruncate(target, size)


def _copy_range(source: int, target: int, begin: int, end: int) -> None:
    at = begin
    while at < end:
        try:
            done = os.copy_file_range(source, target, min(end - at, _BLOCK), at, at)
        except OSError as error:
            if error.errno not in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP, errno.EBADF):
                raise
            done = 0
        if done == 0:
            block = os.pread(source, min(end - at, _BLOCK), at)
            if not block:
                return  # it shrank meanwhile; the comparison tells
            done = 0
            while done < len(block):
                done += os.pwrite(target, block[done:], at + done)
        at += done


def _attributes(descriptor: int) -> dict[str, bytes]:
    """Return the extended attributes of an open entry, access lists among them."""
    try:
        return {name: os.getxattr(descriptor, name) for name in os.listxattr(descriptor)}
    except OSError:
        return {}


def _set_attributes(descriptor: int, attributes: Mapping[str, bytes]) -> dict[str, bytes]:
    refused = {}
    for name, value in attributes.items():
        try:
            os.setxattr(descriptor, name, value)
        except OSError:
            refused[name] = value
    return refused


@contextmanager
def part_beside(job: Job, step: Step) -> Iterator[tuple[int, Place]]:
    """Give the private name beside the target of a step; what was made there is removed if the block fails.

    Raises:
        NotDone: the target folder is not there.
    """
    assert step.target is not None
    try:
        fd = job.descriptors.folder(step.target.folder)
    except OSError as error:
        why = "the target folder is not there" if error.errno == errno.ENOENT else reason_of(error)
        raise NotDone(Outcome.FAILED, why) from None
    part = Place(step.target.folder, job.private(step))
    try:
        yield fd, part
    except BaseException:
        remove_part(fd, part.name)
        raise


def remove_part(fd: int, name: str) -> None:
    """Remove what was made under a private name, if there is anything."""
    try:
        remove_tree(fd, name)
    except FileNotFoundError:
        pass
    except OSError:
        # Whoever may write in a folder may still not look into what lies in it.
        return


def finish_part(job: Job, step: Step, fd: int, part: Place, data: Mapping[str, Any] | None = None) -> FileRecord:
    """Write the inode of a finished part down, then give it its name, durably.

    Raises:
        NotDone: the name was taken meanwhile.
    """
    assert step.target is not None
    made = identity_of(part, fd)
    job.note(Mark(step.id, Outcome.NOTED, COPIED, made.identity, data))
    try:
        rename_without_replacing(fd, part.name, fd, step.target.name)
    except FileExistsError:
        raise NotDone(Outcome.SKIPPED, f"the name {step.target.name} was taken meanwhile") from None
    sync_folder(fd)
    return made


def identity_of(place: Place, fd: int) -> FileRecord:
    """Return the status of what was made, with all that later says whether it is still the same.

    Raises:
        OSError: it is gone.
    """
    found = with_sample(look(place, fd), fd)
    if found.identity.kind != "folder":
        return found
    inside = look_inside(place.path)
    digest = None if isinstance(inside, Unknown) else inside.digest
    return found._replace(identity=found.identity._replace(inside=digest))


def settle_made(job: Job, step: Step, note: Mark | None, repair: bool) -> Mark:
    """Settle a step that makes something new: the part goes, what has its name and inode is done."""
    assert step.target is not None
    try:
        if note is not None and note.now is not None and (made := there(step.target, note.now)):
            now = made.identity._replace(inside=note.now.inside)
            return Mark(step.id, Outcome.DONE, now=now, data=note.data)
        if repair:
            remove_part(job.descriptors.folder(step.target.folder), job.private(step))
    except FileNotFoundError:
        pass  # its folder is not there, so neither is the part
    except OSError as error:
        return Mark(step.id, Outcome.OPEN, reason_of(error))
    return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)


def take_back_made(step: Step, mark: Mark) -> Step:
    """Return the step that removes what a step has made, and can itself be taken back."""
    args: dict[str, Any] = {"again": step_as_line(step)}
    if step.source is not None and step.was is not None:
        args["entry"] = [*step.source]
        args["entry_was"] = [*step.was]
    return Step(step.id, "remove-made", step.rule, step.rule_key, step.target, None, mark.now, args)


class Copy:
    """Puts a copy of an entry into another folder."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        source_fd, before = find(self._job, source, was)
        copier = Copier()
        with part_beside(self._job, step) as (fd, part):
            copier.copy(source_fd, source.name, fd, part.name)
            unchanged(self._job, Held(source_fd, source, before), was)
            made = finish_part(self._job, step, fd, part, {"lost": copier.lost} if copier.lost else None)
        data = {"lost": copier.lost} if copier.lost else None
        return Mark(step.id, Outcome.DONE, now=made.identity, data=data)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return settle_made(self._job, step, note, repair)

    def back(self, step: Step, mark: Mark) -> Step:
        return take_back_made(step, mark)


def unchanged(job: Job, entry: Held, was: Identity) -> None:
    """See that nobody touched an entry while it was read, not even its attributes.

    Raises:
        NotDone: somebody did.
    """
    _, now = find(job, entry.place, was)
    if was.kind == "file" and now.ctime_ns != entry.record.ctime_ns:
        raise NotDone(Outcome.SKIPPED, "it changed while it was copied")
    if not is_same_inside(entry.place, was):
        raise NotDone(Outcome.SKIPPED, CHANGED)


class MoveAcross:
    """Moves an entry to another volume: copy, check, then remove."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        _, _, was = ends_of(step)
        copier = Copier(step.args.get("restore"))
        with held(self._job, step, removal=True) as entry:
            if entry.place != step.source:
                # A folder was set aside, which is a change of its own that a look at it must not see.
                entry = Held(entry.fd, entry.place, look(entry.place, entry.fd))
            with part_beside(self._job, step) as (fd, part):
                copier.copy(entry.fd, entry.place.name, fd, part.name)
                unchanged(self._job, entry, was)
                data = {"lost": copier.lost} if copier.lost else None
                made = finish_part(self._job, step, fd, part, data)
            self._remove_source(step, entry, made, fd)
        return Mark(step.id, Outcome.DONE, now=made.identity, data=data)

    def _remove_source(self, step: Step, entry: Held, made: FileRecord, fd: int) -> None:
        _, target, was = ends_of(step)
        try:
            unchanged(self._job, entry, was)
            if was.kind == "folder":
                self._job.note(Mark(step.id, Outcome.NOTED, REMOVING, made.identity))
                remove_tree(entry.fd, entry.place.name)
            else:
                os.unlink(entry.place.name, dir_fd=entry.fd)
        except (NotDone, OSError):
            # What cannot go from there does not come here: only our own copy is removed again, and only
            # while what it was made of is still there.
            source = look_like_or_none(entry.place, was, entry.fd)
            if source is None or not source.identity.same_who(was):
                why = f"taken away by another program while it was moved; the copy stays at {target.path}"
                raise NotDone(Outcome.FAILED, why) from None
            if was.kind != "folder" or is_same_inside(entry.place, was):
                now = look_like_or_none(target, made.identity, fd)
                if now is not None and now.identity.same_who(made.identity):
                    remove_part(fd, target.name)
            raise

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, target, was = ends_of(step)
        aside = Place(source.folder, self._job.private(step))
        try:
            at_source, at_aside = there(source, was), there(aside, was)
            copied = note.now if note is not None else None
            made = there(target, copied) if copied is not None else None
            if made is not None and copied is not None and note is not None:
                now = made.identity._replace(inside=copied.inside)
                if note.reason == REMOVING or not (at_source or at_aside):
                    if at_aside and repair:
                        remove_tree(self._job.descriptors.folder(aside.folder), aside.name)
                    return Mark(step.id, Outcome.DONE, now=now, data=note.data)
                if not repair:
                    return Mark(step.id, Outcome.OPEN, "copied, and the first one not yet removed")
                if not made.identity.same_state(copied._replace(inside=None)) or not is_same_inside(target, copied):
                    return Mark(step.id, Outcome.OPEN, f"copied to {target.path} and edited there since; both are kept")
                remove_tree(self._job.descriptors.folder(target.folder), target.name)
            elif repair:
                self._remove_part(target, step)
            if at_aside and repair:
                put_back(self._job, aside, source, was)
        except OSError as error:
            return Mark(step.id, Outcome.OPEN, reason_of(error))
        if at_source or at_aside:
            return Mark(step.id, Outcome.SKIPPED, INTERRUPTED)
        return Mark(step.id, Outcome.OPEN, "found neither where it was nor where it was to go")

    def _remove_part(self, target: Place, step: Step) -> None:
        try:
            fd = self._job.descriptors.folder(target.folder)
        except FileNotFoundError:
            return
        remove_part(fd, self._job.private(step))

    def back(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        lost = mark.data.get("lost") if mark.data else None
        args = {"restore": lost} if lost else {}
        return Step(step.id, "move-across", step.rule, step.rule_key, target, source, mark.now or was, args)


def lost_text(near: str, dev: int, kinds: Collection[str]) -> str:
    """Say in one line what a volume does not keep of the files that went there.

    Args:
        near: a folder on it.
        dev: its device.
        kinds: keys of what was lost.
    """
    words = {"mode": "modes", "mtime_ns": "fine times", "owner": "owners", "attributes": "extended attributes"}
    volume = volume_of(dev, near)
    lost = ", ".join(word for key, word in words.items() if key in kinds)
    return f"the volume at {volume.top} ({volume.kind}) does not keep {lost}; an undo gives them back"
