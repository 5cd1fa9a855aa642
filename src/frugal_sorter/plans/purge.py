"""What a purge leaves after all: what is open, the newest so many, and what need not go for the room that is wanted."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass, field

from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import Place, Unknown
from frugal_sorter.files.status import look
from frugal_sorter.files.types import TYPE_OF_SUFFIX
from frugal_sorter.files.volumes import free_bytes
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.plan import Note, Plan, Step
from frugal_sorter.rules.fields import Facts, World, latest_of
from frugal_sorter.rules.units import Duration

_BLOCK_BYTES = 512


@dataclass
class Purge:
    """Narrows a plan that would take away all there is, or all that is old, to what a purge takes.

    Args:
        folder: where it takes place, resolved.
        by: the field that holds the date which decides.
        older_than: the age.
        keep_newest: so many of the newest entries stay, however old they are.
        until_free: when this many bytes are free the rest may stay; None to take all.
        dates: filled in: by place, the date that decides, in ns since the epoch.
    """

    folder: str
    by: str
    older_than: Duration
    keep_newest: int = 0
    until_free: int | None = None
    dates: dict[Place, int] = field(default_factory=dict)

    @property
    def where(self) -> str:
        """The condition that chooses the entries to look at; to know the newest, all must be looked at."""
        return "" if self.keep_newest else f"{self.by} older than {self.older_than.text}"

    def narrow(self, plan: Plan, world: World) -> None:
        """Take out of a plan what stays, and name it where a person should know."""
        for step in plan.asked:
            date_ns = self._date(step.place, world)
            if isinstance(date_ns, int):
                self.dates[step.place] = date_ns
            else:
                plan.left.append(step.left(f"`{self.by}` is unknown: {date_ns.reason}", True))
        limit_ns = self.older_than.before(world.now_ns)
        ranked = sorted(
            (step for step in plan.asked if step.place in self.dates),
            key=lambda step: (self.dates[step.place], step.place),
        )
        old = [step for step in ranked if self.dates[step.place] < limit_ns]
        newest = set(map(id, ranked[-self.keep_newest :])) if self.keep_newest else set()
        for step in old:
            if id(step) in newest:
                plan.left.append(step.left(f"kept among the newest {self.keep_newest}"))
        going = self._not_open(plan, world, [step for step in old if id(step) not in newest])
        if self.until_free is not None:
            going = self._until_free(plan, going)
        kept = set(map(id, going))
        plan.drop(lambda step: id(step) not in kept)

    def _date(self, place: Place, world: World) -> int | Unknown:
        try:
            record = look(place)
            inside = look_inside(place.path) if record.identity.kind == "folder" else None
        except OSError as error:
            return Unknown(reason_of(error))
        found = Facts(record, self.folder, TYPE_OF_SUFFIX, world, inside)(self.by)
        if isinstance(found, int):
            return latest_of(found)
        return found if isinstance(found, Unknown) else Unknown("it has none")

    def _not_open(self, plan: Plan, world: World, steps: Iterable[Step]) -> list[Step]:
        going = []
        for step in steps:
            assert step.was is not None
            if step.was.kind == "folder":
                holder = world.open_files.holder_below(step.place.path)
            else:
                holder = world.open_files.holder(step.was.dev, step.was.ino)
            if holder is None:
                going.append(step)
            else:
                plan.left.append(step.left(f"open in {holder}"))
        return going

    def _until_free(self, plan: Plan, steps: list[Step]) -> list[Step]:
        """Return the oldest of some steps, as many as free what is missing."""
        assert self.until_free is not None
        missing = self.until_free - free_bytes(self.folder)
        going: list[Step] = []
        for step in steps:
            if missing <= 0:
                break
            missing -= freed_by(step.place.path)
            going.append(step)
        if missing > 0:
            what = (
                f"all of this together leaves {missing:,} bytes missing of the {self.until_free:,} that are to be free"
            )
            plan.notes.append(Note(what, True))
        return going


def freed_by(path: str) -> int:
    """Return how many bytes the removal of an entry frees on its volume; a file with further names frees none."""
    try:
        found = os.lstat(path)
    except OSError:
        return 0
    if not os.path.isdir(path) or os.path.islink(path):
        return found.st_blocks * _BLOCK_BYTES if found.st_nlink == 1 else 0
    freed = found.st_blocks * _BLOCK_BYTES
    for folder, folders, names in os.walk(path):
        freed += sum(freed_by(os.path.join(folder, name)) for name in names)
        freed += sum(os.lstat(os.path.join(folder, name)).st_blocks * _BLOCK_BYTES for name in folders)
    return freed
