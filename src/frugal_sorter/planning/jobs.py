"""Jobs without a rule file: what a list names is gathered, what is old goes."""

from __future__ import annotations

import difflib
import os
import re
from codecs import BOM_UTF16_BE, BOM_UTF16_LE
from collections.abc import Iterable, Sequence
from contextlib import suppress
from math import inf
from typing import NamedTuple

from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, FileRecord, Identity, Listing, Place, Unknown, is_inside, place_of
from frugal_sorter.filesystem.status import look, look_or_none, same_contents, with_sample
from frugal_sorter.filesystem.volumes import free_bytes, mount_at, volume_of
from frugal_sorter.filesystem.walk import look_inside, walk
from frugal_sorter.planning.guard import hold_space, leave_unwritable, not_held, refused_folder, refused_link
from frugal_sorter.planning.matched import TargetFolders, count_of
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.platforms import disk, slashed, system
from frugal_sorter.reasons import Reason, Why, reason_of
from frugal_sorter.rules.fields import Facts, World, fold, latest_of
from frugal_sorter.rules.tree import Node
from frugal_sorter.rules.units import Duration
from frugal_sorter.steps.step import NONE, Count, NotTouched, Step
from frugal_sorter.trash.bins import never_entered
from frugal_sorter.values import field, mutable

# What the steps of a gathering have instead of the name of a rule.
RULE = "gather"
# The nearest name is looked for in at most this many lines; it takes a while in a large tree.
_MOST_NEAREST = 50
_A_FOLDER = "a folder"


class Wish(NamedTuple):
    """A line of a list: its number, and what is written there."""

    line: int
    text: str


class Missed(NamedTuple):
    """A line for which nothing goes: why, and the path most like it where there is one."""

    wish: Wish
    why: str
    nearest: str = ""


@mutable
class Gathering:
    """A plan, and what became of each line of the list.

    Args:
        plan: the steps.
        asked: how many files the list names; one that is named twice counts once.
        already: files that are at their target already, with the same bytes.
        missed: lines for which nothing goes.
        again: how many lines name a file once more.
        nearest: lines for which the path most like theirs goes, which was asked for.
        folders: lines that name a folder, with how many files are below it.
        targets: where the files that the list names are to be, and how big each is.
    """

    plan: Plan
    asked: int = 0
    already: list[Place] = field(default_factory=list)
    missed: list[Missed] = field(default_factory=list)
    again: int = 0
    nearest: list[Missed] = field(default_factory=list)
    folders: list[tuple[Wish, int]] = field(default_factory=list)
    targets: dict[Place, int] = field(default_factory=dict)

    def arrived(self) -> int:
        """Count the files that the list names and that are at their target now, with their size."""
        found = 0
        for place, size in self.targets.items():
            try:
                there = look_or_none(place)
            except OSError:
                continue
            found += there is not None and there.identity.kind == "file" and there.identity.size == size
        return found


def read_wishes(raw: bytes, file: str, encoding: str = "utf-8") -> list[Wish]:
    """Read a list: a path a line, empty lines and what begins with `#` aside.

    Args:
        raw: its bytes, with or without a byte order mark.
        file: its name, for what is wrong with it.
        encoding: of the text.

    Raises:
        UsageError: it cannot be read; says in which line.
    """
    if raw[:2] in (BOM_UTF16_LE, BOM_UTF16_BE):
        # As Windows writes lists; the mark says so, whatever else is asked for.
        encoding = "utf-16"
    try:
        text = raw.decode("utf-8-sig" if encoding.lower().replace("_", "-") in ("utf-8", "utf8") else encoding)
    except LookupError:
        raise UsageError(f"--encoding: {encoding!r} is not known", "for example utf-8, utf-16 or cp1252") from None
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        raise UsageError(
            f"{file}:{line}: not valid {encoding}", ("give the list's encoding with --encoding, such as cp1252")
        ) from None
    lines = text.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    wishes = [Wish(number, line.strip()) for number, line in enumerate(lines, 1)]
    return [wish for wish in wishes if wish.text and not wish.text.startswith("#")]


class _Tree:
    """The files below a folder; read only when a line does not name one exactly."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.notes: list[Note] = []
        self._folded: dict[str, list[str]] | None = None
        self._folders: set[str] = set()

    def exactly(self, written: str) -> FileRecord | None:
        """Return the file at a path below the folder, whatever its case; no link is followed on the way."""
        path = slashed.join(self.root, written)
        return look_or_none(place_of(path)) if slashed.unfollowed(os.path.dirname(path)) is None else None

    def below(self, written: str) -> list[str]:
        """Return the paths of all files below a folder that is below this one, whatever the case of its letters."""
        start = f"{fold(written).rstrip('/')}/"
        known = self._by_fold()
        if start not in self._folders:
            return []
        return sorted(path for folded, paths in known.items() if folded.startswith(start) for path in paths)

    def alike(self, written: str) -> list[str]:
        """Return the paths below the folder that differ only in case and Unicode form."""
        return self._by_fold().get(fold(written), [])

    def nearest(self, written: str) -> str:
        """Return the path most like one that is missing, or an empty text."""
        known, wanted = self._by_fold(), fold(written)
        name = wanted.rpartition("/")[2]
        same_name = [paths[0] for folded, paths in known.items() if folded.rpartition("/")[2] == name]
        if same_name:
            return min(same_name, key=len)
        close = difflib.get_close_matches(wanted, known, n=1, cutoff=0.8)
        return known[close[0]][0] if close else ""

    def _by_fold(self) -> dict[str, list[str]]:
        if self._folded is None:
            self._folded = {}
            prefix = len(self.root.rstrip("/")) + 1

            def descend(listing: object, name: str, context: str) -> str | None:
                path = f"{context}/{name}"
                return None if never_entered(path, name) else path

            for listing, _ in walk(
                self.root, self.root, False, descend, lambda one: self.notes.append(Note(f"{one.path}: {one.reason}", True))
            ):
                for name in listing.names:
                    path = f"{listing.folder.rstrip('/')}/{name}"[prefix:]
                    self._folded.setdefault(fold(path), []).append(path)
            for folded in self._folded:
                while (folded := folded.rpartition("/")[0]) and f"{folded}/" not in self._folders:
                    self._folders.add(f"{folded}/")
        return self._folded


def plan_gather(
    wishes: Sequence[Wish],
    source: str,
    target: str,
    made_ns: int,
    move: bool = False,
    flat: bool = False,
    strip_to: str = "",
    accept_nearest: bool = False,
) -> Gathering:
    """Plan to copy or move the files that a list names; nothing is changed.

    Args:
        wishes: the lines of the list.
        source: the folder that its paths are below, resolved.
        target: the folder that they go to, resolved; it may be missing.
        made_ns: the moment of planning.
        move: they are moved instead of copied.
        flat: all of them go into the one folder, without the folders they are in.
        strip_to: of the written paths all up to a folder of this name is left out: they are those of another machine.
        accept_nearest: where a line names no file, the one most like it goes.

    Raises:
        RefusedError: nothing may go to the target.
        OSError: the source cannot be read.
    """
    plan = Plan("gather", made_ns, RULE, rules=[RULE], matched={RULE}, levels={source: None})
    folders = TargetFolders()
    if link := refused_link(target):
        raise RefusedError(*link.split("; ", 1))
    problem = refused_folder(target)
    if problem:
        raise RefusedError(f"{target} is {problem}, so nothing is written to it", "name another folder")
    tree = _Tree(source)
    result = Gathering(plan)
    given: set[Place] = set()
    for record in _found(wishes, tree, result, strip_to, accept_nearest):
        _add(record, source, target, result, folders, given, move, flat)
    plan.seen = Count(result.asked)
    plan.notes += tree.notes
    leave_unwritable(plan, folders.existing)
    hold_space(plan, folders.device, folders.existing)
    plan.make_folders(folders.to_make)
    return result


def _found(wishes: Iterable[Wish], tree: _Tree, result: Gathering, strip_to: str, accept_nearest: bool) -> list[FileRecord]:
    """Return the files that some lines name, each once, and note what is missing."""
    found: dict[Place, FileRecord] = {}
    for wish in wishes:
        written = _readings(wish.text, strip_to)
        record, why = _one(written, tree)
        if record is None and why in ("", _A_FOLDER):
            inside = _inside(written, tree)
            for one in inside:
                result.again += one.place in found
                found[one.place] = one
            if inside:
                result.folders.append((wish, len(inside)))
                continue
            why = "a folder without a file in it" if why else ""
        if record is not None and record.place in found:
            result.again += 1
        elif record is not None:
            found[record.place] = record
        else:
            looks = len(result.missed) + len(result.nearest) < _MOST_NEAREST and not why
            close = tree.nearest(_relative(written[-1], tree.root)) if looks else ""
            missed = Missed(wish, why or "not found", close)
            near = tree.exactly(close) if close and accept_nearest else None
            if near is not None and near.identity.kind == "file":
                result.nearest.append(missed)
                result.again += near.place in found
                found[near.place] = near
            else:
                result.missed.append(missed)
    result.asked = len(found) + len(result.missed)
    return list(found.values())


def _readings(text: str, strip_to: str) -> list[str]:
    """Return what a written path may mean, the likeliest first: as it is, without quotes, with the other slash."""
    texts = [text]
    if len(text) > 2 and text[0] == text[-1] and text[0] in "\"'":
        texts.append(text[1:-1])
    if strip_to:
        folder = fold(strip_to.replace("\\", "/").strip("/"))
        texts = [_stripped(one.replace("\\", "/"), folder) for one in texts]
    return list(dict.fromkeys([*texts, *(one.replace("\\", "/") for one in texts)]))


def _stripped(path: str, folder: str) -> str:
    """Return a path below the first folder of some name in it; as it is where there is none."""
    parts, wanted = path.split("/"), folder.split("/")
    for at in range(len(parts) - len(wanted)):
        if [*map(fold, parts[at : at + len(wanted)])] == wanted:
            return "/".join(parts[at + len(wanted) :]) or path
    return path


def _inside(written: Sequence[str], tree: _Tree) -> list[FileRecord]:
    """Return all files below the folder that a line names."""
    for text in written:
        path = _relative(text, tree.root)
        if path == ".":
            continue
        found = [tree.exactly(one) for one in tree.below(path)]
        files = [record for record in found if record is not None and record.identity.kind == "file"]
        if files:
            return files
    return []


def _relative(written: str, root: str) -> str:
    """Return a written path as one below the folder, where that is what it means."""
    written = slashed.slashed(written)
    if slashed.is_absolute(written) and is_inside(slashed.normpath(written), root):
        return slashed.normpath(written)[len(root.rstrip("/")) + 1 :]
    return slashed.normpath(written.removeprefix("./"))


def _one(written: Sequence[str], tree: _Tree) -> tuple[FileRecord | None, str]:
    """Return the file that a line names, or why there is none; without a reason it is missing."""
    why = ""
    for text in dict.fromkeys(written):
        path = _relative(text, tree.root)
        if "\x00" in path or path.startswith(("/", "../")) or path == ".." or re.match(r"[A-Za-z]:/", path):
            why = f"not below {tree.root}"
            continue
        try:
            record = tree.exactly(path)
        except OSError as error:
            return None, reason_of(error)
        if record is None:
            alike = tree.alike(path)
            if len(alike) > 1:
                return None, f"{len(alike)} files match if upper and lower case are ignored: {', '.join(alike[:3])}"
            record = tree.exactly(alike[0]) if alike else None
        if record is not None:
            kind = record.identity.kind
            names = {"folder": _A_FOLDER, "link": "a symbolic link, which is not followed"}
            return (record, "") if kind == "file" else (None, names.get(kind, "not a regular file"))
    return None, why


def _add(
    record: FileRecord,
    source: str,
    target: str,
    result: Gathering,
    folders: TargetFolders,
    given: set[Place],
    move: bool,
    flat: bool,
) -> None:
    plan = result.plan
    record = with_sample(record)
    below = record.place.name if flat else record.place.path[len(source.rstrip("/")) + 1 :]
    place = place_of(slashed.join(target, below))
    number = 1
    while place in given:  # two files of one name, with --flat
        number += 1
        place = Place(target, system.shortened(record.place.name, f"_{number}"))
    given.add(place)
    result.targets[place] = record.identity.size
    dev = folders.device(place.folder)
    problem = folders.usable(place.folder, target)
    problem = problem or volume_of(dev, folders.existing(place.folder)).illegal(place.name, record.identity.size)
    if not problem and (there := look_or_none(place)) is not None:
        if there.identity.kind == "file" and there.identity.size == record.identity.size:
            try:
                if same_contents(record.place, place):
                    result.already.append(place)
                    return
            except OSError:
                pass
        problem = Why.IN_THE_WAY(place.path)
    if problem:
        plan.not_touched.append(
            NotTouched(record.place, RULE, problem if isinstance(problem, Reason) else Why.TARGET_UNUSABLE(problem))
        )
        return
    across = mount_at(place.folder) != mount_at(record.place.folder)
    verb: Step = Step(0, "copy", RULE, "", record.place, place, record.identity, {"bytes": record.identity.size})
    if move:
        verb.verb = "move-across" if across else "move"
    plan.add_group([verb])


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
    """Narrows a plan that would take away all there is, or everything that is old, to what a purge takes.

    Args:
        folder: where it takes place, resolved.
        by: the field that holds the date which decides.
        older_than: the age; None where that does not matter.
        keep_newest: this many of the newest entries stay, however old they are.
        until_free: when this many bytes are free the rest may stay; None to take all.
        dates: filled in: by place, the date that decides, in ns since the epoch.
    """

    folder: str
    by: str
    older_than: Duration | None
    keep_newest: int = 0
    until_free: int | None = None
    dates: dict[Place, int] = field(default_factory=dict)

    @property
    def where(self) -> str:
        """The condition that chooses the entries to look at; to know the newest, all must be looked at."""
        return "" if self.keep_newest or self.older_than is None else f"{self.by} older than {self.older_than.text}"

    def narrow(self, plan: Plan, world: World) -> None:
        """Take out of a plan what stays, and name it where a person should know."""
        for step in plan.asked:
            date_ns = self._date(step, world)
            if isinstance(date_ns, int):
                self.dates[step.place] = date_ns
            else:
                plan.not_touched.append(step.not_touched(Why.UNKNOWN(self.by, date_ns.reason)))
        limit_ns = inf if self.older_than is None else self.older_than.before(world.now_ns)
        ranked = sorted(
            (step for step in plan.asked if step.place in self.dates), key=lambda step: (self.dates[step.place], step.place)
        )
        old = [step for step in ranked if self.dates[step.place] < limit_ns]
        newest = {step.id for step in ranked[-self.keep_newest :]} if self.keep_newest else set()
        for step in old:
            if step.id in newest:
                plan.not_touched.append(step.not_touched(Why.KEPT_AS_NEWEST(self.keep_newest)))
        aged = [step for step in old if step.id not in newest]
        going = not_held(plan, aged, lambda was, path: _holder(world, was, path), Why.OPEN)
        if self.until_free is not None:
            going = self._until_free(plan, going)
        kept = {step.id for step in going}
        plan.drop(lambda step: step.id not in kept)

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
        if self.older_than is None:
            return found
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
            found[by] = Older(counted + count_of(facts), max(last_ns, came_ns if isinstance(came_ns, int) else 0))

    def _facts(self, place: Place, world: World) -> Facts | Unknown:
        try:
            record = look(place)
            inside = look_inside(place.path) if record.identity.kind == "folder" else None
        except OSError as error:
            return Unknown(reason_of(error))
        return Facts(record, self.folder, TYPE_OF_SUFFIX, world, inside)

    def _date(self, step: Step, world: World) -> int | Unknown:
        # What the planner has just looked at says when a file was modified; only other dates ask for another look.
        if self.by == "modified" and step.was is not None and step.was.kind == "file":
            return latest_of(step.was.mtime_ns)
        facts = self._facts(step.place, world)
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
        plan.not_touched += [step.not_touched(Why.ENOUGH_IS_FREE(self.until_free)) for step in steps[len(going) :]]
        if missing > 0:
            what = f"even if all of these are deleted, the free space stays {missing:,} bytes short of {self.until_free:,}"
            plan.notes.append(Note(what, True))
        return going


def _holder(world: World, was: Identity, path: str) -> str | None:
    """Return the program that has an entry open, or something in it."""
    return world.open_files.holder_below(path) if was.kind == "folder" else world.open_files.holder(was, path)


def freed_by(path: str) -> int:
    """Return how many bytes the removal of an entry frees on its volume; a file with extra hard links frees none."""
    try:
        found = disk.lstat(path)
    except OSError:
        return 0
    if not disk.isdir(path) or disk.islink(path):
        return disk.used_bytes(found) if found.st_nlink == 1 else 0
    freed = disk.used_bytes(found)
    for folder, folders, inner in disk.walk(path):
        freed += sum(freed_by(slashed.join(folder, name)) for name in inner)
        freed += sum(disk.used_bytes(disk.lstat(slashed.join(folder, name))) for name in folders)
    return freed
