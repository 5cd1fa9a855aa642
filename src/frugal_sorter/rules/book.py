"""Rules, and which of them decides: one generated function for all rules that act in a folder."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from frugal_sorter.files.record import Listing
from frugal_sorter.files.types import OTHER, stem_of, suffix_of
from frugal_sorter.rules.condition import Code, Node, Truth
from frugal_sorter.rules.fields import FIELDS, STATUS_VARIABLES, fold, folder_name
from frugal_sorter.rules.patterns import CaptureKind, Template
from frugal_sorter.rules.units import Duration, Hours

Clash = Literal["number", "skip"]
Take = Literal["files", "folders", "items"]
Ending = Literal["move", "leave"]
# Hits of a listing: the index of the file, and of the rule that decides over it.
Hits = list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class Example:
    """What a technician wrote into the file, to come out as written; see `rules.examples`."""

    line: int
    given: Mapping[str, object]
    becomes: str | None


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule as written.

    Args:
        line: where it begins in the file.
        folders: its `in`, absolute; links are not resolved.
        levels: None for all.
        key: a digest of all that decides what the rule does, so that a changed rule is another one.
        kinds: the names that its condition captures.
        during: when it acts; empty for always.
        at_most: more entries than this and it is not carried out.
    """

    name: str
    line: int
    folders: tuple[str, ...]
    where: Node
    where_text: str
    levels: int | None
    hidden: bool
    settle: Duration
    clash: Clash
    move: Template | None
    rename: Template | None
    key: str
    take: Take = "files"
    during: tuple[Hours, ...] = ()
    at_most: int | None = None
    ask: bool = False
    kinds: Mapping[str, CaptureKind] = field(default_factory=dict)
    examples: tuple[Example, ...] = ()

    @property
    def ending(self) -> Ending:
        """What finally becomes of an entry that this rule claims."""
        return "leave" if self.move is None and self.rename is None else "move"


@dataclass(frozen=True)
class Matcher:
    """The generated functions for some rules.

    `pick` finds from names alone the files that a rule could claim; only those are looked at
    singly. `function` then finds the rule that decides.
    """

    function: Callable[..., Hits]
    needs_status: bool
    source: str
    _pickers: _Pickers

    def pick(self, listing: Listing, depths: Sequence[int]) -> list[int]:
        """Return the indexes of the files that a rule could claim, as far as their names tell."""
        return self._pickers.pick(listing, depths)

    def __call__(self, listing: Listing, depths: Sequence[int], ask: Callable[[int, Node], Truth]) -> Hits:
        """Return the files of a listing that a rule claims, with that rule.

        Args:
            listing: one folder.
            depths: for each rule of the matcher, how deep below its `in` the listing lies.
            ask: tests a condition on the file at an index, for what no column holds.
        """
        prefix = listing.folder.rstrip("/") + "/"
        name = folder_name(listing.folder)
        return self.function(listing.names, listing.size, listing.mtime_ns, prefix, name, depths, ask)


class _Pickers:
    """For each suffix a function of its own, made when the suffix is first met.

    With the suffix known most rules fall away: their tests on `ext` and `type` are false before
    any other is asked. A suffix for which all of them do needs no function at all.
    """

    def __init__(self, book: RuleBook, indexes: tuple[int, ...], now_ns: int) -> None:
        self._book = book
        self._indexes = indexes
        self._now_ns = now_ns
        self._by_suffix: dict[str, Callable[..., bool] | None] = {}
        self._hidden = any(book.rules[index].hidden for index in indexes)

    def pick(self, listing: Listing, depths: Sequence[int]) -> list[int]:
        prefix, folder = listing.folder.rstrip("/") + "/", folder_name(listing.folder)
        found = []
        by_suffix, hidden = self._by_suffix, self._hidden
        for i, name in enumerate(listing.names):
            suffix = suffix_of(name)
            try:
                could = by_suffix[suffix]
            except KeyError:
                could = by_suffix[suffix] = self._make(suffix)
            if could is not None and (hidden or name[0] != ".") and could(name, prefix, folder, depths):
                found.append(i)
        return found

    def _make(self, suffix: str) -> Callable[..., bool] | None:
        known = {"ext": suffix, "type": self._book.types.get(suffix, OTHER)}
        code = Code(self._now_ns, possible=True, known=known)
        tests = []
        for at, index in enumerate(self._indexes):
            code.depth = f"depths[{at}]"
            test = self._book.rules[index].where.source(True, code)
            if test == "True":
                return _always
            if test != "False":
                tests.append(test)
        if not tests:
            return None
        lines = [
            "def could(name, prefix, folder_name, depths):",
            *(f"    {line}" for line in _assignments({one for one in code.variables if not one.startswith("depths[")})),
            f"    return {' or '.join(tests)}",
        ]
        function: Callable[..., bool] = _compiled(lines, "could", code, self._book.types)
        return function


def _always(*_: object) -> bool:
    return True


def _compiled(lines: list[str], name: str, code: Code, types: Mapping[str, str]) -> Any:
    """Return a function made of source, which holds nothing of the rule file but names of constants."""
    names: dict[str, object] = {
        **code.constants, "fold": fold, "stem_of": stem_of, "suffix_of": suffix_of, "type_of": types.get,
    }  # fmt: skip
    exec(compile("\n".join(lines), "<rules>", "exec"), names)  # noqa: S102
    return names[name]


@dataclass(frozen=True)
class RuleBook:
    """All rules of a file, in order; those that are off are left out.

    Args:
        types: suffix to type group.
        warnings: what is unwise in it, though right; each with its line.
        off: the names of the rules that are switched off.
        lists: the list files that its conditions read, resolved.
        unmounted: folders that must be on a mounted volume, and are not.
    """

    file: str
    rules: tuple[Rule, ...]
    types: Mapping[str, str]
    type_folders: Mapping[str, str]
    warnings: tuple[str, ...] = ()
    off: tuple[str, ...] = ()
    lists: tuple[str, ...] = ()
    unmounted: frozenset[str] = frozenset()
    _matchers: dict[tuple[tuple[int, ...], int], Matcher] = field(default_factory=dict)

    def matcher(self, indexes: tuple[int, ...], now_ns: int) -> Matcher:
        """Return the functions that find, for each file, the first of some rules that is true.

        Args:
            indexes: which rules act in a folder, in the order of the file.
            now_ns: the moment that ages are counted from.
        """
        known = self._matchers.get((indexes, now_ns))
        if known is None:
            known = self._matchers[indexes, now_ns] = self._generate(indexes, now_ns)
        return known

    def _generate(self, indexes: tuple[int, ...], now_ns: int) -> Matcher:
        code = Code(now_ns)
        tests = []
        for index in indexes:
            rule = self.rules[index]
            code.depth = f"depth_{index}"
            test = rule.where.source(True, code)
            shown = "" if rule.hidden else "name[0] != '.' and "
            tests += [f"        if {shown}{test}:", f"            found((i, {index}))", "            continue"]
        columns = sorted(code.variables & STATUS_VARIABLES)
        looped = ", ".join(["name", *columns])
        zipped = ", ".join(["names", *(f"{column}_column" for column in columns)])
        lines = [
            "def match(names, size_column, modified_column, prefix, folder_name, depths, ask):",
            "    hits = []",
            "    found = hits.append",
            *(f"    depth_{index} = depths[{at}]" for at, index in enumerate(indexes)),
            f"    for i, ({looped}) in enumerate(zip({zipped})):"
            if columns
            else "    for i, name in enumerate(names):",
            *(f"        {line}" for line in _assignments(code.variables)),
            *(tests or ["        break"]),
            "    return hits",
        ]
        function = _compiled(lines, "match", code, self.types)
        return Matcher(function, bool(columns), "\n".join(lines), _Pickers(self, indexes, now_ns))


def selection(where: Node, hidden: bool, types: Mapping[str, str]) -> RuleBook:
    """Return a book of one rule that selects files and does nothing, for `--where`."""
    rule = Rule("selected", 0, (), where, "", None, hidden, Duration(0, 0), "number", None, None, "")
    return RuleBook("", (rule,), types, {})


def _assignments(variables: set[str]) -> list[str]:
    """Return the lines that set the variables of an entry, each after those that it needs."""
    wanted = set(variables)
    for name in variables:
        wanted.update(FIELDS[name].uses if name in FIELDS else ())
    wanted.update(name[4:] for name in variables if name.startswith("low_"))
    lines = []
    for one in FIELDS.values():
        if one.name in wanted and one.source != one.name:
            lines.append(f"{one.name} = {one.source}")
        if f"low_{one.name}" in wanted:
            lines.append(f"low_{one.name} = {one.name}.lower() if {one.name}.isascii() else fold({one.name})")
    return lines
