"""`frugal inventory --format html`: the page for the owner of the machine."""

from __future__ import annotations

from typing import TYPE_CHECKING

from frugal_sorter.cli.output.text import (
    below,
    common_base,
    count_text,
    date_text,
    moment_text,
    shown,
    size_text,
)
from frugal_sorter.reports.inventory import By, Inventory
from frugal_sorter.reports.page import PageTable, render

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def page_of(inventory: Inventory, figure: Figure | None, by: tuple[By, ...], top: int, now_ns: int) -> str:
    """Return an inventory as a page; unlike the table on a terminal it has every row but those beyond `top` thousand."""
    svg = ""
    if figure is not None:
        from frugal_sorter.reports.charts import as_svg

        svg = as_svg(figure)
    base = common_base(inventory.folders_asked)
    lines = [
        f"{count_text(inventory.files, 'file')} in {count_text(inventory.folders, 'subfolder')}, "
        f"{size_text(inventory.bytes)}, {size_text(inventory.disk)} on the disk; {moment_text(now_ns)}.",
        *(f"{size_text(space.free)} of {size_text(space.total)} are free." for space in inventory.space),
        *(f"Not read: {shown(unread.path)} ({unread.reason})." for unread in inventory.unread),
    ]
    tables = [_counts(inventory, by, base, top * 1_000)]
    if inventory.largest:
        largest: list[list[tuple[str, str | int]]] = []
        for one in inventory.largest:
            name = below(one.path, base)
            largest.append([(name, name), (size_text(one.bytes), one.bytes), (date_text(one.mtime_ns), one.mtime_ns)])
        tables.append(PageTable("Largest files", ("file", "size", "modified"), largest))
    title = "What is in " + ", ".join(map(shown, inventory.folders_asked))
    return render(title, lines, svg, tables)


def _counts(inventory: Inventory, by: tuple[By, ...], base: str, most: int) -> PageTable:
    rows: list[list[tuple[str, str | int]]] = []
    for row in inventory.counts()[:most]:
        words = [
            below(key, base) if way == "folder" else shown(key) or "(none)"
            for way, key in zip(by, row.keys, strict=True)
        ]
        name = ", ".join(words)
        rows.append([
            (name, name), (f"{row.files:,}", row.files), (size_text(row.bytes), row.bytes), (size_text(row.disk), row.disk),
            (date_text(row.oldest_ns), row.oldest_ns), (date_text(row.newest_ns), row.newest_ns),
        ])  # fmt: skip
    heads = (", ".join(by), "files", "size", "on the disk", "oldest", "newest")
    total = ("all", f"{inventory.files:,}", size_text(inventory.bytes), size_text(inventory.disk), "", "")
    return PageTable(f"By {' and '.join(by)}", heads, rows, total)
