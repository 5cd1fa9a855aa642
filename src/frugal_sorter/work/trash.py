"""To the trash and back, after the freedesktop.org "Desktop Trash Specification" 1.0.

The info file of an entry is created exclusively before the entry comes, so that two programs never
use one name. Its name is part of the intent: after a kill only that one is looked at.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from urllib.parse import unquote_to_bytes

from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import Place, Unknown
from frugal_sorter.files.trash_bins import INFO_SUFFIX, SIZES, TrashBin, encoded, parse_info
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.copies import MoveAcross
from frugal_sorter.work.entry import ends_of, held
from frugal_sorter.work.leases import writer_of
from frugal_sorter.work.mark import Job, Mark, NotDone, Outcome
from frugal_sorter.work.moves import Move
from frugal_sorter.work.removals import Delete
from frugal_sorter.work.rename import sync_volume

_WRITE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


def bin_of(place: Place, top: str) -> TrashBin:
    """Return the trash that a place in its `files` folder belongs to."""
    return TrashBin(os.path.dirname(place.folder), top, 0)


class Trash:
    """Puts an entry into the trash of its volume, with a note of where it came from."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._move = Move(job)
        self._across = MoveAcross(job)
        self._made: set[str] = set()
        self._prepared: dict[int, Place] = {}
        self._when = datetime.now()

    def prepare(self, steps: Sequence[Step]) -> None:
        """Write all info files, and wait once until they are on the disk: no entry goes without."""
        for step in steps:
            with suppress(NotDone, OSError):
                self._write_info(step)
        for root in self._made:
            with suppress(OSError):
                sync_volume(self._job.descriptors.folder(f"{root}/info"))

    def finish(self) -> None:
        """Take back the info files of steps that were not done."""
        for info in self._prepared.values():
            with suppress(OSError):
                os.unlink(info.name, dir_fd=self._job.descriptors.folder(info.folder))
        self._prepared.clear()

    def do(self, step: Step) -> Mark:
        _, target, was = ends_of(step)
        if step.id not in self._prepared:
            self._write_info(step)
        try:
            if step.args.get("across"):
                mark = self._across.do(step)
            else:
                mark = self._put(step)
        except BaseException:
            self._take_back_info(step)
            raise
        del self._prepared[step.id]
        if was.kind == "folder":
            _note_size(self._job, target)
        return mark

    def _put(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        if was.kind == "file" and was.sample is None and step.witness is None:
            # A lease of another file that slipped in meanwhile does no harm: the move looks again.
            if writer := writer_of(source, self._job.descriptors.folder(source.folder)):
                raise NotDone(Outcome.LEFT, writer)
            return self._move.do(step)
        with held(self._job, step, removal=True) as entry:
            return self._move.put(step, entry)

    def _write_info(self, step: Step) -> None:
        assert step.target is not None and step.source is not None
        trash = bin_of(step.target, step.args.get("top", ""))
        self._make(trash)
        info = _info_place(step.target)
        text = trash.info_text(step.source.path, self._when)
        try:
            descriptor = os.open(info.name, _WRITE, 0o600, dir_fd=self._job.descriptors.folder(info.folder))
        except FileExistsError:
            name = step.target.name
            raise NotDone(Outcome.SKIPPED, f"the name {name} in the trash was taken meanwhile") from None
        self._prepared[step.id] = info
        try:
            os.write(descriptor, text.encode("ascii"))
        finally:
            os.close(descriptor)

    def _take_back_info(self, step: Step) -> None:
        info = self._prepared.pop(step.id, None)
        if info is not None:
            with suppress(OSError):
                os.unlink(info.name, dir_fd=self._job.descriptors.folder(info.folder))

    def _make(self, trash: TrashBin) -> None:
        """Make a trash that is not there yet; whatever else stands there is not used."""
        if trash.root in self._made:
            return
        if not trash.top:
            os.makedirs(os.path.dirname(trash.root), mode=0o700, exist_ok=True)
        for path in (trash.root, trash.files, trash.info):
            with suppress(FileExistsError):
                os.mkdir(path, 0o700)
            found = os.lstat(path)
            if found.st_uid != os.geteuid() or not os.path.isdir(path) or os.path.islink(path):
                raise NotDone(Outcome.FAILED, f"{path} is no trash of this account")
        self._made.add(trash.root)

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        verb = self._across if step.args.get("across") else self._move
        mark = verb.settle(step, note, repair)
        if mark.outcome == Outcome.SKIPPED and repair:
            _remove_own_info(step)
        return mark

    def back(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        args = {**step.args, **({"restore": mark.data["lost"]} if mark.data and mark.data.get("lost") else {})}
        return Step(step.id, "restore", step.rule, step.rule_key, target, source, mark.now or was, args)


class Restore:
    """Brings an entry of the trash back to where it was."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._move = Move(job)
        self._across = MoveAcross(job)

    def do(self, step: Step) -> Mark:
        source, _, _ = ends_of(step)
        mark = (self._across if step.args.get("across") else self._move).do(step)
        self._forget(source)
        return mark

    def _forget(self, source: Place) -> None:
        info = _info_place(source)
        with suppress(OSError):
            os.unlink(info.name, dir_fd=self._job.descriptors.folder(info.folder))

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, _, _ = ends_of(step)
        verb = self._across if step.args.get("across") else self._move
        mark = verb.settle(step, note, repair)
        if mark.outcome == Outcome.DONE and repair and not os.path.lexists(source.path):
            self._forget(source)
        return mark

    def back(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        return Step(step.id, "trash", step.rule, step.rule_key, target, source, mark.now or was, step.args)


class Empty(Delete):
    """Removes an entry of a trash for good, and then the note of where it was; of an orphan, what there is of it."""

    def do(self, step: Step) -> Mark:
        mark = super().do(step)
        self._forget(step)
        return mark

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        mark = super().settle(step, note, repair)
        if mark.outcome == Outcome.DONE and repair:
            self._forget(step)
        return mark

    def _forget(self, step: Step) -> None:
        assert step.source is not None
        info = _info_place(step.source)
        with suppress(OSError):
            os.unlink(info.name, dir_fd=self._job.descriptors.folder(info.folder))


def _info_place(target: Place) -> Place:
    return Place(f"{os.path.dirname(target.folder)}/info", target.name + INFO_SUFFIX)


def _remove_own_info(step: Step) -> None:
    """Remove the info file of a step that was not done, if it is the one that the step wrote."""
    source, target, _ = ends_of(step)
    if os.path.lexists(target.path):
        return
    info = _info_place(target)
    trash = bin_of(target, step.args.get("top", ""))
    with suppress(OSError):
        with open(info.path, "rb") as file:
            raw = file.read(65_536)
        # An empty one is what a kill leaves between creating and writing.
        if not raw or parse_info(raw, trash)[0] == source.path:
            os.unlink(info.path)


def _note_size(job: Job, target: Place) -> None:
    """Write down how big a trashed folder is, so that others need not look (specification, `directorysizes`)."""
    trash = bin_of(target, "")
    inside = look_inside(target.path)
    if isinstance(inside, Unknown):
        return
    with suppress(OSError):
        stamp = int(os.lstat(_info_place(target).path).st_mtime)
        path = f"{trash.root}/{SIZES}"
        own = encoded(target.name)
        kept = []
        if os.path.exists(path):
            with open(path, encoding="ascii", errors="replace") as file:
                for line in file:
                    name = line.rstrip("\n").split(" ", 2)[-1]
                    if name != own and os.path.lexists(f"{trash.files}/{_decoded(name)}"):
                        kept.append(line.rstrip("\n"))
        kept.append(f"{inside.bytes} {stamp} {own}")
        private = f"{trash.root}/.{SIZES}-{job.run}"
        with open(private, "x", encoding="ascii") as file:
            file.write("\n".join(kept) + "\n")
        os.replace(private, path)


def _decoded(name: str) -> str:
    return os.fsdecode(unquote_to_bytes(name))
