"""Rules, and which of them decides: one generated function for all rules that act in a folder."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from frugal_sorter.files.record import Listing
from frugal_sorter.files.types import stem_of, suffix_of
from frugal_sorter.rules.condition import Code, Node
from frugal_sorter.rules.fields import FIELDS, STATUS_VARIABLES, fold, folder_name
from frugal_sorter.rules.patterns import Template
from frugal_sorter.rules.units import Duration

Clash = Literal["number", "skip"]
Ending = Literal["move", "leave"]
# Hits of a listing: the index of the file, and of the rule that decides over it.
Hits = list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule as written.

    `levels` is None for all. `key` is a digest of all that decides what the rule does, so that
    a rule that was changed is another one.
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

    @property
    def ending(self) -> Ending:
        """What finally becomes of an entry that this rule claims."""
        return "leave" if self.move is None and self.rename is None else "move"


@dataclass(frozen=True)
class Matcher:
    """The generated function for some rules, and whether it needs sizes and times."""

    function: Callable[..., Hits]
    needs_status: bool
    source: str

    def __call__(self, listing: Listing, depths: Sequence[int]) -> Hits:
        """Return the files of a listing that a rule claims, with that rule.

        Args:
            listing: one folder.
            depths: for each rule of the matcher, how deep below its `in` the listing lies.
        """
        prefix = listing.folder.rstrip("/") + "/"
        return self.function(listing.names, listing.size, listing.mtime_ns, prefix, folder_name(listing.folder), depths)


@dataclass(frozen=True)
class RuleBook:
    """All rules of a file, in order; those that are off are left out."""

    file: str
    rules: tuple[Rule, ...]
    types: Mapping[str, str]
    type_folders: Mapping[str, str]
    warnings: tuple[str, ...] = ()
    off: tuple[str, ...] = ()
    _matchers: dict[tuple[tuple[int, ...], int], Matcher] = field(default_factory=dict)

    def matcher(self, indexes: tuple[int, ...], now_ns: int) -> Matcher:
        """Return the function that finds, for each file, the first of some rules that is true.

        Args:
            indexes: which rules act in a folder, in the order of the file.
            now_ns: the moment that ages are counted from.
        """
        known = self._matchers.get((indexes, now_ns))
        if known is None:
            known = self._matchers[indexes, now_ns] = self._generate(indexes, now_ns)
        return known

    def _generate(self, indexes: tuple[int, ...], now_ns: int) -> Matcher:
        code = Code()
        tests = []
        for index in indexes:
            rule = self.rules[index]
            test = rule.where.source(True, now_ns, code, f"depth_{index}")
            shown = "" if rule.hidden else "name[0] != '.' and "
            tests += [
                f"        if {shown}{test}:",
                f"            found((i, {index}))",
                "            continue",
            ]
        columns = sorted(code.variables & STATUS_VARIABLES)
        looped = ", ".join(["name", *columns])
        zipped = ", ".join(["names", *(f"{column}_column" for column in columns)])
        each = f"zip({zipped})" if columns else "names"
        lines = [
            "def match(names, size_column, modified_column, prefix, folder_name, depths):",
            "    hits = []",
            "    found = hits.append",
            *(f"    depth_{index} = depths[{at}]" for at, index in enumerate(indexes)),
            f"    for i, {f'({looped})' if columns else 'name'} in enumerate({each}):",
            *(f"        {line}" for line in _assignments(code.variables)),
            *tests,
            "    return hits",
        ]
        source = "\n".join(lines)
        names: dict[str, object] = {
            **code.constants,
            "fold": fold,
            "stem_of": stem_of,
            "suffix_of": suffix_of,
            "type_of": self.types.get,
        }
        # The source holds nothing of the rule file: its texts are constants, passed by name.
        exec(compile(source, "<rules>", "exec"), names)  # noqa: S102
        function: Callable[..., Hits] = names["match"]  # type: ignore[assignment]
        return Matcher(function, bool(columns), source)


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
