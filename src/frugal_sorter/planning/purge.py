"""What a purge leaves after all: what is open, the newest so many, and what need not go for the room that is wanted."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from typing import NamedTuple

from frugal_sorter.filesystem.inside import look_inside
from frugal_sorter.filesystem.record import Identity, Listing, Place, Unknown
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.types import TYPE_OF_SUFFIX
from frugal_sorter.filesystem.volumes import free_bytes
from frugal_sorter.filesystem.walk import reason_of, walk
from frugal_sorter.planning.guard import never_entered
from frugal_sorter.planning.in_use import not_held
from frugal_sorter.planning.matched import count_of
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.rules.conditions.tree import Node
from frugal_sorter.rules.fields import Facts, World, latest_of
from frugal_sorter.rules.units import Duration
from frugal_sorter.steps.step import NONE, Count, Step
from frugal_sorter.values import field, mutable


class Takes(NamedTuple):
    """Which entries a purge is asked about.

    Args:
        files: files.
        folders: folders as a whole.
        levels: how deep; 1 is the folder itself, None all levels.
        hidden: hidden entries too.
        where: only what a condition is true of.
    """

    files: bool
    folders: bool
    levels: int | None
    hidden: bool
    where: Node | None


class Older(NamedTuple):
    """What is older by a date: how much, and when the last of it came to its folder, in ns since the epoch."""

    counted: Count = NONE
    last_came_ns: int = 0


@mutable
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
                plan.not_touched.append(step.not_touched(f"`{self.by}` is unknown: {date_ns.reason}", True))
        limit_ns = self.older_than.before(world.now_ns)
        ranked = sorted(
            (step for step in plan.asked if step.place in self.dates),
            key=lambda step: (self.dates[step.place], step.place),
        )
        old = [step for step in ranked if self.dates[step.place] < limit_ns]
        newest = set(map(id, ranked[-self.keep_newest :])) if self.keep_newest else set()
        for step in old:
            if id(step) in newest:
                plan.not_touched.append(step.not_touched(f"kept among the newest {self.keep_newest}"))
        aged = [step for step in old if id(step) not in newest]
        going = not_held(plan, aged, lambda was, path: _holder(world, was, path), "open in")
        if self.until_free is not None:
            going = self._until_free(plan, going)
        kept = set(map(id, going))
        plan.drop(lambda step: id(step) not in kept)

    def by_other_dates(self, dates: Iterable[str], takes: Takes, world: World) -> dict[str, Older]:
        """Count, in one walk, what is older by some other dates; the date that decides is the commonest misunderstanding.

        Args:
            dates: the fields.
            takes: which entries the purge is asked about.
            world: the moment, and what else is not in the entries.

        Returns:
            by field what is older; a field by which nothing is older is left out.
        """
        found: dict[str, Older] = {}
        limit_ns = self.older_than.before(world.now_ns)

        def descend(listing: Listing, name: str, level: int) -> int | None:
            is_left = never_entered(slashed.join(listing.folder, name), name) or (name[0] == "." and not takes.hidden)
            # A folder that is taken as a whole is counted with all in it.
            return None if is_left or takes.folders or level == takes.levels else level + 1

        with suppress(OSError):  # the plan has named what cannot be read
            for listing, _ in walk(self.folder, 1, False, descend, lambda _: None):
                if listing.version_control and listing.folder != self.folder:
                    continue
                names = [*(listing.names if takes.files else ()), *(listing.folders if takes.folders else ())]
                for name in names:
                    if name[0] != "." or takes.hidden:
                        self._add_older(found, Place(listing.folder, name), dates, limit_ns, takes, world)
        return found

    def _add_older(
        self, found: dict[str, Older], place: Place, dates: Iterable[str], limit_ns: int, takes: Takes, world: World
    ) -> None:
        facts = self._facts(place, world)
        if isinstance(facts, Unknown) or (takes.where is not None and takes.where.test(facts) is not True):
            return
        old = [by for by in dates if isinstance(date_ns := facts(by), int) and latest_of(date_ns) < limit_ns]
        if not old or _holder(world, facts.record.identity, place.path) is not None:
            return
        came_ns = facts("arrived")
        for by in old:
            counted, last_ns = found.get(by, Older())
            found[by] = Older(counted | count_of(facts), max(last_ns, came_ns if isinstance(came_ns, int) else 0))

    def _facts(self, place: Place, world: World) -> Facts | Unknown:
        try:
            record = look(place)
            inside = look_inside(place.path) if record.identity.kind == "folder" else None
        except OSError as error:
            return Unknown(reason_of(error))
        return Facts(record, self.folder, TYPE_OF_SUFFIX, world, inside)

    def _date(self, place: Place, world: World) -> int | Unknown:
        facts = self._facts(place, world)
        found = facts if isinstance(facts, Unknown) else facts(self.by)
        if isinstance(found, int):
            return latest_of(found)
        return found if isinstance(found, Unknown) else Unknown("it has none")

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
        enough = f"{self.until_free:,} bytes are free without it"
        plan.not_touched += [step.not_touched(enough) for step in steps[len(going) :]]
        if missing > 0:
            what = (
                f"all of this together leaves {missing:,} bytes missing of the {self.until_free:,} that are to be free"
            )
            plan.notes.append(Note(what, True))
        return going


def _holder(world: World, was: Identity, path: str) -> str | None:
    """Return the program that has an entry open, or something in it."""
    return world.open_files.holder_below(path) if was.kind == "folder" else world.open_files.holder(was, path)


def freed_by(path: str) -> int:
    """Return how many bytes the removal of an entry frees on its volume; a file with further names frees none."""
    try:
        found = disk.lstat(path)
    except OSError:
        return 0
    if not disk.isdir(path) or disk.islink(path):
        return disk.used_bytes(found) if found.st_nlink == 1 else 0
    freed = disk.used_bytes(found)
    for folder, folders, names in disk.walk(path):
        freed += sum(freed_by(slashed.join(folder, name)) for name in names)
        freed += sum(disk.used_bytes(disk.lstat(slashed.join(folder, name))) for name in folders)
    return freed
