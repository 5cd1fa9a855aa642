"""What rules will do on later days, and how the folders look then."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from typing import Literal, NamedTuple

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import FileRecord, Identity, Listing, Place
from frugal_sorter.filesystem.tree import View, seeing
from frugal_sorter.filesystem.walk import walk
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.planning.guard import with_parents
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import earliest_changes, held_until
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.units import DAY_NS, SECOND_NS
from frugal_sorter.steps.kinds import MAKING, TAKING
from frugal_sorter.steps.step import Step
from frugal_sorter.values import field, mutable, replace

_LONGEST_DAYS = 3_660
# Actions that are not done in memory: they would make something that is not there to look at.
_NOT_FORESEEN = ("pack", "unpack", "duplicates")


class Day(NamedTuple):
    """A day on which rules do something: the moment, and the plan of then."""

    now_ns: int
    plan: Plan


@mutable
class _Memory:
    """What the days before did, for those after: as the journal tells it of runs that were."""

    arrived: dict[Place, int] = field(default_factory=dict)
    put: dict[tuple[str, Place], Identity] = field(default_factory=dict)
    written: dict[str, set[str]] = field(default_factory=dict)


def refuse_unforeseen(book: RuleBook) -> None:
    """Refuse rules whose later stages cannot be seen beforehand.

    Raises:
        UsageError: there is one; says which, and what it does.
    """
    for rule in book.rules:
        what: str = rule.ending if rule.ending in _NOT_FORESEEN else ""
        extras = rule.extras
        what = what or ("copy" if extras.copy else "link" if extras.link else "run" if extras.run else "")
        if what:
            raise UsageError(
                f"--until: {rule.name}: what comes of `{what}` cannot be foreseen", "look at the other rules with --rule"
            )


def foresee(
    book: RuleBook, world_at: Callable[[int], World], past: EarlierRuns, from_ns: int, until_ns: int, at_most: int | None = None
) -> list[Day]:
    """Return the days on which the rules would do something, if they ran each day at the time of the first.

    Args:
        book: the rules.
        world_at: returns the world of a moment.
        past: what the journal knows.
        from_ns: the moment of the first day, in ns since the epoch.
        until_ns: the last moment.
        at_most: how many entries a rule may take away on a day.

    Raises:
        UsageError: it is too far away, or the rules do something that cannot be foreseen.
    """
    refuse_unforeseen(book)
    if until_ns - from_ns > _LONGEST_DAYS * DAY_NS:
        raise UsageError("--until: more than ten years ahead", "name an earlier day")
    # What is in the trash by then is not moved in memory.
    book, memory, days = replace(book, trash=()), _Memory(), list[Day]()
    known = _remembering(past, memory)
    with seeing(View()) as view:
        now_ns = from_ns
        while now_ns <= until_ns:
            world = _with_arrivals(world_at(now_ns), memory)
            plan = plan_by_rules(book, world, known, False, at_most)
            if plan.asked or plan.refused:
                days.append(Day(now_ns, plan))
            for step in plan.steps:
                _apply(step, view, memory, now_ns)
            if plan.asked:
                # What has just come somewhere may be what a rule there takes.
                now_ns = _next_day(from_ns, now_ns + 1)
                continue
            # Nothing changes on its own before that moment, so that the days between need not be planned.
            moments = [*earliest_changes(book, world, None).values(), *held_until(book, plan, now_ns).values()]
            if any(rule.keep for rule in book.rules):
                moments.append(now_ns + 1)
            if not moments:
                break
            now_ns = _next_day(from_ns, max(min(moments), now_ns + 1))
    return days


def _next_day(from_ns: int, not_before_ns: int) -> int:
    """Return the first day at the time of another one, as the clock on the wall has it, that is not before a moment."""
    seconds, rest_ns = divmod(from_ns, SECOND_NS)
    first = datetime.fromtimestamp(seconds)
    number = max((not_before_ns - from_ns) // DAY_NS - 1, 1)
    while (at_ns := int((first + timedelta(days=number)).timestamp()) * SECOND_NS + rest_ns) < not_before_ns:
        number += 1
    return at_ns


def _remembering(past: EarlierRuns, memory: _Memory) -> EarlierRuns:
    def put_here(key: str, place: Place, identity: Identity) -> int | None:
        was = memory.put.get((key, place))
        if was is not None and was.same_state(identity):
            return -1
        return past.put_here(key, place, identity)

    def written(keys: Sequence[str]) -> frozenset[str]:
        return past.written(keys).union(*(memory.written.get(key, ()) for key in keys))

    return replace(past, put_here=put_here, written=written)


def _with_arrivals(world: World, memory: _Memory) -> World:
    def arrived(record: FileRecord) -> int | None:
        at_ns = memory.arrived.get(record.place)
        return at_ns if at_ns is not None else world.arrived(record)

    return replace(world, arrived=arrived)


def _apply(step: Step, view: View, memory: _Memory, now_ns: int) -> None:
    """Move in memory what a step would move on the disk."""
    if step.verb == "make-folder" and step.target is not None:
        view.make(step.target.path)
    elif step.verb == "set-attribute":
        view.give(step.place.path, step.details["attribute"], step.details["new"])
    elif step.verb in ("remove-folder", "trash", "delete"):
        view.remove(step.place.path)
    elif step.verb in TAKING and step.source is not None and step.target is not None and step.was is not None:
        view.move(step.source.path, step.target.path)
        # Just before that moment, so that `older than 7 days` is true of it at the same hour a week later.
        memory.arrived[step.target] = now_ns - 1
        memory.put[step.rule_key, step.target] = step.was
        memory.written.setdefault(step.rule_key, set()).add(step.target.folder)
        if step.verb == "move-across":
            # What crosses to another volume is made anew there.
            view.born_ns[step.target.path] = now_ns


Fate = Literal["stays", "new", "goes"]


class Comer(NamedTuple):
    """An entry that will be in a folder: its name there, and the path that it comes from; none where it is made."""

    name: str
    origin: str
    is_folder: bool


@mutable
class FolderOutcome:
    """A folder, now and then.

    Args:
        path: where it is.
        fate: it stays, is made, or goes: removed, or taken as a whole.
        before: how many files are in it and below now, as an inventory counts them; hidden ones aside.
        after: how many will be.
        leaving: the entries that leave it, by name, and whether it is a folder.
        coming: those that come.
    """

    path: str
    fate: Fate = "stays"
    before: int = 0
    after: int = 0
    leaving: list[tuple[str, bool]] = field(default_factory=list)
    coming: list[Comer] = field(default_factory=list)


def outcome_of(plan: Plan) -> list[FolderOutcome]:
    """Return each folder that something of a plan happens in, in the order of a tree.

    Args:
        plan: what would be done.
    """
    folders: dict[str, FolderOutcome] = {}

    def folder(path: str) -> FolderOutcome:
        return folders.setdefault(path, FolderOutcome(path))

    for root in plan.roots:
        folder(root)
    for step in plan.steps:
        _apply_step(step, folder)
    for path, count in _files_below(folders).items():
        folders[path].before += count
        folders[path].after += count
    for place, count in _differences(plan):
        for above in with_parents(place.folder):
            if above in folders and place.name[0] != ".":
                folders[above].after += count
    return sorted(folders.values(), key=lambda one: one.path.split("/"))


def _apply_step(step: Step, folder: Callable[[str], FolderOutcome]) -> None:
    is_folder = step.was is not None and step.was.kind == "folder"
    if step.verb == "make-folder" and step.target is not None:
        folder(step.target.path).fate = "new"
        folder(step.target.folder).coming.append(Comer(step.target.name, "", True))
        return
    if step.verb == "remove-folder":
        folder(step.place.path).fate = "goes"
        folder(step.place.folder).leaving.append((step.place.name, True))
        return
    if step.verb in TAKING and step.source is not None and step.verb not in ("restore", "empty"):
        folder(step.source.folder).leaving.append((step.source.name, is_folder))
    if step.target is not None and step.verb in MAKING and step.verb != "trash":
        folder(step.target.folder).coming.append(Comer(step.target.name, _origin(step), is_folder))


def _origin(step: Step) -> str:
    return step.source.path if step.source is not None else ""


def _differences(plan: Plan) -> Iterator[tuple[Place, int]]:
    """Yield where files come or go, and how many."""
    for step in plan.asked:
        count = 1 if step.verb == "pack" else step.count.files + step.count.inside
        if step.source is not None and step.verb in TAKING and step.verb not in ("restore", "empty"):
            yield step.source, -count
        if step.target is not None and step.verb in MAKING and step.verb != "trash":
            yield step.target, count


def _files_below(folders: Collection[str]) -> Counter[str]:
    """Return how many files that are not hidden are in some folders and below them; each tree is read once."""
    found: Counter[str] = Counter()

    def descend(_: Listing, name: str, context: bool) -> bool | None:
        return context if name[0] != "." else None

    for top in folders:
        if any(above in folders for above in with_parents(top)[1:]):
            continue
        with suppress(OSError):
            for listing, _ in walk(top, True, False, descend, lambda _: None):
                count = sum(name[0] != "." for name in listing.names)
                for above in with_parents(listing.folder):
                    if above in folders:
                        found[above] += count
    return found
