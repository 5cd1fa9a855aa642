"""Why a rule matches an entry, or does not, or when it will."""

from __future__ import annotations

import os
from dataclasses import dataclass
from typing import NamedTuple

from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import Place, is_inside
from frugal_sorter.files.status import look
from frugal_sorter.plans.guard import refused_folder
from frugal_sorter.rules.book import Rule, RuleBook
from frugal_sorter.rules.condition import Leaf, Truth, captures_of, tests_of, will_match_at
from frugal_sorter.rules.fields import Fact, Facts, World, depth_below, holder_of
from frugal_sorter.rules.patterns import Filling, Missing
from frugal_sorter.rules.placing import target_folder, wanted_place


class Tested(NamedTuple):
    """One test as written: the answer, the value that was found, who has the file open if that was asked."""

    text: str
    leaf: Leaf
    truth: Truth
    value: Fact
    holder: str | None


@dataclass(frozen=True)
class Explained:
    """What one rule says of an entry.

    Args:
        rule: the rule.
        elsewhere: why it does not act on this entry at all; then nothing else is said.
        truth: whether its condition holds.
        tests: each test of it, in the order of the text.
        decides: it is the first rule that matches.
        target: where it wants the entry to be, or why it has no place for it.
        when_ns: when it will match if nobody touches the entry, None if time does not change that.
    """

    rule: Rule
    elsewhere: str = ""
    truth: Truth = None
    tests: tuple[Tested, ...] = ()
    decides: bool = False
    target: str = ""
    when_ns: int | None = None


def explain_entry(book: RuleBook, path: str, world: World) -> list[Explained]:
    """Say for each rule, in order, what it makes of one entry.

    Args:
        book: the rules.
        path: an absolute path, its folder without symbolic links.
        world: the moment, and what else is not in the entry.

    Raises:
        OSError: there is no such entry.
    """
    record = look(Place(*os.path.split(path)))
    inside = look_inside(path) if record.identity.kind == "folder" else None
    explained = []
    decided = False
    for rule in book.rules:
        base, elsewhere = _base_for(rule, record.place, record.identity.kind)
        if path == os.path.realpath(book.file):
            elsewhere = "the rule file itself is never touched"
        if elsewhere:
            explained.append(Explained(rule, elsewhere))
            continue
        facts = Facts(record, base, book.types, world, inside)
        truth = rule.where.test(facts)
        tests = tuple(_tested(*test, facts) for test in tests_of(rule.where))
        decides = truth is True and not decided and rule.ending is not None
        decided = decided or decides
        target = _target(book, rule, facts) if truth is True else ""
        when_ns = None if truth is True else will_match_at(rule.where, facts)
        explained.append(Explained(rule, "", truth, tests, decides, target, when_ns))
    world.contents.close()
    return explained


def _tested(text: str, leaf: Leaf, turned: bool, facts: Facts) -> Tested:
    holder = holder_of(facts) if leaf.on.name == "in use" else None
    truth = leaf.test(facts)
    return Tested(text, leaf, (not truth) if turned and truth is not None else truth, leaf.value(facts), holder)


def _target(book: RuleBook, rule: Rule, facts: Facts) -> str:
    words = {"leave": "left where it is", "trash": "to the trash", "delete": "deleted for good"}
    if rule.ending is None:
        return "goes on to the next rule, with its extras"
    if rule.duplicates is not None:
        return f"where others hold the same one stays, the rest: {rule.duplicates.do}"
    if rule.ending in words:
        return words[rule.ending]
    target = rule.pack or rule.unpack
    if target is not None:
        filled = target.fill(facts, Filling(book.type_folders, captures_of(rule.where, facts), rule.kinds))
        into = (
            filled.reason
            if isinstance(filled, Missing)
            else target_folder(target, filled, facts.base, os.path.realpath)
        )
        return f"{rule.ending}ed into {into}"
    wanted = wanted_place(book, rule, facts, os.path.realpath)
    return wanted.reason if isinstance(wanted, Missing) else wanted.place.path


def _base_for(rule: Rule, place: Place, kind: str) -> tuple[str, str]:
    """Return the nearest `in` from which a rule sees an entry, or why it sees it from none."""
    takes = {"files": ("file",), "folders": ("folder",), "items": ("file", "folder")}[rule.take]
    if kind not in takes:
        return "", f"the rule takes {rule.take}"
    reasons = []
    for folder in sorted(map(os.path.realpath, rule.folders), key=len, reverse=True):
        if not is_inside(place.folder, folder):
            reasons.append("the rule acts in other folders")
            continue
        depth = depth_below(folder, place.folder)
        parts = [*place.folder[len(folder) :].strip("/").split("/"), place.name]
        if refused := refused_folder(folder):
            reasons.append(f"{folder} is {refused}")
        elif rule.levels is not None and depth > rule.levels:
            reasons.append(f"the rule goes {rule.levels} deep, and this is {depth} deep")
        elif not rule.hidden and any(part.startswith(".") for part in parts):
            reasons.append("the rule leaves hidden entries out")
        else:
            return folder, ""
    return "", min(reasons, key=lambda reason: reason == "the rule acts in other folders")


def rules_acting_in(book: RuleBook, folder: str) -> list[tuple[Rule, str]]:
    """Return the rules that see the files directly in a folder, each with its `in`."""
    probe = Place(folder, "x")
    found = []
    for rule in book.rules:
        base, elsewhere = _base_for(rule, probe, "folder" if rule.take == "folders" else "file")
        if not elsewhere:
            found.append((rule, base))
    return found
