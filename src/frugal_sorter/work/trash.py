"""To the trash and back, after the freedesktop.org "Desktop Trash Specification" 1.0.

The info file of an entry is created exclusively before the entry comes, so that two programs never
use one name. Its name is part of the intent: after a kill only that one is looked at.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from functools import partial
from urllib.parse import unquote_to_bytes

from frugal_sorter.files.fingerprint import open_to_read
from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import COARSEST_TIME_NS, Place, Unknown, place_of
from frugal_sorter.files.status import look, look_or_none
from frugal_sorter.files.trash_bins import INFO_SUFFIX, SIZES, TrashBin, encoded, parse_info
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.ahead import Ahead, is_worth_a_fork
from frugal_sorter.work.behind import Behind
from frugal_sorter.work.copies import MoveAcross
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.entry import ends_of, held, look_at
from frugal_sorter.work.leases import is_free
from frugal_sorter.work.mark import Job, Mark, NotDone, Outcome
from frugal_sorter.work.moves import Move
from frugal_sorter.work.removals import Delete
from frugal_sorter.work.remove import remove_name, remove_note, same_as
from frugal_sorter.work.rename import sync_volume

_LARGEST_SIZES = 10_000_000
_WRITE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


def bin_of(place: Place, top: str) -> TrashBin:
    """Return the trash that a place in its `files` folder belongs to."""
    return TrashBin(os.path.dirname(place.folder), top, 0)


class Trash:
    """Moves an entry to the trash of its volume, with a note of where it came from."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._move = Move(job)
        self._across = MoveAcross(job)
        self._bins: dict[str, TrashBin] = {}
        self._prepared: dict[int, Place] = {}
        self._ahead: Ahead[Step] | None = None
        # The last step whose info file was told to be there.
        self._ready_to = 0
        self._when = datetime.now().isoformat(timespec="seconds")

    def prepare(self, steps: Sequence[Step]) -> None:
        """Write all info files, and wait until they are on the disk: no entry goes without.

        Where there are many, a fork does it by the batch, and goes on while the entries of earlier ones go.
        """
        if is_worth_a_fork(len(steps)):
            with suppress(OSError):
                self._ahead = Ahead(steps, self._write_infos, self._secure_infos)
                return
        self._write_ahead(steps)

    def _write_ahead(self, steps: Sequence[Step]) -> None:
        self._are_ready(steps, self._write_infos(steps))
        self._secure_infos()

    def _write_infos(self, steps: Sequence[Step]) -> list[int]:
        """Write the info files of some steps, and return the numbers of those that now have one."""
        ready = []
        for step in steps:
            try:
                self._write_info(step)
            except (NotDone, OSError):
                continue  # its turn will say why
            ready.append(step.id)
        return ready

    def _secure_infos(self) -> None:
        """Wait until the info files that were written are on the disk."""
        for trash in list(self._bins.values()):
            # Not one of those that are shared: a thread waits here.
            with suppress(OSError), Descriptors() as own:
                sync_volume(own.folder(trash.info))

    def _are_ready(self, steps: Sequence[Step], ready: list[int]) -> None:
        is_ready = set(ready)
        for step in steps:
            if step.id in is_ready:
                assert step.target is not None
                self._prepared[step.id] = step.target

    def _ask_ahead(self) -> None:
        """Wait for the next batch of info files."""
        assert self._ahead is not None
        batch = self._ahead.next()
        if batch is not None:
            self._are_ready(*batch)
            self._ready_to = batch[0][-1].id
            return
        # The fork ended before its time: what it left unsaid is written again.
        self._write_ahead(self._end_ahead())

    def _end_ahead(self) -> list[Step]:
        """End the fork, and return the steps for which it told nothing; what it may have written for them is gone."""
        if self._ahead is None:
            return []
        for batch in self._ahead.stop():
            self._are_ready(*batch)
        rest = self._ahead.rest()
        self._ahead = None
        for step in rest:
            _remove_own_info(self._job, step)
        return rest

    def finish(self) -> None:
        """Take back the info files of steps that were not done."""
        self._end_ahead()
        for number in list(self._prepared):
            self._take_back_info(number)

    def do(self, step: Step) -> Mark:
        while self._ahead is not None and self._ready_to < step.id:
            self._ask_ahead()
        if step.id not in self._prepared:
            self._write_info(step)
            self._are_ready([step], [step.id])
        try:
            mark = self._across.do(step) if step.args and step.args.get("across") else self._put(step)
        except BaseException:
            self._take_back_info(step.id)
            raise
        del self._prepared[step.id]
        _, target, was = ends_of(step)
        if was.kind == "folder":
            _note_size(self._job, target)
        return mark

    def _put(self, step: Step) -> Mark:
        mark = self._move.at_once(step, is_free)
        if mark is not None:
            return mark
        with held(self._job, step, removal=True) as entry:
            return self._move.put(step, entry)

    def _write_info(self, step: Step) -> None:
        source, target = step.source, step.target
        assert source is not None and target is not None
        trash = self._bins.get(target.folder) or self._make(bin_of(target, step.args.get("top", "")))
        folder = self._job.descriptors.folder(trash.info)
        name = target.name + INFO_SUFFIX
        text = trash.info_text(source, self._when)
        try:
            descriptor = os.open(name, _WRITE, 0o600, dir_fd=folder)
        except FileExistsError:
            raise NotDone(Outcome.SKIPPED, f"the name {target.name} in the trash was taken meanwhile") from None
        made = os.fstat(descriptor)
        try:
            # In one go but for a full disk, where a write can be cut short.
            left = text.encode("ascii")
            while left:
                left = left[os.write(descriptor, left) :]
        except OSError:
            os.close(descriptor)
            remove_name(folder, name, lambda found: found.st_ino == made.st_ino)
            raise
        os.close(descriptor)

    def _take_back_info(self, number: int) -> None:
        target = self._prepared.pop(number, None)
        if target is not None:
            _remove_infos(self._job, [_info_place(target)])

    def _make(self, trash: TrashBin) -> TrashBin:
        """Make a trash that is not there yet; whatever else stands there is not used."""
        if not trash.top:
            _make_above(self._job.descriptors, os.path.dirname(trash.root))
        for path in (trash.root, trash.files, trash.info):
            place = place_of(path)
            parent = self._job.descriptors.folder(place.folder)
            with suppress(FileExistsError):
                os.mkdir(place.name, 0o700, dir_fd=parent)
            found = os.stat(place.name, dir_fd=parent, follow_symlinks=False)
            if found.st_uid != os.geteuid() or not stat.S_ISDIR(found.st_mode):
                raise NotDone(Outcome.FAILED, f"{path} is no trash of this account")
        self._bins[trash.files] = trash
        return trash

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        verb = self._across if step.args.get("across") else self._move
        mark = verb.settle(step, note, repair)
        if mark.outcome == Outcome.SKIPPED and repair:
            _remove_own_info(self._job, step)
        return mark

    def back(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        args = {**step.args, **({"restore": mark.data["lost"]} if mark.data and mark.data.get("lost") else {})}
        return Step(step.id, "restore", step.rule, step.rule_key, target, source, mark.now or was, args)


class Restore:
    """Brings an entry of the trash back to where it was; its info file goes at once, or after `lag` a little later.

    Whoever lets it lag writes no step down as done before `catch_up`: what a kill leaves is found by what is not.
    """

    def __init__(self, job: Job) -> None:
        self._job = job
        self._move = Move(job)
        self._across = MoveAcross(job)
        self._infos: Behind[Place] | None = None

    def lag(self) -> None:
        """Leave the info files to a thread from now on."""
        self._infos = Behind(partial(_remove_infos, self._job))

    def catch_up(self) -> None:
        """Wait until all info files are gone that were left to the thread."""
        if self._infos is not None:
            self._infos.catch_up()

    def finish(self) -> None:
        """Wait for the same, and end the thread."""
        if self._infos is not None:
            self._infos.close()
            self._infos = None

    def do(self, step: Step) -> Mark:
        source, _, _ = ends_of(step)
        mark = (self._across if step.args.get("across") else self._move).do(step)
        if self._infos is None:
            _remove_infos(self._job, [_info_place(source)])
        else:
            self._infos.add(_info_place(source))
        return mark

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, _, _ = ends_of(step)
        verb = self._across if step.args.get("across") else self._move
        mark = verb.settle(step, note, repair)
        if mark.outcome == Outcome.DONE and repair and look_at(self._job, source) is None:
            _remove_infos(self._job, [_info_place(source)])
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
        _remove_infos(self._job, [_info_place(step.source)])


def _info_place(target: Place) -> Place:
    return Place(f"{os.path.dirname(target.folder)}/info", target.name + INFO_SUFFIX)


def _remove_infos(job: Job, infos: Sequence[Place]) -> None:
    """Remove info files whose entries are not in the trash any more: they say nothing that is still true."""
    # With descriptors of their own: those of the run belong to another thread.
    with Descriptors() as descriptors:
        for info in infos:
            try:
                remove_note(descriptors.folder(info.folder), info.name)
            except FileNotFoundError:
                continue
            except OSError:
                job.stray.append(info)


def remove_stray_infos(job: Job) -> list[str]:
    """Remove the info files that could not be removed in their turn, and return the paths of those that stay."""
    stray, job.stray = job.stray, []
    for info in dict.fromkeys(stray):
        entry = Place(f"{os.path.dirname(info.folder)}/files", info.name.removesuffix(INFO_SUFFIX))
        with suppress(OSError):
            # What was put back into the trash since has a use for it.
            if look_at(job, entry) is None:
                _remove_infos(job, [info])
    return [info.path for info in job.stray]


def _remove_own_info(job: Job, step: Step) -> None:
    """Remove the info file of a step that was not done, if it is the one that the step wrote."""
    source, target, _ = ends_of(step)
    info = _info_place(target)
    trash = bin_of(target, step.args.get("top", ""))
    with Descriptors() as descriptors, suppress(NotDone, OSError):
        if look_or_none(target, descriptors.folder(target.folder)) is not None:
            return
        folder = descriptors.folder(info.folder)
        found = look(info, folder)
        with open(open_to_read(info, folder), "rb") as file:
            raw = file.read(65_536)
        # One that was cut short is what a kill leaves between creating and writing.
        born_ns = found.identity.born_ns or job.began_ns
        is_begun = born_ns >= job.began_ns - COARSEST_TIME_NS and trash.info_text(source, "").encode().startswith(raw)
        if is_begun or parse_info(raw, trash)[0] == source.path:
            try:
                remove_name(folder, info.name, same_as(found))
            except OSError:
                job.stray.append(info)


def _make_above(descriptors: Descriptors, path: str) -> None:
    """Make a folder and those above it, as far as they are missing."""
    missing: list[Place] = []
    while True:
        try:
            descriptors.folder(path)
            break
        except FileNotFoundError:
            missing.append(place_of(path))
            path = os.path.dirname(path)
    for place in reversed(missing):
        os.mkdir(place.name, 0o700, dir_fd=descriptors.folder(place.folder))


def _note_size(job: Job, target: Place) -> None:
    """Write down how big a trashed folder is, so that others need not look (specification, `directorysizes`)."""
    trash = bin_of(target, "")
    with suppress(NotDone, OSError):
        inside = look_inside(target.name, job.descriptors.folder(target.folder))
        if isinstance(inside, Unknown):
            return
        info = _info_place(target)
        stamp = os.stat(info.name, dir_fd=job.descriptors.folder(info.folder), follow_symlinks=False).st_mtime_ns
        root = job.descriptors.folder(trash.root)
        own = encoded(target.name)
        kept = []
        for line in _lines(root):
            name = line.split(" ", 2)[-1]
            if name != own and look_or_none(Place(trash.files, _decoded(name)), job.descriptors.folder(trash.files)):
                kept.append(line)
        kept.append(f"{inside.bytes} {stamp // 1_000_000_000} {own}")
        private = f".{SIZES}-{job.run}-{job.token}"
        with open(os.open(private, _WRITE, 0o600, dir_fd=root), "w", encoding="ascii") as file:
            file.write("\n".join(kept) + "\n")
        os.replace(private, SIZES, src_dir_fd=root, dst_dir_fd=root)


def _lines(root: int) -> list[str]:
    """Return the lines that say how big trashed folders are; a file too long to be that holds none."""
    try:
        with open(open_to_read(Place("", SIZES), root), "rb") as file:
            raw = file.read(_LARGEST_SIZES + 1)
    except OSError:
        return []
    return [] if len(raw) > _LARGEST_SIZES else raw.decode("ascii", "replace").splitlines()


def _decoded(name: str) -> str:
    return os.fsdecode(unquote_to_bytes(name)).replace("/", "").replace("\0", "") or "."
