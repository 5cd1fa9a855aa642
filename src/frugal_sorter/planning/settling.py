"""Files that a walk has done with, by what its columns say: those at home, and those that an exception keeps.

A nightly run finds little else. What is settled here is what `endings` would have made of these files one by one.
"""

from __future__ import annotations

from collections.abc import Hashable, Sequence

from frugal_sorter.filesystem.record import Listing
from frugal_sorter.filesystem.status import record_in
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.planning.scope import Scope
from frugal_sorter.rules.conditions.matcher import Hits
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.templates.placing import Alike, Placing
from frugal_sorter.steps.count import NONE, Count
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
        """Tell whether sizes and times of files decide where some of the rules want them."""
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
