"""Pages and formats of inventories, reports, learned rules and duplicates."""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from frugal_sorter.app.report import Report
from frugal_sorter.app.suggest import Learnt
from frugal_sorter.cli.output.text import (
    below,
    cell_text,
    common_base,
    count_text,
    date_text,
    iso_text,
    moment_text,
    shown,
    size_text,
)
from frugal_sorter.cli.output.words import done_text
from frugal_sorter.duplicates.search import Duplicates, Same
from frugal_sorter.planning.duplicates import Choice, LookAlike, same_folders
from frugal_sorter.reports.inventory import By, Inventory
from frugal_sorter.reports.page import PageTable, as_svg, draw_shares, render

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def inventory_page(inventory: Inventory, figure: Figure | None, by: tuple[By, ...], top: int, now_ns: int) -> str:
    """Return an inventory as a page; unlike the table on a terminal it has every row but those beyond `top` thousand."""
    svg = ""
    if figure is not None:
        from frugal_sorter.reports.page import as_svg

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
    folders: list[list[tuple[str, str | int]]] = []
    for folder, (lies, right) in by_folder:
        share = right / lies
        folders.append(
            [
                (shown(folder), folder),
                (f"{lies:,}", lies),
                (f"{right:,}", right),
                (f"{share:.0%}", round(1_000 * share)),
            ]
        )
    rules: list[list[tuple[str, str | int]]] = []
    for rule in found.rules:
        counts: list[tuple[str, str | int]] = [(f"{rule.right:,}", rule.right), (f"{rule.wrong:,}", rule.wrong)]
        state = "on" if rule.is_sure else "off"
        rules.append([(rule.where, rule.where), (shown(rule.target), rule.target), *counts, (state, state)])
    misplaced: list[list[tuple[str, str | int]]] = [
        [(shown(one.name), one.name), (shown(one.lies), one.lies), (shown(one.put), one.put)] for one in found.score.misplaced
    ]  # fmt: skip
    tables = [
        PageTable(
            "Folders, and held-out files that were put there",
            ("folder", "files", "put right", "share"),
            folders,
        ),
        PageTable("Rules, in their order", ("condition", "folder", "right", "wrong", ""), rules),
    ]
    tables += [PageTable("Put elsewhere", ("file", "lies in", "was put into"), misplaced)] if misplaced else []
    lines = [learnt_from, f"Made from four fifths of the files, five times, such a list {puts}."]
    return render(f"How {tree} is sorted", lines, figure, tables)


Row = list[tuple[str, str | int]]


def report_page(title: str, found: Report, paragraphs: Sequence[str], most: int) -> str:
    """Return the page.

    Args:
        title: of the page.
        found: what was done.
        paragraphs: in plain words what a person should know.
        most: so many rows of each table.
    """
    tables = []
    rules: list[Row] = []
    for name, done in found.ranked:
        size: Row = [(size_text(done.tally.bytes), done.tally.bytes), (date_text(done.last_ns), done.last_ns)]
        rules.append([(shown(name), name), (done_text(done.tally), name), *size])
    if rules:
        tables.append(_table("What was done", ("rule", "what", "size", "last"), rules, most))
    if found.folders:
        base = common_base([folder for folder, _ in found.folders])
        folders: list[Row] = [[(below(folder, base), folder), (f"{count:,}", count)] for folder, count in found.folders]
        tables.append(_table(f"Where it is now, below {shown(base)}", ("folder", "entries"), folders, most))
    if found.visits:
        visits: list[Row] = [[(shown(by), by), (f"{times:,}", times)] for by, times in found.visits.most_common()]
        tables.append(_table("Who came", ("who", "times"), visits, most))
    if found.troubles:
        troubles: list[Row] = []
        for one in found.troubles[::-1]:
            why = shown(one.reason or one.outcome)
            troubles.append([(moment_text(one.began_ns), one.began_ns), (shown(one.by), one.by), (why, why)])
        tables.append(_table("What went wrong", ("when", "who", "why"), troubles, most))
    return render(title, paragraphs, "", tables)


def _table(title: str, heads: Sequence[str], rows: Sequence[Row], most: int) -> PageTable:
    more = [f"and {len(rows) - most:,} more", *[""] * (len(heads) - 1)] if len(rows) > most else ()
    return PageTable(title, heads, rows[:most], more)


def _files(choice: Choice) -> list[tuple[Same, bool]]:
    """Return the files of a group, each with whether it stays, the chosen one first."""
    others = [one for one in choice.group.files if one is not choice.kept]
    return [(choice.kept, True), *((one, one not in choice.going) for one in others)]


def as_json(folders: Sequence[str], found: Duplicates, choices: Sequence[Choice], alikes: Sequence[LookAlike]) -> None:
    """Print the report as one JSON object; docs/formats.md describes it."""
    groups = [
        {
            "bytes": choice.group.size,
            "frees": choice.frees,
            "why": choice.why,
            "files": [
                {"path": one.path, "keep": stays, "modified": iso_text(one.mtime_ns),
                 "further_names": list(one.further_names)}
                for one, stays in _files(choice)
            ],
        }
        for choice in choices
    ]  # fmt: skip
    result = {
        "folders": list(folders),
        "frees": sum(choice.frees for choice in choices),
        "same_folders": same_folders(found),
        "look_alikes": [
            {
                "path": one.path, "original": one.original, "kind": one.kind,
                **({"bytes": list(one.sizes), "modified": [iso_text(ns) for ns in one.times_ns], "first_difference": one.first}
                   if one.kind == "differs" else {}),
            }
            for one in alikes
        ],
        "files_seen": found.seen,
        "bytes_seen": found.bytes,
        "bytes_read": found.read,
        "further_names": found.linked,
        "passed_over": found.passed[0],
        "not_read": [unread._asdict() for unread in found.unread],
    }  # fmt: skip
    # A group to a line: indented whole, the encoder would take longer than the search.
    lines = ",\n".join("    " + json.dumps(group) for group in groups)
    rest = json.dumps(result, indent=2)[1:]
    print(f'{{\n  "groups": [\n{lines}\n  ],{rest}' if groups else f'{{\n  "groups": [],{rest}')


def as_csv(folders: Sequence[str], found: Duplicates, choices: Sequence[Choice], alikes: Sequence[LookAlike]) -> None:
    """Print the groups as CSV, a row a name."""
    writer = csv.writer(sys.stdout)
    writer.writerow(["group", "keep", "bytes", "modified", "path", "same_file_as"])
    writer.writerows(row for number, choice in enumerate(choices, 1) for row in _rows(number, choice))


def _rows(number: int, choice: Choice) -> Iterator[tuple[str | int, ...]]:
    for one, stays in _files(choice):
        row = (number, "yes" if stays else "no", choice.group.size, iso_text(one.mtime_ns))
        path = cell_text(one.path)
        yield (*row, path, "")
        for name in one.further_names:
            yield (*row, cell_text(name), path)


def as_page(folders: Sequence[str], found: Duplicates, choices: Sequence[Choice], alikes: Sequence[LookAlike]) -> None:
    """Print the report as a page of HTML."""
    from frugal_sorter.reports.page import PageTable, render

    base = common_base(list(folders))
    going = sum(len(choice.going) for choice in choices)
    frees = sum(choice.frees for choice in choices)
    lines = [
        f"{count_text(len(choices), 'group')} of files with the same contents; {count_text(going, 'file')} more than"
        f" needed, {size_text(frees)} could be freed.",
        f"{count_text(found.seen, 'file')} of {size_text(found.bytes)} looked at.",
        *(f"Not read: {shown(unread.path)} ({unread.reason})." for unread in found.unread),
    ]
    rows: list[list[tuple[str, str | int]]] = []
    for number, choice in enumerate(choices, 1):
        for one, stays in _files(choice):
            for name in one.names:
                told = choice.why if one is choice.kept else choice.staying.get(one.path, "")
                told = told if name == one.path else f"the same file as {below(one.path, base)}"
                rows.append([
                    (below(name, base), name), (f"{number}", number), ("keep" if stays else "", "keep" if stays else "z"),
                    (told, told), (size_text(choice.group.size), choice.group.size),
                    (date_text(one.mtime_ns), one.mtime_ns),
                ])  # fmt: skip
    tables = [PageTable("Files with the same contents", ("file", "group", "stays", "why", "size", "modified"), rows)]
    differ: list[list[tuple[str, str | int]]] = [
        [(below(one.path, base), one.path), (below(one.original, base), one.original), (size_text(one.sizes[0]), one.sizes[0]),
         (size_text(one.sizes[1]), one.sizes[1]), (f"{(one.first or 0) + 1:,}", one.first or 0)]
        for one in alikes if one.kind == "differs"
    ]  # fmt: skip
    if differ:
        heads = ("file", "looks like a copy of", "its size", "size of that", "differs from byte")
        tables.append(PageTable("Named like copies, but not the same", heads, differ))
    print(render("Duplicates in " + ", ".join(map(shown, folders)), lines, "", tables))
