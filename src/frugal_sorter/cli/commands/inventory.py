"""`frugal inventory`: what is in a folder."""

from __future__ import annotations

import argparse
import os
import sys
from collections import Counter
from collections.abc import Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

from frugal_sorter.app.session import Session
from frugal_sorter.cli.options import add_chart, add_format, add_where, did_you_mean, folder_named, levels, number
from frugal_sorter.cli.output.results import Column, Table, print_csv, print_json
from frugal_sorter.cli.output.screen import Progress
from frugal_sorter.cli.output.text import (
    below,
    common_base,
    count_text,
    date_text,
    iso_text,
    moment_text,
    share_text,
    shown,
    size_text,
    specials_texts,
    unread_as_json,
    unread_text,
)
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.extended_attributes import tags_text
from frugal_sorter.filesystem.record import Unread, band_order, is_inside
from frugal_sorter.platforms import processes
from frugal_sorter.reasons import reason_of
from frugal_sorter.reports.inventory import SORTS, WAYS, By, Count, Inventory, InventoryCounter, list_entries
from frugal_sorter.values import replace

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from frugal_sorter.cli.output.screen import Screen
    from frugal_sorter.rules.fields import World
    from frugal_sorter.rules.tree import Node

# More columns than these do not fit beside each other.
_COLUMNS = 7
# This many bars are easily compared.
_BARS = 12
EXAMPLES = """
  frugal inventory ~/Intake
  frugal inventory ~ --tree                               where the space is, in one screen
  frugal inventory ~ --tree --open-to ~/Intake/Scans --sort newest
  frugal inventory ~/Intake ~/Desktop --by type,age --hidden
  frugal inventory ~/Intake --largest 20 --where "latest older than 1 year"
  frugal inventory /srv/store --listing --sort size --format csv > store.csv
"""
# A screenful, and more than there can be.
_TOP, _ALL = 25, 10**12
_ORDERS = ("size", "files", "newest", "name", "modified")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folders", metavar="FOLDER", nargs="*", default=["."], help="a folder to count (default: the current one)"
    )
    parser.add_argument(
        "--by",
        type=_ways,
        default=("type",),
        metavar="WAY",
        help=f"count by {', '.join(WAYS)}; give two, separated by a comma, for a cross table (default: type)",
    )
    parser.add_argument("--levels", type=levels, metavar="N", help="how deep; 1 is the folder itself (default: all)")
    parser.add_argument(
        "--tree", action="store_true", help="show a folder tree, expanded where most of the space is (same as --by folder)"
    )
    parser.add_argument(
        "--open-to", metavar="PATH", action="append", default=[], help="always expand the tree down to this folder"
    )
    parser.add_argument(
        "--show-levels", type=number, metavar="N", help=("with --by folder: a flat table of folders down to this level")
    )
    parser.add_argument("--top", type=_most, default=_TOP, metavar="N", help=(f"show at most N rows, or all (default: {_TOP})"))
    parser.add_argument("--largest", type=number, default=0, metavar="N", help="also name the N largest files")
    parser.add_argument("--hidden", action="store_true", help="count hidden files and folders too")
    parser.add_argument("--listing", action="store_true", help="list every file and subfolder instead of counting")
    parser.add_argument("--sort", choices=_ORDERS, help="sort the rows, or the lines of a listing")
    parser.add_argument("--save", metavar="NAME", nargs="?", const="", help="also save the inventory, to compare with later")
    parser.add_argument(
        "--full",
        action="store_true",
        help="with --save: also save everything that rules can ask for, so that `preview --on` works with it",
    )
    parser.add_argument(
        "--look-inside", action="store_true", help="with --full: open files too, for dates taken, titles and media types"
    )
    parser.add_argument("--replace", action="store_true", help="with --save: replace a saved inventory of that name")
    parser.add_argument("--forget", metavar="NAME", help="remove a saved inventory, and do nothing else")
    parser.add_argument(
        "--open",
        metavar="SECONDS",
        nargs="?",
        const=0.0,
        type=float,
        dest="open_seconds",
        help="also list programs with open files there; with SECONDS, keep watching for that long",
    )
    add_chart(parser)
    add_where(parser)
    add_format(parser, "table", "json", "csv", "html")


def _most(text: str) -> int:
    return _ALL if text == "all" else number(text)


def _ways(text: str) -> tuple[By, ...]:
    ways = tuple(part.strip() for part in text.split(","))
    for way in ways:
        if way not in WAYS:
            hint = did_you_mean(way, WAYS) or f"choose from {', '.join(WAYS)}"
            raise argparse.ArgumentTypeError(f"cannot count by {way!r}; {hint}")
    if len(ways) > 2 or len(set(ways)) != len(ways):
        raise argparse.ArgumentTypeError("count by one or two different fields")
    return ways  # type: ignore[return-value]


def run(args: argparse.Namespace) -> int:
    if args.forget is not None:
        return _forget(args.forget)
    folders = list(dict.fromkeys(map(folder_named, args.folders)))
    is_tree = _is_tree(args)
    if is_tree:
        args.by = ("folder",)
        args.open_to = [folder_named(path) for path in args.open_to]
        if args.sort == "modified":
            args.sort = "newest"
    if (args.full and args.save is None) or (args.look_inside and not args.full):
        raise UsageError("--full belongs to --save, and --look-inside to --full", "for example --save NAME --full")
    session = args.call.begin()
    where, world = None, None
    if args.where is not None:
        from frugal_sorter.cli.reading import read_where

        where, world = read_where(args.where), session.world()
    try:
        if args.listing:
            if where is not None:
                raise UsageError("--listing cannot be combined with --where", "remove --where, or remove --listing to count")
            return _print_listing(folders, args)
        if args.save is not None:
            _save(session, folders, args)
        with Progress("files counted") as progress:
            show_levels = None if is_tree else args.show_levels or 1
            taker = InventoryCounter(
                args.levels, args.hidden, args.by, show_levels, args.largest, session.now_ns, where, world, progress.update
            )
            inventory = taker.take(folders)
            figure = None
            if args.chart is not None or args.format == "html":
                figure = _figure(session, folders, args, where, world)
    except BrokenPipeError:
        raise
    except OSError as error:
        raise UsageError(f"{error.filename}: {reason_of(error)}", "run as a user who may read it") from error
    if args.format == "html":
        from frugal_sorter.cli.output.views import inventory_page as page_of

        print(page_of(inventory, figure, args.by, args.top, session.now_ns))
    elif is_tree:
        _print_tree(inventory, args)
    else:
        {"table": _print_table, "json": _print_json, "csv": _print_csv}[args.format](inventory, args)
    if args.chart is not None and figure is not None:
        from frugal_sorter.reports.figures import write

        write(figure, args.chart)
    if args.open_seconds is not None:
        from frugal_sorter.cli.output.views import print_open

        print_open(folders, args.open_seconds, args.levels, args.hidden)
    return 1 if any(unread.reason.problem for unread in inventory.unread) else 0


def _is_tree(args: argparse.Namespace) -> bool:
    """Return whether folders are shown as a tree.

    Raises:
        UsageError: options do not go together, or a library is missing.
    """
    if args.sort is not None and len(args.by) == 2 and not args.listing:
        raise UsageError("--sort does not apply to a cross table", "count by one way, or remove --sort")
    is_plain = args.show_levels is None and not args.listing and args.format == "table"
    is_tree = args.tree or (args.by == ("folder",) and is_plain)
    if args.tree and args.format == "html":
        raise UsageError("--tree is available only as a table, CSV or JSON", "use --by folder for a page")
    if args.tree and (args.listing or args.show_levels is not None or args.by not in (("type",), ("folder",))):
        raise UsageError("--tree shows folders only", "remove --by, --show-levels and --listing")
    if args.open_to and not is_tree:
        raise UsageError("--open-to needs --tree", "add --tree")
    if args.listing and args.sort == "files":
        raise UsageError("--sort files: a listing has no counts", "sort by size, newest or name")
    if args.open_seconds is not None and processes.ASKED_BY_PATH:
        raise UsageError("--open: this system does not report which programs have files open", "remove --open")
    if args.open_seconds is not None and args.format != "table":
        raise UsageError("--open is available only as a table", "remove --format")
    if args.chart is not None or args.format == "html":
        from frugal_sorter.cli.reading import require_library

        for module in ("matplotlib", "jinja2"):
            require_library("--chart and --format html", module, "reports")
    return is_tree


def _print_tree(inventory: Inventory, args: argparse.Namespace) -> None:
    from frugal_sorter.cli.output.views import print_tree, tree_as_json

    most = None if args.top == _ALL else args.top
    if args.format == "json":
        tree = tree_as_json(inventory, most, args.sort, args.open_to)
        print_json({"tree": tree, "not_read": [unread_as_json(unread) for unread in inventory.unread]})
        return
    if args.format == "csv":
        rows = tree_as_json(inventory, most, args.sort, args.open_to)
        print_csv([*rows[0]] if rows else [], (row.values() for row in rows))
        return
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    print_tree(screen, inventory, most, args.sort, args.open_to)
    _below_table(screen, inventory)


def _figure(session: Session, folders: list[str], args: argparse.Namespace, where: Node | None, world: World | None) -> Figure:
    """Draw what fills the space; for that it is counted by folder, age and type at once."""
    from frugal_sorter.reports.figures import WAYS_OF_FIGURE, draw
    from frugal_sorter.reports.writers import parts_of, tree_of

    taker = InventoryCounter(args.levels, args.hidden, WAYS_OF_FIGURE, args.show_levels, 0, session.now_ns, where, world)
    base = common_base(folders)
    inventory = taker.take(folders)
    if args.show_levels is not None:
        return draw(inventory, shown(base), size_text, lambda folder: _key_text(folder, "folder", base))
    # One giant bar says nothing: the largest folders are opened until there are as many bars as fit.
    parts = {part.path: part for part in parts_of(tree_of(inventory, base), _BARS)}

    def label(folder: str) -> str:
        at = folder
        while at not in parts:
            at = os.path.dirname(at)
        name = _key_text(at, "folder", base)
        is_rest = any(other != at and is_inside(other, at) for other in parts)
        if at == base:
            return "everything else" if is_rest else name
        return f"rest of {name}" if is_rest else name

    return draw(inventory, shown(base), size_text, lru_cache(None)(label))


def _save(session: Session, folders: list[str], args: argparse.Namespace) -> None:
    """Keep what a folder holds under a name, which is otherwise the folder's own with the date."""
    from frugal_sorter.app.elsewhere import full_of
    from frugal_sorter.reports.saved import SUFFIX, free_path, head_of, look_now, save, saved_path
    from frugal_sorter.state import read_settings

    if len(folders) != 1 or args.where is not None or args.levels is not None:
        raise UsageError("--save saves one complete folder", "name one folder and remove --where and --levels")
    moment_ns = session.now_ns
    path = saved_path(args.save) if args.save else free_path(folders[0], moment_ns)
    if args.full:
        with Progress("entries saved") as progress:
            session = replace(session, on_progress=progress.update)
            full = full_of(session, folders[0], args.look_inside)
            save(head_of(folders[0], moment_ns), path, args.replace, full)
        command = processes.join(["frugal", "preview", "RULES", "--on", str(path)])
        print(f"Saved in {shown(str(path))}.\nTo try rules on it, here or on another computer: {shown(command)}", file=sys.stderr)
        return
    save(look_now(folders[0], args.hidden, moment_ns), path, args.replace)
    days, name = read_settings().keep_days, args.save or path.name.removesuffix(SUFFIX)
    print(
        f"Saved as {shown(name)} for {days:,} days.\n"
        f"To compare later: frugal compare {shown(processes.quote(name))} {shown(processes.quote(folders[0]))}",
        file=sys.stderr,
    )


def _forget(name: str) -> int:
    """Remove an inventory that was kept."""
    from frugal_sorter.reports.saved import forget, saved_path

    forget(saved_path(name))
    print(f"{shown(name)} is forgotten.")
    return 0


def _print_table(inventory: Inventory, args: argparse.Namespace) -> None:
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen()
    for folder in inventory.folders_asked:
        screen.line(shown(folder), style="bold")
    screen.line()
    if len(args.by) == 2:
        _cross_table(screen, inventory, args)
    else:
        _plain_table(screen, inventory, args)
    _below_table(screen, inventory)


def _below_table(screen: Screen, inventory: Inventory) -> None:
    screen.line()
    if inventory.largest:
        screen.line("Largest files", style="bold")
        base = common_base(inventory.folders_asked)
        columns = (
            Column.size("size", lambda one: one.bytes),
            Column.date("modified", lambda one: one.mtime_ns),
            Column.path("file", base, lambda one: one.path),
        )
        screen.table(Table("Largest files", columns, inventory.largest))
        screen.line()
    _also(screen, inventory)


def _also(screen: Screen, inventory: Inventory) -> None:
    also = [count_text(inventory.folders, "subfolder")]
    also += specials_texts(inventory.links, inventory.others)
    if inventory.further_names:
        also.append(count_text(inventory.further_names, "extra hard link") + " (each file is counted once)")
    screen.line(f"Also {', '.join(also)}." + _hidden_text(inventory))
    for label, dated in (("Oldest", inventory.oldest), ("Newest", inventory.newest)):
        if dated is not None:
            screen.line(f"{label}: {date_text(dated.mtime_ns)}  {shown(dated.path)}")
    if abs(inventory.disk - inventory.bytes) > inventory.bytes / 10:
        screen.line(f"Disk space used: {size_text(inventory.disk)}.")
    for space in inventory.space:
        free = space.free / space.total if space.total else 0
        screen.line(f"Free: {size_text(space.free)} of {size_text(space.total)} ({free:.0%}).")
    for unread in inventory.unread:
        screen.line(unread_text(unread), style="warn" if unread.reason.problem else "")


def _plain_table(screen: Screen, inventory: Inventory, args: argparse.Namespace) -> None:
    (way,) = args.by
    rows, whole = inventory.sorted_counts(args.sort), inventory.bytes
    base = common_base(inventory.folders_asked)
    if len(rows) > args.top:
        rest = Count((f"and {len(rows) - args.top:,} more",))
        for row in rows[args.top :]:
            rest.add(row)
        rows = [*rows[: args.top], rest]
    last = Count(("all",), inventory.files, whole)
    if inventory.oldest and inventory.newest:
        last.oldest_ns, last.newest_ns = inventory.oldest.mtime_ns, inventory.newest.mtime_ns
    columns = [
        Column(way, lambda row: row.key, lambda key: _key_text(key, way, base)),
        Column.count("files", lambda row: row.files),
        Column.size("size", lambda row: row.bytes),
        Column("share", lambda row: "" if row is last else share_text(row.bytes, whole), is_right=True),
        Column.bar(whole, lambda row: None if row is last else row.bytes),
        *(
            [Column.size("directly inside", lambda row: row.direct_bytes if row.direct_files else None)]
            if way == "folder"
            else []
        ),
        Column.date("oldest", lambda row: row.oldest_ns if row.files else None),
        Column.date("newest", lambda row: row.newest_ns if row.files else None),
        *([Column("extensions", lambda row: row.suffixes, _suffixes_text)] if way == "type" else []),
    ]
    screen.table(Table("", columns, rows, last))


def _cross_table(screen: Screen, inventory: Inventory, args: argparse.Namespace) -> None:
    """Print sizes by two ways: one down, the other across, the smaller columns folded into one."""
    down, across = args.by
    rows = inventory.counts()
    base = common_base(inventory.folders_asked)
    sums: dict[str, dict[str, int]] = {}
    by_column: dict[str, int] = {}
    for row in rows:
        sums.setdefault(row.keys[0], {})[row.keys[1]] = row.bytes
        by_column[row.keys[1]] = by_column.get(row.keys[1], 0) + row.bytes
    heads = sorted(by_column, key=lambda key: -by_column[key])[:_COLUMNS]
    heads.sort(key=lambda key: (band_order(key), -by_column[key]))
    rest = [key for key in by_column if key not in heads]
    names = list(sums) if down in ("age", "size") else sorted(sums, key=lambda key: -sum(sums[key].values()))
    lines = [(_key_text(name, down, base), sums[name]) for name in names[: args.top]]
    if len(names) > args.top:
        folded = Counter[str]()
        for name in names[args.top :]:
            folded.update(sums[name])
        lines.append((f"and {len(names) - args.top:,} more", folded))

    def sized(head: str, keys: Sequence[str]) -> Column:
        return Column.size(head, lambda line: sum(line[1].get(key, 0) for key in keys) or None)

    columns = [
        Column(f"{down} \\ {across}", lambda line: line[0]),
        *(sized(_key_text(head, across, base), [head]) for head in heads),
        *([sized("the rest", rest)] if rest else []),
        Column.size("all", lambda line: sum(line[1].values())),
    ]
    screen.table(Table("", columns, lines, ("all", by_column)))


def _hidden_text(inventory: Inventory) -> str:
    parts = [count_text(inventory.hidden, "hidden file")] if inventory.hidden else []
    if inventory.hidden_folders:
        parts.append(f"{count_text(inventory.hidden_folders, 'hidden folder')} and everything in them")
    if not parts:
        return ""
    return f" Not counted: {' and '.join(parts)} (add --hidden to include them)."


def _key_text(key: str, way: By, base: str) -> str:
    if way == "folder":
        return below(key, base) if key != base else "(the folder itself)"
    return shown(key) if key or way not in ("ext", "tag") else "(none)"


def _suffixes_text(suffixes: dict[str, int], most: int = 4) -> str:
    ranked = sorted(suffixes.items(), key=lambda item: (-item[1], item[0]))
    text = "  ".join(f"{shown(suffix) or '(none)'} {count:,}" for suffix, count in ranked[:most])
    rest = len(ranked) - most
    return f"{text}  and {rest} more" if rest > 0 else text


def _print_json(inventory: Inventory, args: argparse.Namespace) -> None:
    rows = [
        {
            **dict(zip(args.by, row.keys, strict=True)),
            "files": row.files,
            "bytes": row.bytes,
            "disk_bytes": row.disk,
            "oldest": iso_text(row.oldest_ns),
            "newest": iso_text(row.newest_ns),
            **({"extensions": dict(sorted(row.suffixes.items()))} if "type" in args.by else {}),
            **({"direct_files": row.direct_files, "direct_bytes": row.direct_bytes} if args.by == ("folder",) else {}),
        }
        for row in inventory.sorted_counts(args.sort)
    ]
    dated = {
        name: found and {"path": found.path, "modified": iso_text(found.mtime_ns)}
        for name, found in (("oldest", inventory.oldest), ("newest", inventory.newest))
    }
    result = {
        "folders": inventory.folders_asked,
        "by": ",".join(args.by),
        "rows": rows,
        "files": inventory.files,
        "bytes": inventory.bytes,
        "disk_bytes": inventory.disk,
        "further_names": inventory.further_names,
        "subfolders": inventory.folders,
        "symbolic_links": inventory.links,
        "others": inventory.others,
        "hidden_not_counted": {"files": inventory.hidden, "folders": inventory.hidden_folders},
        **dated,
        "largest": [
            {"path": one.path, "bytes": one.bytes, "disk_bytes": one.disk, "modified": iso_text(one.mtime_ns)}
            for one in inventory.largest
        ],
        "space": [space._asdict() for space in inventory.space],
        "not_read": [unread_as_json(unread) for unread in inventory.unread],
    }
    print_json(result)


def _print_csv(inventory: Inventory, args: argparse.Namespace) -> None:
    print_csv(
        [*args.by, "files", "bytes", "disk_bytes", "oldest", "newest"],
        (
            [*row.keys, row.files, row.bytes, row.disk, iso_text(row.oldest_ns), iso_text(row.newest_ns)]
            for row in inventory.sorted_counts(args.sort)
        ),
    )
    for unread in inventory.unread:
        print(f"not read: {shown(unread.path)} ({unread.reason})", file=sys.stderr)


def _print_listing(folders: list[str], args: argparse.Namespace) -> int:
    """Print every entry, a line each, as it is found or sorted."""
    unread: list[Unread] = []
    hidden: list[str] = []
    entries = list_entries(folders, args.levels, args.hidden, unread.append, hidden.append)
    if args.sort:
        entries = iter(sorted(entries, key=SORTS[args.sort]))
    if args.format == "csv":
        print_csv(
            ["path", "kind", "bytes", "disk_bytes", "modified", "tags"],
            ([one.path, one.kind, one.bytes, one.disk, iso_text(one.mtime_ns), tags_text(one.path)] for one in entries),
        )
    elif args.format == "json":
        lines = (
            {
                "path": one.path,
                "kind": one.kind,
                "bytes": one.bytes,
                "disk_bytes": one.disk,
                "modified": iso_text(one.mtime_ns),
                "tags": tags_text(one.path),
            }
            for one in entries
        )
        print_json({"folders": folders}, entries=lines)
    else:
        base = common_base(folders)
        counts, total = Counter[str](), 0
        for one in entries:
            counts[one.kind] += 1
            total += one.bytes if one.kind == "file" else 0
            size = size_text(one.bytes) if one.kind == "file" else ""
            end = {"folder": "/", "link": "  (symbolic link)", "other": "  (pipe, socket or device)"}.get(one.kind, "")
            tags = "" if one.kind in ("link", "other") else shown(tags_text(one.path))
            end += f"  [{tags}]" if tags else ""
            print(f"{size:>9}  {moment_text(one.mtime_ns)}  {below(one.path, base)}{end}")
        also = [count_text(counts["folder"], "folder"), *specials_texts(counts["link"], counts["other"])]
        print(f"\n{count_text(counts['file'], 'file')}, {size_text(total)}; {', '.join(also)}.")
        if hidden:
            print(f"Not listed: {count_text(len(hidden), 'hidden entry', 'hidden entries')} (add --hidden to include them).")
    for missing in unread:
        print(f"not read: {shown(missing.path)} ({missing.reason})", file=sys.stderr)
    return 1 if any(one.reason.problem for one in unread) else 0
