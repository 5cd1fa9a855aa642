"""`frugal compare` of sums: what a run kept of its folders before and after it."""

from __future__ import annotations

import csv
import json
import sys

from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import (
    cell_text,
    count_text,
    held_text,
    iso_text,
    moment_text,
    shown,
    signed_size_text,
    size_text,
)
from frugal_sorter.reports.totals import Totals, TypeChange, compare_totals

_HEADS = ("type", "files before", "files after", "size before", "size after", "difference")


def print_sums(first: Totals, second: Totals, wanted: str) -> None:
    """Print how two sums differ by type.

    Args:
        first: the earlier one.
        second: the later one.
        wanted: the format.
    """
    rows = compare_totals(first, second)
    if wanted == "json":
        result = {
            side: {"folders": one.levels, "made": iso_text(one.made_ns), "files": one.files, "bytes": one.bytes}
            for side, one in (("first", first), ("second", second))
        }
        print(json.dumps({**result, "types": [row._asdict() for row in rows]}, indent=2))
    elif wanted == "csv":
        writer = csv.writer(sys.stdout)
        writer.writerow(TypeChange._fields)
        writer.writerows([cell_text(row.type), *row[1:]] for row in rows)
    elif wanted == "html":
        from frugal_sorter.reports.page import PageTable, render

        cells: list[list[tuple[str, str | int]]] = []
        for row in rows:
            values: list[str | int] = [*row, row.difference]
            cells.append(list(zip(_cells(row), values, strict=True)))
        folders = ", ".join(map(shown, second.levels))
        table = PageTable("By type", _HEADS, cells, _total(rows))
        print(render(f"What changed in {folders}", [_line("From", first), _line("To", second)], "", [table]))
    else:
        screen = Screen()
        screen.line(_line("From", first))
        screen.line(_line("to", second))
        screen.line()
        columns = [(head, "left" if head == "type" else "right") for head in _HEADS]
        screen.table(columns, [_cells(row) for row in rows], _total(rows))


def _line(label: str, totals: Totals) -> str:
    what = f"{count_text(totals.files, 'file')}, {size_text(totals.bytes)} ({held_text(totals.levels.values())})"
    return f"{label:5}{', '.join(map(shown, totals.levels))}  {moment_text(totals.made_ns)}, {what}"


def _cells(row: TypeChange) -> list[str]:
    return [
        shown(row.type), f"{row.files_before:,}", f"{row.files_after:,}", size_text(row.bytes_before),
        size_text(row.bytes_after), signed_size_text(row.difference) if row.difference else "",
    ]  # fmt: skip


def _total(rows: list[TypeChange]) -> list[str]:
    return _cells(
        TypeChange(
            "all", sum(row.files_before for row in rows), sum(row.files_after for row in rows),
            sum(row.bytes_before for row in rows), sum(row.bytes_after for row in rows),
        )
    )  # fmt: skip
