"""Conditions as trees: surely true, surely false, or neither; tested on one entry, and as source for many."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from functools import cached_property

from frugal_sorter.filesystem.record import Unknown
from frugal_sorter.rules import operators
from frugal_sorter.rules.fields import FIELDS, NAME_COST, Between, Fact, Facts, Field, fold
from frugal_sorter.rules.templates import CaptureKind
from frugal_sorter.values import field, frozen, mutable

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
            # Of what is in between, only what holds from end to end is known.
            first = ask(int(value))
            return first if first is ask(value.until) else None
        return ask(fold(str(value)) if self.check.folded else value)

    def source(self, truth: bool, code: Code) -> str:
        if self.on.name in code.known:
            return str(operators.asker(self.check, code.now_ns)(code.known[self.on.name]) is truth)
        if self.on.name == "everything":
            return str(truth)
        if code.possible and (self.on.cost > NAME_COST or not self.on.source):
            return "True"
        if not self.on.source:
            return f"ask(i, {code.constant(self)}) is {truth}"
        found = self.check.at(code.now_ns)
        names = {f"c{i}": code.constant(constant) for i, constant in enumerate(found.constants)}
        variable = code.value(self.on, self.check.folded)
        true, false = (part.format(v=variable, **names) for part in (found.true, found.false))
        if self.check.letters and not self.check.folded:
            # An expression takes microseconds where looking for its letters takes a few hundredths of one.
            letters, low = code.constant(self.check.letters), code.value(self.on, True)
            true, false = f"{letters} in {low} and {true}", f"{letters} not in {low} or {false}"
        if code.possible and not found.decided:
            return f"(not ({false if truth else true}))"
        return f"({true if truth else false})"

    def leaves(self) -> Iterator[Leaf]:
        yield self

    def changes_at(self, facts: Facts) -> int | None:
        """Return the next moment, in ns, at which the answer may change on its own, or None."""
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
    """Return texts that must all be in the folded name of a file for a condition to be true of it."""
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
