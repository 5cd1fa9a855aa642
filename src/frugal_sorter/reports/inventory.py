"""What a folder holds: files and bytes by suffix, type, folder, age, owner and size."""

from __future__ import annotations

import heapq
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from operator import attrgetter
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from frugal_sorter.filesystem.extended_attributes import tags_text
from frugal_sorter.filesystem.parallel import work_through
from frugal_sorter.filesystem.record import (
    OTHER,
    PLAIN_SUFFIXES,
    TYPE_OF_SUFFIX,
    Listing,
    Unread,
    age_band,
    band_order,
    may_be_double,
    name_order,
    size_band,
    suffix_of,
)
from frugal_sorter.filesystem.walk import COUNTED_AT_ONCE, Reader, walk, working
from frugal_sorter.platforms import disk, slashed, volumes
from frugal_sorter.reasons import reason_of
from frugal_sorter.values import field, mutable

if TYPE_CHECKING:
    from frugal_sorter.rules.fields import World
    from frugal_sorter.rules.tree import Node


By = Literal["type", "ext", "folder", "age", "owner", "size", "tag"]
WAYS: tuple[By, ...] = ("type", "ext", "folder", "age", "owner", "size", "tag")
_MOST_SUFFIXES = 5_000
_SIZE, _MODIFIED, _LINKS = map(attrgetter, ("st_size", "st_mtime_ns", "st_nlink"))


class Dated(NamedTuple):
    """A file with its modification time in ns since the epoch."""

    mtime_ns: int
    path: str


class Sized(NamedTuple):
    """A file with its size in bytes, apparent and on the disk."""

    bytes: int
    disk: int
    path: str
    mtime_ns: int


class Space(NamedTuple):
    """The room on the volume of a folder, in bytes; `free` is what this user may fill."""

    folder: str
    total: int
    free: int


@mutable
class Count:
    """Files with something in common: how many, their bytes, the oldest and newest time in ns.

    Args:
        keys: what they have in common, one or two words.
        disk: bytes that they take on the disk: less where there are holes, more where blocks are large.
        direct_files: by folder, how many are directly in it.
        direct_bytes: and their bytes.
        suffixes: by type, how many have which suffix.
    """

    keys: tuple[str, ...]
    files: int = 0
    bytes: int = 0
    disk: int = 0
    oldest_ns: int = 0
    newest_ns: int = 0
    direct_files: int = 0
    direct_bytes: int = 0
    suffixes: dict[str, int] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """The first word."""
        return self.keys[0]

    def add(self, other: Count) -> None:
        """Add the files of another count."""
        first = not self.files
        self.files += other.files
        self.bytes += other.bytes
        self.disk += other.disk
        self.oldest_ns = other.oldest_ns if first else min(self.oldest_ns, other.oldest_ns)
        self.newest_ns = other.newest_ns if first else max(self.newest_ns, other.newest_ns)
        self.direct_files += other.direct_files
        self.direct_bytes += other.direct_bytes
        for suffix, files in other.suffixes.items():
            self.suffixes[suffix] = self.suffixes.get(suffix, 0) + files


class _Linked(NamedTuple):
    """A name of a file that has several: counted when all names are known."""

    path: str
    folder: str
    status: os.stat_result


@mutable
class Inventory:
    """What was counted in some folders, and what was not.

    Args:
        folders_asked: the folders, resolved.
        by: the ways that were counted, one or two.
        cells: the counts, by what their files have in common; types are kept as suffixes.
        folders: how many subfolders.
        links: how many symbolic links.
        others: how many pipes, sockets and devices.
        hidden: how many hidden files were not counted.
        hidden_folders: how many hidden folders were not, with all in them.
        further_names: how many names were further ones of files that are counted once (hard links).
        largest: the largest files, the largest first, as many as were asked for.
    """

    folders_asked: list[str]
    by: tuple[By, ...] = ("type",)
    cells: dict[tuple[str, ...], Count] = field(default_factory=dict)
    folders: int = 0
    links: int = 0
    others: int = 0
    hidden: int = 0
    hidden_folders: int = 0
    further_names: int = 0
    oldest: Dated | None = None
    newest: Dated | None = None
    largest: list[Sized] = field(default_factory=list)
    space: list[Space] = field(default_factory=list)
    unread: list[Unread] = field(default_factory=list)

    def sorted_counts(self, order: str | None) -> list[Count]:
        """Return the counts by `name`, `size`, `files`, or `newest` (or `modified`); unless that is given, as `counts` does."""
        rows = self.counts()
        if order == "files":
            return sorted(rows, key=lambda row: (-row.files, -row.bytes, row.keys))
        if order == "name":
            return sorted(rows, key=lambda row: row.keys)
        if order == "size":
            return sorted(rows, key=lambda row: (-row.bytes, -row.files, row.keys))
        return sorted(rows, key=lambda row: (-row.newest_ns, row.keys)) if order in ("modified", "newest") else rows

    def counts(self, by: By | None = None) -> list[Count]:
        """Return the counts, the most bytes first; ages and sizes in their own order.

        Args:
            by: another way than the one that was counted, as far as it is available from it: `type` from `ext`.
        """
        ways = self.by if by is None else (by,)
        rows: dict[tuple[str, ...], Count] = {}
        for keys, count in self.cells.items():
            named = tuple(TYPE_OF_SUFFIX.get(key, OTHER) if way == "type" else key for way, key in zip(ways, keys, strict=True))
            row = rows.setdefault(named, Count(named))
            row.add(count)
            if "type" in ways:
                suffix = keys[ways.index("type")]
                row.suffixes[suffix] = row.suffixes.get(suffix, 0) + count.files
        if ways[0] in ("age", "size"):
            return sorted(rows.values(), key=lambda row: (band_order(row.key), -row.bytes, row.keys))
        return sorted(rows.values(), key=lambda row: (-row.bytes, -row.files, row.keys))

    @property
    def files(self) -> int:
        """All files counted."""
        return sum(count.files for count in self.cells.values())

    @property
    def bytes(self) -> int:
        """All their bytes."""
        return sum(count.bytes for count in self.cells.values())

    @property
    def disk(self) -> int:
        """All bytes that they take on the disk."""
        return sum(count.disk for count in self.cells.values())


@mutable
class _Found:
    """What a walk has found; a fork sends it back whole."""

    cells: dict[tuple[str, ...], Count] = field(default_factory=dict)
    linked: list[_Linked] = field(default_factory=list)
    largest: list[Sized] = field(default_factory=list)
    unread: list[Unread] = field(default_factory=list)
    oldest: Dated | None = None
    newest: Dated | None = None
    folders: int = 0
    links: int = 0
    others: int = 0
    hidden: int = 0
    hidden_folders: int = 0
    files: int = 0

    def add(self, other: _Found) -> None:
        for keys, count in other.cells.items():
            self.cells.setdefault(keys, Count(keys)).add(count)
        self.linked += other.linked
        self.largest += other.largest
        self.unread += other.unread
        for name in ("folders", "links", "others", "hidden", "hidden_folders", "files"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        for dated in (other.oldest, other.newest):
            if dated is not None:
                self.date(dated)

    def is_between(self, moment_ns: int) -> bool:
        """Return True if a moment is neither older nor newer than what was found so far."""
        return self.oldest is not None and self.newest is not None and self.oldest.mtime_ns <= moment_ns <= self.newest.mtime_ns

    def date(self, dated: Dated) -> None:
        """Compare with a file that may be the oldest or the newest."""
        if self.oldest is None or dated < self.oldest:
            self.oldest = dated
        if self.newest is None or dated.mtime_ns > self.newest.mtime_ns:
            self.newest = dated


class InventoryCounter:
    """Takes an inventory.

    Args:
        levels: how deep; 1 is the folder itself, None all levels.
        hidden: hidden files and folders too.
        by: one or two ways to count.
        show_levels: by folder, how deep the rows go; None for a row for each.
        largest: how many of the largest files to keep.
        now_ns: the moment that ages are counted from.
        where: a condition on the files that count; with it comes the world it is asked in.
        on_progress: called now and then with the number of files so far.
    """

    def __init__(
        self,
        levels: int | None = None,
        hidden: bool = False,
        by: tuple[By, ...] = ("type",),
        show_levels: int | None = 1,
        largest: int = 0,
        now_ns: int = 0,
        where: Node | None = None,
        world: World | None = None,
        on_progress: Callable[[int], None] = lambda _files: None,
    ) -> None:
        self._levels, self._hidden, self._by, self._show = levels, hidden, by, show_levels
        self._largest, self._now_ns, self._on_progress = largest, now_ns, on_progress
        self._where, self._world = where, world
        self._found = _Found()
        self._suffixes = dict(PLAIN_SUFFIXES)
        self._seen: set[str] = set()

    def take(self, folders: Sequence[str]) -> Inventory:
        """Count what is in some folders.

        Args:
            folders: absolute, resolved paths; one inside another is counted once.

        Raises:
            OSError: one of the folders cannot be read at all.
        """
        inventory, total = Inventory(list(folders), self._by), _Found()
        for folder in folders:
            total.add(self._walk(folder, total.files, alone=len(folders) == 1))
            room = volumes.room(folder)
            space = Space(folder, room.total, room.free)
            if space[1:] not in [known[1:] for known in inventory.space]:
                inventory.space.append(space)
        self._found = found = total
        self._count_linked(inventory)
        inventory.cells, inventory.unread = found.cells, sorted(found.unread)
        inventory.folders, inventory.links, inventory.others = found.folders, found.links, found.others
        inventory.hidden, inventory.hidden_folders = found.hidden, found.hidden_folders
        inventory.oldest, inventory.newest = found.oldest, found.newest
        inventory.largest = heapq.nlargest(self._largest, found.largest)
        return inventory

    def _walk(self, root: str, before: int, alone: bool) -> _Found:
        """Return what is below a folder; if it is the only one and large, counted by two processes.

        Args:
            root: an absolute, resolved path.
            before: how many files were counted below other folders.
            alone: there is no other folder that this one could overlap with.

        Raises:
            OSError: it cannot be read at all.
        """
        chosen = None
        if self._where is not None and self._world is not None:
            chosen = _Chosen(self._where, self._hidden, root, self._world)

        def descend(listing: Listing, name: str, level: int) -> int | None:
            if name[0] == "." and not self._hidden:
                self._found.hidden_folders += 1
                return None
            self._found.folders += 1
            return level + 1 if self._levels is None or level < self._levels else None

        def begin() -> _Found:
            # In a fork, too: what `descend` and `_listing` count goes there.
            self._found = _Found()
            return self._found

        parent, counted_before = os.getpid(), False

        def handle(listing: Listing, _: int, found: _Found) -> None:
            nonlocal counted_before
            if not listing.further:
                counted_before = not alone and listing.folder in self._seen
                self._seen.add(listing.folder)
            if counted_before:
                return
            self._listing(listing, root, None if chosen is None else chosen.of(listing))
            if os.getpid() == parent:
                self._on_progress(before + found.files)

        reader = Reader(True, descend, None if chosen is None else chosen.pick, COUNTED_AT_ONCE, self._hidden)
        work = working(reader, handle, lambda found, unread: found.unread.append(unread), root)
        # A condition may ask helpers that a fork must not share.
        return work_through((root, 1), work, begin, _Found.add, may_fork=alone and chosen is None)

    def _listing(self, listing: Listing, base: str, chosen: Sequence[int] | None) -> None:
        found = self._found
        found.links += len(listing.links)
        found.others += len(listing.others)
        names, statuses = listing.names, listing.status
        if chosen is not None:
            names, statuses = [names[at] for at in chosen], [statuses[at] for at in chosen]
        if not self._hidden and (hidden := sum([name[0] == "." for name in names])):
            found.hidden += hidden
            shown = [at for at, name in enumerate(names) if name[0] != "."]
            names, statuses = [names[at] for at in shown], [statuses[at] for at in shown]
        found.files += len(names)
        if max(map(_LINKS, statuses), default=1) > 1:
            pairs = list(zip(names, statuses, strict=True))
            found.linked += [_Linked(f"{listing.folder}/{name}", listing.folder, one) for name, one in pairs if one.st_nlink > 1]
            pairs = [(name, one) for name, one in pairs if one.st_nlink == 1]
            names, statuses = [name for name, _ in pairs], [one for _, one in pairs]
        self._count(listing.folder, names, statuses, base)

    def _count(self, folder: str, names: Sequence[str], statuses: Sequence[os.stat_result], base: str) -> None:
        """Count files of a folder; those with the same words are summed at once."""
        found, shown, direct = self._found, "", False
        together: dict[tuple[str, ...], Sequence[os.stat_result]] = {}
        if "folder" in self._by:
            shown, direct = self._folder_key(folder, base)
        if self._by in (("type",), ("ext",)):
            together = {(suffix,): ones for suffix, ones in self._by_suffix(names, statuses).items()}
        elif self._by == ("folder",):
            together = {(shown,): statuses} if names else {}
        else:
            of_keys: dict[tuple[str, ...], list[os.stat_result]] = {}
            for name, status in zip(names, statuses, strict=True):
                keys = tuple(self._key(way, name, status, shown, folder) for way in self._by)
                of_keys.setdefault(keys, []).append(status)
            together.update(of_keys)
        for keys, ones in together.items():
            times, size, used = list(map(_MODIFIED, ones)), sum(map(_SIZE, ones)), sum(map(disk.blocks_of, ones))
            count = Count(
                keys, len(ones), size, used * disk.BLOCK_BYTES, min(times), max(times), len(ones) * direct, size * direct
            )
            row = found.cells.get(keys)
            if row is None:
                found.cells[keys] = count
            else:
                row.add(count)
            for moment_ns in (count.oldest_ns, count.newest_ns):
                if not found.is_between(moment_ns):
                    at = next(at for at, one in enumerate(statuses) if one.st_mtime_ns == moment_ns)
                    found.date(Dated(moment_ns, f"{folder}/{names[at]}"))
        if self._largest:
            for name, one in zip(names, statuses, strict=True):
                heapq.heappush(found.largest, Sized(one.st_size, disk.used_bytes(one), f"{folder}/{name}", one.st_mtime_ns))
                if len(found.largest) > self._largest:
                    heapq.heappop(found.largest)

    def _by_suffix(self, names: Sequence[str], statuses: Sequence[os.stat_result]) -> dict[str, list[os.stat_result]]:
        """Return files by their suffix: the everyday inventory, for which every step counts."""
        known = self._suffixes
        together: dict[str, list[os.stat_result]] = {}
        for name, status in zip(names, statuses, strict=True):
            # The quick half of suffix_of, without the call.
            head, _, last = name.rpartition(".")
            suffix = known.get(last)
            if suffix is None or not head or head[0] == ".":
                suffix = suffix_of(name)
                if head and head[0] != "." and len(known) < _MOST_SUFFIXES and not may_be_double(last):
                    known[last] = suffix
            if suffix in together:
                together[suffix].append(status)
            else:
                together[suffix] = [status]
        return together

    def _key(self, way: By, name: str, status: os.stat_result, folder: str, parent: str) -> str:
        if way in ("ext", "type"):
            return suffix_of(name)
        if way == "folder":
            return folder
        if way == "tag":
            return tags_text(f"{parent}/{name}")
        if way == "age":
            return age_band(status.st_mtime_ns, self._now_ns)
        return size_band(status.st_size) if way == "size" else owner_name(status.st_uid)

    def _folder_key(self, folder: str, base: str) -> tuple[str, bool]:
        """Return the row that a folder belongs to, and whether it is that row's own folder."""
        below = [part for part in folder[len(base.rstrip("/")) :].split("/") if part]
        shown = "/".join([base.rstrip("/"), *below[: self._show]]) or "/"
        return shown, self._show is None or len(below) <= self._show

    def _count_linked(self, inventory: Inventory) -> None:
        """Count each file with several names once, under the first of them."""
        counted: set[tuple[int, int]] = set()
        for path, folder, status in sorted(self._found.linked):
            who = (status.st_dev, status.st_ino)
            if who in counted:
                inventory.further_names += 1
                continue
            counted.add(who)
            base = next((one for one in inventory.folders_asked if path.startswith(one.rstrip("/") + "/")), folder)
            self._count(folder, [os.path.basename(path)], [status], base)


_owners: dict[int, str] = {}


def owner_name(uid: int) -> str:
    """Return the name of an account, its number where it has none."""
    if uid not in _owners:
        from frugal_sorter.platforms import accounts  # needed only where somebody asks

        _owners[uid] = accounts.owner_name(uid) or "(unknown)"
    return _owners[uid]


class _Chosen:
    """The files of listings that a condition is true of."""

    def __init__(self, where: Node, hidden: bool, base: str, world: World) -> None:
        # Imported only for a condition: the everyday inventory starts without the rule language.
        from frugal_sorter.rules.model import selection

        self._base, self._world = base, world
        self._matcher = selection(where, hidden, TYPE_OF_SUFFIX).matcher((0,), world.now_ns)

    def _depths(self, listing: Listing) -> list[int]:
        from frugal_sorter.rules.fields import depth_below

        return [depth_below(self._base, listing.folder)]

    def pick(self, listing: Listing, _: int) -> Sequence[int]:
        """Return the files that the condition leaves possible by their names."""
        return self._matcher.pick(listing, self._depths(listing))

    def of(self, listing: Listing) -> Sequence[int]:
        """Return the files that it is true of."""
        from frugal_sorter.filesystem.status import look
        from frugal_sorter.rules.fields import Facts

        def ask(at: int, node: Node) -> bool | None:
            try:
                record = look(listing.place(at))
            except OSError:
                return None
            return node.test(Facts(record, self._base, TYPE_OF_SUFFIX, self._world))

        return [at for at, _ in self._matcher(listing, self._depths(listing), ask)]


def take_inventory(folders: Sequence[str], levels: int | None, hidden: bool) -> Inventory:
    """Count what is in some folders by suffix, as `InventoryCounter` does."""
    return InventoryCounter(levels, hidden).take(folders)


class Entry(NamedTuple):
    """An entry: path, kind, bytes (apparent and on the disk), modification time in ns, owner."""

    path: str
    kind: str
    bytes: int
    disk: int
    mtime_ns: int
    uid: int


SORTS: Mapping[str, Callable[[Entry], Any]] = {
    "name": lambda one: [*map(name_order, one.path.split("/"))],
    "size": lambda one: (-one.bytes, one.path),
    "modified": lambda one: (one.mtime_ns, one.path),
    "newest": lambda one: (-one.mtime_ns, one.path),
}


def list_entries(
    folders: Sequence[str],
    levels: int | None,
    hidden: bool,
    unread: Callable[[Unread], None],
    on_hidden: Callable[[str], None] = lambda _: None,
) -> Iterator[Entry]:
    """Yield what is below some folders, each by name and followed by what is in its subfolders; one folder is held at a time.

    Args:
        folders: absolute, resolved paths.
        levels: how deep; 1 is the folder itself, None all levels.
        hidden: hidden files and folders too.
        unread: called with each path that could not be read.
        on_hidden: called with the name of each entry that is left out because it is hidden.

    Raises:
        OSError: one of the folders cannot be read at all.
    """

    def descend(_: Listing, name: str, level: int) -> int | None:
        if name[0] == "." and not hidden:
            return None
        return level + 1 if levels is None or level < levels else None

    for folder in folders:
        for listing, _ in walk(folder, 1, True, descend, unread, hidden):
            # Those inside come in this order, too.
            listing.folders.sort(key=name_order)
            found: list[tuple[str, str, os.stat_result | None]] = [
                (name, "file", status) for name, status in zip(listing.names, listing.status, strict=True)
            ]
            for kind, names in (("folder", listing.folders), ("link", listing.links), ("other", listing.others)):
                found += [(name, kind, None) for name in names]
            for name, kind, known in sorted(found, key=lambda one: name_order(one[0])):
                if name[0] == "." and not hidden:
                    on_hidden(name)
                    continue
                path = slashed.join(listing.folder, name)
                try:
                    status = known if known is not None else disk.lstat(path)
                except OSError as error:
                    unread(Unread(path, reason_of(error)))
                    continue
                size = status.st_size if kind in ("file", "link") else 0
                yield Entry(path, kind, size, disk.used_bytes(status), status.st_mtime_ns, status.st_uid)
