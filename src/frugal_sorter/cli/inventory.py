"""`frugal inventory`: what is in a folder."""

from __future__ import annotations

import argparse
import csv
import json
import os
import sys

from frugal_sorter.cli.options import add_format, add_where, levels
from frugal_sorter.cli.text import count_text, date_text, iso_text, shown, size_text
from frugal_sorter.errors import UsageError
from frugal_sorter.files.walk import reason_of
from frugal_sorter.reports.inventory import Count, Inventory, take_inventory

EXAMPLES = """
  frugal inventory ~/Intake
  frugal inventory ~/Intake ~/Desktop --by ext --hidden
  frugal inventory ~/Intake --where 'size > 100 MB or latest older than 1 year'
  frugal inventory /srv/store --levels 1 --format csv > store.csv
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folders", metavar="FOLDER", nargs="+", help="a folder to count")
    parser.add_argument("--by", choices=("type", "ext"), default="type", help="rows by type group or by extension")
    parser.add_argument("--levels", type=levels, metavar="N", help="how deep; 1 is the folder itself (default: all)")
    parser.add_argument("--hidden", action="store_true", help="count hidden files and folders too")
    add_where(parser)
    add_format(parser, "table", "json", "csv")


def run(args: argparse.Namespace) -> int:
    folders = [_resolved(folder) for folder in args.folders]
    where, world = None, None
    if args.where is not None:
        from frugal_sorter.cli.reading import read_where, world_now

        where, world = read_where(args.where), world_now()
    try:
        inventory = take_inventory(list(dict.fromkeys(folders)), args.levels, args.hidden, where, world)
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    {"table": _print_table, "json": _print_json, "csv": _print_csv}[args.format](inventory, args)
    return 1 if any(not unread.by_design for unread in inventory.unread) else 0


def _resolved(folder: str) -> str:
    path = os.path.realpath(folder)
    if not folder or not os.path.lexists(path):
        raise UsageError(f"{folder or '(empty)'}: there is no such folder", "check the path")
    if not os.path.isdir(path):
        raise UsageError(f"{folder}: this is not a folder", "name the folder it is in")
    return path


def _print_table(inventory: Inventory, args: argparse.Namespace) -> None:
    from frugal_sorter.cli.screen import Screen

    screen = Screen()
    for folder in inventory.folders_asked:
        screen.line(shown(folder), style="bold")
    screen.line()
    rows = inventory.counts(args.by)
    total = inventory.bytes
    by_type = args.by == "type"
    columns = [("type" if by_type else "ext", "left"), ("files", "right"), ("size", "right"), ("share", "right"),
               ("oldest", "left"), ("newest", "left")]  # fmt: skip
    if by_type:
        columns.append(("of which", "left"))
    screen.table(columns, [_cells(row, total, by_type) for row in rows], _totals(inventory, by_type))
    screen.line()
    also = [count_text(inventory.folders, "subfolder")]
    also += [count_text(inventory.links, "symbolic link")] if inventory.links else []
    also += (
        [count_text(inventory.others, "pipe, socket or device", "pipes, sockets or devices")]
        if inventory.others
        else []
    )
    screen.line(f"Also {', '.join(also)}." + _hidden_text(inventory.hidden))
    for label, dated in (("Oldest", inventory.oldest), ("Newest", inventory.newest)):
        if dated is not None:
            screen.line(f"{label}: {date_text(dated.mtime_ns)}  {shown(dated.path)}")
    for space in inventory.space:
        free = space.free / space.total if space.total else 0
        screen.line(f"Free: {size_text(space.free)} of {size_text(space.total)} ({free:.0%}).")
    for unread in inventory.unread:
        screen.line(f"Not read: {shown(unread.path)} ({unread.reason})", style="" if unread.by_design else "yellow")


def _hidden_text(hidden: int) -> str:
    if not hidden:
        return ""
    return f" {count_text(hidden, 'hidden entry is', 'hidden entries are')} not counted (--hidden does)."


def _cells(row: Count, total: int, by_type: bool) -> list[str]:
    cells = [
        _key_text(row.key) if not by_type else row.key,
        f"{row.files:,}",
        size_text(row.bytes),
        _share_text(row.bytes, total),
        date_text(row.oldest_ns),
        date_text(row.newest_ns),
    ]
    if by_type:
        cells.append(_suffixes_text(row.suffixes))
    return cells


def _share_text(part: int, total: int) -> str:
    if not total:
        return ""
    return "<1%" if 0 < part < total / 200 else f"{part / total:.0%}"


def _key_text(suffix: str) -> str:
    return shown(suffix) if suffix else "(none)"


def _suffixes_text(suffixes: dict[str, int], most: int = 4) -> str:
    ranked = sorted(suffixes.items(), key=lambda item: (-item[1], item[0]))
    text = "  ".join(f"{_key_text(suffix)} {count:,}" for suffix, count in ranked[:most])
    rest = len(ranked) - most
    return f"{text}  and {rest} more" if rest > 0 else text


def _totals(inventory: Inventory, by_type: bool) -> list[str]:
    oldest = date_text(inventory.oldest.mtime_ns) if inventory.oldest else ""
    newest = date_text(inventory.newest.mtime_ns) if inventory.newest else ""
    cells = ["all", f"{inventory.files:,}", size_text(inventory.bytes), "", oldest, newest]
    return [*cells, ""] if by_type else cells


def _print_json(inventory: Inventory, args: argparse.Namespace) -> None:
    rows = [
        {
            args.by: row.key,
            "files": row.files,
            "bytes": row.bytes,
            "oldest": iso_text(row.oldest_ns),
            "newest": iso_text(row.newest_ns),
            **({"extensions": dict(sorted(row.suffixes.items()))} if args.by == "type" else {}),
        }
        for row in inventory.counts(args.by)
    ]
    dated = {
        name: found and {"path": found.path, "modified": iso_text(found.mtime_ns)}
        for name, found in (("oldest", inventory.oldest), ("newest", inventory.newest))
    }
    result = {
        "folders": inventory.folders_asked,
        "by": args.by,
        "rows": rows,
        "files": inventory.files,
        "bytes": inventory.bytes,
        "subfolders": inventory.folders,
        "symbolic_links": inventory.links,
        "others": inventory.others,
        "hidden_not_counted": inventory.hidden,
        **dated,
        "space": [space._asdict() for space in inventory.space],
        "not_read": [unread._asdict() for unread in inventory.unread],
    }
    print(json.dumps(result, indent=2))


def _print_csv(inventory: Inventory, args: argparse.Namespace) -> None:
    writer = csv.writer(sys.stdout)
    writer.writerow([args.by, "files", "bytes", "oldest", "newest"])
    for row in inventory.counts(args.by):
        writer.writerow([_cell(row.key), row.files, row.bytes, iso_text(row.oldest_ns), iso_text(row.newest_ns)])
    for unread in inventory.unread:
        print(f"not read: {shown(unread.path)} ({unread.reason})", file=sys.stderr)


def _cell(text: str) -> str:
    """Return a cell that no spreadsheet takes for a formula, and that any terminal can show."""
    text = shown(text)
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text
