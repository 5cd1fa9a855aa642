"""Folders as a tree of whole sums, on the screen and as JSON."""

from __future__ import annotations

from collections.abc import Sequence

from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, date_text, iso_text, share_text, shown, size_text
from frugal_sorter.reports.inventory import Inventory
from frugal_sorter.reports.tree import Folder, Line, Order, opened_lines, tree_of


def print_tree(
    screen: Screen, inventory: Inventory, most: int | None, order: Order | None, open_to: Sequence[str]
) -> None:
    """Print the folders of an inventory as trees, in one table.

    Args:
        screen: the terminal.
        inventory: counted by folder, with rows for all levels.
        most: so many lines for each; None for all.
        order: of the folders in one.
        open_to: folders that are opened in any case.
    """
    rows: list[list[str]] = []
    for root in inventory.folders_asked:
        tree = tree_of(inventory, root)
        for line in opened_lines(tree, order or "size", most, open_to):
            rows.append([
                f"{'  ' * line.depth}{_name(line)}", f"{line.files:,}", size_text(line.bytes),
                share_text(line.bytes, tree.bytes), date_text(line.newest_ns) if line.newest_ns else "",
            ])  # fmt: skip
    columns = [("folder", "left"), ("files", "right"), ("size", "right"), ("share", "right"), ("newest", "left")]
    screen.table(columns, rows, whole=("files", "size", "share", "newest"))


def _name(line: Line) -> str:
    if line.kind == "rest":
        return f"and {count_text(line.folders, 'more folder')}"
    if line.kind == "files":
        return "(files directly in it)"
    return shown(line.names) if line.depth == 0 else f"{shown(line.names)}/"


def tree_as_json(
    inventory: Inventory, most: int | None, order: Order | None, open_to: Sequence[str]
) -> list[dict[str, object]]:
    """Return the lines of the trees; docs/formats.md describes them."""
    found: list[dict[str, object]] = []
    for root in inventory.folders_asked:
        tree: Folder = tree_of(inventory, root)
        for line in opened_lines(tree, order or "size", most, open_to):
            found.append({
                "path": line.path, "kind": line.kind, "depth": line.depth, "folders": line.folders, "files": line.files,
                "bytes": line.bytes, "newest": iso_text(line.newest_ns) if line.newest_ns else None,
            })  # fmt: skip
    return found
