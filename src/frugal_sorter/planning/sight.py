"""Which rules see an entry, and which of them decides."""

from __future__ import annotations

import os
from collections.abc import Sequence
from functools import cached_property
from typing import NamedTuple

from frugal_sorter.filesystem.inside import Inside
from frugal_sorter.filesystem.record import FileRecord, Place, Unknown, is_inside
from frugal_sorter.planning.guard import never_entered, refused_folder, version_control_root
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.fields import Facts, World, depth_below
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.values import field, mutable, replace


class Acting(NamedTuple):
    """A rule in a folder: the `in` folder it comes from, and the levels left below here."""

    base: str
    levels: int | None


class Scope:
    """The rules that act in a folder, by their index; the same object serves many folders."""

    def __init__(self, acting: dict[int, Acting], rules: Sequence[Rule]) -> None:
        self.acting = acting
        self._rules = rules
        takes = [(index, rules[index].take) for index in sorted(acting)]
        self.on_files = tuple(index for index, take in takes if take != "folders")
        self.on_folders = tuple(index for index, take in takes if take != "files")
        self.sees_hidden = any(rules[index].hidden for index in acting)
        self._bases = {one.base for one in acting.values()}
        self._below: dict[bool, Scope | None] = {}

    @property
    def deepest(self) -> int | None:
        """How many levels the rules have left below here, None for all."""
        levels = [one.levels for one in self.acting.values()]
        return None if None in levels else max(level or 0 for level in levels)

    def base(self, index: int) -> str:
        """Return the `in` folder from which a rule acts here."""
        return self.acting[index].base

    def depths(self, folder: str, indexes: Sequence[int]) -> list[int]:
        """Return for some rules how deep below their `in` a folder's entries lie."""
        depths = {base: depth_below(base, folder) for base in self._bases}
        return [depths[self.acting[index].base] for index in indexes]

    def below(self, hidden: bool) -> Scope | None:
        """Return the rules that still act in a subfolder, or None where none does."""
        if hidden not in self._below:
            acting = {
                index: Acting(one.base, None if one.levels is None else one.levels - 1)
                for index, one in self.acting.items()
                if one.levels != 1 and (not hidden or self._rules[index].hidden)
            }
            same = acting == self.acting
            self._below[hidden] = self if same else Scope(acting, self._rules) if acting else None
        return self._below[hidden]

    def only(self, base: str) -> Scope:
        """Return those of the rules whose `in` is one folder."""
        return Scope({index: one for index, one in self.acting.items() if one.base == base}, self._rules)

    def joined(self, nearer: Scope) -> Scope:
        """Return these rules and others whose `in` is nearer; relative targets are below the nearer one."""
        acting = dict(self.acting)
        for index, one in nearer.acting.items():
            levels = [one.levels, acting.get(index, one).levels]
            acting[index] = Acting(one.base, None if None in levels else max(level or 0 for level in levels))
        return Scope(acting, self._rules)


# So many changes that time brings are looked at.
_MOST_CHANGES = 48


def _never_touched(place: Place, folder: str) -> bool:
    """Return True if an entry is one, or lies in one, that no walk from a folder enters."""
    path = place.path
    while len(path) > len(folder) and not slashed.is_top(path):
        if never_entered(path, os.path.basename(path)):
            return True
        path = os.path.dirname(path)
    return False


def on_duty(rule: Rule, now_ns: int) -> bool:
    """Return True if a rule acts at this hour."""
    return not rule.during or any(hours.hold(now_ns) for hours in rule.during)


@mutable(slots=False)
class Deciding:
    """The rules that see an entry, in their order, and what they make of it at any moment.

    Args:
        world: the moment, and what else is not in the entry.
        elsewhere: by the name of a rule, why it does not see the entry at all.
        facts: by the name of a rule, what it knows of the entry.
    """

    world: World
    elsewhere: dict[str, str] = field(default_factory=dict)
    facts: dict[str, Facts] = field(default_factory=dict)
    _seeing: list[Rule] = field(default_factory=list)
    _order: dict[str, int] = field(default_factory=dict)

    def add(self, rule: Rule, facts: Facts) -> None:
        """Take in a rule that sees the entry, below those before it."""
        self._order[rule.name] = len(self._seeing)
        self._seeing.append(rule)
        self.facts[rule.name] = facts

    @cached_property
    def decider(self) -> Rule | None:
        """The rule that claims the entry now."""
        return self.decides(self.world.now_ns)

    def decides(self, now_ns: int) -> Rule | None:
        """Return the rule that claims the entry at a moment, in ns since the epoch."""
        for rule in self._seeing:
            if rule.ending is not None and rule.where.test(self._at(rule, now_ns)) is True:
                return rule
        return None

    def has_it(self, rule: Rule, now_ns: int | None = None) -> bool:
        """Return True if an entry comes to a rule at a moment: it matches, and no rule above claims it."""
        return rule.where.test(self._at(rule, now_ns)) is True and self.above(rule, now_ns) is None

    def above(self, rule: Rule, now_ns: int | None = None) -> Rule | None:
        """Return the rule that claims the entry before another one is asked."""
        first = self.decider if now_ns is None else self.decides(now_ns)
        return first if first is not None and self._order[first.name] < self._order[rule.name] else None

    def will_act_at(self, rule: Rule) -> int | None:
        """Return when a rule will have the entry and act, in ns, if nobody touches it; None if time does not bring that."""
        now_ns = self.world.now_ns
        # Where no test of it asks for a date, time does not make it match.
        dated = any(leaf.check.changes for leaf in rule.where.leaves())
        if not dated and rule.where.test(self.facts[rule.name]) is not True:
            return None
        upto = self._seeing[: self._order[rule.name] + 1]
        if self.has_it(rule) and on_duty(rule, now_ns):
            return now_ns
        for _ in range(_MOST_CHANGES):
            moments = [hours.begin_after(now_ns) for hours in rule.during]
            for one in upto:
                facts = self._at(one, now_ns)
                moments += [at for leaf in one.where.leaves() if (at := leaf.changes_at(facts)) is not None]
            now_ns = min((at for at in moments if at > now_ns), default=-1)
            if now_ns < 0:
                return None
            if self.has_it(rule, now_ns) and on_duty(rule, now_ns):
                return now_ns
        return None

    def _at(self, rule: Rule, now_ns: int | None) -> Facts:
        facts = self.facts[rule.name]
        if now_ns is None or now_ns == facts.world.now_ns:
            return facts
        return replace(facts, world=replace(facts.world, now_ns=now_ns))


@mutable(slots=False)
class Sight:
    """From where the rules of a file see entries; what it asks of the disk it asks once.

    Args:
        book: the rules.
        world: the moment, and what else is not in the entries.
    """

    book: RuleBook
    world: World
    _trees: dict[str, str | None] = field(default_factory=dict)

    @cached_property
    def _folders(self) -> dict[str, list[str]]:
        """The `in` of each rule by its name, resolved, the deepest first."""
        return {
            rule.name: sorted(map(slashed.realpath, rule.folders), key=len, reverse=True) for rule in self.book.rules
        }

    @cached_property
    def _refused(self) -> dict[str, str | None]:
        """Why nothing may be sorted in those folders."""
        return {folder: refused_folder(folder) for folders in self._folders.values() for folder in folders}

    def of(self, record: FileRecord, inside: Inside | Unknown | None = None) -> Deciding:
        """Return what the rules make of one entry.

        Args:
            record: what its status says.
            inside: of a folder, what is in it.
        """
        deciding = Deciding(self.world)
        by_base: dict[str, Facts] = {}
        for rule in self.book.rules:
            base, why = self.base_for(rule, record.place, record.identity.kind)
            if why:
                deciding.elsewhere[rule.name] = why
                continue
            if base not in by_base:
                by_base[base] = Facts(record, base, self.book.types, self.world, inside)
            deciding.add(rule, by_base[base])
        return deciding

    def base_for(self, rule: Rule, place: Place, kind: str) -> tuple[str, str]:
        """Return the nearest `in` from which a rule sees an entry, or why it sees it from none."""
        takes = {"files": ("file",), "folders": ("folder",), "items": ("file", "folder")}[rule.take]
        if kind not in takes:
            return "", f"the rule takes {rule.take}"
        reasons = []
        for folder in self._folders[rule.name]:
            if not is_inside(place.folder, folder):
                reasons.append("the rule acts in other folders")
                continue
            depth = depth_below(folder, place.folder)
            parts = [*place.folder[len(folder) :].strip("/").split("/"), place.name]
            tree = self._tree_of(place.folder)
            if refused := self._refused[folder]:
                reasons.append(f"{folder} is {refused}")
            elif tree is not None and not is_inside(folder, tree):
                reasons.append(f"{tree} is under version control and is left whole")
            elif _never_touched(place, folder):
                reasons.append("the own folder of a version control is never touched")
            elif rule.levels is not None and depth > rule.levels:
                reasons.append(f"the rule goes {rule.levels} deep, and this is {depth} deep")
            elif not rule.hidden and any(part.startswith(".") for part in parts):
                reasons.append("the rule leaves hidden entries out")
            else:
                return folder, ""
        return "", min(reasons, key=lambda reason: reason == "the rule acts in other folders")

    def _tree_of(self, folder: str) -> str | None:
        if folder not in self._trees:
            self._trees[folder] = version_control_root(folder)
        return self._trees[folder]
