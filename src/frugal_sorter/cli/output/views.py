"""Views and pages: of rules, of folders, of what rules will do, of open files, of reports and duplicates."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from html import escape
from itertools import zip_longest
from typing import TYPE_CHECKING, Any, NamedTuple

from frugal_sorter.app.report import Report
from frugal_sorter.app.suggest import Learnt
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.results import Column, Table, page, print_csv, print_json
from frugal_sorter.cli.output.screen import FEW, Screen
from frugal_sorter.cli.output.text import (
    ago_text,
    below,
    common_base,
    count_text,
    cut,
    done_text,
    iso_text,
    moment_text,
    share_text,
    shown,
    size_text,
    step_as_json,
    unread_as_json,
    unread_text,
    will_text,
)
from frugal_sorter.duplicates import Duplicates, Same
from frugal_sorter.planning.duplicates import Choice, LookAlike, same_folders
from frugal_sorter.planning.foresight import Day, Fate, FolderOutcome, outcome_of
from frugal_sorter.planning.guard import with_parents
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import by_rule
from frugal_sorter.reports.figures import as_svg, draw_shares
from frugal_sorter.reports.inventory import By, Count, Inventory, list_entries
from frugal_sorter.reports.writers import Folder, Holder, Holders, Line, Order, holders_below, makers, opened_lines, tree_of
from frugal_sorter.rules.model import Rule

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def rule_words(rule: Rule) -> str:
    """Return in a few words what a rule does to its entries."""
    parts: list[str] = []
    if rule.ending == "leave":
        return "leave"
    if rule.move is not None:
        parts.append(f"move to {rule.move.text}")
    if rule.rename is not None:
        parts.append(f"rename {rule.rename.text}")
    for name, template in (("pack into", rule.pack), ("unpack into", rule.unpack)):
        if template is not None:
            parts.append(f"{name} {template.text}")
    if rule.duplicates is not None:
        parts.append(f"duplicates: {rule.duplicates.do}")
    if rule.ending in ("trash", "delete"):
        parts.append("to the trash" if rule.ending == "trash" else "delete permanently")
    extras = rule.extras
    for name, template in (("copy to", extras.copy), ("link in", extras.link)):
        if template is not None:
            parts.append(f"{name} {template.text}")
    for name, wordings in (("tag", extras.tag), ("untag", extras.untag), ("retag", extras.retag)):
        if wordings:
            parts.append(f"{name} {', '.join(one.text for one in wordings)}")
    if extras.comment is not None:
        parts.append("comment")
    if extras.run:
        parts.append(f"run {extras.run[0].text}")
    return ", ".join(parts)


def print_tree(screen: Screen, inventory: Inventory, most: int | None, order: Order | None, open_to: Sequence[str]) -> None:
    """Print the folders of an inventory as trees, in one table.

    Args:
        screen: the terminal.
        inventory: counted by folder, with rows for all levels.
        most: at most this many lines for each; None for all.
        order: of the folders in one.
        open_to: folders that are opened in any case.
    """
    rows: list[tuple[str, int, int, str, int | None]] = []
    for root in inventory.folders_asked:
        tree = tree_of(inventory, root)
        for line in opened_lines(tree, order or "size", most, open_to):
            name, share = f"{'  ' * line.depth}{_name(line)}", share_text(line.bytes, tree.bytes)
            rows.append((name, line.files, line.bytes, share, line.newest_ns or None))
    columns = [
        Column("folder", lambda row: row[0]),
        Column.count("files", lambda row: row[1], is_whole=True),
        Column.size("size", lambda row: row[2], is_whole=True),
        Column("share", lambda row: row[3], is_right=True, is_whole=True),
        Column.bar(max((size for _, _, size, _, _ in rows), default=0), lambda row: row[2]),
        Column.date("newest", lambda row: row[4], is_whole=True),
    ]
    screen.table(Table("", columns, rows))


def _name(line: Line) -> str:
    if line.kind == "rest":
        return f"and {count_text(line.folders, 'more folder')}"
    if line.kind == "files":
        return "(files in this folder)"
    return shown(line.names) if line.depth == 0 else f"{shown(line.names)}/"


def tree_as_json(inventory: Inventory, most: int | None, order: Order | None, open_to: Sequence[str]) -> list[dict[str, object]]:
    """Return the lines of the trees; docs/formats.md describes them."""
    found: list[dict[str, object]] = []
    for root in inventory.folders_asked:
        tree: Folder = tree_of(inventory, root)
        for line in opened_lines(tree, order or "size", most, open_to):
            found.append(
                {
                    "path": line.path,
                    "kind": line.kind,
                    "depth": line.depth,
                    "folders": line.folders,
                    "files": line.files,
                    "bytes": line.bytes,
                    "newest": iso_text(line.newest_ns) if line.newest_ns else None,
                }
            )
    return found


_MARKS = '"-" marks what leaves a folder, "+" what is added; the number beside a folder counts the files in it and below.'
# With fewer columns the two are printed one after the other.
_SIDE_BY_SIDE = 100
_GAP = 3
# Of more than these each shows less.
_FEW_FOLDERS = 6
_NOW, _THEN = "Now", "Then"


class _Text(NamedTuple):
    text: str
    style: str = ""


class _Block(NamedTuple):
    """The lines of one folder: as it is, and as it will be."""

    now: list[_Text]
    then: list[_Text]


def show_outcome(plan: Plan, screen: Screen) -> None:
    """Print the folders of a plan as they are, and as they will be."""
    found = outcome_of(plan)
    base = _base(found)
    screen.parts(("Paths relative to ", ""), (shown(base), "bold"))
    screen.line(_MARKS, style="dim")
    blocks = _blocks(found, base, screen.short)
    screen.line()
    if screen.is_terminal and screen.width >= _SIDE_BY_SIDE:
        width = (screen.width - _GAP) // 2
        screen.parts((f"{_NOW:{width + _GAP}}", "bold"), (_THEN, "bold"))
        for block in blocks:
            for now, then in zip_longest(block.now, block.then, fillvalue=_Text("")):
                left = cut(now.text, width)
                gap = " " * (width - len(left) + _GAP) if then.text else ""
                screen.parts((left, now.style), (gap, ""), (cut(then.text, width), then.style))
    else:
        for title, side in ((_NOW, 0), (_THEN, 1)):
            screen.line(title, style="bold")
            for block in blocks:
                for line in block[side]:
                    screen.line(line.text, style=line.style)
            screen.line()


def outcome_page(plan: Plan, now_ns: int, command: str) -> str:
    """Return the same as a page that the owner of the machine can approve.

    Args:
        plan: what would be done.
        now_ns: the moment.
        command: what does it.
    """
    found = outcome_of(plan)
    base = _base(found)
    blocks = _blocks(found, base, short=False, nested=False)
    rows = [["\n".join(line.text for line in side) for side in block] for block in blocks]
    lines = [
        f"{moment_text(now_ns)}, {shown(plan.origin)}. Nothing has been changed yet.",
        f"This would {will_text(plan.asked)}." if plan.asked else "There is nothing to do.",
        _MARKS,
        f"To do it: {command}. You can undo it afterwards.",
        *(f"Refused: {shown(one.rule)}: {shown(one.reason)}" for one in plan.refused),
        *(f"Note: {shown(note.text)}" for note in plan.notes),
    ]
    table = Table("Folders", (Column(_NOW, text=str), Column(_THEN, text=str)), rows)
    return page(f"Preview of {shown(base)}", lines, [table])


def _base(found: Sequence[FolderOutcome]) -> str:
    return common_base([one.path for one in found])


def _blocks(found: Sequence[FolderOutcome], base: str, short: bool, nested: bool = True) -> list[_Block]:
    """Return the lines of each folder.

    Args:
        found: the folders.
        base: what paths are seen from.
        short: of long lists only the ends; of many folders less of each.
        nested: a folder is below the one around it.
    """
    fates = {one.path: one.fate for one in found}
    few = None if not short else FEW if len(found) <= _FEW_FOLDERS else 1
    return [_block(one, fates, base, few, nested) for one in found]


def _block(one: FolderOutcome, fates: Mapping[str, Fate], base: str, few: int | None, nested: bool) -> _Block:
    around = [path for path in with_parents(one.path)[1:] if path in fates] if nested else []
    indent, name = "  " * len(around), f"{_seen(one.path, around[0] if around else base)}/"
    now, then = [], []
    if one.fate != "new":
        # A folder that goes has a line of its own.
        leaving = [name for name, _ in one.leaving if fates.get(f"{one.path}/{name}") != "goes"]
        lines = [_Text(f"{indent}  - {shown(name)}", "warn") for name in leaving]
        now = [_Text(f"{indent}{name}  {one.before:,}"), *_sampled(lines, few, indent)]
    if one.fate == "goes":
        then.append(_Text(f"{indent}{name}  removed", "warn"))
    else:
        new = "  new" if one.fate == "new" else ""
        lines = []
        for comer in one.coming:
            if fates.get(f"{one.path}/{comer.name}") == "new":
                continue
            folder, _, old = comer.origin.rpartition("/")
            origin = _seen(folder or "/", base) + (f"/{shown(old)}" if old != comer.name else "")
            what = f"  from {origin}" if comer.origin else "  new file"
            lines.append(_Text(f"{indent}  + {shown(comer.name)}{'/' if comer.is_folder else ''}{what}", "cyan"))
        then = [_Text(f"{indent}{name}  {one.after:,}{new}", "green" if new else ""), *_sampled(lines, few, indent)]
    return _Block(now, then)


def _seen(path: str, base: str) -> str:
    """Return a folder as seen from another one; that one itself by its name."""
    return below(path, base) if path != base else shown(path.rpartition("/")[2])


def _sampled(lines: list[_Text], few: int | None, indent: str) -> list[_Text]:
    """Return of a long list the first and the last few."""
    if few is None or len(lines) <= 2 * few + 1:
        return lines
    return [*lines[:few], _Text(f"{indent}    … {len(lines) - 2 * few:,} more", "dim"), *lines[-few:]]


_SECOND_NS = 1_000_000_000
NOT_IN_IT = "This does not include files that arrive or change before then, or what is deleted from the trash."


def show_days(days: Sequence[Day], screen: Screen, now_ns: int, until_ns: int, names: bool) -> None:
    """Print each day on which something is done, and then all of it.

    Args:
        days: they.
        screen: the terminal.
        now_ns: the moment of the first.
        until_ns: the last moment.
        names: by name, or only by rule.
    """
    screen.line(f"If the rules ran every day at {moment_text(now_ns)[11:]} until {moment_text(until_ns)}:")
    whole = Plan("tidy", now_ns, "")
    views = [PlanView(day.plan, screen) for day in days]
    base = common_base([view.base for view in views]) if views else ""
    if base:
        screen.parts(("Paths relative to ", ""), (shown(base), "bold"))
    for day, view in zip(days, views, strict=True):
        whole.steps += day.plan.asked
        screen.line()
        when = datetime.fromtimestamp(day.now_ns // _SECOND_NS)
        ago = "today" if day.now_ns == now_ns else ago_text(day.now_ns, now_ns)
        screen.parts((f"{when:%a} {moment_text(day.now_ns)[:10]}", "bold"), (f"  {ago}", "dim"))
        # What is seen from one folder on one day is seen from it on all.
        view.base = base
        for rule, steps in by_rule(day.plan).items():
            screen.parts((f"  {shown(rule)}", "bold"), (f"  {will_text(steps)}", "dim"))
            if names:
                view.show_names(steps, few=1)
        for refusal in day.plan.refused:
            screen.line(f"  Refused: {shown(str(refusal))}", style="refused")
    screen.line()
    if not whole.steps:
        screen.line("Nothing to do before then.", style="bold")
    else:
        screen.line(f"In total, on {count_text(len(days), 'day')}, this would {will_text(whole.steps)}.", style="bold")
    screen.line(NOT_IN_IT)


def days_as_json(days: Sequence[Day], now_ns: int, until_ns: int) -> dict[str, Any]:
    """Return the days as one object; docs/formats.md describes it."""
    return {
        "from": iso_text(now_ns),
        "until": iso_text(until_ns),
        "note": NOT_IN_IT,
        "days": [
            {
                "moment": iso_text(day.now_ns),
                "steps": [step_as_json(step) for step in day.plan.steps],
                "refused": [refusal._asdict() for refusal in day.plan.refused],
            }
            for day in days
        ],
    }


_PATTERNS = 8


def print_open(folders: list[str], seconds: float, levels: int | None, hidden: bool) -> None:
    """Print which programs have files open below some folders, and the commonest name patterns."""
    found = holders_below(folders, seconds, time.sleep)
    screen = Screen()
    screen.line()
    if not found.programs:
        screen.line("No program has a file open there, as far as this account can see.")
    else:
        screen.line("Programs with files open there", style="bold")
        ranked = sorted(found.programs.values(), key=lambda one: -one.bytes)
        screen.table(Table("", _columns(found, common_base(folders)), ranked))
    if found.unseen:
        screen.line(f"{count_text(found.unseen, 'process', 'processes')} of other accounts could not be checked.")
    common = makers(list_entries(folders, levels, hidden, lambda _: None), _PATTERNS)
    if common:
        screen.line()
        screen.line("Most common name patterns (# is any number)", style="bold")
        columns = [
            Column("name", lambda one: one.pattern),
            Column("owner", lambda one: one.owner),
            Column.count("files", lambda one: one.files),
            Column.size("size", lambda one: one.bytes),
            Column.moment("first", lambda one: one.first_ns),
            Column.moment("last", lambda one: one.last_ns),
            Column("an hour", lambda one: one.an_hour, lambda rate: f"{rate:,.1f}" if rate >= 0.05 else "<0.1", is_right=True),
        ]
        screen.table(Table("", columns, common))


def _columns(found: Holders, base: str) -> list[Column]:
    def after(head: str, seconds: Callable[[Holder], float | None]) -> Column:
        return Column(head, seconds, "{:.1f} s".format, is_right=True)

    columns = [
        Column("program", lambda one: one.name),
        Column("process", lambda one: str(one.process), is_right=True),
        Column("user", lambda one: one.user),
        Column.count("files", lambda one: len(one.files)),
        Column.count("writing", lambda one: len(one.writing)),
        Column.size("size", lambda one: one.bytes),
        Column.size("deleted", lambda one: sum(one.deleted.values()) if one.deleted else None),
        Column.path("largest", base, lambda one: max(one.files, key=one.files.get)),
    ]
    return [*columns, after("came", found.came_after), after("went", found.went_after)] if found.looks > 1 else columns


def inventory_page(inventory: Inventory, figure: Figure | None, by: tuple[By, ...], top: int, now_ns: int) -> str:
    """Return an inventory as a page; unlike the table on a terminal it has every row but those beyond `top` thousand."""
    svg = "" if figure is None else as_svg(figure)
    base = common_base(inventory.folders_asked)
    lines = [
        f"{count_text(inventory.files, 'file')} in {count_text(inventory.folders, 'subfolder')}, "
        f"{size_text(inventory.bytes)}, {size_text(inventory.disk)} on the disk; {moment_text(now_ns)}.",
        *(f"{size_text(space.free)} of {size_text(space.total)} are free." for space in inventory.space),
        *(f"{unread_text(unread)}." for unread in inventory.unread),
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
            "Folders, and the test files placed in each",
            (
                Column("folder"),
                Column.count("files"),
                Column.count("correct"),
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
        tables.append(Table("Placed wrongly", (Column("file"), Column("is in"), Column("would go to")), rows))
    lines = [learnt_from, f"Tested five times (rules made from 80% of the files, tried on the other 20%): {puts}."]
    return page(f"How {tree} is sorted", lines, tables, figure)


def report_page(title: str, found: Report, lead: str, paragraphs: Sequence[str], most: int) -> str:
    """Return the page for the owner of the machine; what went wrong is for the technician, who has the history.

    Args:
        title: of the page.
        found: what was done.
        lead: it in one sentence.
        paragraphs: in plain words what else a person should know.
        most: at most this many rows of each table.
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
        tables.append(_table(f"Where the files are now, in {shown(base)}", columns, found.folders, most))
    if found.visits:
        tables.append(
            _table("Runs by person and schedule", (Column("who"), Column.count("times")), found.visits.most_common(), most)
        )
    figure = ""
    if found.before is not None and found.after is not None:
        what = [shown(folder) for folder in found.after.levels]
        about = what[0] if len(what) == 1 else "The folders"
        figure = _before_and_after(about, found.before.bytes, found.after.bytes)
    return page(title, paragraphs, tables, figure, "How much there was before, and how much there is now", lead)


_BAR_WIDTH, _LABEL_WIDTH = 620, 90


def _before_and_after(what: str, before: int, after: int) -> str:
    """Return a picture of two sizes, a bar each, as SVG 1.1."""
    most, lines = max(before, after, 1), []
    for y, label, size, colour in ((44, "before", before, "#a9b8bf"), (88, "now", after, "#2f6f8f")):
        width = max(round(_BAR_WIDTH * size / most), 1)
        lines += [
            f'<text x="{_LABEL_WIDTH - 12}" y="{y + 20}" text-anchor="end">{label}</text>',
            f'<rect x="{_LABEL_WIDTH}" y="{y}" width="{width}" height="30" rx="3" fill="{colour}"/>',
            f'<text x="{_LABEL_WIDTH + width + 10}" y="{y + 20}">{size_text(size)}</text>',
        ]
    head = f'<svg viewBox="0 0 {_LABEL_WIDTH + _BAR_WIDTH + 110} 130" font-family="sans-serif"'
    title = f'<text x="{_LABEL_WIDTH}" y="24" font-weight="600">{escape(what)}</text>'
    return f'{head} font-size="16" fill="#1c2326">{title}{"".join(lines)}</svg>'


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
        "not_read": [unread_as_json(unread) for unread in found.unread],
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
        f"{count_text(found.seen, 'file')} ({size_text(found.bytes)}) checked.",
        *(f"{unread_text(unread)}." for unread in found.unread),
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
