"""`frugal compare`: what is new, gone, changed or moved between two inventories."""

from __future__ import annotations

import argparse
import csv
import json
import re
import sys

from frugal_sorter.cli.options import add_format
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
from frugal_sorter.cli.reading import require_library
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reports.saved import (
    HOWS,
    SUFFIX,
    Changed,
    Comparison,
    Saved,
    Totals,
    TypeChange,
    compare,
    compare_totals,
    kept_totals,
    load,
    look_now,
    take_totals,
    totals_of,
)
from frugal_sorter.state.folders import ready_state_folder

EXAMPLES = """
  frugal inventory ~/Intake --save monday
  frugal compare monday ~/Intake             what changed since
  frugal compare monday friday --format csv
  frugal compare before-run-14 after-run-14  the sums that run 14 kept
"""
_OF_RUN = re.compile(r"(before|after)-run-([0-9]{1,9})")
_NAMED = 8


def saved_path(name: str) -> Path:
    """Return where an inventory of a name is kept; a path is one already."""
    if "/" in name or name.endswith(SUFFIX):
        return Path(name)
    return ready_state_folder() / "inventories" / f"{name}{SUFFIX}"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("first", metavar="A", help="the earlier one: a name, a file, or a folder as it is now")
    parser.add_argument("second", metavar="B", help="the later one, likewise")
    parser.add_argument("--hidden", action="store_true", help="of a folder as it is now: hidden entries too")
    add_format(parser, "table", "json", "csv", "html")


def run(args: argparse.Namespace) -> int:
    if args.format == "html":
        require_library("--format html", "jinja2", "reports")
    now_ns = args.call.begin().now_ns
    first, second = _sums(args.first), _sums(args.second)
    if first or second:
        one = first or _as_sums(args.first, args.hidden, now_ns, second)
        print_sums(one, second or _as_sums(args.second, args.hidden, now_ns, first), args.format)
        return 0
    comparison = compare(_read(args.first, args.hidden, now_ns), _read(args.second, args.hidden, now_ns))
    printers = {"table": _print_table, "json": _print_json, "csv": _print_csv, "html": _print_page}
    printers[args.format](comparison)
    return 1 if comparison.first.unread or comparison.second.unread else 0


def _read(named: str, hidden: bool, now_ns: int) -> Saved:
    if not named:
        raise UsageError("(empty): there is no such inventory or folder", "name one")
    if disk.isdir(named):
        try:
            return look_now(slashed.realpath(named), hidden, now_ns)
        except OSError as error:
            raise UsageError(f"{named}: {reason_of(error)}", "run as a user who may read it") from error
    return load(saved_path(named))


def _sums(named: str) -> Totals | None:
    """Return the sums that a run kept, if it is those that are named."""
    found = _OF_RUN.fullmatch(named)
    if found is None:
        return None
    kept = kept_totals(ready_state_folder(), int(found[2]))
    if kept is None:
        raise UsageError(f"run {found[2]} kept no sums", "`frugal history` lists the runs; undos keep none")
    return kept[0] if found[1] == "before" else kept[1]


def _as_sums(named: str, hidden: bool, now_ns: int, beside: Totals | None) -> Totals:
    """Return the sums of something else; of a folder as it is now as deep as the run counted it."""
    folder = slashed.realpath(named)
    if beside is not None and folder in beside.levels:
        return take_totals({folder: beside.levels[folder]}, now_ns)
    return totals_of(_read(named, hidden, now_ns))


def _print_table(comparison: Comparison) -> None:
    screen = Screen()
    for label, saved in (("From", comparison.first), ("to", comparison.second)):
        what = f"{count_text(len(saved.files), 'file')}, {size_text(saved.bytes)}"
        screen.parts(
            (f"{label:5}", "dim"), (f"{shown(saved.folder)}  ", "bold"), (f"{moment_text(saved.made_ns)}, {what}", "")
        )
    screen.line()
    if not comparison.changes:
        screen.line("Nothing changed.")
    for way, rows in (("type", comparison.by("type")), ("folder", comparison.by("folder"))):
        if rows:
            columns = [(way, "left"), *((how, "right") for how in HOWS), ("difference", "right")]
            screen.table(columns, [_cells(row) for row in rows], _cells(_sum(rows)))
            screen.line()
    for how in HOWS:
        changes = [change for change in comparison.changes if change.how == how]
        if not changes:
            continue
        screen.line(f"{how.capitalize()}: {count_text(len(changes), 'file')}", style="bold")
        for change in changes[:_NAMED]:
            came_from = f"  from {shown(change.before)}" if how == "moved" else ""
            size = signed_size_text(change.difference) if change.difference else size_text(change.bytes_after)
            screen.parts((f"  {size:>10}  ", "dim"), (f"{shown(change.path)}{came_from}", ""))
        if len(changes) > _NAMED:
            screen.line(f"  and {len(changes) - _NAMED:,} more (--format csv lists all)")
    for saved in (comparison.first, comparison.second):
        for path in saved.unread:
            screen.line(f"Not read: {shown(path)}", style="yellow")


def _sum(rows: list[Changed]) -> Changed:
    total = Changed("all")
    for row in rows:
        total.difference += row.difference
        for how, count in row.counts.items():
            total.counts[how] += count
    return total


def _cells(row: Changed) -> list[str]:
    return [
        shown(row.key),
        *(f"{row.counts[how]:,}" if row.counts[how] else "" for how in HOWS),
        signed_size_text(row.difference) if row.difference else "",
    ]


def _print_json(comparison: Comparison) -> None:
    def side(saved: Saved) -> dict[str, object]:
        return {"folder": saved.folder, "made": iso_text(saved.made_ns), "files": len(saved.files), "bytes": saved.bytes,
                "free": saved.free, "not_read": saved.unread}  # fmt: skip

    result = {
        "first": side(comparison.first),
        "second": side(comparison.second),
        "changes": [
            {**change._asdict(), "before": change.before or None, "after": change.after or None}
            for change in comparison.changes
        ],
    }
    print(json.dumps(result, indent=2))


def _print_page(comparison: Comparison) -> None:
    from frugal_sorter.reports.page import PageTable, render

    lines = []
    for label, saved in (("From", comparison.first), ("To", comparison.second)):
        what = f"{count_text(len(saved.files), 'file')}, {size_text(saved.bytes)}"
        lines.append(f"{label} {shown(saved.folder)}, {moment_text(saved.made_ns)}: {what}.")
        lines += [f"Not read: {shown(path)}." for path in saved.unread]
    tables = []
    for way, rows in (("type", comparison.by("type")), ("folder", comparison.by("folder"))):
        if rows:
            heads = (way, *HOWS, "difference")
            tables.append(PageTable(f"By {way}", heads, [_page_cells(row) for row in rows], _cells(_sum(rows))))
    files: list[list[tuple[str, str | int]]] = [
        [(shown(change.path), shown(change.path)), (change.how, change.how),
         (shown(change.before) if change.how == "moved" else "", change.before),
         (signed_size_text(change.difference), change.difference), (size_text(change.bytes_after), change.bytes_after)]
        for change in comparison.changes
    ]  # fmt: skip
    tables.append(PageTable("Files", ("file", "what", "moved from", "difference", "size"), files))
    print(render(f"What changed in {shown(comparison.second.folder)}", lines, "", tables))


def _page_cells(row: Changed) -> list[tuple[str, str | int]]:
    values: list[str | int] = [row.key, *(row.counts[how] for how in HOWS), row.difference]
    return list(zip(_cells(row), values, strict=True))


def _print_csv(comparison: Comparison) -> None:
    writer = csv.writer(sys.stdout)
    writer.writerow(["how", "before", "after", "bytes_before", "bytes_after"])
    for change in comparison.changes:
        writer.writerow(
            [change.how, cell_text(change.before), cell_text(change.after), change.bytes_before, change.bytes_after]
        )


# Sums: what a run kept of its folders before and after it


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
            cells.append(list(zip(_sums_cells(row), values, strict=True)))
        folders = ", ".join(map(shown, second.levels))
        table = PageTable("By type", _HEADS, cells, _sums_total(rows))
        print(render(f"What changed in {folders}", [_sums_line("From", first), _sums_line("To", second)], "", [table]))
    else:
        screen = Screen()
        screen.line(_sums_line("From", first))
        screen.line(_sums_line("to", second))
        screen.line()
        columns = [(head, "left" if head == "type" else "right") for head in _HEADS]
        screen.table(columns, [_sums_cells(row) for row in rows], _sums_total(rows))


def _sums_line(label: str, totals: Totals) -> str:
    what = f"{count_text(totals.files, 'file')}, {size_text(totals.bytes)} ({held_text(totals.levels.values())})"
    return f"{label:5}{', '.join(map(shown, totals.levels))}  {moment_text(totals.made_ns)}, {what}"


def _sums_cells(row: TypeChange) -> list[str]:
    return [
        shown(row.type), f"{row.files_before:,}", f"{row.files_after:,}", size_text(row.bytes_before),
        size_text(row.bytes_after), signed_size_text(row.difference) if row.difference else "",
    ]  # fmt: skip


def _sums_total(rows: list[TypeChange]) -> list[str]:
    return _sums_cells(
        TypeChange(
            "all", sum(row.files_before for row in rows), sum(row.files_after for row in rows),
            sum(row.bytes_before for row in rows), sum(row.bytes_after for row in rows),
        )
    )  # fmt: skip
