"""`frugal inventory --open`: who has files open there, and what the files say of who makes them."""

from __future__ import annotations

import time

from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, common_base, count_text, moment_text, shown, size_text
from frugal_sorter.reports.listing import list_entries
from frugal_sorter.reports.makers import Maker, makers
from frugal_sorter.reports.writers import Holder, Holders, holders_below

_PATTERNS = 8


def print_open(folders: list[str], seconds: float, levels: int | None, hidden: bool) -> None:
    """Print which programs have files open below some folders, and the commonest name patterns."""
    found = holders_below(folders, seconds, time.sleep)
    screen = Screen()
    screen.line()
    if not found.programs:
        screen.line("No program that this account can see has a file open there.")
    else:
        screen.line("Programs with files open there", style="bold")
        columns = [("program", "left"), ("process", "right"), ("user", "left"), ("files", "right"), ("writing", "right"),
                   ("size", "right"), ("deleted", "right"), ("largest", "left")]  # fmt: skip
        columns += [("came", "right"), ("went", "right")] if found.looks > 1 else []
        base = common_base(folders)
        ranked = sorted(found.programs.values(), key=lambda one: -one.bytes)
        screen.table(columns, [_cells(one, base, found) for one in ranked])
    if found.unseen:
        screen.line(f"{count_text(found.unseen, 'process', 'processes')} of other accounts could not be looked into.")
    common = makers(list_entries(folders, levels, hidden, lambda _: None), _PATTERNS)
    if common:
        screen.line()
        screen.line("Commonest names, with # for numbers", style="bold")
        columns = [("name", "left"), ("owner", "left"), ("files", "right"), ("size", "right"), ("first", "left"),
                   ("last", "left"), ("an hour", "right")]  # fmt: skip
        screen.table(columns, [_maker_cells(one) for one in common])


def _cells(one: Holder, base: str, found: Holders) -> list[str]:
    largest = max(one.files, key=lambda path: one.files[path])
    deleted = size_text(sum(one.deleted.values())) if one.deleted else ""
    came_and_went = [
        "" if after is None else f"{after:.1f} s" for after in (found.came_after(one), found.went_after(one))
    ]
    return [one.name, str(one.process), one.user, f"{len(one.files):,}", f"{len(one.writing):,}", size_text(one.bytes),
            deleted, below(largest, base), *(came_and_went if found.looks > 1 else [])]  # fmt: skip


def _maker_cells(one: Maker) -> list[str]:
    rate = "" if one.an_hour is None else f"{one.an_hour:,.1f}" if one.an_hour >= 0.05 else "<0.1"
    return [shown(one.pattern), one.owner, f"{one.files:,}", size_text(one.bytes), moment_text(one.first_ns),
            moment_text(one.last_ns), rate]  # fmt: skip
