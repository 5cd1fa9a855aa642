"""Folders as a tree of whole sums, opened only where it matters."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Literal, NamedTuple

from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.reports.inventory import Inventory
from frugal_sorter.values import field, mutable

Order = Literal["size", "files", "newest", "name"]
ORDERS: tuple[Order, ...] = ("size", "files", "newest", "name")
# What has less of the whole than the first is not opened; what has less than the second has no line of its own.
_WORTH_OPENING, _WORTH_A_LINE = 1 / 50, 1 / 200
# In a figure only what has more than this is opened.
_GIANT = 1 / 5
# So many lines in one folder before the rest of it is folded.
_MOST_IN_ONE = 8


@mutable
class Folder:
    """A folder with the sums of all that is below it.

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


def opened_lines(
    root: Folder, order: Order = "size", most: int | None = None, open_to: Iterable[str] = ()
) -> list[Line]:
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
            one for at, one in enumerate(ranked)
            if (at < most and self.weight(one) >= least) or any(is_inside(path, one.path) for path in self.open_to)
        ]  # fmt: skip
        # One that is left over is no longer as a line of its own than folded.
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
            lines: list[tuple[int, Folder, str] | Line] = [
                (depth + 1, inner, folder.path) for inner in self.sorted(shown)
            ]
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
            "size": lambda one: (-one.bytes, one.path), "files": lambda one: (-one.files, one.path),
            "newest": lambda one: (-one.newest_ns, one.path), "name": lambda one: one.path,
        }  # fmt: skip
        return sorted(folders, key=keys[self.order])


def _only_folder(folder: Folder) -> bool:
    return len(folder.inside) == 1 and not folder.direct_files


def parts_of(root: Folder, most: int) -> list[Folder]:
    """Return at most so many folders that hold all there is: the largest is opened again and again.

    Args:
        root: the tree.
        most: how many parts; what lies directly in a folder that was opened is that folder's own part.
    """
    waiting, parts, count = [(-root.bytes, root.path, root)], list[Folder](), 1
    while waiting:
        _, _, folder = heapq.heappop(waiting)
        worth = [one for one in folder.inside if one.bytes >= _WORTH_OPENING * root.bytes]
        # The rest of it stays one part with what lies directly in it.
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
