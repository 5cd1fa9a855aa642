"""Warnings of a rule file, and its examples."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from math import inf
from typing import NamedTuple

from frugal_sorter.filesystem.record import EntryKind, FileRecord, Identity, Place, Unknown, is_inside, place_of
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.platforms import disk, slashed, system
from frugal_sorter.rules.fields import FIELDS, Fact, Facts, World, depth_below
from frugal_sorter.rules.keys import KEYS, REMOVALS
from frugal_sorter.rules.model import Example, Rule, RuleBook
from frugal_sorter.rules.overlap import Overlap
from frugal_sorter.rules.placing import target_folder, wanted_place
from frugal_sorter.rules.templates import EXTRAS, PLACEHOLDER_FIELDS, Filling, Missing, Slot
from frugal_sorter.rules.tree import Code, Leaf, Negation, captures_of
from frugal_sorter.rules.units import InvalidValue, nearest, parse_duration, parse_moment, parse_size, parse_span
from frugal_sorter.values import replace

_NOT_SAID = Unknown("the example does not say")
# What follows from the name and the place.
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
            if got != wanted_of(example):
                failed.append(Failed(rule, example, got))
    return failed


def wanted_of(example: Example) -> str:
    """Return what must come of an example, as `run_example` says it."""
    where = [example.becomes or "left alone"] if example.says_where else []
    return "; ".join([*where, *([_does_text(example.does)] if example.does else []), *_tags_text(example, example.tags)])


def _does_text(does: Iterable[str]) -> str:
    return f"does {', '.join(does)}"


def _tags_text(example: Example, tags: Iterable[str]) -> list[str]:
    return [f"tags {', '.join(sorted(tags))}"] if example.tags else []


def example_facts(book: RuleBook, rule: Rule, given: Mapping[str, object], world: World) -> Facts:
    """Return the facts of an entry as an example gives them.

    Raises:
        InvalidValue: a fact makes no sense.
    """
    base = rule.folders[0]
    below = str(given.get("folder", ""))
    kind: EntryKind = "folder" if rule.take == "folders" else "file"
    identity = Identity(kind, 0, 0, 0, world.now_ns)
    place = Place(slashed.normpath(slashed.join(base, below)), str(given["name"]))
    record = FileRecord(place, identity, world.now_ns, world.now_ns, 0o644, 1, 0, 0, 0)
    known: dict[str, Fact] = {name: _NOT_SAID for name in FIELDS if name not in _TOLD_BY_NAME}
    for name, value in given.items():
        if name in ("name", "folder"):
            continue
        if name not in FIELDS:
            raise InvalidValue(f"unknown field `{name}` in `given`", nearest(name, FIELDS) or "see `frugal help conditions`")
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
    """Return what becomes of an example, as far as it says what must: a path below `in`, what is done; or why nothing is."""
    try:
        facts = example_facts(book, rule, example.given, world)
        if example.when:
            facts = replace(facts, world=replace(world, now_ns=parse_moment(example.when, world.now_ns)))
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
        return "left alone" if truth is False else f"undecided: {_why_unknown(rule, facts)}"
    found = [_place_text(book, rule, example, facts)] if example.says_where else []
    if example.does:
        extras = [key for key, one in KEYS.items() if one.extra and getattr(rule.extras, key, None)]
        keys = [*([rule.ending] if rule.ending is not None else []), *(["rename"] if rule.rename is not None else []), *extras]
        found.append(_does_text(example.does if set(example.does) <= set(keys) else keys))
    if example.tags:
        filling = Filling(book.type_folders, captures_of(rule.where, facts), rule.kinds)
        filled = [one.fill(facts, filling) for one in (*rule.extras.tag, *rule.extras.retag)]
        found += _tags_text(example, [one.reason if isinstance(one, Missing) else one for one in filled])
    return "; ".join(found)


def _place_text(book: RuleBook, rule: Rule, example: Example, facts: Facts) -> str:
    if rule.ending in (None, "leave"):
        return "left alone"
    if rule.ending == "duplicates":
        return "left alone"  # of what others hold the example says nothing
    if rule.ending in ("trash", "delete"):
        return "removed"
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


class Warned(NamedTuple):
    """A warning: which rule, what about it, and what is probably meant."""

    rule: Rule
    message: str
    hint: str


def warnings_of(book: RuleBook, world: World) -> list[Warned]:
    """Return the warnings about the rules of a book, in their order."""
    found = []
    reach = _Reach(book.rules)
    overlap = Overlap(book.types, world.now_ns)
    for index, rule in enumerate(book.rules):
        found += list(_dead(rule, index, reach, overlap))
        found += list(_to_and_fro(book, rule, index, reach, world))
        found += list(_taken_away(book, rule, index, reach, world))
        found += list(_removed_from(book, rule, index, reach, world))
        found += list(_ageing(rule, index, reach))
        found += list(_taken_apart(rule))
        found += list(slips(rule, overlap))
        found += list(_not_once(book, rule, world))
        found += list(_no_such_names(book, rule))
    return found


class _Reach:
    """Which rules act where another one moves what it takes; known by folder, since there may be thousands.

    Args:
        rules: all of a file.
    """

    # At most this many pairs of rules are checked; that is thousands of rules, each with thousands of others in reach.
    MOST_PAIRS = 2_000_000
    # For at most this many pairs it is checked if one rule takes everything that the other matches: all pairs of 100 rules.
    MOST_ASKED = 5_000

    def __init__(self, rules: Sequence[Rule]) -> None:
        self.rules = rules
        self._asked = 0
        acting: dict[str, list[tuple[float, int]]] = {}
        for index, rule in enumerate(rules):
            for folder in rule.folders:
                acting.setdefault(folder, []).append((-(rule.levels or inf), index))
        # Those that reach deepest come first.
        self._acting = {folder: sorted(found) for folder, found in acting.items()}
        self._everything = [index for index, rule in enumerate(rules) if _is_everything(rule)]
        self._alike: dict[tuple[str, str, str], int] = {}
        for index, rule in enumerate(rules):
            if rule.ending is not None:
                for folder in rule.folders:
                    self._alike.setdefault((folder, rule.take, rule.where_text), index)
        self.goes_to: list[frozenset[int]] = []
        self.comes_from: dict[int, list[int]] = {}
        pairs = 0
        for index, rule in enumerate(rules):
            reached = self._reached(rule) if pairs < self.MOST_PAIRS else frozenset[int]()
            pairs += len(reached)
            self.goes_to.append(reached)
            for other in reached:
                self.comes_from.setdefault(other, []).append(index)

    def _reached(self, rule: Rule) -> frozenset[int]:
        found: set[int] = set()
        for folder, below in _targets(rule):
            above, depth = folder, 1 + below
            while True:
                for levels, index in self._acting.get(above, ()):
                    if -levels < depth:
                        break
                    found.add(index)
                if slashed.is_top(above):
                    break
                above, depth = os.path.dirname(above), depth + 1
        return frozenset(found)

    def asked_before(self, index: int) -> Iterator[Rule]:
        """Yield the rules above one, as far as there are not too many: those that take everything, or the same, first."""
        first = [at for at in self._everything if at < index]
        alike = self.deciding_alike(index)
        yield from (self.rules[at] for at in first)
        if alike is not None:
            yield alike
        if self._asked + index <= self.MOST_ASKED:
            self._asked += index
            yield from (self.rules[at] for at in range(index) if at not in first and self.rules[at] is not alike)

    def deciding_alike(self, index: int) -> Rule | None:
        """Return the first rule above one that claims, of the same entries, what it matches."""
        rule = self.rules[index]
        found = [self._alike.get((folder, rule.take, rule.where_text), index) for folder in rule.folders]
        return self.rules[min(found)] if found and min(found) < index else None


def _sees(rule: Rule, folder: str, below: int = 0) -> bool:
    """Return True if a rule acts on what is in a folder, or that many levels below it."""
    for own in rule.folders:
        if is_inside(folder, own) and (rule.levels is None or depth_below(own, folder) + below <= rule.levels):
            return True
    return False


def _is_everything(rule: Rule) -> bool:
    return rule.ending is not None and isinstance(rule.where, Leaf) and rule.where.on.name == "everything"


def _takes_it_all_from(above: Rule, rule: Rule) -> bool:
    """Return True if a rule is asked about every entry that another one is asked about."""
    if above.ending is None or above.take not in (rule.take, "items") or (rule.hidden and not above.hidden):
        return False
    deepest = None if rule.levels is None else rule.levels - 1
    if deepest is None:
        return above.levels is None and all(_sees(above, folder) for folder in rule.folders)
    return all(_sees(above, folder, deepest) for folder in rule.folders)


def _dead(rule: Rule, index: int, reach: _Reach, overlap: Overlap) -> Iterator[Warned]:
    """Warn of a rule that can never match, or never gets what it matches."""
    if not overlap.can_hold(rule):
        tests = overlap.contradiction(rule)
        what = "its tests contradict each other"
        if len(tests) == 1:
            what = f"`{tests[0]}` is never true here"
        elif tests:
            what = f"`{tests[0]}` and `{tests[1]}` contradict each other"
        hidden = not rule.hidden and any("hidden" in test for test in tests)
        yield Warned(rule, f"this rule can never match: {what}", "add hidden = true" if hidden else "did you mean `or`?")
        return
    above = [other for other in reach.asked_before(index) if _takes_it_all_from(other, rule)]
    for other in above:
        if overlap.is_covered(rule, [other]):
            what = "everything" if _is_everything(other) else "everything this rule matches"
            yield Warned(rule, f'{_idle(rule)}: rule "{other.name}" above handles {what}', "put it above that rule")
            return
    if len(above) > 1 and overlap.is_covered(rule, above):
        what = f"{_idle(rule)}: the rules above handle everything it matches"
        yield Warned(rule, what, "move this rule above them")


def _idle(rule: Rule) -> str:
    # Extras reach only what no rule above has claimed.
    return "this rule's extras never run" if rule.ending is None else "this rule never acts"


def _targets(rule: Rule) -> list[tuple[str, int]]:
    """Return, for each `in`, the fixed part of the target, and how many levels below it entries go."""
    if rule.move is None:
        return []
    segments = rule.move.segments
    head = rule.move.head
    bases = (rule.move.top,) if rule.move.absolute else rule.folders
    below = sum(1 + sum(part.codes.count("/") for part in parts if isinstance(part, Slot)) for parts in segments)
    return [(slashed.normpath(slashed.join(base, *head)), below - len(head)) for base in bases]


def _are_apart(one: Rule, other: Rule) -> bool:
    return not set(one.folders) & set(other.folders)


def _to_and_fro(book: RuleBook, rule: Rule, index: int, reach: _Reach, world: World) -> Iterator[Warned]:
    for at in sorted(reach.goes_to[index]):
        above = book.rules[at]
        if at >= index:
            return
        if _are_apart(rule, above) and index in reach.goes_to[at] and _may_both_hold(book, rule, above, world):
            yield Warned(
                rule, f'this rule and "{above.name}" move files back and forth', ("exclude one target folder from the other rule")
            )


def _taken_away(book: RuleBook, rule: Rule, index: int, reach: _Reach, world: World) -> Iterator[Warned]:
    for at in sorted(reach.goes_to[index]):
        other = book.rules[at]
        claims_first = index < at and index in reach.goes_to[index]  # then what it moved is at home
        passed = at < index and all(_sees(other, folder) for folder in rule.folders)  # it did not match before
        back = index in reach.goes_to[at] and _are_apart(rule, other)
        if other is rule or other.ending in (None, "leave", *REMOVALS) or claims_first or passed or back or _is_aged(other):
            continue
        if _may_both_hold(book, rule, other, world):
            what = f'on the next run, rule "{other.name}" moves these files again'
            yield Warned(rule, what, "move them straight to that folder, or exclude this rule's target from that rule")
            return


def _removed_from(book: RuleBook, rule: Rule, index: int, reach: _Reach, world: World) -> Iterator[Warned]:
    """Warn of a rule that takes away at the next run what this one has put into its target."""
    if rule.ending != "move":
        return
    for at in sorted(reach.goes_to[index]):
        other = book.rules[at]
        removes = other.ending in REMOVALS and other is not rule and not _is_aged(other)
        if removes and _are_apart(rule, other) and _may_both_hold(book, rule, other, world):
            what = f'on the next run, rule "{other.name}" removes the files this rule moves'
            yield Warned(rule, what, "add an age test to that rule, or exclude this rule's target from it")
            return


def _is_aged(rule: Rule, *fields: str) -> bool:
    """Return True if a rule waits for an age, of one of some fields or of any date."""
    aged = [leaf for leaf in rule.where.leaves() if leaf.on.kind == "date" and "older than" in leaf.text]
    return any(not fields or leaf.on.name in fields for leaf in aged)


def _may_both_hold(book: RuleBook, one: Rule, other: Rule, world: World) -> bool:
    """Return True if some suffix lets both conditions be true, as far as a suffix tells."""
    for suffix in {"", *book.types}:
        known = {"ext": suffix, "type": book.types.get(suffix, "other")}
        code = Code(world.now_ns, possible=True, known=known)
        if "False" not in (one.where.source(True, code), other.where.source(True, code)):
            return True
    return False


def _ageing(rule: Rule, index: int, reach: _Reach) -> Iterator[Warned]:
    if not _is_aged(rule, "modified"):
        return
    for at in reach.comes_from.get(index, ()):
        other = reach.rules[at]
        if other is not rule and _are_apart(rule, other):
            what = f'rule "{other.name}" moves old files here, and they keep their `modified` date'
            yield Warned(rule, what, "did you mean `arrived` or `latest`?")
            return


def _taken_apart(rule: Rule) -> Iterator[Warned]:
    relative = rule.move is not None and not rule.move.absolute
    if rule.levels is None and rule.take == "files" and relative:
        what = "this rule moves files out of every subfolder and splits up folders that belong together"
        yield Warned(rule, what, "limit `levels`, or add a `leave` rule above it")


def slips(rule: Rule, overlap: Overlap) -> Iterator[Warned]:
    """Warn of what is valid and almost never meant."""
    removes = rule.ending in REMOVALS
    if removes and not rule.keep and not _is_everything(rule) and not overlap.can_hold(replace(rule, where=Negation(rule.where))):
        yield Warned(rule, "this rule matches every file, and removes it", "did you mean `and`? For all files, use `everything`")
    if rule.take == "folders" and any(leaf.on.name == "ext" for leaf in rule.where.leaves()):
        yield Warned(rule, "it takes folders, and folders rarely have an extension", "test `name`, or remove take")
    targets = [*rule.targets, *([rule.rename] if rule.rename is not None else [])]
    for target in targets:
        codes = [part.codes for parts in target.segments for part in parts if isinstance(part, Slot)]
        if any("%M" in one and "%H" not in one for one in codes):
            yield Warned(rule, f'`%M` in "{target.text}" is the minute', "use `%m` for the month")
        if target.text in (*PLACEHOLDER_FIELDS, *EXTRAS, "year", "month", "date"):
            hint = f"did you mean {{{target.text}}}?" if target.text not in ("year", "month", "date") else "use {modified:%Y}"
            yield Warned(rule, f'all files go to one folder, called "{target.text}"', hint)
    program = rule.extras.run[0].text if rule.extras.run else ""
    if program and "{" not in program:
        from shutil import which  # it loads three libraries for archives

        if which(program) is None:
            yield Warned(rule, f"the program `{program}` is not on this machine", "install it, or write its full path")


def _no_such_names(book: RuleBook, rule: Rule) -> Iterator[Warned]:
    """Name what a target says itself, and what Windows or the volume of the target cannot hold."""
    targets = [*rule.targets, *([rule.rename] if rule.rename is not None else [])]
    if "windows" in (book.systems or (system.NAME,)):
        why = "choose another name; the file is for Windows" if book.systems else "choose another name"
        for target in targets:
            for segment in target.segments:
                written = "".join(part for part in segment if isinstance(part, str))
                # What is in braces is made safe, so that it ends nothing, and is not a device alone.
                whole = written if all(isinstance(part, str) for part in segment) else written.rstrip(". ")
                if whole.strip(".") and (told := system.windows_refuses(whole)):
                    yield Warned(rule, f'the folder or file name in "{target.text}" is not allowed: {told}', why)
                    break
        return
    for folder, _ in _targets(rule):
        existing = folder
        while not disk.isdir(existing) and not slashed.is_top(existing):
            existing = os.path.dirname(existing)
        volume = volume_of(disk.stat(existing).st_dev, existing)
        for name in folder[len(existing) :].split("/"):
            if name and (told := volume.illegal(name)):
                yield Warned(rule, f"cannot create {folder}: {told}", "choose another name")
                break


def _not_once(book: RuleBook, rule: Rule, world: World) -> Iterator[Warned]:
    for example in rule.examples:
        again = does_it_again(book, rule, example, world)
        if again is not None:
            yield Warned(
                rule,
                f"the next run moves the example's result again, to {again}",
                ("do not build the target from the file's current folder"),
            )
            return
