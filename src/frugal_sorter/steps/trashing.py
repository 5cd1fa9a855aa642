"""Moving to the trash, out of it, and removing from it, with the notes of where things were."""

from __future__ import annotations

import json
import os
import signal
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from datetime import datetime
from functools import partial
from threading import Thread
from types import FrameType
from typing import Generic, NoReturn, TypeVar
from urllib.parse import unquote_to_bytes

from frugal_sorter.changes.descriptors import NEW_FILE, Deferred, Descriptors
from frugal_sorter.changes.removal import is_free, remove_name, remove_note, same_as
from frugal_sorter.filesystem.parallel import fork_with_pipe
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, Place, Unknown, place_of
from frugal_sorter.filesystem.status import look, look_or_none, open_to_read
from frugal_sorter.filesystem.walk import look_inside
from frugal_sorter.platforms import accounts, disk, processes
from frugal_sorter.reasons import NotDone, Outcome, Why
from frugal_sorter.steps.moving import Move, MoveAcross
from frugal_sorter.steps.parts import ends_of, held, look_at
from frugal_sorter.steps.step import Mark, RunContext, Step, Verb
from frugal_sorter.trash.base import TrashBin
from frugal_sorter.trash.bins import bin_at, info_place
from frugal_sorter.trash.freedesktop import SIZES, encoded

_LARGEST_SIZES = 10_000_000


def remove_infos(context: RunContext, entries: Sequence[Place]) -> None:
    """Remove the info files of entries that are not in the trash any more: they say nothing that is still true."""
    # With descriptors of their own: those of the run belong to another thread.
    with Descriptors() as descriptors:
        for entry in entries:
            info = info_place(entry)
            try:
                remove_note(descriptors.folder(info.folder), info.name)
            except FileNotFoundError:
                continue
            except OSError:
                context.stray.append(entry)


def remove_stray_infos(context: RunContext) -> list[str]:
    """Remove the info files that could not be removed in their turn, and return the paths of those that stay."""
    stray, context.stray = context.stray, []
    for entry in dict.fromkeys(stray):
        with suppress(OSError):
            # What was put back in the trash since has a use for it.
            if look_at(context, entry) is None:
                remove_infos(context, [entry])
    return [info_place(entry).path for entry in context.stray]


def remove_own_info(context: RunContext, step: Step) -> None:
    """Remove the info file of a step that was not done, if it is the one that the step wrote."""
    source, target, _ = ends_of(step)
    info = info_place(target)
    trash = bin_at(target.folder, step.details.get("top", ""))
    with Descriptors() as descriptors, suppress(NotDone, OSError):
        if look_or_none(target, descriptors.folder(target.folder)) is not None:
            return
        folder = descriptors.folder(info.folder)
        found = look(info, folder)
        with open(open_to_read(info, folder), "rb") as file:
            raw = file.read(65_536)
        # One that was cut short is what a kill leaves between creating and writing.
        born_ns = found.identity.born_ns or context.began_ns
        is_begun = born_ns >= context.began_ns - COARSEST_TIME_NS and trash.may_begin(raw, source)
        if is_begun or trash.parse(raw)[0] == source.path:
            try:
                remove_name(folder, info.name, same_as(found))
            except OSError:
                context.stray.append(target)


def make_above(descriptors: Descriptors, path: str) -> None:
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
        disk.mkdir(place.name, 0o700, dir_fd=descriptors.folder(place.folder))


def note_size(context: RunContext, target: Place) -> None:
    """Write down how big a trashed folder is, so that others need not look (specification, `directorysizes`)."""
    trash = bin_at(target.folder, "")
    if not trash.sizes:
        return
    with suppress(NotDone, OSError):
        inside = look_inside(target.name, context.descriptors.folder(target.folder))
        if isinstance(inside, Unknown):
            return
        info = info_place(target)
        stamp = disk.stat(info.name, dir_fd=context.descriptors.folder(info.folder), follow_symlinks=False).st_mtime_ns
        root = context.descriptors.folder(trash.root)
        own = encoded(target.name)
        kept = []
        for line in _lines(root):
            name = line.split(" ", 2)[-1]
            if name != own and look_or_none(Place(trash.files, _decoded(name)), context.descriptors.folder(trash.files)):
                kept.append(line)
        kept.append(f"{inside.bytes} {stamp // 1_000_000_000} {own}")
        private = f".{SIZES}-{context.run}-{context.token}"
        with open(disk.open(private, NEW_FILE, 0o600, dir_fd=root), "w", encoding="ascii") as file:
            file.write("\n".join(kept) + "\n")
        disk.replace(private, SIZES, src_dir_fd=root, dst_dir_fd=root)


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


Item = TypeVar("Item")
# Each batch is synced separately; with smaller ones its parent waits more often for the disk.
BATCH = 5_000
# For fewer a fork costs more than it saves.
FEWEST = 6_000


class Prewriter(Generic[Item]):
    """Hands items to a fork by the batch; its parent asks for the batches in order, and waits for each.

    A signal to the whole group of processes is for the parent to heed: the fork ends on request, or
    when its parent is gone, after the batch it is at. It keeps open what the parent has open, so that the
    right to change files is not free before both have ended.

    Args:
        items: all there are, in the order in which they are needed.
        work: makes some items ready and returns the numbers of those that are; it runs in the fork.
        secure: waits until all that `work` did so far will last; it runs in a thread of the fork, beside the
            work on the next batch. A batch is reported as ready only after it.
    """

    def __init__(self, items: Sequence[Item], work: Callable[[Sequence[Item]], list[int]], secure: Callable[[], None]) -> None:
        self._left = [items[first : first + BATCH] for first in range(0, len(items), BATCH)][::-1]
        parent = os.getpid()
        self._child, answers = fork_with_pipe()
        if self._child == 0:
            self._work(work, secure, answers, parent)
        self._answers = os.fdopen(answers, "rb")

    def _work(
        self, work: Callable[[Sequence[Item]], list[int]], secure: Callable[[], None], writing: int, parent: int
    ) -> NoReturn:
        stopped = False

        def stop(_number: int, _frame: FrameType | None) -> None:
            nonlocal stopped
            stopped = True

        def tell(ready: list[int]) -> None:
            with suppress(BrokenPipeError):
                secure()
                answers.write(json.dumps(ready).encode() + b"\n")
                answers.flush()

        try:
            for number in (number for number in processes.GENTLE_STOPS if number != signal.SIGTERM):
                signal.signal(number, signal.SIG_IGN)
            signal.signal(signal.SIGTERM, stop)
            with open(writing, "wb") as answers:
                telling: Thread | None = None
                for batch in reversed(self._left):
                    if stopped or os.getppid() != parent:
                        break
                    ready = work(batch)
                    if telling is not None:
                        telling.join()
                    telling = Thread(target=tell, args=(ready,))
                    telling.start()
                if telling is not None:
                    telling.join()
        finally:
            os._exit(0)

    def next(self) -> tuple[Sequence[Item], list[int]] | None:
        """Return the next batch, and the numbers of those of its items that are ready; None if the fork has ended."""
        try:
            ready: list[int] = json.loads(self._answers.readline())
        except ValueError:  # it ended in the middle of a line, or before one
            return None
        return self._left.pop(), ready

    def rest(self) -> list[Item]:
        """Return the items of the batches that `next` has not returned; no batch of them was told to be ready."""
        return [item for batch in reversed(self._left) for item in batch]

    def stop(self) -> Iterator[tuple[Sequence[Item], list[int]]]:
        """Let the fork end after the batch it is at, and yield what it made ready that nobody asked for."""
        with suppress(ProcessLookupError):
            os.kill(self._child, signal.SIGTERM)
        while (one := self.next()) is not None:
            yield one
        self._answers.close()
        os.waitpid(self._child, 0)


def is_worth_a_fork(count: int) -> bool:
    """Return True if a fork prepares this many items faster."""
    return count >= FEWEST and processes.can_fork()


class Trash(Verb):
    """Moves an entry to the trash of its volume, with a note of where it came from."""

    def __init__(self, context: RunContext) -> None:
        super().__init__(context)
        self._move = Move(context)
        self._across = MoveAcross(context)
        self._bins: dict[str, TrashBin] = {}
        self._prepared: dict[int, Place] = {}
        self._ahead: Prewriter[Step] | None = None
        # The last step whose info file was told to be there.
        self._ready_to = 0
        self._when = datetime.fromtimestamp((context.dated_ns or time.time_ns()) // 1_000_000_000)

    def prepare(self, steps: Sequence[Step]) -> None:
        """Write all info files, and wait until they are on the disk: no entry goes without.

        Where there are many, a fork does it by the batch, and goes on while the entries of earlier ones go.
        """
        if is_worth_a_fork(len(steps)):
            with suppress(OSError):
                self._ahead = Prewriter(steps, self._write_infos, self._secure_infos)
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
                disk.sync_volume(own.folder(trash.info))

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
            remove_own_info(self._context, step)
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
            mark = self._across.do(step) if step.details and step.details.get("across") else self._put(step)
        except BaseException:
            self._take_back_info(step.id)
            raise
        del self._prepared[step.id]
        _, target, was = ends_of(step)
        if was.kind == "folder":
            note_size(self._context, target)
        return mark

    def _put(self, step: Step) -> Mark:
        mark = self._move.at_once(step, is_free)
        if mark is not None:
            return mark
        with held(self._context, step, removal=True) as entry:
            return self._move.put(step, entry)

    def _write_info(self, step: Step) -> None:
        source, target = step.source, step.target
        assert source is not None and target is not None
        trash = self._bins.get(target.folder) or self._make(bin_at(target.folder, step.details.get("top", "")))
        folder = self._context.descriptors.folder(trash.info)
        name = trash.info_name(target.name)
        try:
            descriptor = disk.open(name, NEW_FILE, 0o600, dir_fd=folder)
        except FileExistsError:
            raise NotDone(Why.NAME_TAKEN_IN_TRASH(target.name)) from None
        made = disk.fstat(descriptor)
        try:
            # In one call, except on a full disk, where a write can be cut short.
            left = trash.info_bytes(source, self._when, step.bytes)
            while left:
                left = left[os.write(descriptor, left) :]
        except OSError:
            disk.close(descriptor)
            remove_name(folder, name, lambda found: found.st_ino == made.st_ino)
            raise
        disk.close(descriptor)

    def _take_back_info(self, number: int) -> None:
        target = self._prepared.pop(number, None)
        if target is not None:
            remove_infos(self._context, [target])

    def _make(self, trash: TrashBin) -> TrashBin:
        """Make a trash that is not there yet; whatever else is there is not used."""
        make_above(self._context.descriptors, os.path.dirname(trash.root))
        for path in dict.fromkeys((trash.root, trash.files, trash.info)):
            place = place_of(path)
            parent = self._context.descriptors.folder(place.folder)
            with suppress(FileExistsError):
                disk.mkdir(place.name, 0o700, dir_fd=parent)
                if path == trash.root and trash.desktop_ini:
                    self._furnish(trash, parent)
            found = disk.stat(place.name, dir_fd=parent, follow_symlinks=False)
            # Another account could have put a link or a folder of its own there.
            if found.st_uid != accounts.user_id() or not stat.S_ISDIR(found.st_mode):
                raise NotDone(Why.NO_TRASH_OF_ACCOUNT(path))
        self._bins[trash.files] = trash
        return trash

    def _furnish(self, trash: TrashBin, parent: int) -> None:
        """Add the file and the attributes by which the desktop recognises a new trash; it works without them."""
        with suppress(OSError):
            folder = self._context.descriptors.folder(trash.root)
            with open(disk.open("desktop.ini", NEW_FILE, 0o600, dir_fd=folder), "wb") as file:
                file.write(trash.desktop_ini)
            disk.hide("desktop.ini", folder)
            disk.hide(place_of(trash.root).name, parent)
            disk.make_private(place_of(trash.root).name, parent)
            above = place_of(os.path.dirname(trash.root))
            disk.hide(above.name, self._context.descriptors.folder(above.folder))

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        verb = self._across if step.details.get("across") else self._move
        mark = verb.resolve_after_crash(step, note, repair)
        if mark.outcome == Outcome.SKIPPED and repair:
            remove_own_info(self._context, step)
        return mark

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        details = step.details.copy()
        if mark.data and mark.data.get("lost"):
            details["restore"] = mark.data["lost"]
        return Step(step.id, "restore", step.rule, step.rule_key, target, source, mark.now or was, details)


class Restore(Verb):
    """Brings an entry of the trash back to where it was; its info file goes at once, or a little later once prepared.

    Then no step is written down as done before `catch_up`: what a kill leaves is found by what is not.
    """

    def __init__(self, context: RunContext) -> None:
        super().__init__(context)
        self._move = Move(context)
        self._across = MoveAcross(context)
        self._infos: Deferred[Place] | None = None

    def prepare(self, steps: Sequence[Step]) -> None:
        """Leave the info files to a thread from now on."""
        self._infos = Deferred(partial(remove_infos, self._context))

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
        mark = (self._across if step.details.get("across") else self._move).do(step)
        if self._infos is None:
            remove_infos(self._context, [source])
        else:
            self._infos.add(source)
        return mark

    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        source, _, _ = ends_of(step)
        verb = self._across if step.details.get("across") else self._move
        mark = verb.resolve_after_crash(step, note, repair)
        if mark.outcome == Outcome.DONE and repair and look_at(self._context, source) is None:
            remove_infos(self._context, [source])
        return mark

    def inverse(self, step: Step, mark: Mark) -> Step:
        source, target, was = ends_of(step)
        return Step(step.id, "trash", step.rule, step.rule_key, target, source, mark.now or was, step.details)
