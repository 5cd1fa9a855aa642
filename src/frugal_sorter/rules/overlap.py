"""Which conditions can be true of something, and which are true only of what another one is true of.

A condition becomes an or of ands of tests. The tests on one field leave it some values: intervals
of numbers and dates, sets of texts; besides, most facts may be unknown or missing. An and of tests
can hold if each field has values left. What cannot be decided so, such as whether some name fits
two patterns, counts as possible: nothing is called impossible that is not.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import reduce
from itertools import combinations
from math import inf
from typing import Literal, NamedTuple

from frugal_sorter.filesystem.record import OTHER, stem_of, suffix_of
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.model import Rule
from frugal_sorter.rules.operators import Bounds, asker
from frugal_sorter.rules.tree import Leaf, Negation, Node, Several
from frugal_sorter.rules.units import SECOND_NS

# A condition may be true, false or unknown: a test is required to be one of these, or not to be.
Mode = Literal["true", "false", "not true", "not false"]
_OPPOSITE: dict[Mode, Mode] = {"true": "false", "false": "true", "not true": "not false", "not false": "not true"}
_MOST_CLAUSES = 400
_NAMES = frozenset({"name", "stem", "ext", "type", "hidden"})
# What every file and every folder has; other facts may be unknown or missing.
_OF_FILES = _NAMES | {"path", "folder", "depth", "size", "everything", "empty", "readonly", "linked"}
_OF_FOLDERS = frozenset({"name", "stem", "hidden", "path", "folder", "depth", "everything", "readonly"})
# Facts relative to `in`: another fact for a rule with another `in`.
_SEEN_FROM_IN = frozenset({"depth", "listed in"})
# Ages move on: what can never hold must not hold years later either.
_YEARS = (0, 1, 5, 20, 60)

Test = tuple[Leaf, Mode]
Clause = tuple[Test, ...]


class TooMany(Exception):
    """A condition is too branched to be decided."""


def clauses_of(node: Node, mode: Mode = "true") -> list[Clause]:
    """Return a condition as an or of ands: it is as `mode` says if all tests of one clause are as theirs say.

    Raises:
        TooMany: there are too many.
    """
    if isinstance(node, Leaf):
        return [((node, mode),)]
    if isinstance(node, Negation):
        return clauses_of(node.part, _OPPOSITE[mode])
    assert isinstance(node, Several)
    parts = [clauses_of(part, mode) for part in node.parts]
    if node.every is (mode in ("true", "not false")):
        return reduce(_both, parts)
    found = [clause for part in parts for clause in part]
    if len(found) > _MOST_CLAUSES:
        raise TooMany
    return found


def _both(one: list[Clause], other: list[Clause]) -> list[Clause]:
    if len(one) * len(other) > _MOST_CLAUSES:
        raise TooMany
    return [(*first, *second) for first in one for second in other]


def _text_of(test: Test) -> str:
    leaf, mode = test
    return leaf.text if mode == "true" or leaf.says_not else f"not {leaf.text}"


class Overlap:
    """Answers for the rules of a file.

    Args:
        types: suffix to type group.
        now_ns: the moment that ages are counted from.
    """

    def __init__(self, types: Mapping[str, str], now_ns: int) -> None:
        self._types = types
        self._moments = [now_ns + years * 31_557_600 * SECOND_NS for years in _YEARS]

    def can_hold(self, rule: Rule) -> bool:
        """Return True if a rule can match anything at all; False is certain."""
        try:
            return any(self._possible(clause, rule) for clause in clauses_of(rule.where))
        except TooMany:
            return True

    def contradiction(self, rule: Rule) -> tuple[str, ...]:
        """Return the tests that keep a rule from ever matching: one, two that exclude each other, or none in particular."""
        try:
            clauses = clauses_of(rule.where)
        except TooMany:
            return ()
        if len(clauses) > 1:
            return ()
        for test in clauses[0]:
            if not self._possible((test,), rule):
                return (_text_of(test),)
        for one, other in combinations(clauses[0], 2):
            if not self._possible((one, other), rule):
                return (_text_of(one), _text_of(other))
        return ()

    def is_covered(self, rule: Rule, above: Iterable[Rule]) -> bool:
        """Return True if every entry that a rule matches is matched by one of some others; True is certain."""
        try:
            left = [clause for clause in clauses_of(rule.where) if self._possible(clause, rule)]
        except TooMany:
            return False
        for other in above:
            elsewhere = set(other.folders) != set(rule.folders)
            if elsewhere and any(leaf.on.name in _SEEN_FROM_IN for leaf in other.where.leaves()):
                continue
            try:
                beside = clauses_of(other.where, "not true")
                left = [both for both in _both(left, beside) if self._possible(both, rule)]
            except TooMany:
                continue
            if not left:
                return True
        return False

    def _possible(self, clause: Clause, rule: Rule) -> bool:
        """Return True if all tests of a clause can be as they should; False is certain."""
        by_field: dict[str, list[Test]] = {}
        for leaf, mode in clause:
            by_field.setdefault(leaf.on.name, []).append((leaf, mode))
        for name, tests in by_field.items():
            kind = tests[0][0].on.kind
            if name == "everything":
                possible = all(mode in ("true", "not false") for _, mode in tests)
            elif name == "hidden" and not rule.hidden:
                possible = all(mode in ("false", "not true") for _, mode in tests)
            elif kind == "flag":
                possible = _flag_possible([mode for _, mode in tests], name in _known(rule))
            elif kind in ("size", "number", "date"):
                possible = any(_numbers_possible(tests, now_ns, rule) for now_ns in self._moments)
            else:
                possible = _texts_possible(name, tests)
            if not possible:
                return False
        # A folder has no suffix, whatever its name is.
        return rule.take != "files" or self._names_possible(by_field)

    def _names_possible(self, by_field: Mapping[str, Sequence[Test]]) -> bool:
        """Look at name, suffix and type together: each tells of the others."""
        names = _finite("name", by_field)
        if names is not None:
            return any(self._fits(name, by_field) for name in names)
        suffixes = _finite("ext", by_field)
        groups = _finite("type", by_field)
        if suffixes is None and groups is not None:
            suffixes = {suffix for suffix, group in self._types.items() if group in groups}
            if OTHER in groups:
                return True  # there is no end of other suffixes
        if suffixes is None:
            return True
        tests = [*by_field.get("ext", ()), *by_field.get("type", ())]
        for suffix in suffixes:
            known = {"ext": suffix, "type": self._types.get(suffix, OTHER)}
            if all(_agrees(leaf, mode, known[leaf.on.name]) for leaf, mode in tests) and not _ends_otherwise(
                suffix, by_field.get("name", ())
            ):
                return True
        return False

    def _fits(self, name: str, by_field: Mapping[str, Sequence[Test]]) -> bool:
        suffix = suffix_of(name)
        known: dict[str, object] = {
            "name": name,
            "stem": stem_of(name),
            "ext": suffix,
            "type": self._types.get(suffix, OTHER),
            "hidden": name.startswith("."),
        }
        tests = (one for field in _NAMES for one in by_field.get(field, ()))
        return all(_agrees(leaf, mode, known[leaf.on.name]) for leaf, mode in tests)


def _known(rule: Rule) -> frozenset[str]:
    """Return the fields that all entries have which a rule is asked about."""
    return _OF_FILES if rule.take == "files" else _OF_FOLDERS


def _flag_possible(modes: Sequence[Mode], known: bool) -> bool:
    states = {"yes", "no"} if known else {"yes", "no", "unknown"}
    allowed: dict[Mode, set[str]] = {
        "true": {"yes"},
        "false": {"no"},
        "not true": {"no", "unknown"},
        "not false": {"yes", "unknown"},
    }
    return bool(states.intersection(*(allowed[mode] for mode in modes)))


# Numbers and dates


class _Left(NamedTuple):
    """The values that are left for a number: intervals, and whether it may be missing or unknown."""

    spans: tuple[Bounds, ...]
    missing: bool
    unknown: bool

    def __and__(self, other: _Left) -> _Left:
        spans = tuple(
            (max(one[0], two[0]), min(one[1], two[1]))
            for one in self.spans
            for two in other.spans
            if max(one[0], two[0]) <= min(one[1], two[1])
        )
        return _Left(spans, self.missing and other.missing, self.unknown and other.unknown)

    def __bool__(self) -> bool:
        return bool(self.spans) or self.missing or self.unknown


_LEAST, _MOST = (-inf, 0), (inf, 0)


def _beside(bounds: Bounds) -> tuple[Bounds, ...]:
    """Return all values that are not within some bounds."""
    (low, low_side), (high, high_side) = bounds
    return ((_LEAST, (low, low_side - 1)), ((high, high_side + 1), _MOST))


def _numbers_possible(tests: Sequence[Test], now_ns: int, rule: Rule) -> bool:
    name = tests[0][0].on.name
    known = name in _known(rule)
    first: Bounds = (_LEAST, _MOST)
    if name == "depth":
        first = ((1, 0), (rule.levels or inf, 0))
    elif name == "size":
        first = ((0, 0), _MOST)
    left = _Left((first,), not known, not known)
    for leaf, mode in tests:
        left = left & _values(leaf, mode, now_ns)
    return bool(left)


def _values(leaf: Leaf, mode: Mode, now_ns: int) -> _Left:
    if leaf.check.asks_absence:
        by_mode: dict[Mode, _Left] = {
            "true": _Left((), True, False),
            "false": _Left(((_LEAST, _MOST),), False, False),
            "not true": _Left(((_LEAST, _MOST),), False, True),
            "not false": _Left((), True, True),
        }
        return by_mode[mode]
    if leaf.check.spans is None:
        return _Left(((_LEAST, _MOST),), True, True)
    true, false = leaf.check.spans(now_ns)
    within = {"true": (true,), "false": (false,) if false else _beside(true)}
    if mode in ("true", "false"):
        return _Left(within[mode], False, False)
    other = within["true" if mode == "not true" else "false"]
    spans: tuple[Bounds, ...] = ((_LEAST, _MOST),)
    for one in other:
        spans = (_Left(spans, False, False) & _Left(_beside(one), False, False)).spans
    return _Left(spans, True, True)


# Texts


def _finite(name: str, by_field: Mapping[str, Sequence[Test]]) -> set[str] | None:
    """Return the only values that a text may have; None where they are endless, or case decides."""
    lists = [leaf for leaf, mode in by_field.get(name, ()) if mode == "true" and leaf.check.values is not None]
    if not lists or len({leaf.check.folded for leaf in lists}) > 1:
        return None
    return set(frozenset.intersection(*(leaf.check.values or frozenset() for leaf in lists)))


def _agrees(leaf: Leaf, mode: Mode, value: object) -> bool:
    """Return True if a test may be as it should for one value; where the case of letters decides, it may."""
    if leaf.check.asks_absence:
        truth: bool | None = not value
    elif leaf.on.kind == "text" and not leaf.check.folded:
        return True
    else:
        truth = asker(leaf.check, 0)(fold(str(value)) if leaf.check.folded else value)
    wanted: dict[Mode, bool] = {
        "true": truth is True,
        "false": truth is False,
        "not true": truth is not True,
        "not false": truth is not False,
    }
    return wanted[mode]


def _texts_possible(name: str, tests: Sequence[Test]) -> bool:
    """Look at tests on one text that is none of name, suffix and type; of several tags each may pass another test."""
    several = tests[0][0].on.kind == "texts"
    # One that holds may say that another one holds, and one that is false that another one is.
    holding = {mode: [leaf for leaf, one in tests if one == mode] for mode in _OPPOSITE}
    pairs: tuple[tuple[Mode, tuple[Mode, ...]], ...] = (("true", ("false", "not true")), ("not false", ("false",)))
    for kind, against in pairs:
        for one in holding[kind]:
            if any(_says(one, other) for mode in against for other in holding[mode]):
                return False
    if several or name in _NAMES:
        return True
    values = _finite(name, {name: tests})
    return values is None or any(all(_agrees(leaf, mode, value) for leaf, mode in tests) for value in values)


def _says(one: Leaf, other: Leaf) -> bool:
    """Return True if a test that holds says that another one on the same field holds; True is certain."""
    if one.text == other.text and one.text and one.check.values == other.check.values:
        return True
    if one.check.values is not None and other.check.values is not None:
        return one.check.folded is other.check.folded and one.check.values <= other.check.values
    if one.check.part is None or other.check.part is None or one.check.folded is not other.check.folded:
        return False
    (where, letters), (other_where, other_letters) = one.check.part, other.check.part
    if other_where == "has":
        return other_letters in letters
    if where != other_where:
        return False
    return letters.startswith(other_letters) if where == "starts" else letters.endswith(other_letters)


def _ends_otherwise(suffix: str, names: Sequence[Test]) -> bool:
    """Return True if no name with a suffix passes the tests on the name, since these deny its ending."""
    return bool(suffix) and any(
        mode in ("false", "not true")
        and leaf.check.folded
        and leaf.check.part is not None
        and leaf.check.part[0] in ("ends", "has")
        and fold(f".{suffix}").endswith(leaf.check.part[1])
        for leaf, mode in names
    )
