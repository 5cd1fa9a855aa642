"""When time alone makes rules match something: for who waits for it instead of looking again and again."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from frugal_sorter.filesystem.foreseen import isdir
from frugal_sorter.filesystem.inside import Inside, look_inside
from frugal_sorter.filesystem.record import Listing, Place, Unknown, is_inside
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.walk import walk
from frugal_sorter.planning.guard import never_entered
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import Sight
from frugal_sorter.planning.trash_plans import named_limits
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.values import frozen


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
    """Return the rules of which time alone can make one match more, and the limits of the trash that go by time."""
    named = {rule.name for rule in book.rules if any(leaf.check.changes for leaf in rule.where.leaves())}
    return frozenset(named | {name for name, limits in named_limits(book.trash) if limits.goes_by_time})


def owner_of(book: RuleBook, folder: str) -> str | None:
    """Return the folder that must be planned when something in another one changes; None where no rule sees it.

    Where rules take folders as a whole, what is inside one is part of an entry of the folder that it lies in.
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
    """Return, by folder, the first moment at which the answer of a rule for something in it may change by itself.

    Args:
        book: the rules.
        world: the moment, and what else is not in the entries.
        folders: which folders, resolved; None for all that the rules act in.
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
    """Yield the listings of some folders, or of all that rules act in."""

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
            for listing, _ in walk(
                root.folder, _ALL if root.levels is None else root.levels, False, descend, lambda _: None
            ):
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
        if rule is None or one.problem:
            continue
        if one.reason == "written to a moment ago":
            at_ns = rule.settle.from_now(min(_written_ns(one.place), now_ns))
        elif one.reason == "outside the hours of the rule":
            at_ns = min(hours.begin_after(now_ns) for hours in rule.during)
        else:
            continue
        found[one.place.folder] = min(at_ns, found.get(one.place.folder, at_ns))
    return found
