"""Pages and formats of inventories, reports, learned rules and duplicates."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from frugal_sorter.app.report import Report
from frugal_sorter.app.suggest import Learnt
from frugal_sorter.cli.output.results import Column, Table, page, print_csv, print_json
from frugal_sorter.cli.output.text import below, common_base, count_text, iso_text, moment_text, shown, size_text
from frugal_sorter.cli.output.words import done_text
from frugal_sorter.duplicates import Duplicates, Same
from frugal_sorter.planning.duplicates import Choice, LookAlike, same_folders
from frugal_sorter.reports.figures import as_svg, draw_shares
from frugal_sorter.reports.inventory import By, Count, Inventory

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def inventory_page(inventory: Inventory, figure: Figure | None, by: tuple[By, ...], top: int, now_ns: int) -> str:
    """Return an inventory as a page; unlike the table on a terminal it has every row but those beyond `top` thousand."""
    svg = "" if figure is None else as_svg(figure)
    base = common_base(inventory.folders_asked)
    lines = [
        f"{count_text(inventory.files, 'file')} in {count_text(inventory.folders, 'subfolder')}, "
        f"{size_text(inventory.bytes)}, {size_text(inventory.disk)} on the disk; {moment_text(now_ns)}.",
        *(f"{size_text(space.free)} of {size_text(space.total)} are free." for space in inventory.space),
        *(f"Not read: {shown(unread.path)} ({unread.reason})." for unread in inventory.unread),
    ]
    tables = [
        Table(
            f"By {' and '.join(by)}",
            (
                Column(", ".join(by), lambda row: _keys_text(row.keys, by, base)),
                Column.count("files", lambda row: row.files),
                Column.size("size", lambda row: row.bytes),
                Column.size("on the disk", lambda row: row.disk),
                Column.date("oldest", lambda row: row.oldest_ns or None),
                Column.date("newest", lambda row: row.newest_ns or None),
            ),
            inventory.counts()[: top * 1_000],
            Count(("all",), inventory.files, inventory.bytes, inventory.disk),
        )
    ]
    if inventory.largest:
        columns = (
            Column.path("file", base, lambda one: one.path),
            Column.size("size", lambda one: one.bytes),
            Column.date("modified", lambda one: one.mtime_ns),
        )
        tables.append(Table("Largest files", columns, inventory.largest))
    title = "What is in " + ", ".join(map(shown, inventory.folders_asked))
    return page(title, lines, tables, svg)


def _keys_text(keys: Sequence[str], by: Sequence[By], base: str) -> str:
    return ", ".join(below(key, base) if way == "folder" else shown(key) or "(none)" for way, key in zip(by, keys, strict=False))


_BARS = 20


def learned_page(tree: str, learnt_from: str, puts: str, found: Learnt) -> str:
    """Return the page.

    Args:
        tree: that was learnt from, as it is shown.
        learnt_from: how many rules and files, in words.
        puts: how good they are, in words.
        found: what was learnt.
    """
    by_folder = sorted(found.score.by_folder.items(), key=lambda one: (-one[1][0], one[0]))
    figure = as_svg(draw_shares([(shown(folder), lies, right) for folder, (lies, right) in by_folder[:_BARS]]))
    tables = [
        Table(
            "Folders, and held-out files that were put there",
            (
                Column("folder"),
                Column.count("files"),
                Column.count("put right"),
                Column("share", text=lambda share: f"{share / 10_000:.0%}"),
            ),
            [(folder, lies, right, round(10_000 * right / lies)) for folder, (lies, right) in by_folder],
        ),
        Table(
            "Rules, in their order",
            (Column("condition"), Column("folder"), Column.count("right"), Column.count("wrong"), Column("")),
            [(one.where, one.target, one.right, one.wrong, "on" if one.is_sure else "off") for one in found.rules],
        ),
    ]
    if found.score.misplaced:
        rows = [(one.name, one.lies, one.put) for one in found.score.misplaced]
        tables.append(Table("Put elsewhere", (Column("file"), Column("lies in"), Column("was put into")), rows))
    lines = [learnt_from, f"Made from four fifths of the files, five times, such a list {puts}."]
    return page(f"How {tree} is sorted", lines, tables, figure)


def report_page(title: str, found: Report, paragraphs: Sequence[str], most: int) -> str:
    """Return the page.

    Args:
        title: of the page.
        found: what was done.
        paragraphs: in plain words what a person should know.
        most: so many rows of each table.
    """
    tables = []
    if found.ranked:
        done = Column("what", lambda row: done_text(row[1].tally))
        size_, last = (Column.size("size", lambda row: row[1].tally.bytes), Column.date("last", lambda row: row[1].last_ns))
        columns: Sequence[Column] = (Column("rule", lambda row: row[0]), done, size_, last)
        tables.append(_table("What was done", columns, found.ranked, most))
    if found.folders:
        base = common_base([folder for folder, _ in found.folders])
        columns = (Column.path("folder", base), Column.count("entries"))
        tables.append(_table(f"Where it is now, below {shown(base)}", columns, found.folders, most))
    if found.visits:
        tables.append(_table("Who came", (Column("who"), Column.count("times")), found.visits.most_common(), most))
    if found.troubles:
        columns = (
            Column.moment("when", lambda one: one.began_ns),
            Column("who", lambda one: one.by),
            Column("why", lambda one: one.reason or one.outcome),
        )
        tables.append(_table("What went wrong", columns, found.troubles[::-1], most))
    return page(title, paragraphs, tables)


def _table(title: str, columns: Sequence[Column], rows: Sequence[Any], most: int) -> Table:
    return Table(title, columns, rows[:most], f"and {len(rows) - most:,} more" if len(rows) > most else None)


def _files(choice: Choice) -> list[tuple[Same, bool]]:
    """Return the files of a group, each with whether it stays, the chosen one first."""
    others = [one for one in choice.group.files if one is not choice.kept]
    return [(choice.kept, True), *((one, one not in choice.going) for one in others)]


def as_json(folders: Sequence[str], found: Duplicates, choices: Sequence[Choice], alikes: Sequence[LookAlike]) -> None:
    """Print the report as one JSON object; docs/formats.md describes it."""
    groups = (
        {
            "bytes": choice.group.size,
            "frees": choice.frees,
            "why": choice.why,
            "files": [
                {"path": one.path, "keep": stays, "modified": iso_text(one.mtime_ns), "further_names": list(one.further_names)}
                for one, stays in _files(choice)
            ],
        }
        for choice in choices
    )
    result = {
        "folders": list(folders),
        "frees": sum(choice.frees for choice in choices),
        "same_folders": same_folders(found),
        "look_alikes": [
            {
                "path": one.path,
                "original": one.original,
                "kind": one.kind,
                **(
                    {"bytes": list(one.sizes), "modified": [iso_text(ns) for ns in one.times_ns], "first_difference": one.first}
                    if one.kind == "differs"
                    else {}
                ),
            }
            for one in alikes
        ],
        "files_seen": found.seen,
        "bytes_seen": found.bytes,
        "bytes_read": found.read,
        "further_names": found.linked,
        "passed_over": found.passed[0],
        "not_read": [unread._asdict() for unread in found.unread],
    }
    print_json(result, groups=groups)


def as_csv(folders: Sequence[str], found: Duplicates, choices: Sequence[Choice], alikes: Sequence[LookAlike]) -> None:
    """Print the groups as CSV, a row a name."""
    rows = (row for number, choice in enumerate(choices, 1) for row in _rows(number, choice))
    print_csv(["group", "keep", "bytes", "modified", "path", "same_file_as"], rows)


def _rows(number: int, choice: Choice) -> Iterator[tuple[str | int, ...]]:
    for one, stays in _files(choice):
        row = (number, "yes" if stays else "no", choice.group.size, iso_text(one.mtime_ns))
        yield (*row, one.path, "")
        for name in one.further_names:
            yield (*row, name, one.path)


def as_page(folders: Sequence[str], found: Duplicates, choices: Sequence[Choice], alikes: Sequence[LookAlike]) -> None:
    """Print the report as a page of HTML."""
    base = common_base(list(folders))
    going = sum(len(choice.going) for choice in choices)
    frees = sum(choice.frees for choice in choices)
    lines = [
        f"{count_text(len(choices), 'group')} of files with the same contents; {count_text(going, 'file')} more than"
        f" needed, {size_text(frees)} could be freed.",
        f"{count_text(found.seen, 'file')} of {size_text(found.bytes)} looked at.",
        *(f"Not read: {shown(unread.path)} ({unread.reason})." for unread in found.unread),
    ]
    rows: list[tuple[str, int, bool, str, int, int]] = []
    for number, choice in enumerate(choices, 1):
        for one, stays in _files(choice):
            why = choice.why if one is choice.kept else choice.staying.get(one.path, "")
            for name in one.names:
                told = why if name == one.path else f"the same file as {below(one.path, base)}"
                rows.append((name, number, stays, told, choice.group.size, one.mtime_ns))
    stays_ = Column("stays", lambda row: "keep" if row[2] else "z", {"keep": "keep", "z": ""}.__getitem__)
    columns: Sequence[Column] = (
        Column.path("file", base),
        Column.count("group"),
        stays_,
        Column("why"),
        Column.size("size"),
        Column.date("modified"),
    )
    tables = [Table("Files with the same contents", columns, rows)]
    if differ := [one for one in alikes if one.kind == "differs"]:
        columns = (
            Column.path("file", base, lambda one: one.path),
            Column.path("looks like a copy of", base, lambda one: one.original),
            Column.size("its size", lambda one: one.sizes[0]),
            Column.size("size of that", lambda one: one.sizes[1]),
            Column.count("differs from byte", lambda one: (one.first or 0) + 1),
        )
        tables.append(Table("Named like copies, but not the same", columns, differ))
    print(page("Duplicates in " + ", ".join(map(shown, folders)), lines, tables))
