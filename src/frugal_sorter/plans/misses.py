"""The nearest misses of a rule that matches nothing: what only just failed, and by how much."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from typing import NamedTuple

from frugal_sorter.files.record import Place
from frugal_sorter.files.status import look
from frugal_sorter.plans.guard import never_entered
from frugal_sorter.rules.book import Rule, RuleBook
from frugal_sorter.rules.condition import Leaf, Negation, Node, Several, Truth, will_match_at
from frugal_sorter.rules.fields import NAME_COST, Facts, World, fold

# Entries that are looked at for a hint, for all rules of a book together.
_LOOKED_AT = 2_000
_SOON_NS = 14 * 86_400_000_000_000


class Miss(NamedTuple):
    """An entry that a rule only just misses, and what it misses by; `when_ns` if only time is missing."""

    place: Place
    why: str
    when_ns: int | None = None


def nearest_misses(book: RuleBook, idle: Sequence[Rule], world: World, most: int = 3) -> dict[str, list[Miss]]:
    """Return, by rule, entries that only one test keeps from matching, and that one only just.

    Args:
        book: the rules.
        idle: those that match nothing.
        world: the moment, and what else is not in the entries.
        most: how many are wanted for a rule. In all only some 2,000 entries are looked at.
    """
    share = max(_LOOKED_AT // max(len(idle), 1), 50)
    seen: dict[tuple[tuple[str, ...], int | None, bool], list[Facts]] = {}
    found = {}
    for rule in idle:
        if rule.take == "folders" or any(leaf.on.cost > 5 for leaf in rule.where.leaves()):
            continue  # what is dear is not read only for a hint
        where = (rule.folders, rule.levels, rule.hidden)
        if where not in seen:
            seen[where] = _facts(book, rule, world, share)
        if misses := _misses(rule, seen[where], most):
            found[rule.name] = misses
    return found


def _facts(book: RuleBook, rule: Rule, world: World, most: int) -> list[Facts]:
    found = []
    for place, base in _entries(rule, most):
        try:
            found.append(Facts(look(place), base, book.types, world))
        except OSError:
            continue
    return found


def _misses(rule: Rule, entries: Sequence[Facts], most: int) -> list[Miss]:
    found: list[Miss] = []
    for facts in entries:
        if rule.where.test(facts) is True:
            continue  # an earlier rule has it
        miss = _miss(rule, facts)
        if miss is not None:
            found.append(miss)
        if len(found) >= most:
            break
    return found


def _entries(rule: Rule, most: int) -> list[tuple[Place, str]]:
    found: list[tuple[Place, str]] = []
    todo = [(os.path.realpath(folder), os.path.realpath(folder), 1) for folder in reversed(rule.folders)]
    while todo and len(found) < most:
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
    return found[:most]


def _miss(rule: Rule, facts: Facts) -> Miss | None:
    place = facts.record.place
    dated = False
    for leaf in rule.where.leaves():
        dated = dated or leaf.check.changes is not None
        if leaf.on.kind == "text" and leaf.on.cost <= NAME_COST and _reads_alike(leaf, facts):
            why = f"`{leaf.text}` fails by a space, a mark or a letter of another case"
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
    return Miss(place, "only its age is missing", will_match_at(rule.where, facts))


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
    squashed = _squash(str(value))
    for wanted in _pieces(leaf.text):
        at = 0
        for piece in wanted:
            at = squashed.find(piece, at)
            if at < 0:
                break
            at += len(piece)
        else:
            return True
    return False


@lru_cache(maxsize=200)
def _pieces(text: str) -> tuple[tuple[str, ...], ...]:
    """Return the letters and digits of each value in a test, cut at its wildcards and placeholders."""
    written = re.findall(r'"((?:[^"]|"")*)"|\'((?:[^\']|\'\')*)\'', text)
    values = [one or other for one, other in written] or text.split()[-1:]
    cut = (tuple(filter(None, map(_squash, re.split(r"[*?]+|\{[^}]*\}", value)))) for value in values)
    return tuple(pieces for pieces in cut if sum(map(len, pieces)) >= 3)


def _nearly(leaf: Leaf, facts: Facts) -> str:
    value = leaf.value(facts)
    bounds = leaf.check.at(facts.world.now_ns).constants
    if not isinstance(value, int) or not bounds or not isinstance(bounds[0], (int, float)):
        return ""
    if abs(value - bounds[0]) <= 0.2 * bounds[0]:
        return f"`{leaf.text}` fails at {value:,} bytes"
    return ""
