"""What was learnt from a sorted tree, as a page: which folders are told apart how well."""

from __future__ import annotations

from frugal_sorter.app.suggest import Learnt
from frugal_sorter.cli.output.text import shown
from frugal_sorter.reports.charts import as_svg, draw_shares
from frugal_sorter.reports.page import PageTable, render

_BARS = 20


def page_of(tree: str, learnt_from: str, puts: str, found: Learnt) -> str:
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
