"""The nearest misses: what a rule would take if little were different, and what nothing reaches."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import NamedTuple

from frugal_sorter.filesystem.record import Listing, Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.walk import walk
from frugal_sorter.planning.sight import Deciding, Sight
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.rules.fields import NAME_COST, Facts, World
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.tree import Leaf, Negation, Node, Several, Truth
from frugal_sorter.trash.bins import never_entered
from frugal_sorter.values import replace

# The limits: entries checked for each rule, and tests in all.
_LOOKED_AT = 500
_TESTS = 200_000
# Fewer may be chance.
_FEWEST = 3
_DEAREST = 5


class Unreached(NamedTuple):
    """A rule, how many entries it matches now, and the rule above that has most of them."""

    rule: Rule
    entries: int
    above: Rule


def unreached(book: RuleBook, world: World) -> list[Unreached]:
    """Return the rules all of whose entries go to rules above, as far as a sample of what is there shows.

    What takes long to read is not read for it.
    """
    if any(leaf.on.cost > _DEAREST for rule in book.rules for leaf in rule.where.leaves()):
        return []
    deciding: dict[Place, Deciding] = {}
    sight = Sight(book, world)
    most = min(_LOOKED_AT, _TESTS // max(len(book.rules) ** 2, 1))
    found = []
    for index, rule in enumerate(book.rules):
        if index == 0 or rule.take == "folders":
            continue
        takers: Counter[str] = Counter()
        gets_some = False
        for place, _ in entries_of(rule, most):
            if place not in deciding:
                try:
                    deciding[place] = sight.of(look(place))
                except OSError:
                    continue
            facts = deciding[place].facts.get(rule.name)
            if facts is None or rule.where.test(facts) is not True:
                continue
            above = deciding[place].above(rule)
            if above is None:
                gets_some = True
                break
            takers[above.name] += 1
        if not gets_some and takers.total() >= _FEWEST:
            (name, _), *_ = takers.most_common(1)
            found.append(Unreached(rule, takers.total(), next(one for one in book.rules if one.name == name)))
    return found


# Entries that are looked at for a hint, for all rules of a book together.
_SHOWN_OF_EACH = 2_000
_SOON_NS = 14 * 86_400_000_000_000


# Entries for which all rules are asked.
_DECIDED = 300
# A name that fits this many letters of a pattern may be meant by it.
_ENOUGH_READ = 4


class Miss(NamedTuple):
    """An entry that a rule only just misses, and what it misses by.

    Args:
        place: the entry.
        why: what it misses by.
        waits: only time is missing.
        when_ns: the moment at which the rule will then act on it, in ns since the epoch.
    """

    place: Place
    why: str
    waits: bool = False
    when_ns: int | None = None


def nearest_misses(book: RuleBook, idle: Sequence[Rule], world: World, most: int = 3) -> dict[str, list[Miss]]:
    """Return, by rule, entries that only one test keeps from matching, and that one only just.

    Args:
        book: the rules.
        idle: those that match nothing.
        world: the moment, and what else is not in the entries.
        most: how many are wanted for a rule. In all only some 2,000 entries are looked at.
    """
    share = max(_SHOWN_OF_EACH // max(len(idle), 1), 50)
    seen: dict[tuple[tuple[str, ...], int | None, bool], list[Facts]] = {}
    deciding: dict[Place, Deciding] = {}
    sight = Sight(book, world)
    found = {}
    for rule in idle:
        if rule.take == "folders" or any(leaf.on.cost > 5 for leaf in rule.where.leaves()):
            continue  # what takes long to read is not read only for a hint
        where = (rule.folders, rule.levels, rule.hidden)
        if where not in seen:
            seen[where] = _facts(book, rule, world, share)
        misses: list[Miss] = []
        for facts in seen[where]:
            miss = _miss(rule, facts)
            if miss is None:
                continue
            if facts.record.place not in deciding:
                if len(deciding) >= _DECIDED:
                    break
                deciding[facts.record.place] = sight.of(facts.record)
            # A rule above could claim it first, now or by then.
            if (certain := _if_it_comes(rule, miss, deciding[facts.record.place])) is not None:
                misses.append(certain)
            if len(misses) >= most:
                break
        if misses:
            found[rule.name] = misses
    return found


def _if_it_comes(rule: Rule, miss: Miss, deciding: Deciding) -> Miss | None:
    if rule.name not in deciding.facts:
        return None
    if not miss.waits:
        return miss if deciding.above(rule) is None else None
    when_ns = deciding.will_act_at(rule)
    return None if when_ns is None else miss._replace(when_ns=when_ns)


def _facts(book: RuleBook, rule: Rule, world: World, most: int) -> list[Facts]:
    found = []
    for place, base in entries_of(rule, most):
        try:
            found.append(Facts(look(place), base, book.types, world))
        except OSError:
            continue
    return found


def entries_of(rule: Rule, most: int) -> list[tuple[Place, str]]:
    """Return the first files that a rule is asked about, each with the `in` it was found from."""
    found: list[tuple[Place, str]] = []
    todo = [(slashed.realpath(folder), slashed.realpath(folder), 1) for folder in reversed(rule.folders)]
    while todo and len(found) < most:
        base, folder, depth = todo.pop()
        try:
            with disk.scandir(folder) as entries:
                for entry in sorted(entries, key=lambda one: one.name):
                    if (entry.name[0] == "." and not rule.hidden) or never_entered(entry.path, entry.name):
                        continue
                    if entry.is_file(follow_symlinks=False):
                        found.append((Place(folder, entry.name), base))
                    elif entry.is_dir(follow_symlinks=False) and (rule.levels is None or depth < rule.levels):
                        todo.append((base, entry.path, depth + 1))
        except OSError:
            continue
    return found[:most]


def _miss(rule: Rule, facts: Facts) -> Miss | None:
    """Return what a rule only just misses of an entry, as far as the rule itself tells."""
    if rule.where.test(facts) is True:
        return None  # an earlier rule has it
    place = facts.record.place
    dated = False
    for leaf in rule.where.leaves():
        dated = dated or leaf.check.changes is not None
        if leaf.on.kind == "text" and leaf.on.cost <= NAME_COST:
            why = _by_a_letter(leaf, facts)
        elif leaf.on.kind == "size":
            why = _nearly(leaf, facts)
        else:
            continue
        if why and _with_flipped(rule.where, facts, leaf) is True:
            return Miss(place, why)
    if not dated:
        return None
    soon = replace(facts, world=replace(facts.world, now_ns=facts.world.now_ns + _SOON_NS))
    if rule.where.test(soon) is not True:
        return None
    return Miss(place, "not old enough", waits=True)


def _by_a_letter(leaf: Leaf, facts: Facts) -> str:
    """Return how a name only just fails a test, or an empty text."""
    value = str(leaf.value(facts))
    if leaf.check.alike is not None and leaf.check.alike(value):
        return f"`{leaf.text}` does not match: check spaces, punctuation and upper/lower case"
    if leaf.check.stops is None or (stopped := leaf.check.stops(value)) is None:
        return ""
    return f"`{leaf.text}`: {stopped.text}" if len(stopped.read) >= _ENOUGH_READ else ""


def _with_flipped(node: Node, facts: Facts, leaf: Leaf) -> Truth:
    """Return what a condition would say if one of its tests said the opposite."""
    if node is leaf:
        truth = leaf.test(facts)
        return None if truth is None else not truth
    if isinstance(node, Negation):
        inner = _with_flipped(node.part, facts, leaf)
        return None if inner is None else not inner
    if isinstance(node, Several):
        truths = [_with_flipped(part, facts, leaf) for part in node.parts]
        return (not node.every) if (not node.every) in truths else None if None in truths else node.every
    return node.test(facts)


def _nearly(leaf: Leaf, facts: Facts) -> str:
    value = leaf.value(facts)
    bounds = leaf.check.at(facts.world.now_ns).constants
    if not isinstance(value, int) or not bounds or not isinstance(bounds[0], (int, float)):
        return ""
    if abs(value - bounds[0]) <= 0.2 * bounds[0]:
        return f"`{leaf.text}` does not match: the file has {value:,} bytes"
    return ""


# More entries are not looked at only to say how many there are.
_MOST = 20_000


class Unseen(NamedTuple):
    """Files that were not looked at.

    Args:
        hidden: hidden ones, as deep as was looked.
        deeper: ones in subfolders that were not gone into.
        more: there are more than were counted.
    """

    hidden: int = 0
    deeper: int = 0
    more: bool = False


def unseen(levels: Mapping[str, int | None], hidden: bool) -> Unseen:
    """Count the files in some folders that were not looked at.

    Args:
        levels: the folders, resolved, each with how deep was looked, None for all levels.
        hidden: hidden files were looked at.
    """
    looked, out_of_sight, deeper = 0, 0, 0

    def descend(listing: Listing, name: str, level: int) -> int | None:
        path = slashed.join(listing.folder, name)
        return None if name[0] == "." or path in levels or never_entered(path, name) else level + 1

    for root, most in levels.items():
        with suppress(OSError):  # the plan has named what cannot be read
            for listing, level in walk(root, 1, False, descend, lambda _: None):
                looked += len(listing.names) + len(listing.folders)
                if looked > _MOST:
                    return Unseen(out_of_sight, deeper, True)
                unshown = sum(name[0] == "." for name in listing.names)
                if most is not None and level > most:
                    deeper += len(listing.names) - unshown
                elif not hidden:
                    out_of_sight += unshown
    return Unseen(out_of_sight, deeper)
