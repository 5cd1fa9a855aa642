"""Which rules see an entry, which one decides, why, and when that changes."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from frugal_sorter.filesystem.record import FileRecord, Listing, Place, Unknown, is_inside
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.tree import isdir
from frugal_sorter.filesystem.walk import Inside, look_inside, walk
from frugal_sorter.planning.guard import NoEntries, refused_folder, version_control_root
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.trash_plans import named_limits
from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import Why
from frugal_sorter.rules.fields import Fact, Facts, World, depth_below, holder_of
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates import Stopped
from frugal_sorter.rules.tree import Leaf, Truth, tests_of
from frugal_sorter.steps.step import Step
from frugal_sorter.trash.bins import never_entered
from frugal_sorter.values import field, frozen, mutable, replace


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
        """Return for some rules how deep below their `in` a folder's entries are."""
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


NEVER_TAKEN = "frugal never changes the rule file, its lists and its log"
_ELSEWHERE = "the rule acts on other folders"
# At most this many changes that time brings are checked.
_MOST_CHANGES = 48


def _never_touched(place: Place, folder: str) -> bool:
    """Return True if an entry is one, or is in one, that no walk from a folder enters."""
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
        """Add a rule that sees the entry, below those before it."""
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
        """Return True if a rule claims an entry at a moment: it matches, and no rule above claims it."""
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
        return {rule.name: sorted(map(slashed.realpath, rule.folders), key=len, reverse=True) for rule in self.book.rules}

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
            return "", f"the rule applies only to {rule.take}"
        if self.is_never_taken(place):
            return "", NEVER_TAKEN
        reasons = []
        for folder in self._folders[rule.name]:
            if not is_inside(place.folder, folder):
                reasons.append(_ELSEWHERE)
                continue
            depth = depth_below(folder, place.folder)
            parts = [*place.folder[len(folder) :].strip("/").split("/"), place.name]
            tree = self._tree_of(place.folder)
            if refused := self._refused[folder]:
                reasons.append(f"{folder} is {refused}")
            elif tree is not None and not is_inside(folder, tree):
                reasons.append(f"{tree} is under version control, and frugal does not change it")
            elif _never_touched(place, folder):
                reasons.append("frugal never changes the files of a version control system")
            elif rule.levels is not None and depth > rule.levels:
                reasons.append(f"the rule covers {rule.levels} levels, and this is on level {depth}")
            elif not rule.hidden and any(part.startswith(".") for part in parts):
                reasons.append("the rule does not include hidden files")
            else:
                return folder, ""
        return "", min(reasons, key=lambda reason: reason == _ELSEWHERE)

    @cached_property
    def _never(self) -> NoEntries:
        return NoEntries(self.book)

    def is_never_taken(self, place: Place) -> bool:
        """Return True if no rule can take a file, since the rules are read from it, or it is written for them."""
        return self._never.is_of_rules(place)

    def _tree_of(self, folder: str) -> str | None:
        if folder not in self._trees:
            self._trees[folder] = version_control_root(folder)
        return self._trees[folder]


class Tested(NamedTuple):
    """One test as written.

    Args:
        text: as written.
        leaf: the test itself.
        truth: the answer.
        value: what was found.
        holder: who has the file open if that was asked.
        stopped: where the name stops fitting the pattern if there is one that it does not fit.
    """

    text: str
    leaf: Leaf
    truth: Truth
    value: Fact
    holder: str | None
    stopped: Stopped | None


@frozen
class Explained:
    """What one rule says of an entry.

    Args:
        rule: the rule.
        elsewhere: why it does not act on this entry at all; then nothing else is printed.
        truth: whether its condition holds.
        tests: each test of it, in the order of the text.
        above: the rule above that claims the entry, so that this one is not asked.
        decides: it is the one that claims the entry.
        when_ns: when it will have the entry if nobody touches it, None if time does not bring that.
    """

    rule: Rule
    elsewhere: str = ""
    truth: Truth = None
    tests: tuple[Tested, ...] = ()
    above: Rule | None = None
    decides: bool = False
    when_ns: int | None = None


class Fate(NamedTuple):
    """What a plan has for one entry: the steps about it, or why there are none.

    Args:
        rule: the name of the rule that has it; empty where none has.
        steps: what is done to it, in order; those of the folder that takes it along, if one does.
        reason: why nothing is done, or what takes it along.
        when_ns: when its rule will act if it is held back only for now.
    """

    rule: str
    steps: tuple[Step, ...] = ()
    reason: str = ""
    when_ns: int | None = None


class Explainer:
    """Says what becomes of entries, and why.

    Args:
        book: the rules.
        world: the moment, and what else is not in the entries.
        plan: what these rules would do at that moment.
    """

    def __init__(self, book: RuleBook, world: World, plan: Plan) -> None:
        self._book, self._world, self._plan = book, world, plan
        self._sight = Sight(book, world)
        self._steps: dict[str, list[Step]] = {}
        for step in plan.asked:
            packed = [member["path"] for member in step.details["members"]] if step.verb == "pack" else []
            for path in [*packed, *([step.source.path] if step.source is not None else [])]:
                self._steps.setdefault(path, []).append(step)
        # The rule that decides comes after those with extras alone, and stays.
        self._left = {left.place.path: left for left in plan.not_touched}

    def explain(self, path: str) -> tuple[list[Explained], Fate]:
        """Explain for each rule, in order, what it decides about one entry, and what becomes of the entry.

        Args:
            path: an absolute path, its folder without symbolic links.

        Raises:
            OSError: there is no such entry.
        """
        record = look(Place(*os.path.split(path)))
        inside = look_inside(path) if record.identity.kind == "folder" else None
        deciding = self._sight.of(record, inside)
        explained = []
        for rule in self._book.rules:
            if rule.name not in deciding.facts:
                explained.append(Explained(rule, deciding.elsewhere[rule.name]))
                continue
            facts = deciding.facts[rule.name]
            tests = tuple(_tested(*test, facts) for test in tests_of(rule.where))
            when_ns = deciding.will_act_at(rule)
            explained.append(
                Explained(
                    rule,
                    "",
                    rule.where.test(facts),
                    tests,
                    deciding.above(rule),
                    rule is deciding.decider,
                    None if when_ns == self._world.now_ns else when_ns,
                )
            )
        fate = self._fate(path, deciding)
        self._world.contents.close()
        return explained, fate

    def rules_acting_in(self, folder: str) -> list[tuple[Rule, str]]:
        """Return the rules that see the files directly in a folder, each with its `in`."""
        probe = Place(folder, "x")
        found = []
        for rule in self._book.rules:
            base, elsewhere = self._sight.base_for(rule, probe, "folder" if rule.take == "folders" else "file")
            if not elsewhere:
                found.append((rule, base))
        return found

    def _fate(self, path: str, deciding: Deciding) -> Fate:
        decider = deciding.decider
        if path in self._steps:
            return self._by(self._steps[path])
        if self._sight.is_never_taken(Place(*os.path.split(path))):
            return Fate("", (), NEVER_TAKEN)
        if path in self._left:
            left = self._left[path]
            waits = decider is not None and not on_duty(decider, self._world.now_ns)
            when_ns = deciding.will_act_at(decider) if decider is not None and waits else None
            return Fate(left.rule, (), left.reason, when_ns)
        # What is in a folder that is taken as a whole moves with it.
        folder = os.path.dirname(path)
        while not slashed.is_top(folder):
            along = self._steps.get(folder, [])
            if along and along[-1].was is not None and along[-1].was.kind == "folder":
                return self._by(along, f"handled together with its folder {folder}")
            if folder in self._left:
                left = self._left[folder]
                return Fate(left.rule, (), f"it is in {folder}: {left.reason}")
            folder = os.path.dirname(folder)
        if decider is None:
            return Fate("")
        refused = [refusal.reason for refusal in self._plan.refused if refusal.rule == decider.name]
        if refused:
            return Fate(decider.name, (), refused[0])
        if decider.ending == "leave":
            return Fate(decider.name, (), "a `leave` rule matches it")
        if decider.duplicates is not None:
            return Fate(decider.name, (), "it is the only copy, or the copy to keep")
        return Fate(decider.name, (), "it is already where this rule puts it")

    @staticmethod
    def _by(steps: list[Step], reason: str = "") -> Fate:
        return Fate(steps[-1].rule, tuple(steps), reason)


def _tested(text: str, leaf: Leaf, turned: bool, facts: Facts) -> Tested:
    holder = holder_of(facts) if leaf.on.name == "in use" else None
    truth, value = leaf.test(facts), leaf.value(facts)
    stopped = leaf.check.stops(value) if leaf.check.stops and truth is False and isinstance(value, str) else None
    return Tested(text, leaf, (not truth) if turned and truth is not None else truth, value, holder, stopped)


@frozen
class Root:
    """A folder that rules act in, and how deep at most; None for all levels."""

    folder: str
    levels: int | None


def roots_of(book: RuleBook) -> list[Root]:
    """Return the folders that rules act in, resolved, each with how deep the rules go there; missing ones too."""
    found: dict[str, int | None] = {}
    for rule in book.rules:
        for folder in rule.folders:
            root = slashed.realpath(folder)
            deepest = found.get(root, 0)
            found[root] = None if rule.levels is None or deepest is None else max(deepest, rule.levels)
    return [Root(folder, levels) for folder, levels in sorted(found.items())]


def is_dated(book: RuleBook) -> bool:
    """Return True if time alone can make some rule match something that it does not match now."""
    return any(leaf.check.changes for rule in book.rules for leaf in rule.where.leaves())


def dated_rules(book: RuleBook) -> frozenset[str]:
    """Return the rules that match more as time passes, and the limits of the trash that go by time."""
    named = {rule.name for rule in book.rules if any(leaf.check.changes for leaf in rule.where.leaves())}
    return frozenset(named | {name for name, limits in named_limits(book.trash) if limits.goes_by_time})


def owner_of(book: RuleBook, folder: str) -> str | None:
    """Return the folder that must be planned when something in another one changes; None where no rule sees it.

    Where rules take folders as a whole, what is inside one is part of an entry of the folder that it is in.
    """
    found: str | None = None
    for rule in book.rules:
        for one in rule.folders:
            root = slashed.realpath(one)
            if not is_inside(folder, root):
                continue
            depth = 0 if folder == root else folder[len(root.rstrip("/")) :].count("/")
            if rule.take != "files":
                return root if rule.levels == 1 or depth <= 1 else _upper(root, folder)
            if rule.levels is None or depth < rule.levels:
                found = folder
    return found


def _upper(root: str, folder: str) -> str:
    """Return the folder just below a root on the way to another."""
    return slashed.join(root, folder[len(root.rstrip("/")) + 1 :].split("/")[0])


def earliest_changes(book: RuleBook, world: World, folders: Collection[str] | None) -> dict[str, int]:
    """Return, by folder, the first moment at which the answer of a rule for something in it may change on its own.

    Args:
        book: the rules.
        world: the moment, and what else is not in the entries.
        folders: which folders, resolved; None for every folder the rules act in.
    """
    found: dict[str, int] = {}
    if not is_dated(book):
        return found
    sight = Sight(book, world)
    by_folders = any(rule.take != "files" for rule in book.rules)
    for listing in _listings(book, folders):
        names = [*listing.names, *(listing.folders if by_folders else ())]
        for name in names:
            moment_ns = _change_of(sight, Place(listing.folder, name))
            if moment_ns is not None:
                found[listing.folder] = min(moment_ns, found.get(listing.folder, moment_ns))
    return found


def _change_of(sight: Sight, place: Place) -> int | None:
    try:
        record = look(place)
    except OSError:
        return None
    inside: Inside | Unknown | None = look_inside(place.path) if record.identity.kind == "folder" else None
    deciding = sight.of(record, inside)
    moments = [
        at
        for rule in sight.book.rules
        if rule.name in deciding.facts
        for leaf in rule.where.leaves()
        if leaf.check.changes and (at := leaf.changes_at(deciding.facts[rule.name])) is not None
    ]
    return min(moments, default=None)


def _listings(book: RuleBook, folders: Collection[str] | None) -> Iterator[Listing]:
    """Yield the listings of some folders, or of everything that rules act in."""

    def descend(listing: Listing, name: str, left: int | None) -> int | None:
        path = Place(listing.folder, name).path
        if folders is not None or never_entered(path, name) or (left is not None and left <= 1):
            return None
        # A context that is None would end the walk; all levels are very many.
        return _ALL if left is None else left - 1

    wanted = [Root(one, 1) for one in folders] if folders is not None else roots_of(book)
    done: set[str] = set()
    for root in wanted:
        if not isdir(root.folder):
            continue
        try:
            for listing, _ in walk(root.folder, _ALL if root.levels is None else root.levels, False, descend, lambda _: None):
                if listing.folder not in done:
                    done.add(listing.folder)
                    yield listing
        except OSError:
            continue  # it went meanwhile; what watches it hears of that


_ALL = 1_000_000


def _written_ns(place: Place) -> int:
    try:
        return look(place).mtime_ns
    except OSError:
        return 0  # it went meanwhile: its folder is looked at once more


def held_until(book: RuleBook, plan: Plan, now_ns: int) -> dict[str, int]:
    """Return, by folder, when what a plan leaves for its hours, or because it was just written, may be taken."""
    rules = {rule.name: rule for rule in book.rules}
    found: dict[str, int] = {}
    for one in plan.not_touched:
        rule = rules.get(one.rule)
        if rule is None or one.reason.problem:
            continue
        if one.reason.why is Why.FRESH:
            at_ns = rule.settle.from_now(min(_written_ns(one.place), now_ns))
        elif one.reason.why is Why.OFF_DUTY:
            at_ns = min(hours.begin_after(now_ns) for hours in rule.during)
        else:
            continue
        found[one.place.folder] = min(at_ns, found.get(one.place.folder, at_ns))
    return found
