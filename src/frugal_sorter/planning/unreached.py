"""Rules that match entries which are there now, and get none of them."""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple

from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.planning.deciding import Deciding, Sight
from frugal_sorter.planning.misses import entries_of
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.model import Rule, RuleBook

# So many entries of each rule are looked at, and so many tests made in all.
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

    What is dear to read is not read for it.
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
