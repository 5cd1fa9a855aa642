"""What a folder holds: files and bytes by suffix and by type."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal, NamedTuple

from frugal_sorter.files.record import Listing, Unread
from frugal_sorter.files.types import OTHER, TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.files.walk import walk

if TYPE_CHECKING:
    from frugal_sorter.rules.condition import Node
    from frugal_sorter.rules.fields import World

By = Literal["type", "ext"]


class Dated(NamedTuple):
    """A file with its modification time in ns since the epoch."""

    mtime_ns: int
    path: str


class Space(NamedTuple):
    """The room on the volume of a folder, in bytes; `free` is what this user may fill."""

    folder: str
    total: int
    free: int


@dataclass(slots=True)
class Count:
    """Files of one suffix or type: how many, their bytes, the oldest and newest time in ns."""

    key: str
    files: int = 0
    bytes: int = 0
    oldest_ns: int = 0
    newest_ns: int = 0
    suffixes: dict[str, int] = field(default_factory=dict)


@dataclass(slots=True)
class Inventory:
    """What was counted in some folders, and what was not."""

    folders_asked: list[str]
    by_suffix: dict[str, Count] = field(default_factory=dict)
    folders: int = 0
    links: int = 0
    others: int = 0
    hidden: int = 0
    oldest: Dated | None = None
    newest: Dated | None = None
    space: list[Space] = field(default_factory=list)
    unread: list[Unread] = field(default_factory=list)

    def counts(self, by: By) -> list[Count]:
        """Return the counts by type or by suffix, the most bytes first."""
        rows: dict[str, Count] = {}
        for suffix, count in self.by_suffix.items():
            key = suffix if by == "ext" else TYPE_OF_SUFFIX.get(suffix, OTHER)
            row = rows.setdefault(key, Count(key, 0, 0, count.oldest_ns, count.newest_ns))
            row.files += count.files
            row.bytes += count.bytes
            row.oldest_ns = min(row.oldest_ns, count.oldest_ns)
            row.newest_ns = max(row.newest_ns, count.newest_ns)
            row.suffixes[suffix] = count.files
        return sorted(rows.values(), key=lambda row: (-row.bytes, -row.files, row.key))

    @property
    def files(self) -> int:
        """All files counted."""
        return sum(count.files for count in self.by_suffix.values())

    @property
    def bytes(self) -> int:
        """All their bytes."""
        return sum(count.bytes for count in self.by_suffix.values())


def take_inventory(
    folders: Sequence[str], levels: int | None, hidden: bool, where: Node | None = None, world: World | None = None
) -> Inventory:
    """Count what is in some folders.

    Args:
        folders: absolute, resolved paths; one inside another is counted once.
        levels: how deep; 1 is the folder itself, None all levels.
        hidden: hidden files and folders too.
        where: a condition on the files that count; with it comes the world it is asked in.

    Raises:
        OSError: one of the folders cannot be read at all.
    """
    inventory = Inventory(list(folders))
    seen: set[str] = set()

    def descend(listing: Listing, name: str, level: int) -> int | None:
        if name[0] == "." and not hidden:
            inventory.hidden += 1
            return None
        inventory.folders += 1
        return level + 1 if levels is None or level < levels else None

    for folder in folders:
        chosen = None if where is None or world is None else _Chosen(where, hidden, folder, world)
        pick = None if chosen is None else chosen.pick
        for listing, _ in walk(folder, 1, True, descend, inventory.unread.append, pick):
            if listing.folder not in seen:
                seen.add(listing.folder)
                _count(inventory, listing, hidden, range(len(listing.names)) if chosen is None else chosen.of(listing))
        room = os.statvfs(folder)
        space = Space(folder, room.f_blocks * room.f_frsize, room.f_bavail * room.f_frsize)
        if space[1:] not in [known[1:] for known in inventory.space]:
            inventory.space.append(space)
    return inventory


class _Chosen:
    """The files of listings that a condition is true of."""

    def __init__(self, where: Node, hidden: bool, base: str, world: World) -> None:
        # Imported only for a condition: the everyday inventory starts without the rule language.
        from frugal_sorter.rules.book import selection

        self._base, self._world = base, world
        self._matcher = selection(where, hidden, TYPE_OF_SUFFIX).matcher((0,), world.now_ns)

    def _depths(self, listing: Listing) -> list[int]:
        from frugal_sorter.rules.fields import depth_below

        return [depth_below(self._base, listing.folder)]

    def pick(self, listing: Listing, _: int) -> Sequence[int]:
        return self._matcher.pick(listing, self._depths(listing))

    def of(self, listing: Listing) -> Sequence[int]:
        from frugal_sorter.files.status import look
        from frugal_sorter.rules.fields import Facts

        def ask(at: int, node: Node) -> bool | None:
            try:
                record = look(listing.place(at))
            except OSError:
                return None
            return node.test(Facts(record, self._base, TYPE_OF_SUFFIX, self._world))

        return [at for at, _ in self._matcher(listing, self._depths(listing), ask)]


def _count(inventory: Inventory, listing: Listing, hidden: bool, chosen: Sequence[int]) -> None:
    rows = inventory.by_suffix
    columns: Iterable[tuple[str, int, int]] = zip(listing.names, listing.size, listing.mtime_ns, strict=True)
    if len(chosen) < len(listing.names):
        columns = ((listing.names[at], listing.size[at], listing.mtime_ns[at]) for at in chosen)
    for name, size, mtime_ns in columns:
        if name[0] == "." and not hidden:
            inventory.hidden += 1
            continue
        suffix = suffix_of(name)
        row = rows.get(suffix)
        if row is None:
            row = rows[suffix] = Count(suffix, 0, 0, mtime_ns, mtime_ns)
            _date(inventory, listing, name, mtime_ns)
        row.files += 1
        row.bytes += size
        # Few files are the oldest or newest of their suffix so far; only those can be so of all.
        if mtime_ns < row.oldest_ns:
            row.oldest_ns = mtime_ns
            _date(inventory, listing, name, mtime_ns)
        elif mtime_ns > row.newest_ns:
            row.newest_ns = mtime_ns
            _date(inventory, listing, name, mtime_ns)
    inventory.links += len(listing.links)
    inventory.others += len(listing.others)


def _date(inventory: Inventory, listing: Listing, name: str, mtime_ns: int) -> None:
    if inventory.oldest is None or mtime_ns < inventory.oldest.mtime_ns:
        inventory.oldest = Dated(mtime_ns, os.path.join(listing.folder, name))
    if inventory.newest is None or mtime_ns > inventory.newest.mtime_ns:
        inventory.newest = Dated(mtime_ns, os.path.join(listing.folder, name))
