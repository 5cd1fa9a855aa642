"""Conditions: from text to a tree, and from the tree to a test of one entry or to source.

A condition is true, false or unknown (Kleene's strong logic of three values); only true acts. A
test is written once, as an expression over a value `v`: testing one entry evaluates it, matching
a whole listing puts it into a generated function. So the two cannot disagree.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, NamedTuple

from frugal_sorter.files.record import Unknown
from frugal_sorter.rules import operators
from frugal_sorter.rules.fields import FIELDS, NAME_COST, Fact, Facts, Field, fold
from frugal_sorter.rules.mistakes import Wrong, nearest
from frugal_sorter.rules.parsing import Token, Tree, Unparsed, parse
from frugal_sorter.rules.patterns import CaptureKind

Truth = bool | None

LONGEST = 4_000
DEEPEST = 100


@dataclass
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


@dataclass(frozen=True)
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
        settled, idle = ("False", "True") if all_needed else ("True", "False")
        parts = []
        for part in self._by_cost:
            one = part.source(truth, code)
            if one == settled:
                return settled
            if one != idle:
                parts.append(one)
        if not parts:
            return idle
        return "(" + (" and " if all_needed else " or ").join(parts) + ")"

    def leaves(self) -> Iterator[Leaf]:
        for part in self.parts:
            yield from part.leaves()


@dataclass(frozen=True)
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


@dataclass(frozen=True)
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
        return self.check.changes(value, facts.world.now_ns)


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


def will_match_at(node: Node, facts: Facts, most: int = 24) -> int | None:
    """Return when a condition will be true of an entry that nobody touches, in ns, or None.

    Only the passing of time is looked at, and at most so many of its changes.
    """
    now_ns = facts.world.now_ns
    for _ in range(most):
        later = replace(facts, world=replace(facts.world, now_ns=now_ns))
        moments = [at for leaf in node.leaves() if (at := leaf.changes_at(later)) is not None and at > now_ns]
        if not moments:
            return None
        now_ns = min(moments)
        if node.test(replace(facts, world=replace(facts.world, now_ns=now_ns))) is True:
            return now_ns
    return None


class Parsed(NamedTuple):
    """A condition, with what is unwise about it though right."""

    node: Node
    warnings: tuple[str, ...]


ReadList = Callable[[str], frozenset[str]]


def _no_lists(name: str) -> frozenset[str]:
    raise Wrong(f'there is no list "{name}" to look in', "lists stand beside a rule file")


def parse_condition(text: str, types: Sequence[str], read_list: ReadList = _no_lists) -> Parsed:
    """Read a condition.

    Args:
        text: the condition as written.
        types: the names of all type groups.
        read_list: returns the folded paths in a list file, or raises Wrong.

    Raises:
        Wrong: it cannot be read or asks for what does not exist. `what` names the column.
    """
    if len(text) > LONGEST:
        raise Wrong(f"the condition has {len(text):,} characters", f"{LONGEST:,} are allowed; make two rules of it")
    if not text.strip():
        raise Wrong("the condition is empty", 'say "everything" for all entries')
    try:
        tree = parse(text, DEEPEST)
    except Unparsed as error:
        raise _unreadable(text, error.at) from None
    if tree is None:
        raise Wrong("the condition is nested too deeply", f"{DEEPEST} levels are allowed")
    builder = _Builder(text, types, read_list)
    node = builder.build(tree)
    if builder.wrong:
        first, *others = builder.wrong
        first.others = others
        raise first
    return Parsed(node, tuple(builder.warnings))


def _unreadable(text: str, at: int | None) -> Wrong:
    if at is None:
        return Wrong(f"the condition ends too early: {_shown(text)}", "a test is a field, an operator and a value")
    rest = text[at:].split()
    column = at + 1
    word = rest[0] if rest else text[at:]
    before = text[:at].split()
    if text[at] in "\"'" and text.count(text[at]) % 2:
        return Wrong(f"a quote opened at column {column} is never closed", "close it; inside it is doubled")
    if text[at] == "=":
        return Wrong(f'"=" at column {column} is not an operator', "say `is`")
    if text[at] == ")":
        return Wrong(f'")" at column {column} closes nothing, or comes too early', "count the parentheses")
    if before and before[-1].lower() in FIELDS and not text[at:].startswith("("):
        near = nearest(word, operators.OPERATOR_WORDS)
        return Wrong(f'"{word}" at column {column} is not an operator', near or "operators are: is, has, like, >, ...")
    return Wrong(
        f'the condition makes no sense from "{_shown(text[at:])}" at column {column}',
        "put values of several words in quotes, and `and` or `or` between tests",
    )


def _shown(text: str) -> str:
    return text if len(text) <= 40 else text[:37] + "..."


# The path of an entry below its `in`, for list files; it is no field of its own.
LISTED = Field("listed in", "text", 2, "its path stands in a list file", lambda facts: facts.below)


@dataclass
class _Builder:
    """Turns the parse tree into nodes; the kind of each field decides what its values mean."""

    written: str
    types: Sequence[str]
    read_list: ReadList
    warnings: list[str] = field(default_factory=list)
    wrong: list[Wrong] = field(default_factory=list)

    def build(self, tree: Tree) -> Node:
        if tree.rule in ("any_of", "all_of"):
            parts = list(tree.trees)
            if tree.rule == "any_of" and any(part.rule == "all_of" for part in parts):
                hint = "put parentheses around what belongs together"
                self.warnings.append(f"`and` and `or` stand side by side, and `and` binds stronger; {hint}")
            return Several(tuple(map(self.build, parts)), every=tree.rule == "all_of")
        if tree.rule == "group":
            return self.build(next(tree.trees))
        if tree.rule == "negation":
            return Negation(self.build(next(tree.trees)))
        make = {
            "flag": self._flag,
            "same": self._same,
            "one_of": self._one_of,
            "compare": self._compare,
            "listed": self._listed,
        }
        try:
            node = make[tree.rule](list(tree.parts))
        except Wrong as wrong:
            self.wrong.append(wrong)
            return Leaf(FIELDS["everything"], operators.flag())  # stands in, so that all that is wrong is found
        return self._with_text(node, tree)

    def _with_text(self, node: Node, tree: Tree) -> Node:
        text = " ".join(self.written[tree.start : tree.end].split())

        def named(one: Node, says_not: bool = False) -> Node:
            if isinstance(one, Leaf):
                return replace(one, text=text, says_not=says_not)
            if isinstance(one, Negation):
                return Negation(named(one.part, True))
            assert isinstance(one, Several)
            return Several(tuple(named(part, says_not) for part in one.parts), one.every)

        return named(node)

    def _listed(self, children: list[Any]) -> Node:
        name, _ = _text(children[-1])
        return Leaf(LISTED, operators.among(self.read_list(name)))

    def _field(self, token: Token) -> Field:
        known = FIELDS.get(token.text.lower())
        if known is None:
            known_names = ", ".join(FIELDS)
            raise Wrong(
                f'there is no field or flag "{token.text}" (column {token.column})',
                nearest(token.text, FIELDS) or f"known are {known_names}",
            )
        return known

    def _flag(self, children: list[Any]) -> Node:
        token = children[0]
        if token.kind == "IN_USE":
            return Leaf(FIELDS["in use"], operators.flag())
        found = self._field(token)
        if found.kind != "flag":
            raise Wrong(
                f"`{found.name}` at column {token.column} needs an operator and a value",
                f"such as `{found.name} {operators.EXAMPLES[found.kind]}`",
            )
        return Leaf(found, operators.flag())

    def _valued(self, token: Token) -> Field:
        found = self._field(token)
        if found.kind == "flag":
            raise Wrong(f"`{found.name}` takes no value (column {token.column})", f"say `{found.name}` alone")
        return found

    def _same(self, children: list[Any]) -> Node:
        on = self._valued(children[0])
        leaf = Leaf(on, self._is(on, children[-1]))
        return Negation(leaf) if children[1] is not None else leaf

    def _one_of(self, children: list[Any]) -> Node:
        on = self._valued(children[0])
        values = [child for child in children[2:] if isinstance(child, Tree)]
        if on.kind in operators.TEXTS:
            leaf: Node = Leaf(on, self._texts(on, values))
        else:
            leaf = Several(tuple(Leaf(on, self._is(on, value)) for value in values), every=False)
        return Negation(leaf) if children[1] is not None else leaf

    def _is(self, on: Field, value: Tree) -> operators.Check:
        if value.rule == "none":
            return operators.absent(on.kind)
        if on.kind in operators.TEXTS:
            return self._texts(on, [value])
        text, exactly = _text(value)
        _no_exactly(on, exactly)
        return operators.equal(on.kind, text)

    def _texts(self, on: Field, values: Sequence[Tree]) -> operators.Check:
        if any(value.rule == "none" for value in values):
            raise Wrong("`none` cannot stand in a list", f"say `{on.name} is none or {on.name} in (...)`")
        read = [_text(value) for value in values]
        exactly = any(flag for _, flag in read)
        _no_exactly(on, exactly and on.kind == "word")
        texts = [text for text, _ in read]
        if on.name == "type":
            for text in texts:
                if text.lower() not in self.types:
                    hint = nearest(text, self.types) or f"known are {', '.join(self.types)}"
                    raise Wrong(f'there is no type "{text}"', hint)
        if on.name == "ext":
            texts = [text.removeprefix(".") for text in texts]
        return operators.one_of(texts, exactly, word=on.kind == "word")

    def _compare(self, children: list[Any]) -> Node:
        name, *middle, value = children
        on = self._valued(name)
        operator = next(token for token in reversed(middle) if token is not None)
        negated = len(middle) == 2 and middle[0] is not None
        if value.rule == "none":
            raise Wrong(f"`{operator.text}` cannot be asked of none", f"say `{on.name} is none`")
        text, exactly = _text(value)
        word = " ".join(operator.text.lower().split())
        if operator.kind != "TEXTUAL":
            _no_exactly(on, exactly)
        if word == "has" and on.name in ("name", "stem", "path") and _looks_like_suffix(text):
            self.warnings.append(f'`{on.name} has "{text}"` also matches in the middle; `ext is {text[1:]}` is meant?')
        leaf = Leaf(on, operators.compare(on.name, on.kind, word, text, exactly))
        return Negation(leaf) if negated else leaf


def _looks_like_suffix(text: str) -> bool:
    return len(text) in range(2, 6) and text[0] == "." and text[1:].isalnum()


def _no_exactly(on: Field, exactly: bool) -> None:
    if exactly:
        raise Wrong(f"`exactly` does not go with `{on.name}`", "it is for texts that have upper and lower case")


def _text(value: Tree) -> tuple[str, bool]:
    """Return the text of a value and whether `exactly` stands before it."""
    exactly, *rest = value.parts
    words = [part.text for part in rest if isinstance(part, Token)]
    if value.rule == "bare":
        # Bare words stand as they are, with one space between them.
        return " ".join(words), exactly is not None
    quoted = words[0]
    mark = quoted[0]
    return quoted[1:-1].replace(mark * 2, mark), exactly is not None
