"""The planner of `tidy`: what a rule book would do with what is on the disk now."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from frugal_sorter.files.record import FileRecord, Identity, Listing, Place, Unread, place_of
from frugal_sorter.files.status import look
from frugal_sorter.files.walk import reason_of, under_version_control, walk
from frugal_sorter.plans.clash import Names, is_numbered_form
from frugal_sorter.plans.guard import never_entered, refused_folder
from frugal_sorter.plans.plan import Left, Note, Plan, Refusal
from frugal_sorter.plans.targets import TargetFolders
from frugal_sorter.rules.book import Rule, RuleBook
from frugal_sorter.rules.fields import Facts, World, depth_below
from frugal_sorter.rules.patterns import Missing, Template

Recall = Callable[[str, Place, Identity], int | None]


@dataclass(frozen=True)
class Past:
    """What earlier runs say of an entry; each question returns the number of a run, or None.

    Args:
        taken_back: an undo put this entry back here, where this rule had taken it away.
        put_here: this rule itself put this entry here.
    """

    taken_back: Recall = lambda _key, _place, _identity: None
    put_here: Recall = lambda _key, _place, _identity: None


class _Acting(NamedTuple):
    """A rule in a folder: the `in` folder it comes from, and the levels left below here."""

    base: str
    levels: int | None


_Active = dict[int, _Acting]


def plan_by_rules(book: RuleBook, world: World, past: Past, again: bool = False) -> Plan:
    """Plan what the rules would do; nothing is changed.

    Args:
        book: the rules.
        world: the moment, which ages are counted from.
        past: what the journal knows.
        again: also what was taken back by undo.
    """
    return _Planner(book, world, past, again).plan()


class _Planner:
    def __init__(self, book: RuleBook, world: World, past: Past, again: bool) -> None:
        self.book = book
        self.world = world
        self.past = past
        self.again = again
        self.result = Plan("tidy", world.now_ns, book.file, rules=[rule.name for rule in book.rules])
        self.names = Names()
        self.folders = TargetFolders()
        self.resolved: dict[str, str] = {}
        self.rule_file = os.path.realpath(book.file)
        self.here: _Active = {}

    def plan(self) -> Plan:
        roots = self._roots()
        done: set[str] = set()
        for root in sorted(roots):
            if root not in done:
                self._walk(root, roots, done)
        self.result.roots = sorted(roots)
        return self.result

    # Where the rules act

    def _roots(self) -> dict[str, _Active]:
        """Resolve each `in` once; missing and refused ones are noted."""
        roots: dict[str, _Active] = {}
        missing: dict[str, list[str]] = {}
        for index, rule in enumerate(self.book.rules):
            for folder in rule.folders:
                root = os.path.realpath(folder)
                refused = refused_folder(root)
                if refused:
                    self.result.refused.append(Refusal(rule.name, f"{root} is {refused}, where nothing is sorted"))
                elif not os.path.isdir(root):
                    why = "is not a folder" if os.path.lexists(root) else "is missing"
                    missing.setdefault(f"{folder} {why}", []).append(rule.name)
                else:
                    roots.setdefault(root, {})[index] = _Acting(root, rule.levels)
        for what, rules in missing.items():
            self.result.notes.append(Note(f"{what}; skipped there: {', '.join(rules)}", True))
        return roots

    def _walk(self, root: str, roots: dict[str, _Active], done: set[str]) -> None:
        def descend(listing: Listing, name: str, _: _Active) -> _Active | None:
            path = Place(listing.folder, name).path
            below: _Active = {}
            if not never_entered(path, name):
                for index, acting in self.here.items():
                    if acting.levels != 1 and (name[0] != "." or self.book.rules[index].hidden):
                        left = None if acting.levels is None else acting.levels - 1
                        below[index] = _Acting(acting.base, left)
            for index, acting in roots.get(path, {}).items():
                # The nearer `in` is the one that relative targets are below.
                outer = below.get(index, acting)
                deeper = None if None in (outer.levels, acting.levels) else max(outer.levels or 0, acting.levels or 0)
                below[index] = _Acting(path, deeper)
            return below or None

        try:
            for listing, active in walk(root, roots[root], self._status_needed(), descend, self._unread):
                done.add(listing.folder)
                self.here = active
                if under_version_control(listing):
                    self._leave_whole(listing.folder)
                if self.here:
                    self._listing(listing)
        except OSError as error:
            self._unread(Unread(root, reason_of(error)))

    def _status_needed(self) -> bool:
        everything = tuple(range(len(self.book.rules)))
        return self.book.matcher(everything, self.world.now_ns).needs_status

    def _leave_whole(self, folder: str) -> None:
        inside = {index: acting for index, acting in self.here.items() if acting.base == folder}
        if len(inside) < len(self.here):
            self.result.notes.append(Note(f"{folder} is under version control and is left whole", False))
        self.here = inside

    def _unread(self, unread: Unread) -> None:
        self.result.notes.append(Note(f"{unread.path}: {unread.reason}", not unread.by_design))

    # What they do there

    def _listing(self, listing: Listing) -> None:
        indexes = tuple(sorted(self.here))
        shown = any(self.book.rules[index].hidden for index in indexes)
        self.result.seen += len(listing.names if shown else [name for name in listing.names if name[0] != "."])
        depths = [depth_below(self.here[index].base, listing.folder) for index in indexes]
        matcher = self.book.matcher(indexes, self.world.now_ns)
        hits = matcher(listing, depths)
        for at, index in sorted(hits, key=lambda hit: listing.names[hit[0]]):
            place = listing.place(at)
            if place.path == self.rule_file:
                continue
            try:
                record = look(place)
            except OSError as error:
                self._unread(Unread(place.path, reason_of(error)))
                continue
            rule = self.book.rules[index]
            facts = Facts(record, self.here[index].base, self.book.types, self.world)
            if record.identity.kind != "file" or rule.where.test(facts) is not True:
                self._left(rule, record, "changed while the folder was read", True)
            else:
                self._claimed(rule, record, facts)

    def _left(self, rule: Rule, record: FileRecord, reason: str, problem: bool) -> None:
        self.result.left.append(Left(record.place, rule.name, reason, problem))

    def _claimed(self, rule: Rule, record: FileRecord, facts: Facts) -> None:
        """Plan what the deciding rule does with an entry, or note why it is left."""
        if rule.ending == "leave":
            self.result.kept += 1
            return
        wanted = self._wanted(rule, facts)
        if isinstance(wanted, Missing):
            self._left(rule, record, wanted.reason, True)
            return
        place = record.place
        if self._is_home(rule, record, wanted):
            self.result.at_home += 1
        elif not self.again and (run := self.past.taken_back(rule.key, place, record.identity)):
            self._left(rule, record, f"taken back by run {run}; --again does it", False)
        elif self._is_unsettled(rule, record):
            self._left(rule, record, "written to a moment ago", False)
        elif problem := self.folders.usable(wanted.folder, record.identity.dev, facts.base):
            self._left(rule, record, problem, True)
        elif rule.clash == "skip" and self.names.on_disk(wanted):
            self._left(rule, record, f"{wanted.name} is there already", False)
        else:
            for folder in self.folders.to_make(wanted.folder):
                self.result.add("make-folder", rule.name, rule.key, None, place_of(folder), None)
            self.result.add("move", rule.name, rule.key, place, self.names.give(wanted), record.identity)

    def _wanted(self, rule: Rule, facts: Facts) -> Place | Missing:
        """Return the place that the rule wants an entry to be in, clashes aside."""
        place = facts.record.place
        folder, name = place
        if rule.move is not None:
            segments = rule.move.fill(facts, self.book.type_folders)
            if isinstance(segments, Missing):
                return segments
            folder = self._target(rule.move, segments, facts.base)
        if rule.rename is not None:
            segments = rule.rename.fill(facts, self.book.type_folders)
            if isinstance(segments, Missing):
                return segments
            name = segments[0]
        return Place(folder, name)

    def _target(self, target: Template, segments: list[str], base: str) -> str:
        """Return the target folder; of an absolute one the fixed part is resolved, once."""
        if not target.absolute:
            return os.path.normpath(os.path.join(base, *segments))
        if target.text not in self.resolved:
            self.resolved[target.text] = os.path.realpath(os.path.join("/", *segments[: target.fixed]))
        return os.path.normpath(os.path.join(self.resolved[target.text], *segments[target.fixed :]))

    def _is_home(self, rule: Rule, record: FileRecord, wanted: Place) -> bool:
        place = record.place
        if place.folder == wanted.folder and (place.name == wanted.name or is_numbered_form(place.name, wanted.name)):
            return True
        # A rule that makes a new name from the old one would otherwise never come to rest.
        return rule.rename is not None and self.past.put_here(rule.key, place, record.identity) is not None

    def _is_unsettled(self, rule: Rule, record: FileRecord) -> bool:
        limit_ns = rule.settle.before(self.world.now_ns)
        # A date in the future tells nothing; then the change time of the inode decides.
        written_ns = record.mtime_ns if record.mtime_ns <= self.world.now_ns else record.ctime_ns
        return written_ns > limit_ns and limit_ns < self.world.now_ns
