"""Examples that a technician wrote beside a rule: run without any disk, to come out as written."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from frugal_sorter.filesystem.record import FileRecord, Identity, Kind, Place, Unknown, place_of
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.conditions.tree import captures_of
from frugal_sorter.rules.fields import FIELDS, Fact, Facts, World
from frugal_sorter.rules.file.mistakes import InvalidValue, nearest
from frugal_sorter.rules.model import Example, Rule, RuleBook
from frugal_sorter.rules.templates.placing import target_folder, wanted_place
from frugal_sorter.rules.templates.written import Filling, Missing
from frugal_sorter.rules.units import parse_duration, parse_size, parse_span
from frugal_sorter.values import replace

_NOT_SAID = Unknown("the example does not say")
# What is known from the name and the place, without being said.
_TOLD_BY_NAME = frozenset({"name", "stem", "ext", "type", "path", "folder", "depth", "hidden", "everything"})


class Failed(NamedTuple):
    """An example that does not come out as written."""

    rule: Rule
    example: Example
    got: str


def run_examples(book: RuleBook, world: World) -> list[Failed]:
    """Run every example of every rule and return those that fail."""
    failed = []
    for rule in book.rules:
        for example in rule.examples:
            got = run_example(book, rule, example, world)
            wanted = "left where it is" if example.becomes is None else example.becomes
            if got != wanted:
                failed.append(Failed(rule, example, got))
    return failed


def example_facts(book: RuleBook, rule: Rule, given: Mapping[str, object], world: World) -> Facts:
    """Return the facts of an entry as an example gives them.

    Raises:
        InvalidValue: a fact makes no sense.
    """
    base = rule.folders[0]
    below = str(given.get("folder", ""))
    kind: Kind = "folder" if rule.take == "folders" else "file"
    identity = Identity(kind, 0, 0, 0, world.now_ns)
    place = Place(slashed.normpath(slashed.join(base, below)), str(given["name"]))
    record = FileRecord(place, identity, world.now_ns, world.now_ns, 0o644, 1, 0, 0, 0)
    known: dict[str, Fact] = {name: _NOT_SAID for name in FIELDS if name not in _TOLD_BY_NAME}
    for name, value in given.items():
        if name in ("name", "folder"):
            continue
        if name not in FIELDS:
            raise InvalidValue(
                f"there is no field `{name}` to give", nearest(name, FIELDS) or "see `frugal help conditions`"
            )
        known[name] = _fact(name, value, world)
    if isinstance(known["size"], int) and known["empty"] is _NOT_SAID:
        known["empty"] = known["size"] == 0
    return Facts(record, base, book.types, world, None, known)


def _fact(name: str, value: object, world: World) -> Fact:
    kind = FIELDS[name].kind
    if kind == "flag" and isinstance(value, bool):
        return value
    if kind == "texts" and isinstance(value, list):
        return tuple(map(str, value))
    if not isinstance(value, (str, int, float)) or isinstance(value, bool):
        value = str(value)
    if kind == "size":
        return parse_size(f"{value} bytes" if not isinstance(value, str) else value)
    if kind == "date":
        text = str(value)
        if text.endswith(" ago"):
            return parse_duration(text.removesuffix(" ago")).before(world.now_ns)
        return parse_span(text[:10]).bounds(world.now_ns)[0]
    return int(value) if kind == "number" else str(value)


def run_example(book: RuleBook, rule: Rule, example: Example, world: World) -> str:
    """Return what becomes of an example: a path below `in`, or why nothing does."""
    try:
        facts = example_facts(book, rule, example.given, world)
    except InvalidValue as wrong:
        return f"nothing: {wrong.message}; {wrong.hint}"
    for earlier in book.rules:
        if earlier is rule:
            break
        if earlier.ending is None:
            continue
        if earlier.folders[0] == rule.folders[0] and earlier.take == rule.take and earlier.where.test(facts) is True:
            return f'taken by the rule "{earlier.name}" above'
    truth = rule.where.test(facts)
    if truth is not True:
        return "left where it is" if truth is False else f"undecided: {_why_unknown(rule, facts)}"
    if rule.ending in (None, "leave"):
        return "left where it is"
    if rule.ending == "duplicates":
        return "left where it is"  # of what others hold the example says nothing
    if rule.ending in ("trash", "delete"):
        return "taken away"
    place = _becomes(book, rule, facts)
    if isinstance(place, Missing):
        return place.reason
    # An absolute one may be written either way; `..` leads out of the `in`.
    if example.becomes is not None and slashed.is_absolute(example.becomes):
        return place.path
    return slashed.relpath(place.path, facts.base)


def does_it_again(book: RuleBook, rule: Rule, example: Example, world: World) -> str | None:
    """Return where a rule would take the result of its own example to, if not to where it is."""
    try:
        facts = example_facts(book, rule, example.given, world)
    except InvalidValue:
        return None
    if rule.where.test(facts) is not True or rule.ending != "move" or rule.rename is not None:
        return None  # what a rule has renamed once, it knows by its journal
    place = _becomes(book, rule, facts)
    if isinstance(place, Missing) or not place.folder.startswith(facts.base + "/") or rule.levels == 1:
        return None
    known = {name: value for name, value in facts._known.items() if name not in _TOLD_BY_NAME}
    moved = replace(facts, record=facts.record._replace(place=place), _known=known)
    if rule.where.test(moved) is not True:
        return None
    again = _becomes(book, rule, moved)
    return None if isinstance(again, Missing) or again == place else again.path


def _becomes(book: RuleBook, rule: Rule, facts: Facts) -> Place | Missing:
    target = rule.pack or rule.unpack
    if target is not None:
        filled = target.fill(facts, Filling(book.type_folders, captures_of(rule.where, facts), rule.kinds))
        if isinstance(filled, Missing):
            return filled
        return place_of(target_folder(target, filled, facts.base, lambda path: path))
    wanted = wanted_place(book, rule, facts, lambda path: path)
    return wanted if isinstance(wanted, Missing) else wanted.place


def _why_unknown(rule: Rule, facts: Facts) -> str:
    for leaf in rule.where.leaves():
        value = leaf.value(facts)
        if isinstance(value, Unknown):
            return f"`{leaf.text}`: {value.reason}"
    return "a test has no answer"
