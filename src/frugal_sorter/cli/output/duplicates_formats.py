"""`frugal duplicates --format`: for programs, and a page for the owner of the machine."""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Iterator, Sequence

from frugal_sorter.cli.output.text import (
    below,
    cell_text,
    common_base,
    count_text,
    date_text,
    iso_text,
    shown,
    size_text,
)
from frugal_sorter.duplicates.columns import Same
from frugal_sorter.duplicates.search import Duplicates
from frugal_sorter.duplicates.which_stays import Choice, LookAlike, same_folders


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
