"""What becomes of an entry that rules match: the steps of its extras and of its ending."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from frugal_sorter.files.attributes import COMMENT, TAGS, read_attribute, split_tags
from frugal_sorter.files.fingerprint import with_sample
from frugal_sorter.files.inside import Inside, look_inside
from frugal_sorter.files.record import COARSEST_TIME_NS, FileRecord, Identity, Place, is_inside
from frugal_sorter.files.status import look_or_none
from frugal_sorter.files.volumes import volume_of
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.by_content import ContentSearch
from frugal_sorter.plans.choosing import choose
from frugal_sorter.plans.clash import Clashes, Discard, Room, is_numbered_form
from frugal_sorter.plans.duplicates import Removing, add_removals
from frugal_sorter.plans.plan import Left, Note, Plan, Step, Witness
from frugal_sorter.plans.removals import Removals
from frugal_sorter.plans.targets import TargetFolders
from frugal_sorter.rules.book import REMOVALS, Rule, RuleBook
from frugal_sorter.rules.condition import captures_of
from frugal_sorter.rules.fields import FIELDS, Facts, World
from frugal_sorter.rules.patterns import Filling, Missing, Template, Wording, shortened
from frugal_sorter.rules.placing import Wanted, target_folder, wanted_place
from frugal_sorter.state.folders import ready_state_folder

Recall = Callable[[str, Place, Identity], int | None]
_MOST_NUMBERS = 100_000


@dataclass(frozen=True)
class Past:
    """What earlier runs say; the first two return the number of a run, or None.

    Args:
        taken_back: an undo put this entry back here, where this rule had taken it away.
        put_here: this rule itself put this entry here.
        written: the folders that some rules have moved entries into.
        has_run: this rule has run its program for this entry.
    """

    taken_back: Recall = lambda _key, _place, _identity: None
    put_here: Recall = lambda _key, _place, _identity: None
    written: Callable[[Sequence[str]], frozenset[str]] = lambda _keys: frozenset()
    has_run: Callable[[str, Identity], bool] = lambda _key, _identity: False


class _Kept(Exception):
    """An entry is left as it is, and why; without a reason it is at home."""

    def __init__(self, reason: str = "", problem: bool = False) -> None:
        super().__init__(reason)
        self.reason = reason
        self.problem = problem


@dataclass(slots=True)
class _Entry:
    """What is planned for one entry.

    Args:
        facts: of the entry, before the run.
        before: steps before its ending.
        late: rules whose link and program come after it.
        attributes: texts as they will be once the steps so far are done.
    """

    facts: Facts
    before: list[Step] = field(default_factory=list)
    late: list[Rule] = field(default_factory=list)
    attributes: dict[str, str] = field(default_factory=dict)

    @property
    def record(self) -> FileRecord:
        """What its status says."""
        return self.facts.record


@dataclass
class Outcomes:
    """Plans, entry by entry, what the rules that match it do with it.

    Args:
        book: the rules.
        world: the moment.
        past: what the journal knows.
        again: also what was taken back by undo.
        plan: gets the steps, and what is left.
        off_duty: the rules that are outside their hours.
        protected: folders that are never taken away.
    """

    book: RuleBook
    world: World
    past: Past
    again: bool
    plan: Plan
    off_duty: frozenset[int]
    protected: frozenset[str]
    folders: TargetFolders = field(default_factory=TargetFolders)
    removals: Removals = field(default_factory=Removals)
    resolved: dict[str, str] = field(default_factory=dict)
    counters: dict[Place, int] = field(default_factory=dict)
    packs: dict[tuple[int, Place], list[Facts]] = field(default_factory=dict)
    same: dict[int, list[Facts]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.written = self.past.written([rule.key for rule in self.book.rules])
        self.clashes = Clashes(self.removals, self.folders, self.protected)

    def entry(self, rules: Sequence[int], facts: Facts) -> None:
        """Plan what some rules do with an entry: extras in their order, and the ending of the last one."""
        record = with_sample(facts.record)
        entry = _Entry(facts if record is facts.record else replace(facts, record=record))
        for index in rules:
            rule = self.book.rules[index]
            self.plan.matched.add(rule.name)
            try:
                if rule.ending is None:
                    self._hold_back(index, rule, entry.facts)
                    self._extras(rule, entry)
                    entry.late.append(rule)
                else:
                    self._decide(index, rule, entry)
                    return
            except _Kept as kept:
                self._keep(rule, record.place, kept)
        self._add(entry, [], record.place)

    def _keep(self, rule: Rule, place: Place, kept: _Kept) -> None:
        if kept.reason:
            self.plan.left.append(Left(place, rule.name, kept.reason, kept.problem))
        else:
            self.plan.at_home += 1

    def _decide(self, index: int, rule: Rule, entry: _Entry) -> None:
        """Plan the ending of an entry; what was planned for it before is done also where that is held back."""
        place = entry.record.place
        own = _Entry(entry.facts, [], [], entry.attributes)
        try:
            ending, final = self._ending(index, rule, own)
        except _Kept as kept:
            self._keep(rule, place, kept)
            ending, final, own.before = [], place, own.before if not kept.reason else []
            if kept.reason:
                own.late = []
        entry.before += own.before
        entry.late += own.late
        self._add(entry, ending, final, rule.ending in REMOVALS and bool(ending))

    def _add(self, entry: _Entry, ending: list[Step], final: Place, removal: bool = False) -> None:
        """Append the steps of an entry as one group."""
        before, after = list(entry.before), []
        for rule in entry.late:
            try:
                link = self._link(rule, entry, final)
                program = self._program(rule, entry, final)
            except _Kept as kept:
                self._keep(rule, entry.record.place, kept)
                continue
            after += link
            (before if removal else after).extend(program)
        if before or ending or after:
            self.plan.add_group([*before, *ending, *after])

    # Whether a rule acts on an entry now

    def _hold_back(self, index: int, rule: Rule, facts: Facts) -> None:
        """See that a rule may act on an entry now.

        Raises:
            _Kept: not now, and why.
        """
        record = facts.record
        if not self.again and (run := self.past.taken_back(rule.key, record.place, record.identity)):
            raise _Kept(f"taken back by run {run}; --again does it")
        # A target made of the old name or place, which the rule itself has changed, would
        # otherwise never come to rest.
        if record.place.folder in self.written and self.past.put_here(rule.key, record.place, record.identity):
            raise _Kept
        if index in self.off_duty:
            raise _Kept("outside the hours of the rule")
        if self._is_unsettled(rule, facts):
            raise _Kept("written to a moment ago")

    def _is_unsettled(self, rule: Rule, facts: Facts) -> bool:
        limit_ns = rule.settle.before(self.world.now_ns)
        modified = facts("modified")
        # A date in the future tells nothing; then the change time of the inode decides.
        known = isinstance(modified, int) and modified <= self.world.now_ns
        written_ns = modified if isinstance(modified, int) and known else facts.record.ctime_ns
        return written_ns > limit_ns and limit_ns < self.world.now_ns

    # Endings

    def _ending(self, index: int, rule: Rule, entry: _Entry) -> tuple[list[Step], Place]:
        """Return the steps of an ending, and where the entry is then.

        Raises:
            _Kept: nothing is done, and why.
        """
        facts, record = entry.facts, entry.record
        wanted: Wanted | Missing = Wanted(record.place)
        if rule.ending == "leave":
            self.plan.kept += 1
            return [], record.place
        if rule.ending == "move":
            wanted = wanted_place(self.book, rule, facts, self.resolve)
            if isinstance(wanted, Missing):
                raise _Kept(wanted.reason, problem=True)
            if self._is_home(record.place, wanted):
                self._extras_at_home(index, rule, entry)
                raise _Kept
        if rule.ending == "pack" and self._path(rule, rule.pack, facts).path == record.place.path:
            raise _Kept
        self._hold_back(index, rule, facts)
        self._extras(rule, entry)
        entry.late.append(rule)
        if rule.ending == "move" and isinstance(wanted, Wanted):
            return self._move(rule, facts, wanted)
        if rule.ending == "pack":
            self.packs.setdefault((index, self._path(rule, rule.pack, facts)), []).append(facts)
            return [], record.place
        if rule.ending == "duplicates":
            self.same.setdefault(index, []).append(facts)
            return [], record.place
        if rule.ending == "unpack":
            return self._unpack(rule, facts), record.place
        if rule.ending == "delete":
            args = weight(record.identity, facts)
            return [self._step("delete", rule, record.place, None, record.identity, args)], record.place
        return [self.removals.trash(rule.name, rule.key, record, facts)], record.place

    def _extras_at_home(self, index: int, rule: Rule, entry: _Entry) -> None:
        """An entry that is where it belongs still gets what else its rule gives."""
        if not rule.extras:
            return
        try:
            self._hold_back(index, rule, entry.facts)
            self._extras(rule, entry)
            entry.late.append(rule)
        except _Kept:
            entry.before.clear()

    def _move(self, rule: Rule, facts: Facts, wanted: Wanted) -> tuple[list[Step], Place]:
        record = facts.record
        target = self._free_number(wanted) if wanted.numbered else wanted.place
        if is_inside(target.folder, record.place.path):
            raise _Kept("a folder cannot go into itself", problem=True)
        self._usable(target.folder, facts.base)
        across = self.folders.device(target.folder) != record.identity.dev
        if across:
            self._legal(target, record.identity)
        room = self.clashes.room(rule, target, record)
        if isinstance(room, str):
            raise _Kept(room)
        if isinstance(room, Discard):
            return [self.removals.trash(rule.name, rule.key, record, facts, room.witness)], record.place
        verb = self._step("move-across" if across else "move", rule, record.place, room.place, record.identity)
        verb.args = {key: value for key, value in weight(record.identity, facts).items() if key == "bytes"}
        return [*room.before, verb], room.place

    def _unpack(self, rule: Rule, facts: Facts) -> list[Step]:
        record = facts.record
        folder = self._path(rule, rule.unpack, facts)
        self._usable(folder.folder, facts.base)
        room = self.clashes.room(rule, folder, record)
        if isinstance(room, str):
            raise _Kept(room)
        if isinstance(room, Discard):
            room = Room(self.clashes.names.give(folder))
        step = self._step("unpack", rule, record.place, room.place, record.identity)
        return [*room.before, step, self.removals.trash(rule.name, rule.key, record, facts)]

    def finish_packs(self) -> None:
        """Plan one new zip for each path that entries are packed into."""
        for (index, path), members in self.packs.items():
            rule = self.book.rules[index]
            first = members[0].record
            try:
                self._usable(path.folder, members[0].base)
                newest = max(facts.record.identity.mtime_ns for facts in members)
                newcomer = first._replace(identity=first.identity._replace(kind="file", mtime_ns=newest))
                room = self.clashes.room(rule, path, newcomer, compare=False)
                if isinstance(room, str):
                    raise _Kept(room)
            except _Kept as kept:
                for facts in members:
                    self._keep(rule, facts.record.place, kept)
                continue
            assert isinstance(room, Room)
            named: set[str] = set()
            listed = []
            for facts in members:
                listed.append({
                    "path": facts.record.place.path, "name": _member_name(facts, named),
                    "was": list(facts.record.identity),
                })  # fmt: skip
            total = sum(
                weight(facts.record.identity, facts).get("bytes", facts.record.identity.size) for facts in members
            )
            pack = self._step("pack", rule, None, room.place, None, {"members": listed, "bytes": total})
            originals = [self.removals.trash(rule.name, rule.key, facts.record, facts) for facts in members]
            self.plan.add_group([*room.before, pack, *originals])

    def finish_duplicates(self) -> None:
        """Look once more at all entries of each rule about duplicates, and plan what becomes of those that hold the same."""
        for index, entries in self.same.items():
            rule = self.book.rules[index]
            assert rule.duplicates is not None
            paths = [facts.record.place.path for facts in entries]
            found = ContentSearch(cache=ready_state_folder(), now_ns=self.world.now_ns).among(paths)
            removing = Removing(rule.duplicates.do, self.world, removals=self.removals)
            going = 0
            for group in found.groups:
                choice = choose(group, rule.duplicates.keep)
                going += len(choice.going)
                add_removals(self.plan, choice, removing, rule.name, rule.key)
            self.plan.notes += [Note(f"{one.path}: {one.reason}", True) for one in found.unread]
            self.plan.at_home += len(entries) - going

    # Extras

    def _extras(self, rule: Rule, entry: _Entry) -> None:
        """Plan the extras that come before the ending.

        Raises:
            _Kept: a value is missing, or a place cannot be used.
        """
        extras = rule.extras
        steps: list[Step] = []
        if extras.tag or extras.untag:
            old = self._attribute(entry, TAGS)
            off = {tag.casefold() for tag in self._tags(rule, extras.untag, entry.facts)}
            tags = [tag for tag in split_tags(old) if tag.casefold() not in off]
            has = {tag.casefold() for tag in tags}
            tags += [tag for tag in self._tags(rule, extras.tag, entry.facts) if tag.casefold() not in has]
            steps += self._set_attribute(rule, entry, TAGS, old, ",".join(dict.fromkeys(tags)))
        if extras.comment is not None:
            old = self._attribute(entry, COMMENT)
            comment = _utf8(self._words(rule, [extras.comment], entry.facts)[0])
            steps += self._set_attribute(rule, entry, COMMENT, old, comment)
        if extras.copy is not None:
            steps += self._copy(rule, entry)
        entry.before += steps

    def _tags(self, rule: Rule, wordings: Sequence[Wording], facts: Facts) -> list[str]:
        return [tag for text in self._words(rule, wordings, facts) for tag in split_tags(_utf8(text))]

    def _words(self, rule: Rule, wordings: Sequence[Wording], facts: Facts) -> list[str]:
        around = self._filling(rule, facts)
        found = []
        for wording in wordings:
            text = wording.fill(facts, around)
            if isinstance(text, Missing):
                raise _Kept(text.reason, problem=True)
            found.append(text)
        return found

    def _filling(self, rule: Rule, facts: Facts) -> Filling:
        return Filling(self.book.type_folders, captures_of(rule.where, facts), rule.kinds)

    def _attribute(self, entry: _Entry, name: str) -> str:
        if name not in entry.attributes:
            try:
                entry.attributes[name] = read_attribute(entry.record.place.path, name)
            except OSError as error:
                raise _Kept(f"its tags and comment cannot be read: {reason_of(error)}", problem=True) from None
        return entry.attributes[name]

    def _set_attribute(self, rule: Rule, entry: _Entry, name: str, old: str, new: str) -> list[Step]:
        if _as_kept(name, old) == _as_kept(name, new):
            return []
        entry.attributes[name] = new
        record = entry.record
        args = {"attribute": name, "old": old, "new": new}
        return [self._step("set-attribute", rule, record.place, None, record.identity, args)]

    def _copy(self, rule: Rule, entry: _Entry) -> list[Step]:
        record, facts = entry.record, entry.facts
        target = Place(self._path(rule, rule.extras.copy, facts).path, record.place.name)
        if target == record.place or is_inside(target.folder, record.place.path):
            return []
        self._usable(target.folder, facts.base)
        self._legal(target, record.identity)
        if self._is_copied(target, record):
            return []
        room = self.clashes.room(rule, target, record, compare=False)
        if isinstance(room, str):
            raise _Kept(room)
        assert isinstance(room, Room)
        args = {key: value for key, value in weight(record.identity, facts).items() if key == "bytes"}
        step = self._step("copy", rule, record.place, room.place, record.identity, args)
        return [*room.before, step]

    def _is_copied(self, target: Place, record: FileRecord) -> bool:
        """Tell whether a copy of an entry as it is now lies there, also under a numbered name."""
        number, place = 1, target
        while (found := look_or_none(place)) is not None:
            one, other = found.identity, record.identity
            same_time = abs(found.mtime_ns - record.mtime_ns) <= COARSEST_TIME_NS
            if one.kind == other.kind == "file" and one.size == other.size and same_time:
                return True
            if one.kind == other.kind == "folder" and _same_size_inside(place, record.place):
                return True
            number += 1
            place = Place(target.folder, shortened(target.name, f"_{number}"))
        return False

    def _link(self, rule: Rule, entry: _Entry, final: Place) -> list[Step]:
        if rule.extras.link is None:
            return []
        wanted = Place(self._path(rule, rule.extras.link, entry.facts).path, final.name)
        if wanted == final:
            return []
        self._usable(wanted.folder, entry.facts.base)
        number, place = 1, wanted
        while os.path.lexists(place.path):
            if os.path.islink(place.path) and os.readlink(place.path) == final.path:
                return []
            number += 1
            place = Place(wanted.folder, shortened(wanted.name, f"_{number}"))
        place = self.clashes.names.give(wanted)
        return [self._step("link", rule, final, place, entry.record.identity)]

    def _program(self, rule: Rule, entry: _Entry, final: Place) -> list[Step]:
        record = entry.record
        if not rule.extras.run or self.past.has_run(rule.key, record.identity):
            return []
        # Facts are those before the run, but for the name and the place that the program will find.
        for name in {name for word in rule.extras.run for name in word.fields}:
            entry.facts(name)
        told = {name: value for name, value in entry.facts._known.items() if FIELDS[name].cost > 1}
        moved = replace(entry.facts, record=record._replace(place=final), _known=told)
        command = self._words(rule, rule.extras.run, moved)
        return [self._step("run", rule, final, None, record.identity, {"command": command})]

    # Places

    def _step(
        self, verb: str, rule: Rule, source: Place | None, target: Place | None, was: Identity | None,
        args: Mapping[str, object] | None = None, witness: Witness | None = None,
    ) -> Step:  # fmt: skip
        return Step(0, verb, rule.name, rule.key, source, target, was, args or {}, 0, witness)  # type: ignore[arg-type]

    def _path(self, rule: Rule, template: Template | None, facts: Facts) -> Place:
        assert template is not None
        segments = template.fill(facts, self._filling(rule, facts))
        if isinstance(segments, Missing):
            raise _Kept(segments.reason, problem=True)
        return Place(*os.path.split(target_folder(template, segments, facts.base, self.resolve)))

    def _usable(self, folder: str, base: str) -> None:
        if any(is_inside(folder, self.resolve(away)) for away in self.book.unmounted):
            raise _Kept("the target is not mounted", problem=True)
        if problem := self.folders.usable(folder, base):
            raise _Kept(problem, problem=True)

    def _legal(self, target: Place, identity: Identity) -> None:
        volume = volume_of(self.folders.device(target.folder), self.folders.existing(target.folder))
        if why := volume.illegal(target.name, identity.size):
            raise _Kept(why, problem=True)

    def _free_number(self, wanted: Wanted) -> Place:
        """Return the place with the first number that is free."""
        assert wanted.numbered is not None
        number = self.counters.get(wanted.place, 1)
        while number < _MOST_NUMBERS and not self.clashes.names.is_free(wanted.numbered(number)):
            number += 1
        self.counters[wanted.place] = number + 1
        return wanted.numbered(number)

    def resolve(self, path: str) -> str:
        """Return a path of the technician's without symbolic links, looked up once."""
        if path not in self.resolved:
            self.resolved[path] = os.path.realpath(path)
        return self.resolved[path]

    def _is_home(self, place: Place, wanted: Wanted) -> bool:
        if wanted.numbered is not None:
            # Any number that an earlier run may have given counts as its own.
            numbers = {int(number) for number in re.findall(r"\d+", place.path) if len(number) < 9}
            return any(wanted.numbered(number) == place for number in numbers)
        return place.folder == wanted.place.folder and (
            place.name == wanted.place.name or is_numbered_form(place.name, wanted.place.name)
        )


def weight(identity: Identity, facts: Facts) -> dict[str, int]:
    """Return how many files and bytes a folder holds; a file is itself."""
    if identity.kind != "folder" or not isinstance(facts.inside, Inside):
        return {}
    return {"files": max(facts.inside.files, 1), "bytes": facts.inside.bytes}


def _utf8(text: str) -> str:
    """Return a text as others can read it: a name need not be Unicode, a tag must be."""
    return text.encode("utf-8", "backslashreplace").decode()


def _as_kept(name: str, text: str) -> object:
    return split_tags(text) if name == TAGS else text


def _same_size_inside(one: Place, other: Place) -> bool:
    first, second = look_inside(one.path), look_inside(other.path)
    if not isinstance(first, Inside) or not isinstance(second, Inside):
        return False
    return (first.bytes, first.files) == (second.bytes, second.files)


def _member_name(facts: Facts, named: set[str]) -> str:
    """Return the name of an entry in a zip: its path below `in`, numbered where two are the same."""
    plain, number = facts.below, 2
    name = plain
    while name.casefold() in named:
        folder, last = os.path.split(plain)
        name = os.path.join(folder, shortened(last, f"_{number}"))
        number += 1
    named.add(name.casefold())
    return name
