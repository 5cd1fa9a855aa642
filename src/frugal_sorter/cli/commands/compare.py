"""`frugal compare`: what is new, gone, changed or moved between two inventories."""

from __future__ import annotations

import argparse
import re
from collections import Counter

from frugal_sorter.cli.options import add_format
from frugal_sorter.cli.output.results import Column, Table, page, print_csv, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import (
    count_text,
    held_text,
    iso_text,
    moment_text,
    shown,
    signed_size_text,
    size_text,
    unread_as_json,
    unread_text,
)
from frugal_sorter.cli.reading import require_library
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.reasons import reason_of
from frugal_sorter.reports.fleet import LEAST_BYTES, compare_machines
from frugal_sorter.reports.saved import (
    HOWS,
    Changed,
    Comparison,
    How,
    Saved,
    Totals,
    TypeChange,
    compare,
    compare_totals,
    kept_totals,
    load,
    look_now,
    saved_path,
    take_totals,
    totals_of,
)
from frugal_sorter.state import ready_state_folder

EXAMPLES = """
  frugal inventory ~/Intake --save monday
  frugal compare monday now                  what changed since
  frugal compare monday friday --format csv
  frugal compare before-run-14 after-run-14  the totals that run 14 kept
  frugal compare --from inventories          what many machines hold alike, and what only one holds
"""
_OF_RUN = re.compile(r"(before|after)-run-([0-9]{1,9})")
_NAMED = 8
_NOW = "now"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "first",
        metavar="A",
        nargs="?",
        default="",
        help=("the earlier state: the name of a saved inventory, a file, or a folder as it is now"),
    )
    parser.add_argument(
        "second", metavar="B", nargs="?", default="", help="the later one, likewise, or `now`: the folder of A as it is now"
    )
    parser.add_argument(
        "--from", dest="folder", metavar="FOLDER", help="compare many machines: a folder of saved inventories, one of each"
    )
    parser.add_argument("--hidden", action="store_true", help="when A or B is a folder: include hidden files")
    add_format(parser, "table", "json", "csv", "html")


def run(args: argparse.Namespace) -> int:
    if args.format == "html":
        require_library("--format html", "jinja2", "reports")
    if args.folder is not None:
        return _machines(args)
    if not args.first or not args.second:
        raise UsageError("name what to compare: A and B", "such as `frugal compare monday now`, or use --from FOLDER")
    now_ns = args.call.begin().now_ns
    first, second = _sums(args.first), _sums(args.second)
    if first or second:
        one = first or _as_sums(args.first, args.hidden, now_ns, second)
        _print_sums(one, second or _as_sums(args.second, args.hidden, now_ns, first), args.format)
        return 0
    before = _read(args.first, args.hidden, now_ns)
    after = _read(before.folder if args.second == _NOW else args.second, args.hidden, now_ns)
    comparison = compare(before, after)
    printers = {"table": _print_table, "json": _print_json, "csv": _print_csv, "html": _print_page}
    printers[args.format](comparison)
    return 1 if comparison.first.unread or comparison.second.unread else 0


def _machines(args: argparse.Namespace) -> int:
    """Show what many machines hold alike, and what each holds alone."""
    if args.first or args.second or args.hidden or args.format == "csv":
        raise UsageError("--from compares the inventories of a folder", "remove A, B, --hidden and --format csv")
    unread: list[Unread] = []
    try:
        found = compare_machines(slashed.realpath(args.folder), unread.append)
    except OSError as error:
        raise UsageError(f"{shown(args.folder)}: {reason_of(error)}", "name a folder of inventories") from None
    if args.format == "json":
        alike = [{**one._asdict(), "all_bytes": one.all_bytes} for one in found.alike]
        alone = [one._asdict() for one in found.alone]
        print_json({"machines": found.machines, "alone": alone, "not_read": [unread_as_json(one) for one in unread]}, alike=alike)
        return 1 if unread else 0
    everywhere = sum(one.machines == len(found.machines) for one in found.alike)
    lead = (
        f"{count_text(len(found.machines), 'machine')}. {count_text(len(found.alike), 'file')} of at least "
        f"{size_text(LEAST_BYTES)} on several of them by name and size, {everywhere:,} on all."
    )
    most = len(found.alike) if args.format == "html" else _NAMED * 2
    alike_columns = (
        Column("on several machines", lambda one: one.name),
        Column.size("size", lambda one: one.bytes, is_whole=True),
        Column.count("machines", lambda one: one.machines, is_whole=True),
        Column.size("together", lambda one: one.all_bytes, is_whole=True),
    )
    alone_columns = (
        Column("on one machine", lambda one: one.machine),
        Column.count("files", lambda one: one.files, is_whole=True),
        Column.size("size", lambda one: one.bytes, is_whole=True),
        Column("largest", lambda one: one.largest),
    )
    tables = [Table("Alike", alike_columns, found.alike[:most]), Table("Alone", alone_columns, found.alone[: max(most, 1)])]
    if args.format == "html":
        print(page(f"Machines in {shown(args.folder)}", [], tables, lead=lead))
        return 1 if unread else 0
    screen = Screen()
    screen.lines(lead)
    for table, of in zip(tables, (found.alike, found.alone), strict=True):
        if table.rows:
            screen.line()
            screen.table(table)
        if len(of) > len(table.rows):
            screen.line(f"… {len(of) - len(table.rows):,} more (--format json lists all)")
    for one in unread:
        screen.line(unread_text(one), style="warn")
    return 1 if unread else 0


def _read(named: str, hidden: bool, now_ns: int) -> Saved:
    if not named:
        raise UsageError("A or B is empty", "name one")
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
        raise UsageError(
            f"run {found[2]} saved no totals", ("choose another run from `frugal history`; undo runs save no totals")
        )
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
        screen.parts((f"{label:5}", "dim"), (f"{shown(saved.folder)}  ", "bold"), (f"{moment_text(saved.made_ns)}, {what}", ""))
    screen.line()
    if not comparison.changes:
        screen.line("No differences.")
    for table in _tables(comparison):
        screen.table(table)
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
            screen.line(f"  … {len(changes) - _NAMED:,} more (--format csv lists all)")
    for saved in (comparison.first, comparison.second):
        for path in saved.unread:
            screen.line(f"Not read: {shown(path)}", style="warn")


def _tables(comparison: Comparison) -> list[Table]:
    """Return how many files had each kind of change, by type and by folder."""

    def counted(how: How) -> Column:
        return Column(how, lambda row: row.counts[how], lambda number: f"{number:,}" if number else "", is_right=True)

    tables = []
    for way in ("type", "folder"):
        if rows := comparison.by(way):
            total = Changed("all", sum((row.counts for row in rows), Counter[How]()), sum(row.difference for row in rows))
            columns = [
                Column(way, lambda row: row.key),
                *map(counted, HOWS),
                Column.change("difference", lambda row: row.difference),
            ]
            tables.append(Table(f"By {way}", columns, rows, total))
    return tables


def _print_json(comparison: Comparison) -> None:
    def side(saved: Saved) -> dict[str, object]:
        return {"folder": saved.folder, "made": iso_text(saved.made_ns), "files": len(saved.files), "bytes": saved.bytes,
                "free": saved.free, "not_read": saved.unread}  # fmt: skip

    result = {
        "first": side(comparison.first),
        "second": side(comparison.second),
        "changes": [
            {**change._asdict(), "before": change.before or None, "after": change.after or None} for change in comparison.changes
        ],
    }
    print_json(result)


def _print_page(comparison: Comparison) -> None:
    lines = []
    for label, saved in (("From", comparison.first), ("To", comparison.second)):
        what = f"{count_text(len(saved.files), 'file')}, {size_text(saved.bytes)}"
        lines.append(f"{label} {shown(saved.folder)}, {moment_text(saved.made_ns)}: {what}.")
        lines += [f"Not read: {shown(path)}." for path in saved.unread]
    columns = (
        Column("file", lambda change: change.path),
        Column("what", lambda change: change.how),
        Column("moved from", lambda change: change.before if change.how == "moved" else ""),
        Column("difference", lambda change: change.difference, signed_size_text, is_right=True),
        Column.size("size", lambda change: change.bytes_after),
    )
    tables = [*_tables(comparison), Table("Files", columns, comparison.changes)]
    print(page(f"What changed in {shown(comparison.second.folder)}", lines, tables))


def _print_csv(comparison: Comparison) -> None:
    print_csv(
        ["how", "before", "after", "bytes_before", "bytes_after"],
        ([one.how, one.before, one.after, one.bytes_before, one.bytes_after] for one in comparison.changes),
    )


# Sums: what a run kept of its folders before and after it


def _print_sums(first: Totals, second: Totals, wanted: str) -> None:
    """Print how two sums differ by type."""
    rows = compare_totals(first, second)
    if wanted == "json":
        result = {
            side: {"folders": one.levels, "made": iso_text(one.made_ns), "files": one.files, "bytes": one.bytes}
            for side, one in (("first", first), ("second", second))
        }
        print_json({**result, "types": [row._asdict() for row in rows]})
        return
    if wanted == "csv":
        print_csv(TypeChange._fields, rows)
        return
    total = TypeChange("all", *(sum(numbers) for numbers in list(zip(*rows, strict=True))[1:])) if rows else None
    columns = (
        Column("type"),
        Column.count("files before"),
        Column.count("files after"),
        Column.size("size before"),
        Column.size("size after"),
        Column.change("difference", lambda row: row.difference),
    )
    table = Table("By type", columns, rows, total or TypeChange("all", 0, 0, 0, 0))
    if wanted == "html":
        folders = ", ".join(map(shown, second.levels))
        print(page(f"What changed in {folders}", [_sums_line("From", first), _sums_line("To", second)], [table]))
        return
    screen = Screen()
    screen.line(_sums_line("From", first))
    screen.line(_sums_line("to", second))
    screen.line()
    screen.table(table)


def _sums_line(label: str, totals: Totals) -> str:
    what = f"{count_text(totals.files, 'file')}, {size_text(totals.bytes)} ({held_text(totals.levels.values())})"
    return f"{label:5}{', '.join(map(shown, totals.levels))}  {moment_text(totals.made_ns)}, {what}"
