"""What rules do with the files that they match, planned by the folder where that is the same for all."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Hashable, Sequence
from typing import NamedTuple, cast

from frugal_sorter.filesystem.record import Identity, Listing, Place, is_inside
from frugal_sorter.filesystem.status import record_in, with_sample
from frugal_sorter.filesystem.volumes import mount_at, volume_of
from frugal_sorter.planning.guard import Downloads
from frugal_sorter.planning.matched import (
    Clashes,
    Destinations,
    Discard,
    Extras,
    Matched,
    Names,
    Removals,
    Room,
    TargetFolders,
    count_of,
    is_numbered_form,
    step_of,
    weight,
)
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.planning.sight import Scope
from frugal_sorter.platforms import slashed, system
from frugal_sorter.reasons import NotDone, Reason, Why
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.keys import REMOVALS
from frugal_sorter.rules.model import Hits, Rule, RuleBook
from frugal_sorter.rules.placing import Alike, Placing, Wanted
from frugal_sorter.rules.templates import Missing
from frugal_sorter.rules.units import kept_of, minute_text
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.kinds import Member, VerbName
from frugal_sorter.steps.step import NONE, Count, NotTouched, Step
from frugal_sorter.values import field, frozen, mutable, replace


@mutable
class Settled:
    """How many files are finished, and the rules that claimed them, by index."""

    at_home: Count = NONE
    kept: Count = NONE
    rules: set[int] = field(default_factory=set)

    def add(self, other: Settled) -> None:
        """Merge what another process settled."""
        self.at_home += other.at_home
        self.kept += other.kept
        self.rules |= other.rules


class Settling:
    """Takes out of what rules claim in a folder the files for which nothing is to be done.

    Args:
        book: the rules.
        world: the moment.
        placing: where the rules want files.
    """

    def __init__(self, book: RuleBook, world: World, placing: Placing) -> None:
        self._book, self._world, self._placing = book, world, placing
        self._alike = placing.plain
        # By device, the rules that can be decided here.
        self._known: dict[int, dict[int, Alike]] = {}
        self._keeping = frozenset(index for index, rule in enumerate(book.rules) if rule.ending == "leave")

    def needs_status(self, rules: Sequence[int]) -> bool:
        """Return True if sizes and times of files decide where some of the rules want them."""
        return any(index in self._alike and self._alike[index].reads_status for index in rules)

    def unsettled(self, listing: Listing, hits: Hits, here: Scope, settled: Settled) -> Hits:
        """Return what is left of the hits in a folder, and count the others.

        Args:
            listing: the folder.
            hits: the files that rules claim there.
            here: the rules that act there.
            settled: gets the counts.
        """
        folder, left, claimed, at_home, kept = listing.folder, Hits(), settled.rules, 0, 0
        if listing.dev not in self._known:
            # Where the case of letters does not count, the disk says how a target folder is spelled.
            self._known[listing.dev] = {} if volume_of(listing.dev, folder).ignores_case else self._alike
        known = self._known[listing.dev]
        names, status = listing.names, listing.status
        size = modified = 0
        wanted = self._placing.known
        for hit in hits:
            at, rules = hit
            index = rules[-1]
            if len(rules) > 1:
                left.append(hit)
            elif index in known:
                if status:
                    size, modified = status[at].st_size, status[at].st_mtime_ns
                base = here.base(index)
                try:
                    key = known[index].of(index, base, folder, names[at], size, modified)
                except ValueError:
                    left.append(hit)
                    continue
                if (wanted.get(key) or self._learn(index, key, listing, at, base)) == folder:
                    at_home += 1
                    claimed.add(index)
                else:
                    left.append(hit)
            elif index in self._keeping:
                kept += 1
                claimed.add(index)
            else:
                left.append(hit)
        settled.at_home += Count(at_home)
        settled.kept += Count(kept)
        return left

    def _learn(self, index: int, key: Hashable, listing: Listing, at: int, base: str) -> object:
        # From the columns that the key was made of: by now the file may be another.
        facts = Facts(record_in(listing, at), base, self._book.types, self._world)
        return self._placing.learn(index, key, facts)


class _Route(NamedTuple):
    """The way to a folder that is as good as any: on which mount it is, or will be, and whether it is there."""

    folder: str
    mount: int
    exists: bool


class PlainMoves:
    """Plans what is plain.

    Args:
        rules: by index.
        placing: where they want files.
        destinations: whether files can go there.
        names: which names are taken.
        plan: gets the steps.
        hold_back: raises Kept where a rule may not act on an entry now.
    """

    def __init__(
        self,
        rules: tuple[Rule, ...],
        placing: Placing,
        destinations: Destinations,
        names: Names,
        plan: Plan,
        hold_back: Callable[[int, Rule, Facts], None],
    ) -> None:
        self._rules, self._placing, self._destinations = rules, placing, destinations
        self._names, self._plan, self._hold_back = names, plan, hold_back
        self._plain = frozenset(index for index in placing.plain if rules[index].clash == "number")
        self._routes: dict[Hashable, _Route | None] = {}

    def add(self, index: int, facts: Facts) -> bool:
        """Plan the move of an entry by the rule of an index; return False, with nothing planned, where it is not plain.

        Raises:
            NotDone: the rule may not act on it now.
        """
        key = self._placing.key_of(index, facts) if index in self._plain else None
        if key is None:
            return False
        place, identity = facts.record.place, facts.record.identity
        if key not in self._routes:
            self._routes[key] = self._route(index, key, facts)
        route = self._routes[key]
        if route is None or route.mount != mount_at(place.folder) or route.folder == place.folder:
            return False
        target = Place(route.folder, place.name)
        if self._names.is_given(target) or (route.exists and self._names.on_disk(target)):
            return False
        rule = self._rules[index]
        self._plan.matched.add(rule.name)
        self._hold_back(index, rule, facts)
        self._plan.add_group([step_of(rule, "move", place, self._names.take(target), identity)])
        return True

    def _route(self, index: int, key: Hashable, facts: Facts) -> _Route | None:
        folder = self._placing.known.get(key) or self._placing.learn(index, key, facts)
        folders = self._destinations.folders
        if not isinstance(folder, str) or folders.ignores_case(folder):
            return None
        try:
            self._destinations.usable(folder, facts.base)
        except NotDone:
            return None
        there = folders.existing(folder)
        lasts = volume_of(folders.device(folder), there).inodes_last
        return _Route(folder, mount_at(there), there == folder) if lasts else None


_MOST_NUMBERS = 100_000


@frozen
class EarlierRuns:
    """What earlier runs say.

    Args:
        undone: why this rule leaves this entry: it took it away before, and an undo or a person brought it back here.
        put_here: the run in which this rule itself put this entry here; None for no run.
        written: the folders that some rules have moved entries into.
        has_run: this rule has run its program for this entry.
    """

    undone: Callable[[str, Place, Identity], Reason | None] = lambda _key, _place, _identity: None
    put_here: Callable[[str, Place, Identity], int | None] = lambda _key, _place, _identity: None
    written: Callable[[Sequence[str]], frozenset[str]] = lambda _keys: frozenset()
    has_run: Callable[[str, Identity], bool] = lambda _key, _identity: False


@mutable(slots=False)
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
    past: EarlierRuns
    again: bool
    plan: Plan
    off_duty: frozenset[int]
    protected: frozenset[str]
    folders: TargetFolders = field(default_factory=TargetFolders)
    removals: Removals = field(default_factory=Removals)
    counters: dict[Place, int] = field(default_factory=dict)
    packs: dict[tuple[int, Place], list[Facts]] = field(default_factory=dict)
    same: dict[int, list[Facts]] = field(default_factory=dict)
    kept_by: dict[int, list[Matched]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        # By rule: what was written later than this has not settled yet.
        self.settled_ns = [rule.settle.before(self.world.now_ns) for rule in self.book.rules]
        self.downloads = Downloads(self.book.types)
        self.means_parts = [rule.ending == "leave" or self.downloads.are_meant_by(rule.where_text) for rule in self.book.rules]
        self.written = self.past.written([rule.key for rule in self.book.rules])
        self.clashes = Clashes(self.removals, self.folders, self.protected)
        self.destinations = Destinations(self.book, self.folders)
        self.placing = Placing(self.book, self.destinations.resolve)
        self.plain = PlainMoves(self.book.rules, self.placing, self.destinations, self.clashes.names, self.plan, self._hold_back)
        self.extras = Extras(self.destinations, self.clashes, self.past.has_run)

    def entry(self, rules: Sequence[int], facts: Facts) -> None:
        """Plan what some rules do with an entry: extras in their order, and the ending of the last one."""
        if len(rules) == 1:
            try:
                if self.plain.add(rules[0], facts):
                    return
            except NotDone as kept:
                self._keep(self.book.rules[rules[0]], facts, kept.reason)
                return
        record = with_sample(facts.record)
        entry = Matched(facts if record is facts.record else replace(facts, record=record))
        was_kept = False
        for index in rules:
            rule = self.book.rules[index]
            self.plan.matched.add(rule.name)
            try:
                if rule.keep:
                    self.kept_by.setdefault(index, []).append(entry)
                    return
                if rule.ending is None:
                    self._hold_back(index, rule, entry.facts)
                    self.extras.before(rule, entry)
                    entry.late.append(rule)
                else:
                    self._decide(index, rule, entry)
                    return
            except NotDone as kept:
                was_kept = True
                self._keep(rule, facts, kept.reason)
        if not self._add(entry, [], record.place) and not was_kept:
            # It has everything that its rules give.
            self.plan.at_home += count_of(facts)

    def _keep(self, rule: Rule, facts: Facts, reason: Reason) -> None:
        if reason.why is Why.AT_HOME:
            self.plan.at_home += count_of(facts)
        else:
            self.plan.not_touched.append(NotTouched(facts.record.place, rule.name, reason, count_of(facts)))

    def _decide(self, index: int, rule: Rule, entry: Matched) -> None:
        """Plan the ending of an entry; what was planned for it before is done also where that is held back."""
        place = entry.record.place
        own = Matched(entry.facts, [], [], entry.attributes)
        try:
            ending, final = self._ending(index, rule, own)
        except NotDone as kept:
            self._keep(rule, entry.facts, kept.reason)
            ending, final = [], place
            if kept.reason.why is not Why.AT_HOME:
                own.before, own.late = [], []
        entry.before += own.before
        entry.late += own.late
        self._add(entry, ending, final, rule.ending in REMOVALS and bool(ending))

    def _add(self, entry: Matched, ending: list[Step], final: Place, removal: bool = False) -> bool:
        """Append the steps of an entry as one group, and return whether there are any."""
        before, after = list(entry.before), []
        if entry.record.nlink > 1 and any(is_across(step) for step in ending):
            # Its other names stay behind, and must not get what this one is given.
            given = [replace(step, source=ending[-1].target) for step in before if step.verb == "set-attribute"]
            before, after = [step for step in before if step.verb != "set-attribute"], given
        self.extras.note_given(entry.record, before)
        for rule in entry.late:
            try:
                link = self.extras.link(rule, entry, final)
                program = self.extras.program(rule, entry, final)
            except NotDone as kept:
                self._keep(rule, entry.facts, kept.reason)
                continue
            after += link
            (before if removal else after).extend(program)
        if before or ending or after:
            self.plan.add_group([*before, *ending, *after])
        return bool(before or ending or after)

    # Whether a rule acts on an entry now

    def _hold_back(self, index: int, rule: Rule, facts: Facts) -> None:
        """Check that a rule may act on an entry now.

        Raises:
            NotDone: not now, and why.
        """
        record = facts.record
        if not self.again and (why := self.past.undone(rule.key, record.place, record.identity)):
            raise NotDone(why)
        # A target made of the old name or place, which the rule itself has changed, would
        # otherwise move for ever.
        if record.place.folder in self.written and self.past.put_here(rule.key, record.place, record.identity):
            raise NotDone(Why.AT_HOME())
        if index in self.off_duty:
            raise NotDone(Why.OFF_DUTY())
        if self._was_just_written(self.settled_ns[index], facts):
            raise NotDone(Why.FRESH())
        if record.identity.kind == "file" and not self.means_parts[index] and (why := self.downloads.waits(record.place)):
            raise NotDone(why)

    def _was_just_written(self, limit_ns: int, facts: Facts) -> bool:
        modified = facts("modified")
        # A date in the future means nothing; then the change time of the inode decides.
        known = isinstance(modified, int) and modified <= self.world.now_ns
        written_ns = modified if isinstance(modified, int) and known else facts.record.ctime_ns
        return written_ns > limit_ns and limit_ns < self.world.now_ns

    # Endings

    def _ending(self, index: int, rule: Rule, entry: Matched) -> tuple[list[Step], Place]:
        """Return the steps of an ending, and where the entry is then.

        Raises:
            NotDone: nothing is done, and why.
        """
        facts, record = entry.facts, entry.record
        wanted: Wanted | Missing = Wanted(record.place)
        if rule.ending == "leave":
            self.plan.kept += count_of(facts)
            return [], record.place
        if rule.ending == "move":
            wanted = self.placing.wanted(index, facts)
            if isinstance(wanted, Missing):
                raise NotDone(wanted.reason)
            wanted = wanted.in_folder(self.folders.spelled)
            # What is where the rule puts it needs nothing more; else each run would number it anew.
            if self._is_home(record.place, wanted):
                self._extras_at_home(index, rule, entry)
                raise NotDone(Why.AT_HOME())
        if rule.ending == "pack" and self.destinations.path(rule, rule.pack, facts).path == record.place.path:
            raise NotDone(Why.AT_HOME())
        self._hold_back(index, rule, facts)
        self.extras.before(rule, entry)
        entry.late.append(rule)
        if rule.ending == "move" and isinstance(wanted, Wanted):
            return self._move(rule, facts, wanted)
        if rule.ending == "pack":
            self.packs.setdefault((index, self.destinations.path(rule, rule.pack, facts)), []).append(facts)
            return [], record.place
        if rule.ending == "duplicates":
            self.same.setdefault(index, []).append(facts)
            return [], record.place
        if rule.ending == "unpack":
            return self._unpack(rule, facts), record.place
        if rule.ending == "trash":
            return [self.removals.trash(rule.name, rule.key, record, facts.inside)], record.place
        # Any other ending is the verb of its name, done to the entry where it is.
        verb = cast(VerbName, rule.ending)
        return [step_of(rule, verb, record.place, None, record.identity, weight(record.identity, facts))], record.place

    def _extras_at_home(self, index: int, rule: Rule, entry: Matched) -> None:
        """An entry that is where it belongs still gets what else its rule gives."""
        if not rule.extras:
            return
        try:
            self._hold_back(index, rule, entry.facts)
            self.extras.before(rule, entry)
            entry.late.append(rule)
        except NotDone:
            entry.before.clear()

    def _move(self, rule: Rule, facts: Facts, wanted: Wanted) -> tuple[list[Step], Place]:
        record = facts.record
        target = self._free_number(wanted) if wanted.numbered else wanted.place
        if is_inside(target.folder, record.place.path):
            raise NotDone(Why.INTO_ITSELF())
        self.destinations.usable(target.folder, facts.base)
        across = mount_at(target.folder) != mount_at(record.place.folder)
        if across or target.name != record.place.name:
            self.destinations.legal(target, record.identity)
        room = self.clashes.room(rule, target, record)
        if isinstance(room, Reason):
            raise NotDone(room)
        if isinstance(room, Discard):
            return [self.removals.trash(rule.name, rule.key, record, facts.inside, room.witness)], record.place
        verb = step_of(rule, "move-across" if across else "move", record.place, room.place, record.identity)
        verb.details = weight(record.identity, facts)
        return [*room.before, verb], room.place

    def _unpack(self, rule: Rule, facts: Facts) -> list[Step]:
        record = facts.record
        folder = self.destinations.path(rule, rule.unpack, facts)
        self.destinations.usable(folder.folder, facts.base)
        room = self.clashes.room(rule, folder, record)
        if isinstance(room, Reason):
            raise NotDone(room)
        if isinstance(room, Discard):
            room = Room(self.clashes.names.give(folder))
        step = step_of(rule, "unpack", record.place, room.place, record.identity)
        return [*room.before, step, self.removals.trash(rule.name, rule.key, record, facts.inside)]

    def finish_packs(self) -> None:
        """Plan one new zip for each path that entries are packed into."""
        for (index, path), members in self.packs.items():
            rule = self.book.rules[index]
            first = members[0].record
            try:
                self.destinations.usable(path.folder, members[0].base)
                newest = max(facts.record.identity.mtime_ns for facts in members)
                newcomer = first._replace(identity=first.identity._replace(kind="file", mtime_ns=newest))
                room = self.clashes.room(rule, path, newcomer, compare=False)
                if isinstance(room, Reason):
                    raise NotDone(room)
            except NotDone as kept:
                for facts in members:
                    self._keep(rule, facts, kept.reason)
                continue
            assert isinstance(room, Room)
            named: set[str] = set()
            listed: list[Member] = []
            for facts in members:
                listed.append(
                    {"path": facts.record.place.path, "name": _member_name(facts, named), "was": list(facts.record.identity)}
                )
            total = sum(weight(facts.record.identity, facts).get("bytes", facts.record.identity.size) for facts in members)
            pack = step_of(rule, "pack", None, room.place, None, {"members": listed, "bytes": total})
            originals = [self.removals.trash(rule.name, rule.key, facts.record, facts.inside) for facts in members]
            self.plan.add_group([*room.before, pack, *originals])

    def finish_retention(self) -> None:
        """Plan the endings of what rules with `keep` do not keep, once all of their entries are known."""
        for index, entries in self.kept_by.items():
            rule, groups = self.book.rules[index], dict[tuple[str, str], list[tuple[int, Matched]]]()
            for entry in entries:
                facts, filling = entry.facts, self.destinations.filling(rule, entry.facts)
                moment = filling.captures.get(rule.dated) if rule.dated in rule.kinds else facts(rule.dated)
                each = rule.each.fill(facts, filling) if rule.each is not None else ""
                # Files without a known date are kept, and so are those of no group.
                if not isinstance(moment, int) or isinstance(each, Missing):
                    self._stay(rule, entry, each.reason if isinstance(each, Missing) else Why.UNKNOWN_SO_KEPT(rule.dated))
                else:
                    groups.setdefault((facts.record.place.folder, each), []).append((moment, entry))
            for group in groups.values():
                promised = kept_of([moment for moment, _ in group], rule.keep, self.world.now_ns)
                for (_, entry), one in zip(group, promised, strict=True):
                    if one is None:
                        self._decide(index, rule, entry)
                        continue
                    until = "" if one.until_ns is None else f", until {minute_text(one.until_ns)[:10]}"
                    self._stay(rule, entry, Why.KEPT_BY_RULE(one.promise.text, until))

    def _stay(self, rule: Rule, entry: Matched, why: Reason) -> None:
        """Leave an entry, with what rules above give it."""
        self._keep(rule, entry.facts, why)
        self._add(entry, [], entry.record.place)

    def finish_duplicates(self) -> None:
        """Look once more at all entries of each rule about duplicates, and plan what becomes of those that hold the same."""
        if not self.same:
            return
        # Most files of rules ask for none of this.
        from frugal_sorter.duplicates import ContentSearch
        from frugal_sorter.planning.duplicates import Removing, add_removals, choose

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
            self.plan.at_home += Count(len(entries) - going)

    # Destinations

    def _free_number(self, wanted: Wanted) -> Place:
        """Return the place with the first number that is free."""
        assert wanted.numbered is not None
        number = self.counters.get(wanted.place, 1)
        while number < _MOST_NUMBERS and not self.clashes.names.is_free(wanted.numbered(number)):
            number += 1
        self.counters[wanted.place] = number + 1
        return wanted.numbered(number)

    def _is_home(self, place: Place, wanted: Wanted) -> bool:
        if wanted.numbered is not None:
            # Any number that an earlier run may have given counts as its own.
            numbers = {int(number) for number in re.findall(r"\d+", place.path) if len(number) < 9}
            return any(wanted.numbered(number) == place for number in numbers)
        return place.folder == wanted.place.folder and (
            place.name == wanted.place.name or is_numbered_form(place.name, wanted.place.name)
        )


def is_across(step: Step) -> bool:
    """Return True if a step makes its entry anew on another volume."""
    return step.verb == "move-across" or bool(step.details.get("across"))


def _member_name(facts: Facts, named: set[str]) -> str:
    """Return the name of an entry in a zip: its path below `in`, numbered where two are the same."""
    plain, number = facts.below, 2
    name = plain
    while name.casefold() in named:
        folder, last = os.path.split(plain)
        name = slashed.join(folder, system.shortened(last, f"_{number}"))
        number += 1
    named.add(name.casefold())
    return name
