"""The nearest misses of a rule that matches nothing: what only just failed, and by how much."""

from __future__ import annotations

import os
import re
from typing import NamedTuple

from frugal_sorter.files.record import Place
from frugal_sorter.files.status import look
from frugal_sorter.plans.guard import never_entered
from frugal_sorter.rules.book import Rule, RuleBook
from frugal_sorter.rules.condition import Leaf, Negation, Node, Several, Truth, will_match_at
from frugal_sorter.rules.fields import NAME_COST, Facts, World, fold

_LOOKED_AT = 2_000
_SOON_NS = 14 * 86_400_000_000_000


class Miss(NamedTuple):
    """An entry that a rule only just misses, and what it misses by; `when_ns` if only time is missing."""

    place: Place
    why: str
    when_ns: int | None = None


def nearest_misses(book: RuleBook, rule: Rule, world: World, most: int = 3) -> list[Miss]:
    """Return entries that only one test keeps from matching, and that one only just.

    Args:
        book: the rules.
        rule: one that matches nothing.
        world: the moment, and what else is not in the entries.
        most: how many are wanted; only the first 2,000 entries are looked at.
    """
    found: list[Miss] = []
    if rule.take == "folders" or any(leaf.on.cost > 5 for leaf in rule.where.leaves()):
        return found  # what is dear is not read only for a hint
    for place, base in _entries(rule):
        try:
            facts = Facts(look(place), base, book.types, world)
        except OSError:
            continue
        if rule.where.test(facts) is True:
            continue  # an earlier rule has it
        miss = _miss(rule, facts)
        if miss is not None:
            found.append(miss)
        if len(found) >= most:
            break
    return found


def _entries(rule: Rule) -> list[tuple[Place, str]]:
    found: list[tuple[Place, str]] = []
    todo = [(os.path.realpath(folder), os.path.realpath(folder), 1) for folder in reversed(rule.folders)]
    while todo and len(found) < _LOOKED_AT:
        base, folder, depth = todo.pop()
        try:
            with os.scandir(folder) as entries:
                for entry in sorted(entries, key=lambda one: one.name):
                    if (entry.name[0] == "." and not rule.hidden) or never_entered(entry.path, entry.name):
                        continue
                    if entry.is_file(follow_symlinks=False):
                        found.append((Place(folder, entry.name), base))
                    elif entry.is_dir(follow_symlinks=False) and (rule.levels is None or depth < rule.levels):
                        todo.append((base, entry.path, depth + 1))
        except OSError:
            continue
    return found[:_LOOKED_AT]


def _miss(rule: Rule, facts: Facts) -> Miss | None:
    place = facts.record.place
    for leaf in rule.where.leaves():
        truth = leaf.test(facts)
        if truth is None or _with_flipped(rule.where, facts, leaf) is not True:
            continue
        if leaf.on.kind in ("text", "word") and leaf.on.cost <= NAME_COST and _reads_alike(leaf, facts):
            return Miss(place, f"`{leaf.text}` fails by a space, a mark or a letter of another case")
        if leaf.on.kind == "size" and (why := _nearly(leaf, facts)):
            return Miss(place, why)
    when_ns = will_match_at(rule.where, facts)
    if when_ns is not None and when_ns - facts.world.now_ns <= _SOON_NS:
        return Miss(place, "only its age is missing", when_ns)
    return None


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


def _squash(text: str) -> str:
    return re.sub(r"[\s_.\-]+", "", fold(text))


def _reads_alike(leaf: Leaf, facts: Facts) -> bool:
    value = leaf.value(facts)
    written = re.findall(r'"((?:[^"]|"")*)"|\'((?:[^\']|\'\')*)\'', leaf.text)
    bare = leaf.text.split()[-1] if not written else ""
    for text in [one or other for one, other in written] + ([bare] if bare else []):
        pieces = [_squash(piece) for piece in re.split(r"[*?]+|\{[^}]*\}", text)]
        squashed, at = _squash(str(value)), 0
        wanted = [piece for piece in pieces if piece]
        for piece in wanted:
            at = squashed.find(piece, at)
            if at < 0:
                break
            at += len(piece)
        else:
            if sum(map(len, wanted)) >= 3:
                return True
    return False


def _nearly(leaf: Leaf, facts: Facts) -> str:
    value = leaf.value(facts)
    bounds = leaf.check.at(facts.world.now_ns).constants
    if not isinstance(value, int) or not bounds or not isinstance(bounds[0], (int, float)):
        return ""
    if abs(value - bounds[0]) <= 0.2 * bounds[0]:
        return f"`{leaf.text}` fails at {value:,} bytes"
    return ""
