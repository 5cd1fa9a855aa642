"""Conditions as trees of surely true and surely false, and as one function."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import repeat
from typing import TYPE_CHECKING, Any

from frugal_sorter.filesystem.record import OTHER, PLAIN_SUFFIXES, Listing, Unknown, may_be_double, stem_of, suffix_of
from frugal_sorter.rules import operators
from frugal_sorter.rules.fields import (
    FIELDS,
    NAME_COST,
    STATUS_VARIABLES,
    Between,
    Fact,
    Facts,
    Field,
    fold,
    folder_name,
)
from frugal_sorter.rules.templates import CaptureKind
from frugal_sorter.values import field, frozen, mutable

if TYPE_CHECKING:
    from frugal_sorter.rules.model import RuleBook


Truth = bool | None


@mutable
class Code:
    """What source needs around it: constants by name, and the variables it reads.

    Args:
        now_ns: the moment that ages are counted from.
        possible: ask only whether a condition could hold, from the name alone.
        known: fields whose value is known beforehand, such as the suffix that is dispatched on.
        depth: the variable that holds the depth, which differs between rules.
    """

    now_ns: int
    possible: bool = False
    known: Mapping[str, object] = field(default_factory=dict)
    depth: str = "depth"
    constants: dict[str, object] = field(default_factory=dict)
    variables: set[str] = field(default_factory=set)

    def constant(self, value: object) -> str:
        """Keep a value and return the name under which source finds it."""
        name = f"k{len(self.constants)}"
        self.constants[name] = value
        return name

    def value(self, of: Field, folded: bool) -> str:
        """Return the variable or expression that holds a field of the entry in the loop."""
        if of.name == "depth":
            self.variables.add(self.depth)
            return self.depth
        if of.kind == "flag":
            self.variables.update(of.uses)
            return f"({of.source})"
        name = f"low_{of.name}" if folded else of.name
        self.variables.add(name)
        return name


class Node(ABC):
    """A condition or a part of one."""

    cost: int

    @abstractmethod
    def test(self, facts: Facts) -> Truth:
        """Return whether the condition is true of an entry; None where that is unknown."""

    @abstractmethod
    def source(self, truth: bool, code: Code) -> str:
        """Return an expression that is true exactly where the condition is surely `truth`.

        With `code.possible` it is true wherever the condition could be `truth`. Where the
        condition is unknown neither of the sure expressions holds.
        """

    @abstractmethod
    def leaves(self) -> Iterator[Leaf]:
        """Yield the tests in the order of the text."""


@frozen(slots=False)
class Several(Node):
    """Parts joined by `and` or by `or`, the cheap ones first whatever the order in the text."""

    parts: tuple[Node, ...]
    every: bool

    @cached_property
    def cost(self) -> int:  # type: ignore[override]
        return sum(part.cost for part in self.parts)

    @cached_property
    def _by_cost(self) -> list[Node]:
        return sorted(self.parts, key=lambda part: part.cost)

    def test(self, facts: Facts) -> Truth:
        decided: Truth = self.every
        for part in self._by_cost:
            truth = part.test(facts)
            if truth is (not self.every):
                return truth
            if truth is None:
                decided = None
        return decided

    def source(self, truth: bool, code: Code) -> str:
        all_needed = self.every is truth
        deciding, idle = ("False", "True") if all_needed else ("True", "False")
        parts = []
        for part in self._by_cost:
            one = part.source(truth, code)
            if one == deciding:
                return deciding
            if one != idle:
                parts.append(one)
        if not parts:
            return idle
        return "(" + (" and " if all_needed else " or ").join(parts) + ")"

    def leaves(self) -> Iterator[Leaf]:
        for part in self.parts:
            yield from part.leaves()


@frozen
class Negation(Node):
    """`not` before a condition, or before an operator."""

    part: Node

    @property
    def cost(self) -> int:  # type: ignore[override]
        return self.part.cost

    def test(self, facts: Facts) -> Truth:
        truth = self.part.test(facts)
        return None if truth is None else not truth

    def source(self, truth: bool, code: Code) -> str:
        return self.part.source(not truth, code)

    def leaves(self) -> Iterator[Leaf]:
        yield from self.part.leaves()


@frozen
class Leaf(Node):
    """One test on one field.

    Args:
        text: how it was written.
        says_not: the text holds the `not` of the negation around it, as in `name not like "*.tmp"`.
    """

    on: Field
    check: operators.Check
    text: str = ""
    says_not: bool = False

    @property
    def cost(self) -> int:  # type: ignore[override]
        return self.on.cost + self.check.cost

    def value(self, facts: Facts) -> Fact:
        """Return the value that is tested."""
        return facts(self.on.name) if self.on.name in FIELDS else self.on.get(facts)

    def test(self, facts: Facts) -> Truth:
        value = self.value(facts)
        if isinstance(value, Unknown) or (value is None and not self.check.asks_absence):
            return None
        ask = operators.asker(self.check, facts.world.now_ns)
        if isinstance(value, tuple) and not self.check.asks_absence:
            return any(ask(fold(one) if self.check.folded else one) for one in value)
        if isinstance(value, Between):
            # Of what lies in between, only what holds from end to end is known.
            first = ask(int(value))
            return first if first is ask(value.until) else None
        return ask(fold(str(value)) if self.check.folded else value)

    def source(self, truth: bool, code: Code) -> str:
        if self.on.name in code.known:
            return str(operators.asker(self.check, code.now_ns)(code.known[self.on.name]) is truth)
        if self.on.name == "everything":
            return str(truth)
        if code.possible and self.on.cost > NAME_COST:
            return "True"
        if not self.on.source:
            return f"ask(i, {code.constant(self)}) is {truth}"
        found = self.check.at(code.now_ns)
        names = {f"c{i}": code.constant(constant) for i, constant in enumerate(found.constants)}
        variable = code.value(self.on, self.check.folded)
        if code.possible and not found.decided:
            return "(not (" + (found.false if truth else found.true).format(v=variable, **names) + "))"
        return "(" + (found.true if truth else found.false).format(v=variable, **names) + ")"

    def leaves(self) -> Iterator[Leaf]:
        yield self

    def changes_at(self, facts: Facts) -> int | None:
        """Return the next moment, in ns, at which the answer may change by itself, or None."""
        value = self.value(facts)
        if self.check.changes is None or not isinstance(value, int):
            return None
        now_ns = facts.world.now_ns
        ends = (value, value.until) if isinstance(value, Between) else (value,)
        return min((at for end in ends if (at := self.check.changes(end, now_ns)) is not None), default=None)


def tests_of(node: Node) -> Iterator[tuple[str, Leaf, bool]]:
    """Yield the tests as a person reads them: the text, the leaf, and whether its answer is turned round."""
    if isinstance(node, Leaf):
        yield node.text, node, False
    elif isinstance(node, Negation) and isinstance(node.part, Leaf):
        leaf = node.part
        yield leaf.text if leaf.says_not else f"not {leaf.text}", leaf, True
    elif isinstance(node, Negation):
        for text, leaf, turned in tests_of(node.part):
            # Several values in a list are one test to a person: `size not in (1 KB, 2 KB)`.
            yield (text, leaf, not turned) if leaf.says_not else (text, leaf, turned)
    elif isinstance(node, Several):
        for part in node.parts:
            yield from tests_of(part)


def letters_needed(node: Node) -> frozenset[str]:
    """Return texts that must all stand in the folded name of a file for a condition to be true of it."""
    if isinstance(node, Several) and node.every:
        return frozenset().union(*map(letters_needed, node.parts))
    if isinstance(node, Leaf) and node.check.letters and node.on.name in ("name", "stem"):
        return frozenset({node.check.letters})
    return frozenset()


def captures_of(node: Node, facts: Facts) -> dict[str, Fact]:
    """Return what the tests of a true condition captured from an entry."""
    found: dict[str, Fact] = {}
    for leaf in node.leaves():
        value = leaf.value(facts) if leaf.check.capture else None
        if leaf.check.capture and isinstance(value, str):
            found |= leaf.check.capture(value) or {}
    return found


def capture_kinds(node: Node) -> dict[str, CaptureKind]:
    """Return the names that a condition captures, each with the kind of its value."""
    return {name: kind for leaf in node.leaves() for name, kind in leaf.check.captured}


# Hits of a listing: the index of the file, and of the rules that match it: those with extras alone, in
# order, and at the end the one that decides, if there is one.
Hits = list[tuple[int, tuple[int, ...]]]


# Of a matcher and of a book.
MOST_MATCHERS = 300
_MOST_SUFFIXES = 5_000


class Matcher:
    """Finds, for each file, the first of some rules that is true, with functions made for it.

    For each suffix there are two functions of their own, made when the suffix is first met. With
    the suffix known most rules fall away: their tests on `ext` and `type` are false before any
    other is asked. `pick` asks names alone which files a rule could claim; only those are looked
    at singly. Calling the matcher then finds the rule that decides.

    Args:
        book: the rules.
        indexes: which of them act, in the order of the file.
        now_ns: the moment that ages are counted from.
    """

    def __init__(self, book: RuleBook, indexes: tuple[int, ...], now_ns: int) -> None:
        self._book = book
        self._indexes = indexes
        self._now_ns = now_ns
        self._hidden = any(book.rules[index].hidden for index in indexes)
        self._could: dict[str, Callable[..., bool] | None] = {}
        self._decide: dict[str, Callable[..., tuple[int, ...] | None]] = {}
        code, names_only = Code(now_ns), Code(now_ns, possible=True)
        for index in indexes:
            book.rules[index].where.source(True, code)
        self.needs_status = bool(code.variables & STATUS_VARIABLES)
        self._letters = [letters_needed(book.rules[index].where) for index in indexes]
        self._texts = sorted(frozenset().union(*self._letters))
        self._kept: dict[tuple[str, ...], list[int]] = {}
        self._suffixes = dict(PLAIN_SUFFIXES)
        # Where some rule rules nothing out by name, no name needs to be looked at.
        self._pick_all = any(book.rules[index].where.source(True, names_only) == "True" for index in indexes)

    def pick(self, listing: Listing, depths: Sequence[int]) -> Sequence[int]:
        """Return the indexes of the files that a rule could claim, as far as their names tell."""
        if self._pick_all:
            return range(len(listing.names))
        if self._texts:
            # One look at all names together tells which rules have no letters here to match.
            together = fold("\0".join(listing.names))
            missing = tuple([text for text in self._texts if text not in together])
            kept = self._kept.get(missing)
            if kept is None:
                kept = [at for at, letters in enumerate(self._letters) if letters.isdisjoint(missing)]
                if len(self._kept) < MOST_MATCHERS:
                    self._kept[missing] = kept
            if not kept:
                return ()
            if len(kept) < len(self._indexes) and self._book.has_room:
                fewer = self._book.matcher(tuple([self._indexes[at] for at in kept]), self._now_ns)
                return fewer.pick_singly(listing, [depths[at] for at in kept])
        return self.pick_singly(listing, depths)

    def pick_singly(self, listing: Listing, depths: Sequence[int]) -> Sequence[int]:
        """Do what `pick` does, by looking at each name."""
        if self._pick_all:
            return range(len(listing.names))
        prefix, folder = listing.folder.rstrip("/") + "/", folder_name(listing.folder)
        found: list[int] = []
        add = found.append
        functions, hidden = self._could, self._hidden
        known = self._suffixes
        for i, name in enumerate(listing.names):
            # The quick half of suffix_of, without the call: this runs for every file there is.
            head, _, last = name.rpartition(".")
            suffix = known.get(last)
            if suffix is None or not head or head[0] == ".":
                suffix = suffix_of(name)
                if head and head[0] != "." and len(known) < _MOST_SUFFIXES and not may_be_double(last):
                    known[last] = suffix
            try:
                could = functions[suffix]
            except KeyError:
                could = functions[suffix] = self._make_could(suffix)
            if could is None or (name[0] == "." and not hidden):
                continue
            if could is _always or could(name, prefix, folder, depths):
                add(i)
        return found

    def __call__(self, listing: Listing, depths: Sequence[int], ask: Callable[[int, Node], Truth]) -> Hits:
        """Return the files of a listing that some rule matches, with those rules.

        Args:
            listing: one folder.
            depths: for each rule of the matcher, how deep below its `in` the listing lies.
            ask: tests a condition on the file at an index, for what no column holds.
        """
        prefix, folder = listing.folder.rstrip("/") + "/", folder_name(listing.folder)
        hits: Hits = []
        functions = self._decide
        sizes, times = (listing.size, listing.mtime_ns) if self.needs_status else (repeat(0), repeat(0))
        for i, (name, size, modified) in enumerate(zip(listing.names, sizes, times, strict=False)):
            suffix = suffix_of(name)
            try:
                decide = functions[suffix]
            except KeyError:
                decide = functions[suffix] = self._make_decide(suffix)
            rules = decide(i, name, size, modified, prefix, folder, depths, ask)
            if rules:
                hits.append((i, rules))
        return hits

    def _code(self, suffix: str, possible: bool) -> Code:
        known: dict[str, object] = {"ext": suffix, "type": self._book.types.get(suffix, OTHER)}
        if not self._hidden:
            known["hidden"] = False  # others do not get this far
        return Code(self._now_ns, possible, known)

    def _tests(self, code: Code) -> list[tuple[int, str]]:
        """Return the rules that can be true at all, each with its test."""
        tests = []
        for at, index in enumerate(self._indexes):
            code.depth = f"depths[{at}]"
            test = self._book.rules[index].where.source(True, code)
            if test != "False":
                tests.append((index, test))
        return tests

    def _make_could(self, suffix: str) -> Callable[..., bool] | None:
        code = self._code(suffix, possible=True)
        tests = [test for _, test in self._tests(code)]
        if not tests:
            return None
        if "True" in tests:
            return _always
        lines = [
            "def could(name, prefix, folder_name, depths):",
            *_assignments(code),
            f"    return {' or '.join(tests)}",
        ]
        function: Callable[..., bool] = _compiled(lines, "could", code)
        return function

    def _make_decide(self, suffix: str) -> Callable[..., tuple[int, ...] | None]:
        code = self._code(suffix, possible=False)
        tests = self._tests(code)
        rules = self._book.rules
        # Rules with extras alone let an entry go on to the next rule.
        go_on = any(rules[index].ending is None for index, _ in tests)
        lines = ["def decide(i, name, size, modified, prefix, folder_name, depths, ask):", *_assignments(code)]
        if not self._hidden:
            lines.insert(1, "    if name[0] == '.':\n        return None")
        if go_on:
            lines.append("    found = ()")
        for index, test in tests:
            shown = "" if rules[index].hidden or not self._hidden else "name[0] != '.' and "
            lines.append(f"    if {shown}{test}:")
            if rules[index].ending is None:
                lines.append(f"        found = (*found, {index})")
            else:
                lines.append(f"        return {f'(*found, {index})' if go_on else f'({index},)'}")
        lines.append(f"    return {'found or None' if go_on else 'None'}")
        function: Callable[..., tuple[int, ...] | None] = _compiled(lines, "decide", code)
        return function


def _always(*_: object) -> bool:
    return True


def _compiled(lines: list[str], name: str, code: Code) -> Any:
    """Return a function made of source, which holds nothing of the rule file but names of constants."""
    names: dict[str, object] = {**code.constants, "fold": fold, "stem_of": stem_of}
    exec(compile("\n".join(lines), "<rules>", "exec"), names)  # noqa: S102
    return names[name]


def _assignments(code: Code) -> list[str]:
    """Return the lines that set the variables of an entry, each after those that it needs."""
    cut = _suffix_length(code)
    lines = []
    for one in FIELDS.values():
        plain, folded = one.name in code.variables, f"low_{one.name}" in code.variables
        source = f"name[:-{cut}]" if one.name == "stem" and cut else one.source
        if plain and source != one.name and one.name != "depth":
            lines.append(f"    {one.name} = {source}")
        if folded and one.name == "stem" and cut and "low_name" in code.variables:
            # In ASCII a letter in lower case is as long, so that the folded name can be cut.
            lines.append(f"    low_stem = low_name[:-{cut}] if name.isascii() else fold({source})")
        elif folded:
            value = one.name if plain or source == one.name else f"({source})"
            lines.append(f"    low_{one.name} = {value}.lower() if {value}.isascii() else fold({value})")
    return lines


def _suffix_length(code: Code) -> int:
    """Return how many letters the suffix and its dot take, 0 where that is not sure."""
    suffix = str(code.known["ext"])
    return len(suffix) + 1 if suffix and suffix.isascii() else 0
