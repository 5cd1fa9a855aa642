"""`frugal report --format html`: the page for the owner of the machine, for the screen and for two sheets of paper."""

from __future__ import annotations

from collections.abc import Sequence

from frugal_sorter.app.report import Report
from frugal_sorter.cli.output.text import below, common_base, date_text, moment_text, shown, size_text
from frugal_sorter.cli.output.words import done_text
from frugal_sorter.reports.page import PageTable, render

Row = list[tuple[str, str | int]]


def page_of(title: str, found: Report, paragraphs: Sequence[str], most: int) -> str:
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
