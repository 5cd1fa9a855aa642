"""The planner of `tidy`: what a rule book would do with what is on the disk now."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from frugal_sorter.files.halves import Halves
from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import Identity, Listing, Place, Unknown, Unread, is_inside
from frugal_sorter.files.status import look
from frugal_sorter.files.walk import reason_of, unread_for, walk
from frugal_sorter.plans.clash import Names, is_numbered_form
from frugal_sorter.plans.guard import never_entered, refused_folder
from frugal_sorter.plans.plan import Left, Note, Plan, Refusal
from frugal_sorter.plans.scope import Acting, Scope
from frugal_sorter.plans.targets import TargetFolders
from frugal_sorter.rules.book import Rule, RuleBook
from frugal_sorter.rules.condition import Node, Truth
from frugal_sorter.rules.fields import Facts, World
from frugal_sorter.rules.patterns import Missing
from frugal_sorter.rules.placing import Wanted, wanted_place

Recall = Callable[[str, Place, Identity], int | None]
_MOST_NUMBERS = 100_000


@dataclass(frozen=True)
class Past:
    """What earlier runs say; the first two return the number of a run, or None.

    Args:
        taken_back: an undo put this entry back here, where this rule had taken it away.
        put_here: this rule itself put this entry here.
        written: the folders that some rules have moved entries into.
    """

    taken_back: Recall = lambda _key, _place, _identity: None
    put_here: Recall = lambda _key, _place, _identity: None
    written: Callable[[Sequence[str]], frozenset[str]] = lambda _keys: frozenset()


def plan_by_rules(book: RuleBook, world: World, past: Past, again: bool = False) -> Plan:
    """Plan what the rules would do; nothing is changed.

    Args:
        book: the rules.
        world: the moment, which ages are counted from, and what else is not in the entries.
        past: what the journal knows.
        again: also what was taken back by undo.
    """
    try:
        return _Planner(book, world, past, again).plan()
    finally:
        world.contents.close()


class _Hit(NamedTuple):
    """A file that a rule claims: the rule by its index, its `in`, and dear facts that are known already."""

    place: Place
    rule: int
    base: str
    facts: Facts | None = None


@dataclass(slots=True)
class _Found:
    """What a walk found; a fork sends it back whole."""

    hits: list[_Hit] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    roots: set[str] = field(default_factory=set)
    seen: int = 0

    def add(self, other: _Found) -> None:
        """Take in what another process found."""
        self.hits += other.hits
        self.notes += other.notes
        self.roots |= other.roots
        self.seen += other.seen


@dataclass
class _Planner:
    book: RuleBook
    world: World
    past: Past
    again: bool
    names: Names = field(default_factory=Names)
    folders: TargetFolders = field(default_factory=TargetFolders)
    here: Scope = field(default_factory=lambda: Scope({}, ()))
    resolved: dict[str, str] = field(default_factory=dict)
    counters: dict[Place, int] = field(default_factory=dict)
    found: _Found = field(default_factory=_Found)

    def plan(self) -> Plan:
        book = self.book
        self.result = Plan("tidy", self.world.now_ns, book.file, rules=[rule.name for rule in book.rules])
        self.never = {os.path.realpath(book.file), *book.lists}
        roots = self._roots()
        self.never_folders = self._never_folders(roots)
        self.off_duty = {
            index
            for index, rule in enumerate(book.rules)
            if rule.during and not any(hours.hold(self.world.now_ns) for hours in rule.during)
        }
        for root in sorted(roots):
            if root not in self.found.roots:
                self._walk(root, roots)
        self.result.roots = sorted(roots)
        self.result.seen = self.found.seen
        self.result.notes += sorted(self.found.notes)
        # Whoever found them: parents first, then by name, so that numbers are given in that order.
        for hit in sorted(self.found.hits, key=lambda hit: (hit.place.folder.split("/"), hit.place.name)):
            self._hit(hit)
        self._keep_targets_in_place()
        self._hold_ceilings()
        self.result.make_folders(self.folders.to_make)
        return self.result

    # Where the rules act

    def _roots(self) -> dict[str, Scope]:
        """Resolve each `in` once; missing and refused ones are noted."""
        roots: dict[str, dict[int, Acting]] = {}
        missing: dict[str, list[str]] = {}
        for index, rule in enumerate(self.book.rules):
            for folder in rule.folders:
                root = os.path.realpath(folder)
                refused = refused_folder(root)
                if refused:
                    self.result.refused.append(Refusal(rule.name, f"{root} is {refused}, where nothing is sorted"))
                elif folder in self.book.unmounted:
                    missing.setdefault(f"{folder} is not mounted", []).append(rule.name)
                elif not os.path.isdir(root):
                    why = "is not a folder" if os.path.lexists(root) else "is missing"
                    missing.setdefault(f"{folder} {why}", []).append(rule.name)
                else:
                    roots.setdefault(root, {})[index] = Acting(root, rule.levels)
        for what, rules in missing.items():
            self.result.notes.append(Note(f"{what}; skipped there: {', '.join(rules)}", True))
        return {root: Scope(acting, self.book.rules) for root, acting in roots.items()}

    def _never_folders(self, roots: Iterable[str]) -> set[str]:
        """Return the folders that are no entries: those that rules act in or write into, and all above."""
        self.written = self.past.written([rule.key for rule in self.book.rules])
        writing = set(self.written) | set(roots)
        for rule in self.book.rules:
            if rule.move is not None:
                bases = ["/"] if rule.move.absolute else [os.path.realpath(folder) for folder in rule.folders]
                writing |= {os.path.realpath(os.path.join(base, *rule.move.head)) for base in bases}
        return {above for folder in writing for above in _with_parents(folder)}

    def _walk(self, root: str, roots: dict[str, Scope], dev: int | None = None) -> None:
        """Find what the rules claim below a folder, with two processes where the tree is large."""

        def descend(listing: Listing, name: str, _: Scope) -> Scope | None:
            path = Place(listing.folder, name).path
            below = None
            if not never_entered(path, name) and not self._claims_folder(listing, name):
                below = self.here.below(name[0] == ".")
            nearer = roots.get(path)
            if nearer is not None:
                below = nearer if below is None else below.joined(nearer)
            return below

        def pick(listing: Listing, scope: Scope) -> Sequence[int]:
            if listing.folder in roots:
                self.found.roots.add(listing.folder)
            self.here = self._acting(listing, scope)
            return self._pick(listing) if self.here.acting else ()

        # What no column holds is asked of helpers that a fork must not share; so are whole folders.
        cheap = all(leaf.on.source for rule in self.book.rules for leaf in rule.where.leaves())
        halves = Halves[tuple[str, Scope]](cheap and all(rule.take == "files" for rule in self.book.rules))

        def split(left: list[tuple[str, Scope]]) -> list[tuple[str, Scope]]:
            was_fork = halves.is_fork
            mine = halves.split(left)
            if halves.is_fork and not was_fork:
                self.found = _Found()
            return mine

        rules = [index for index, rule in enumerate(self.book.rules) if rule.take != "folders"]
        status = self.book.matcher(tuple(rules), self.world.now_ns).needs_status
        try:
            for listing, _ in walk(root, roots[root], status, descend, self._unread, pick, split, dev):
                dev = listing.dev
                if listing.names:
                    self._listing(listing)
        except OSError as error:
            self._unread(unread_for(root, error))
        except BaseException:
            if halves.is_fork:
                os._exit(1)
            raise
        if halves.is_fork:
            halves.end(self.found)
        other, again = halves.other()
        if other is not None:
            self.found.add(other)
        for path, scope in again:
            # Read again as part of this tree: what is mounted there is still another volume.
            self._walk(path, {**roots, path: scope}, dev)

    def _acting(self, listing: Listing, scope: Scope) -> Scope:
        """Return the rules that act in a folder; a tree under version control is left whole."""
        if not listing.version_control:
            return scope
        inside = scope.only(listing.folder)
        if len(inside.acting) < len(scope.acting):
            self.found.notes.append(Note(f"{listing.folder} is under version control and is left whole", False))
        return inside

    def _unread(self, unread: Unread) -> None:
        self.found.notes.append(Note(f"{unread.path}: {unread.reason}", not unread.by_design))

    # What they do there

    def _pick(self, listing: Listing) -> Sequence[int]:
        here = self.here
        names = listing.names if here.sees_hidden else [name for name in listing.names if name[0] != "."]
        self.found.seen += len(names)
        matcher = self.book.matcher(here.on_files, self.world.now_ns)
        return matcher.pick(listing, here.depths(listing.folder, here.on_files))

    def _listing(self, listing: Listing) -> None:
        here, indexes = self.here, self.here.on_files
        known: dict[int, Facts] = {}

        def ask(at: int, node: Node) -> Truth:
            if at not in known:
                try:
                    record = look(listing.place(at))
                except OSError:
                    return None
                known[at] = Facts(record, here.base(indexes[0]), self.book.types, self.world)
            return node.test(known[at])

        matcher = self.book.matcher(indexes, self.world.now_ns)
        hits = matcher(listing, here.depths(listing.folder, indexes), ask)
        self.found.hits += [_Hit(listing.place(at), index, here.base(index), known.get(at)) for at, index in hits]

    def _hit(self, hit: _Hit) -> None:
        """Look at a file that a rule claims, and see that it still does."""
        if hit.place.path in self.never:
            return
        rule = self.book.rules[hit.rule]
        try:
            record = look(hit.place)
        except OSError as error:
            self.result.notes.append(Note(f"{hit.place.path}: {reason_of(error)}", True))
            return
        facts = hit.facts
        if facts is None or facts.base != hit.base or facts.record.identity != record.identity:
            facts = Facts(record, hit.base, self.book.types, self.world)
        if record.identity.kind != "file" or rule.where.test(facts) is not True:
            self._left(rule, hit.place, "changed while the folder was read", True)
        else:
            self._claimed(hit.rule, facts)

    def _claims_folder(self, listing: Listing, name: str) -> bool:
        """Find the rule that takes a folder as a whole, if there is one; then nothing inside is an entry."""
        indexes = self.here.on_folders
        place = Place(listing.folder, name)
        if not indexes or place.path in self.never_folders:
            return False
        try:
            record = look(place)
        except OSError:
            return False  # the walk finds it missing too, and says so
        inside = look_inside(place.path)
        for index in indexes:
            rule = self.book.rules[index]
            if name[0] == "." and not rule.hidden:
                continue
            facts = Facts(record, self.here.base(index), self.book.types, self.world, inside)
            if rule.where.test(facts) is True:
                if isinstance(inside, Unknown):
                    self._left(rule, place, inside.reason, True)
                else:
                    identity = record.identity._replace(inside=inside.digest)
                    self._claimed(index, replace(facts, record=record._replace(identity=identity)))
                return True
        return False

    def _left(self, rule: Rule, place: Place, reason: str, problem: bool) -> None:
        self.result.left.append(Left(place, rule.name, reason, problem))

    def _claimed(self, index: int, facts: Facts) -> None:
        """Plan what the deciding rule does with an entry, or note why it is left."""
        rule, record = self.book.rules[index], facts.record
        place = record.place
        self.result.matched.add(rule.name)
        if rule.ending == "leave":
            self.result.kept += 1
            return
        wanted = wanted_place(self.book, rule, facts, self._resolve)
        if isinstance(wanted, Missing):
            self._left(rule, place, wanted.reason, True)
        elif self._is_home(place, wanted):
            self.result.at_home += 1
        elif not self.again and (run := self.past.taken_back(rule.key, place, record.identity)):
            self._left(rule, place, f"taken back by run {run}; --again does it", False)
        elif place.folder in self.written and self.past.put_here(rule.key, place, record.identity):
            # A target made of the old name or place, which the rule itself has changed, would
            # otherwise never come to rest.
            self.result.at_home += 1
        elif index in self.off_duty:
            self._left(rule, place, "outside the hours of the rule", False)
        elif self._is_unsettled(rule, facts):
            self._left(rule, place, "written to a moment ago", False)
        else:
            self._move(rule, facts, wanted)

    def _move(self, rule: Rule, facts: Facts, wanted: Wanted) -> None:
        record = facts.record
        target = self._free_number(wanted) if wanted.numbered else wanted.place
        if any(is_inside(target.folder, self._resolve(away)) for away in self.book.unmounted):
            self._left(rule, record.place, "the target is not mounted", True)
        elif is_inside(target.folder, record.place.path):
            self._left(rule, record.place, "a folder cannot go into itself", True)
        elif problem := self.folders.usable(target.folder, record.identity.dev, facts.base):
            self._left(rule, record.place, problem, True)
        elif rule.clash == "skip" and self.names.on_disk(target):
            self._left(rule, record.place, f"{target.name} is there already", False)
        else:
            self.result.add("move", rule.name, rule.key, record.place, self.names.give(target), record.identity)

    def _free_number(self, wanted: Wanted) -> Place:
        """Return the place with the first number that is free."""
        assert wanted.numbered is not None
        number = self.counters.get(wanted.place, 1)
        while number < _MOST_NUMBERS and not self.names.is_free(wanted.numbered(number)):
            number += 1
        self.counters[wanted.place] = number + 1
        return wanted.numbered(number)

    def _resolve(self, path: str) -> str:
        if path not in self.resolved:
            self.resolved[path] = os.path.realpath(path)
        return self.resolved[path]

    def _is_home(self, place: Place, wanted: Wanted) -> bool:
        if wanted.numbered is not None:
            # Any number that an earlier run may have given counts as its own.
            numbers = {int(number) for number in re.findall(r"\d+", place.path) if len(number) < 9}
            return any(wanted.numbered(number) == place for number in numbers)
        return place.folder == wanted.place.folder and (
            place.name == wanted.place.name or is_numbered_form(place.name, wanted.place.name)
        )

    def _is_unsettled(self, rule: Rule, facts: Facts) -> bool:
        limit_ns = rule.settle.before(self.world.now_ns)
        modified = facts("modified")
        # A date in the future tells nothing; then the change time of the inode decides.
        known = isinstance(modified, int) and modified <= self.world.now_ns
        written_ns = modified if isinstance(modified, int) and known else facts.record.ctime_ns
        return written_ns > limit_ns and limit_ns < self.world.now_ns

    # When all is known

    def _keep_targets_in_place(self) -> None:
        """Leave folders where they are that other entries of this plan go into."""
        targets = {above for step in self.result.moves if step.target for above in _with_parents(step.target.folder)}
        for step in self.result.moves:
            if step.was is not None and step.was.kind == "folder" and step.place.path in targets:
                self.result.left.append(Left(step.place, step.rule, "other entries go into it", False))
                self.result.drop(lambda one, gone=step: one is gone)  # type: ignore[misc]

    def _hold_ceilings(self) -> None:
        for rule in self.book.rules:
            if rule.at_most is None:
                continue
            count = sum(step.rule == rule.name for step in self.result.moves)
            if count > rule.at_most:
                reason = f"{count:,} entries, and `at_most` allows {rule.at_most:,}; raise it if that is right"
                self.result.refused.append(Refusal(rule.name, reason))
                self.result.drop(lambda step, name=rule.name: step.rule == name)  # type: ignore[misc]


def _with_parents(folder: str) -> list[str]:
    found = [folder]
    while (parent := os.path.dirname(folder)) != folder:
        folder = parent
        found.append(folder)
    return found
