"""Inventories as files, and folders as a tree."""

from __future__ import annotations

import heapq
import os
import re
import stat
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Literal, NamedTuple

from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.platforms import disk
from frugal_sorter.reports.inventory import Entry, Inventory, owner_name
from frugal_sorter.values import field, mutable

Order = Literal["size", "files", "newest", "name"]
ORDERS: tuple[Order, ...] = ("size", "files", "newest", "name")
# Folders with less of the whole than the first are not opened; those with less than the second get no line of their own.
_WORTH_OPENING, _WORTH_A_LINE = 1 / 50, 1 / 200
# In a figure only what has more than this is opened.
_GIANT = 1 / 5
# After this many lines in one folder, the rest of it is folded.
_MOST_IN_ONE = 8


@mutable
class Folder:
    """A folder with the sums of everything below it.

    Args:
        path: where it is.
        files: below it, and directly in it.
        bytes: of these, each.
        newest_ns: when the newest of all was modified; 0 for none.
        inside: its subfolders.
    """

    path: str
    files: int = 0
    bytes: int = 0
    newest_ns: int = 0
    direct_files: int = 0
    direct_bytes: int = 0
    inside: list[Folder] = field(default_factory=list)


class Line(NamedTuple):
    """A line of the tree.

    Args:
        depth: how far it is indented.
        kind: a folder, the files directly in one, or the rest of its subfolders folded into one line.
        path: of the folder, or of the one around.
        names: of a folder, as seen from the line above; several where each holds nothing but the next.
        folders: how many subfolders are folded into it.
    """

    depth: int
    kind: Literal["folder", "files", "rest"]
    path: str
    names: str
    files: int
    bytes: int
    newest_ns: int
    folders: int = 0


def tree_of(inventory: Inventory, root: str) -> Folder:
    """Return the tree of a folder.

    Args:
        inventory: counted by folder first, with rows for all levels.
        root: one of its folders, or what is around all of them.
    """
    folders: dict[str, Folder] = {root: Folder(root)}

    def folder(path: str) -> Folder:
        found = folders.get(path)
        if found is None:
            found = folders[path] = Folder(path)
            folder(path.rpartition("/")[0] or "/").inside.append(found)
        return found

    for (path, *_), count in inventory.cells.items():
        if not is_inside(path, root):
            continue
        found = folder(path)
        found.direct_files += count.files
        found.direct_bytes += count.bytes
        found.files += count.files
        found.bytes += count.bytes
        found.newest_ns = max(found.newest_ns, count.newest_ns)
    # The deepest first, so that each is whole when it is added to the one around it.
    for found in sorted(folders.values(), key=lambda one: -one.path.count("/")):
        for inner in found.inside:
            found.files += inner.files
            found.bytes += inner.bytes
            found.newest_ns = max(found.newest_ns, inner.newest_ns)
    return folders[root]


def opened_lines(root: Folder, order: Order = "size", most: int | None = None, open_to: Iterable[str] = ()) -> list[Line]:
    """Return the lines of a tree, opened where most of it is.

    Args:
        root: the tree.
        order: of the folders in one; by files, what has most of these counts as most.
        most: how many lines; None opens everything.
        open_to: folders that are opened in any case, with all around them.
    """
    tree = _Opening(root, order, most is None, tuple(open_to))
    tree.open(root)
    for path in tree.open_to:
        at = root
        while at.path != path and (inner := next((one for one in at.inside if is_inside(path, one.path)), None)):
            tree.open(inner)
            at = inner
    waiting = [(-tree.weight(one), one.path, one) for one in _all_open(root, tree)]
    heapq.heapify(waiting)
    while waiting:
        weight, _, folder = heapq.heappop(waiting)
        if most is not None and (-weight < _WORTH_OPENING * tree.weight(root) or tree.lines + tree.cost(folder) > most):
            continue
        tree.open(folder)
        for inner in tree.shown(folder):
            if inner.inside or inner.direct_files:
                heapq.heappush(waiting, (-tree.weight(inner), inner.path, inner))
    return list(tree.walk(root))


def _all_open(root: Folder, tree: _Opening) -> list[Folder]:
    """Return the folders that have a line and are closed so far."""
    found: list[Folder] = []
    at = [root]
    while at:
        folder = at.pop()
        for inner in tree.shown(folder):
            (at if inner.path in tree.is_open else found).append(inner)
    return [one for one in found if one.inside]


class _Opening:
    """Which folders of a tree are open, and what that shows."""

    def __init__(self, root: Folder, order: Order, everything: bool, open_to: Sequence[str]) -> None:
        self.root, self.order, self.everything, self.open_to = root, order, everything, open_to
        self.is_open: set[str] = set()
        self.lines = 1

    def weight(self, folder: Folder) -> int:
        """Return how much of the whole a folder is."""
        return folder.files if self.order == "files" else folder.bytes

    def open(self, folder: Folder) -> None:
        """Open a folder."""
        # What holds nothing but one folder is one line with it, so that opening it costs nothing more.
        while True:
            if folder.path not in self.is_open:
                self.is_open.add(folder.path)
                self.lines += self.cost(folder)
            if not _only_folder(folder):
                return
            folder = folder.inside[0]

    def shown(self, folder: Folder) -> list[Folder]:
        """Return the subfolders of a folder that have a line of their own."""
        ranked = sorted(folder.inside, key=lambda one: (-self.weight(one), one.path))
        least = 0 if self.everything else _WORTH_A_LINE * self.weight(self.root)
        most = len(ranked) if self.everything else _MOST_IN_ONE
        wanted = [
            one
            for at, one in enumerate(ranked)
            if (at < most and self.weight(one) >= least) or any(is_inside(path, one.path) for path in self.open_to)
        ]
        # One that is left over is no longer as a line of its own than when folded.
        return ranked if len(ranked) - len(wanted) == 1 else wanted

    def cost(self, folder: Folder) -> int:
        """Return how many lines opening a folder adds."""
        if _only_folder(folder):
            return 0
        shown = len(self.shown(folder))
        return shown + (shown < len(folder.inside)) + bool(folder.direct_files and folder.inside)

    def walk(self, root: Folder) -> Iterable[Line]:
        """Yield the lines."""
        # A tree can be deeper than Python calls itself.
        waiting: list[tuple[int, Folder, str] | Line] = [(0, root, root.path)]
        while waiting:
            one = waiting.pop()
            if isinstance(one, Line):
                yield one
                continue
            depth, folder, around = one
            while _only_folder(folder) and folder.path in self.is_open and folder is not root:
                folder = folder.inside[0]
            names = folder.path if folder is root else folder.path[len(around.rstrip("/")) + 1 :]
            yield Line(depth, "folder", folder.path, names, folder.files, folder.bytes, folder.newest_ns)
            if folder.path not in self.is_open:
                continue
            shown = self.shown(folder)
            lines: list[tuple[int, Folder, str] | Line] = [(depth + 1, inner, folder.path) for inner in self.sorted(shown)]
            known = {inner.path for inner in shown}
            rest = [inner for inner in folder.inside if inner.path not in known]
            if rest:
                files, size = sum(inner.files for inner in rest), sum(inner.bytes for inner in rest)
                newest = max(inner.newest_ns for inner in rest)
                lines.append(Line(depth + 1, "rest", folder.path, "", files, size, newest, len(rest)))
            if folder.direct_files and folder.inside:
                lines.append(Line(depth + 1, "files", folder.path, "", folder.direct_files, folder.direct_bytes, 0))
            waiting += reversed(lines)

    def sorted(self, folders: Iterable[Folder]) -> list[Folder]:
        """Return folders in the order that was asked for."""
        keys: Mapping[Order, Callable[[Folder], Any]] = {
            "size": lambda one: (-one.bytes, one.path),
            "files": lambda one: (-one.files, one.path),
            "newest": lambda one: (-one.newest_ns, one.path),
            "name": lambda one: one.path,
        }
        return sorted(folders, key=keys[self.order])


def _only_folder(folder: Folder) -> bool:
    return len(folder.inside) == 1 and not folder.direct_files


def parts_of(root: Folder, most: int) -> list[Folder]:
    """Return at most a number of folders that hold all there is: the largest is opened again and again.

    Args:
        root: the tree.
        most: how many parts; what is directly in a folder that was opened is that folder's own part.
    """
    waiting, parts, count = [(-root.bytes, root.path, root)], list[Folder](), 1
    while waiting:
        _, _, folder = heapq.heappop(waiting)
        worth = [one for one in folder.inside if one.bytes >= _WORTH_OPENING * root.bytes]
        # The rest of it stays one part with what is directly in it.
        has_rest = bool(folder.direct_files) or len(worth) < len(folder.inside)
        more = len(worth) - (not has_rest)
        if worth and count + more <= most and folder.bytes >= _GIANT * root.bytes:
            count += more
            if has_rest:
                parts.append(folder)
            for one in worth:
                heapq.heappush(waiting, (-one.bytes, one.path, one))
        else:
            parts.append(folder)
    return parts


_HOUR_NS = 3_600_000_000_000
# What changes from one file of a series to the next: numbers, also long ones in hexadecimal.
_SERIAL = re.compile(r"(?i)\b(?=[0-9a-f]*[0-9])[0-9a-f]{8,}\b|\d+")
_MARK = "#"


@mutable
class Maker:
    """Files of one owner whose names follow one pattern.

    Args:
        pattern: the name with `#` for what changes.
        owner: the account they belong to.
        files: how many.
        bytes: and their bytes.
        first_ns: when the first was last written, in ns since the epoch.
        last_ns: and the last.
    """

    pattern: str
    owner: str
    files: int = 0
    bytes: int = 0
    first_ns: int = 0
    last_ns: int = 0

    @property
    def an_hour(self) -> float | None:
        """How many came an hour, on average; None where they were not watched for an hour."""
        span = self.last_ns - self.first_ns
        return None if self.files < 2 or span < _HOUR_NS else (self.files - 1) / (span / _HOUR_NS)


def pattern_of(name: str) -> str:
    """Return a name with `#` for every number in it."""
    return _SERIAL.sub(_MARK, name)


def makers(entries: Iterable[Entry], most: int) -> list[Maker]:
    """Return the commonest name patterns by owner, the most files first; single files make no pattern.

    Args:
        entries: files and folders; folders do not count.
        most: how many to return.
    """
    found: dict[tuple[str, int], Maker] = {}
    for one in entries:
        if one.kind != "file":
            continue
        key = (pattern_of(one.path.rpartition("/")[2]), one.uid)
        maker = found.get(key)
        if maker is None:
            maker = found[key] = Maker(key[0], owner_name(one.uid), 0, 0, one.mtime_ns, one.mtime_ns)
        maker.files += 1
        maker.bytes += one.bytes
        maker.first_ns = min(maker.first_ns, one.mtime_ns)
        maker.last_ns = max(maker.last_ns, one.mtime_ns)
    several = [maker for maker in found.values() if maker.files > 1]
    return sorted(several, key=lambda maker: (-maker.files, -maker.bytes, maker.pattern))[:most]


_DELETED = " (deleted)"
# How long to wait between two looks.
EVERY_SECONDS = 0.5


@mutable
class Holder:
    """A program with files open.

    Args:
        name: of the program.
        process: its number.
        user: whose it is.
        files: the paths that it has open, with their bytes.
        writing: how many of them it has open for writing.
        deleted: files that are deleted already, with the bytes on the disk that they take until they are closed.
        first: the number of the first look that saw it with a file open there, from 0.
        last: and of the last one.
    """

    name: str
    process: int
    user: str
    files: dict[str, int] = field(default_factory=dict)
    writing: set[str] = field(default_factory=set)
    deleted: dict[str, int] = field(default_factory=dict)
    first: int = 0
    last: int = 0

    @property
    def bytes(self) -> int:
        """All bytes of the files."""
        return sum(self.files.values())


@mutable
class Holders:
    """Programs by process number, how many could not be looked into, and how often was looked."""

    programs: dict[int, Holder] = field(default_factory=dict)
    unseen: int = 0
    looks: int = 1

    def came_after(self, holder: Holder) -> float | None:
        """Return after how many seconds a program came, or None if it was there at once."""
        return holder.first * EVERY_SECONDS if holder.first else None

    def went_after(self, holder: Holder) -> float | None:
        """Return after how many seconds a program had no file open there any more, or None if it stayed."""
        return (holder.last + 1) * EVERY_SECONDS if holder.last < self.looks - 1 else None


def holders_below(folders: list[str], seconds: float, wait: Callable[[float], None]) -> Holders:
    """Return the programs that have files open below some folders.

    Args:
        folders: absolute, resolved paths.
        seconds: for how long to look, again and again; 0 for one look.
        wait: waits for some seconds; handed in, so that tests need not.
    """
    found = Holders()
    found.looks = 1 + int(seconds / EVERY_SECONDS)
    for look in range(found.looks):
        if look:
            wait(EVERY_SECONDS)
        _look(folders, found, look)
    return found


def _look(folders: list[str], found: Holders, look: int) -> None:
    import psutil

    unseen = 0
    for process in psutil.process_iter(["name", "username"]):
        if process.pid == os.getpid():
            continue
        try:
            entries = disk.listdir(f"/proc/{process.pid}/fd")
        except OSError:
            unseen += 1
            continue
        for entry in entries:
            try:
                path = disk.readlink(f"/proc/{process.pid}/fd/{entry}")
                status = disk.stat(f"/proc/{process.pid}/fd/{entry}")
                writes = _is_writing(process.pid, entry)
            except OSError:
                continue
            gone = path.endswith(_DELETED)
            plain = path.removesuffix(_DELETED) if gone else path
            if not any(is_inside(plain, folder) for folder in folders) or not stat.S_ISREG(status.st_mode):
                continue
            holder = found.programs.get(process.pid)
            if holder is None:
                holder = found.programs[process.pid] = Holder(
                    str(process.info["name"]), process.pid, str(process.info["username"] or ""), first=look
                )
            holder.last = look
            holder.files[plain] = status.st_size
            if writes:
                holder.writing.add(plain)
            if gone and status.st_nlink == 0:
                holder.deleted[plain] = disk.used_bytes(status)
    found.unseen = max(found.unseen, unseen)


def _is_writing(process: int, descriptor: str) -> bool:
    """Return from proc(5), fdinfo, whether a descriptor was opened for writing."""
    with open(f"/proc/{process}/fdinfo/{descriptor}", encoding="ascii", errors="replace") as lines:
        for line in lines:
            if line.startswith("flags:"):
                return bool(int(line.split()[1], 8) & (disk.O_WRONLY | disk.O_RDWR))
    return False
