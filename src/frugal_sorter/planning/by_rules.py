"""The planner of `tidy`: what a rule book would do with what is on the disk now."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from itertools import count, groupby
from typing import NamedTuple

from frugal_sorter.filesystem.parallel import work_through
from frugal_sorter.filesystem.record import Listing, Place, Unknown, Unread
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.tree import LIST, isdir, lexists
from frugal_sorter.filesystem.walk import Inside, Reader, look_inside, working
from frugal_sorter.planning.endings import EarlierRuns, Outcomes, Settled, Settling
from frugal_sorter.planning.guard import (
    NoEntries,
    ceilings_of,
    enforce_removal_limits,
    hold_moves,
    hold_space,
    keep_apart,
    keep_targets_in_place,
    leave_unwritable,
    note_on_opened,
    prune,
    refused_entry,
    refused_rule,
    version_control_root,
    with_parents,
)
from frugal_sorter.planning.matched import identity_inside
from frugal_sorter.planning.plan import JobName, Note, Plan, Refusal
from frugal_sorter.planning.sight import Acting, Scope
from frugal_sorter.planning.trash_plans import empty_by_rule
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.reasons import Reason, Why, reason_of
from frugal_sorter.rules.fields import NAME_COST, Facts, World
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.tree import Node, Truth
from frugal_sorter.steps.step import NONE, ONE_FILE, Count, NotTouched, folder_of
from frugal_sorter.trash.bins import never_entered
from frugal_sorter.values import field, mutable, replace

# At most this many rules are named where several are kept from acting.
_NAMED = 4
Narrow = Callable[[Plan, World], None]


def plan_by_rules(
    book: RuleBook,
    world: World,
    past: EarlierRuns,
    again: bool = False,
    at_most: int | None = None,
    kind: JobName = "tidy",
    narrow: Narrow = lambda _plan, _world: None,
    only: frozenset[str] | None = None,
) -> Plan:
    """Plan what the rules would do; nothing is changed.

    Args:
        book: the rules.
        world: the moment, which ages are counted from, and what else is not in the entries.
        past: what the journal knows.
        again: also what was taken back by undo.
        at_most: how much a rule may take away, whatever it says itself.
        kind: the command that the plan is for.
        narrow: takes steps out again before the plan is held to ceilings.
        only: the folders, resolved, whose entries are looked at; None for all. What is deeper is not read.
    """
    try:
        return _Planner(book, world, past, again, at_most, kind, narrow, only).plan()
    finally:
        world.contents.close()


class _Hit(NamedTuple):
    """A file that rules match: the rules by index, the `in` of the last, and the costly facts that are known already."""

    place: Place
    rules: tuple[int, ...]
    base: str
    facts: Facts | None = None


@mutable
class _Found:
    """What a walk found; a fork sends it back whole."""

    hits: list[_Hit] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    roots: set[str] = field(default_factory=set)
    seen: Count = NONE
    links: int = 0
    others: int = 0
    settled: Settled = field(default_factory=Settled)

    def add(self, other: _Found) -> None:
        """Merge what another process found."""
        self.hits += other.hits
        self.notes += other.notes
        self.roots |= other.roots
        self.seen += other.seen
        self.links += other.links
        self.others += other.others
        self.settled.add(other.settled)


def _taken_from(hits: list[_Hit]) -> Iterator[_Hit]:
    """Yield the hits in order; each is let go as its steps come, so that not all of both are held at once."""
    hits.reverse()
    while hits:
        yield hits.pop()


@contextmanager
def _opened(folder: str) -> Iterator[int | None]:
    """Open a folder in which many files are looked at; without it each is found by its whole path."""
    try:
        descriptor = disk.open(folder, LIST)
    except OSError:
        yield None
        return
    try:
        yield descriptor
    finally:
        disk.close(descriptor)


@mutable(slots=False)
class _Planner:
    book: RuleBook
    world: World
    past: EarlierRuns
    again: bool
    at_most: int | None
    kind: JobName
    narrow: Narrow
    only: frozenset[str] | None = None
    here: Scope = field(default_factory=lambda: Scope({}, ()))
    found: _Found = field(default_factory=_Found)
    checked: int = 0

    def plan(self) -> Plan:
        book = self.book
        self.result = Plan(self.kind, self.world.now_ns, book.file, rules=[rule.name for rule in book.rules])
        self.never = NoEntries(book)
        roots = self._roots()
        self.never_folders = self._never_folders(roots)
        off_duty = frozenset(
            index
            for index, rule in enumerate(book.rules)
            if rule.during and not any(hours.hold(self.world.now_ns) for hours in rule.during)
        )
        self.outcomes = Outcomes(book, self.world, self.past, self.again, self.result, off_duty, frozenset(self.never_folders))
        self.settling = Settling(book, self.world, self.outcomes.placing)
        for root in sorted(roots):
            if root not in self.found.roots and self._is_wanted(root):
                self._walk(root, roots)
        # What is inside a folder that is taken as a whole is counted, too.
        # Where only some folders are looked at, nothing is counted beyond them.
        if self.only is None:
            self.result.levels = {root: None if roots[root].on_folders else roots[root].deepest for root in sorted(roots)}
        self.result.seen = self.found.seen
        self.result.links, self.result.specials = self.found.links, self.found.others
        self.result.at_home += self.found.settled.at_home
        self.result.kept += self.found.settled.kept
        self.result.matched |= {book.rules[index].name for index in self.found.settled.rules}
        self.result.notes += sorted(self.found.notes)
        # In any order of finding: parents first, then by name, so that numbers are given in that order.
        # Only now, in one process: targets and their numbers depend on what came before.
        folders = sorted({hit.place.folder for hit in self.found.hits}, key=lambda folder: folder.split("/"))
        rank = {folder: number for number, folder in enumerate(folders)}
        self.found.hits.sort(key=lambda hit: (rank[hit.place.folder], hit.place.name))
        planned, of = count(1), len(self.found.hits)
        for folder, together in groupby(_taken_from(self.found.hits), key=lambda hit: hit.place.folder):
            with _opened(folder) as descriptor:
                for hit in together:
                    self._hit(hit, descriptor)
                    self.world.on_progress(next(planned), of)
        self.outcomes.finish_retention()
        self.outcomes.finish_packs()
        self.outcomes.finish_duplicates()
        targets = self.outcomes.folders
        keep_targets_in_place(self.result)
        keep_apart(self.result)
        # Before ceilings: what is left after all counts towards none.
        self.narrow(self.result, self.world)
        self.result.ceilings = ceilings_of(book.rules, self.at_most)
        if book.trash and self.only is None:
            empty_by_rule(self.result, book.trash, self.world, self.at_most)
        leave_unwritable(self.result, targets.existing)
        enforce_removal_limits(self.result)
        hold_moves(self.result, book.rules)
        hold_space(self.result, targets.device, targets.existing)
        prune(self.result, {rule.name: rule for rule in book.rules if rule.prune})
        self.result.make_folders(targets.to_make)
        return self.result

    def _is_wanted(self, folder: str, exactly: bool = False) -> bool:
        """Return True if entries of a folder are looked at; unless exactly these, also those of one below it."""
        if self.only is None:
            return True
        return folder in self.only or (not exactly and folder in self._above_only)

    @cached_property
    def _by_name(self) -> frozenset[int]:
        """The rules that name and folder alone can decide."""
        return frozenset(
            index
            for index, rule in enumerate(self.book.rules)
            if all(leaf.on.source and leaf.on.cost <= NAME_COST for leaf in rule.where.leaves())
        )

    @cached_property
    def _above_only(self) -> frozenset[str]:
        """The folders on the way to those that are looked at."""
        return frozenset(above for folder in self.only or () for above in with_parents(folder))

    # Where the rules act

    def _roots(self) -> dict[str, Scope]:
        """Resolve each `in` once; missing and refused ones are noted."""
        roots: dict[str, dict[int, Acting]] = {}
        missing: dict[str, list[str]] = {}
        for index, rule in enumerate(self.book.rules):
            for folder in rule.folders:
                root = slashed.realpath(folder)
                refused = refused_rule(rule, root)
                if refused:
                    self.result.refused.append(Refusal(rule.name, Why.GUARDED(refused)))
                elif folder in self.book.unmounted:
                    missing.setdefault(f"{folder} {self.book.unmounted[folder]}", []).append(rule.name)
                elif not isdir(root):
                    maker = self._makers.get(root)
                    if lexists(root):
                        missing.setdefault(f"{folder} is not a folder", []).append(rule.name)
                    elif maker is not None:
                        what = f'{folder} does not exist yet; rule "{maker.name}" will create it'
                        self.result.notes.append(Note(f"{what}; skipped for rule {rule.name}", False))
                    else:
                        missing.setdefault(f"{folder} is missing", []).append(rule.name)
                else:
                    roots.setdefault(root, {})[index] = Acting(root, rule.levels)
                    opened = note_on_opened(rule, root)
                    if opened is not None and opened.problem and opened not in self.result.notes:
                        self.result.notes.append(opened)
        for root in roots:
            tree = version_control_root(root)
            if tree is not None:
                self.result.notes.append(
                    Note(f"{root} is part of a version-controlled tree ({tree}); these rules will change its files", False)
                )
        for what, rules in missing.items():
            named = ", ".join(rules if len(rules) <= _NAMED else [*rules[: _NAMED - 1], f"{len(rules) - _NAMED + 1} more"])
            self.result.notes.append(Note(f"{what}; skipped for {named}", True, tuple(rules)))
        return {root: Scope(acting, self.book.rules) for root, acting in roots.items()}

    @cached_property
    def _makers(self) -> dict[str, Rule]:
        """The rules that make a folder when they first put something there, as the first of two stages does."""
        makers: dict[str, Rule] = {}
        for rule in self.book.rules:
            # What is in a folder that is missing itself is not put anywhere.
            there = [folder for folder in rule.folders if isdir(folder)]
            for head in self._heads(rule, there) if there else ():
                for folder in with_parents(head):
                    makers.setdefault(folder, rule)
        return makers

    @staticmethod
    def _heads(rule: Rule, folders: Iterable[str]) -> set[str]:
        """Return the folders that a rule writes into from some of its own, as far as they are the same for every entry."""
        bases = [slashed.realpath(folder) for folder in folders]
        return {
            slashed.realpath(slashed.join(base, *target.head))
            for target in rule.targets
            for base in ([target.top] if target.absolute else bases)
        }

    def _never_folders(self, roots: Iterable[str]) -> set[str]:
        """Return the folders that are not entries: those that rules act in or write into, and all above."""
        # Switching a rule off does not give up what it has sorted.
        all_rules = [*self.book.rules, *self.book.off]
        writing = set(self.past.written([rule.key for rule in all_rules])) | set(roots)
        writing |= {slashed.realpath(folder) for rule in self.book.off for folder in rule.folders}
        for rule in all_rules:
            writing |= self._heads(rule, rule.folders)
        return {above for folder in writing for above in with_parents(folder)}

    def _walk(self, root: str, roots: dict[str, Scope]) -> None:
        """Find what the rules claim below a folder, with two processes where the tree is large."""

        def descend(listing: Listing, name: str, _: Scope) -> Scope | None:
            path = Place(listing.folder, name).path
            below = None
            inside = None
            if not self._is_wanted(path) and not self._is_wanted(listing.folder, exactly=True):
                return None
            if not never_entered(path, name):
                claims, inside = self._claims_folder(listing, name)
                below = None if claims else self.here.below(name[0] == ".")
            if inside is not None:
                # What the walk goes into is counted there.
                self.found.seen += Count(0, 1, inside if below is None else 0)
            nearer = roots.get(path)
            if nearer is not None:
                below = nearer if below is None else below.joined(nearer)
            return below if self._is_wanted(path) else None

        def pick(listing: Listing, scope: Scope) -> Sequence[int]:
            if listing.folder in roots:
                self.found.roots.add(listing.folder)
            self.here = self._acting(listing, scope)
            is_wanted = self.here.acting and self._is_wanted(listing.folder, exactly=True)
            return self._pick(listing) if is_wanted else ()

        # What is in no column comes from helpers that a fork must not share; so do whole folders.
        cheap = all(leaf.on.source for rule in self.book.rules for leaf in rule.where.leaves())
        may_fork = cheap and all(rule.take == "files" for rule in self.book.rules)
        rules = [index for index, rule in enumerate(self.book.rules) if rule.take != "folders"]
        status = self.book.matcher(tuple(rules), self.world.now_ns).needs_status or self.settling.needs_status(rules)

        def begin() -> _Found:
            # In a fork, too: what `pick` and `descend` find goes there.
            self.found = _Found()
            return self.found

        def handle(listing: Listing, _: Scope, found: _Found) -> None:
            if listing.names:
                self._listing(listing)

        before, reader = self.found, Reader(status, descend, pick)
        work = working(reader, handle, lambda _, unread: self._unread(unread))
        before.add(work_through((root, roots[root]), work, begin, _Found.add, may_fork))
        self.found = before

    def _acting(self, listing: Listing, scope: Scope) -> Scope:
        """Return the rules that act in a folder; a tree under version control is left whole."""
        if not listing.version_control:
            return scope
        inside = scope.only(listing.folder)
        if len(inside.acting) < len(scope.acting):
            self.found.notes.append(Note(f"{listing.folder} is under version control, and frugal does not change it", False))
        return inside

    def _unread(self, unread: Unread) -> None:
        self.found.notes.append(Note(f"{unread.path}: {unread.reason}", unread.reason.problem))

    # What they do there

    def _pick(self, listing: Listing) -> Sequence[int]:
        here = self.here
        names = listing.names if here.sees_hidden else [name for name in listing.names if name[0] != "."]
        self.checked += len(names)
        self.world.on_progress(self.checked, 0)
        if here.on_files:
            self.found.seen += Count(len(names))
        self.found.links += sum(here.sees_hidden or name[0] != "." for name in listing.links)
        self.found.others += sum(here.sees_hidden or name[0] != "." for name in listing.others)
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
        never, names = self.never.names_in(listing.folder), listing.names
        hits = [hit for hit in matcher(listing, here.depths(listing.folder, indexes), ask) if names[hit[0]] not in never]
        hits = self.settling.unsettled(listing, hits, here, self.found.settled)
        self.found.hits += [_Hit(listing.place(at), rules, here.base(rules[-1]), known.get(at)) for at, rules in hits]

    def _hit(self, hit: _Hit, descriptor: int | None) -> None:
        """Look at a file that a rule claims, in its open folder, and check that it still does."""
        rule = self.book.rules[hit.rules[-1]]
        try:
            record = look(hit.place, descriptor)
        except OSError as error:
            self.result.notes.append(Note(f"{hit.place.path}: {reason_of(error)}", True))
            return
        facts = hit.facts
        if facts is None or facts.base != hit.base or facts.record.identity != record.identity:
            facts = Facts(record, hit.base, self.book.types, self.world)
        # What names alone decide, which are the same, is decided.
        rules = hit.rules
        if not self._by_name.issuperset(rules):
            rules = tuple([index for index in rules if self.book.rules[index].where.test(facts) is True])
        if record.identity.kind != "file" or not rules or rules[-1] != hit.rules[-1]:
            self._left(rule, hit.place, Why.CHANGED_WHILE_READ())
        else:
            self.outcomes.entry(rules, facts)

    def _claims_folder(self, listing: Listing, name: str) -> tuple[bool, int | None]:
        """Find the rule that takes a folder as a whole, if there is one; then nothing inside is an entry.

        Returns:
            whether there is one, and how many files are inside; None where no rule is asked about the folder.
        """
        indexes = self.here.on_folders
        place = Place(listing.folder, name)
        if not indexes or place.path in self.never_folders or refused_entry(place.path):
            return False, None
        if name[0] == "." and not any(self.book.rules[index].hidden for index in indexes):
            return False, None
        try:
            record = look(place)
        except OSError:
            return False, None  # the walk finds it missing too, and says so
        inside = look_inside(place.path)
        files = inside.files if isinstance(inside, Inside) else 0
        matched: list[int] = []
        facts = None
        for index in indexes:
            rule = self.book.rules[index]
            if name[0] == "." and not rule.hidden:
                continue
            facts = Facts(record, self.here.base(index), self.book.types, self.world, inside)
            if rule.where.test(facts) is not True:
                continue
            if isinstance(inside, Unknown):
                self._left(rule, place, Why.UNKNOWN_INSIDE(inside.reason), folder_of(0))
                return True, 0
            matched.append(index)
            if rule.ending is not None:
                break
        if not matched or facts is None or isinstance(inside, Unknown):
            return False, files
        last = self.book.rules[matched[-1]]
        claimed = last.ending is not None
        if claimed and last.ending != "leave" and inside.version_control:
            self._left(last, place, Why.VERSION_CONTROL_INSIDE(), folder_of(files))
            return True, files
        identity = identity_inside(record.identity, inside)
        base = self.here.base(matched[-1])
        self.outcomes.entry(matched, replace(facts, record=record._replace(identity=identity), base=base, _known={}))
        return claimed, files

    def _left(self, rule: Rule, place: Place, reason: Reason, count: Count = ONE_FILE) -> None:
        self.result.not_touched.append(NotTouched(place, rule.name, reason, count))
