"""What is at home already, and moves without anything else, planned by the folder."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from typing import NamedTuple

from frugal_sorter.filesystem.record import Listing, Place
from frugal_sorter.filesystem.status import record_in
from frugal_sorter.filesystem.volumes import mount_at, volume_of
from frugal_sorter.planning.matched import Destinations, Kept, step_of
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import Scope
from frugal_sorter.planning.targets import Names
from frugal_sorter.rules.conditions.matcher import Hits
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates.placing import Alike, Placing
from frugal_sorter.steps.step import NONE, Count
from frugal_sorter.values import field, mutable


@mutable
class Settled:
    """How many files were done with, and the rules that claimed them, by index."""

    at_home: Count = NONE
    kept: Count = NONE
    rules: set[int] = field(default_factory=set)

    def add(self, other: Settled) -> None:
        """Take in what another process settled."""
        self.at_home |= other.at_home
        self.kept |= other.kept
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
        settled.at_home |= Count(at_home)
        settled.kept |= Count(kept)
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
        self, rules: tuple[Rule, ...], placing: Placing, destinations: Destinations, names: Names, plan: Plan,
        hold_back: Callable[[int, Rule, Facts], None],
    ) -> None:  # fmt: skip
        self._rules, self._placing, self._destinations = rules, placing, destinations
        self._names, self._plan, self._hold_back = names, plan, hold_back
        self._plain = frozenset(index for index in placing.plain if rules[index].clash == "number")
        self._routes: dict[Hashable, _Route | None] = {}

    def add(self, index: int, facts: Facts) -> bool:
        """Plan the move of an entry by the rule of an index; return False, with nothing planned, where it is not plain."""
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
        try:
            self._hold_back(index, rule, facts)
        except Kept:
            return False
        self._plan.matched.add(rule.name)
        self._plan.add_group([step_of(rule, "move", place, self._names.take(target), identity)])
        return True

    def _route(self, index: int, key: Hashable, facts: Facts) -> _Route | None:
        folder = self._placing.known.get(key) or self._placing.learn(index, key, facts)
        folders = self._destinations.folders
        if not isinstance(folder, str) or folders.ignores_case(folder):
            return None
        try:
            self._destinations.usable(folder, facts.base)
        except Kept:
            return None
        there = folders.existing(folder)
        lasts = volume_of(folders.device(folder), there).inodes_last
        return _Route(folder, mount_at(there), there == folder) if lasts else None
