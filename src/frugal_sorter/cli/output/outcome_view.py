"""`frugal preview --tree`: the folders as they are beside how they will be, on the screen and as a page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import zip_longest
from typing import NamedTuple

from frugal_sorter.cli.output.screen import FEW, Screen
from frugal_sorter.cli.output.text import below, common_base, cut, moment_text, shown
from frugal_sorter.cli.output.words import will_text
from frugal_sorter.planning.constraints import with_parents
from frugal_sorter.planning.outcome_tree import Fate, FolderOutcome, outcome_of
from frugal_sorter.planning.plan import Plan

# With fewer columns the two stand one after the other.
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
    screen.parts(("All below ", ""), (shown(base), "bold"))
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
    from frugal_sorter.reports.page import PageTable, render

    found = outcome_of(plan)
    base = _base(found)
    rows: list[list[tuple[str, str | int]]] = []
    for block in _blocks(found, base, short=False, nested=False):
        sides = ["\n".join(line.text for line in side) for side in block]
        rows.append([(side, side) for side in sides])
    lines = [
        f"{moment_text(now_ns)}, by {shown(plan.origin)}. Nothing was changed so far.",
        f"It would {will_text(plan.asked)}." if plan.asked else "There is nothing to do.",
        "- leaves the folder, + comes into it; the number beside a folder is that of all that lies directly in it.",
        f"`{command}` does it, and it can be taken back.",
        *(f"Refused: {shown(one.rule)}: {shown(one.reason)}" for one in plan.refused),
        *(f"Note: {shown(note.text)}" for note in plan.notes),
    ]
    return render(f"What would become of {shown(base)}", lines, "", [PageTable("Folders", (_NOW, _THEN), rows)])


def _base(found: Sequence[FolderOutcome]) -> str:
    return common_base([one.path for one in found])


def _blocks(found: Sequence[FolderOutcome], base: str, short: bool, nested: bool = True) -> list[_Block]:
    """Return the lines of each folder.

    Args:
        found: the folders.
        base: what paths are seen from.
        short: of long lists only the ends; of many folders less of each.
        nested: a folder stands below the one around it.
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
        lines = [_Text(f"{indent}  - {shown(name)}", "yellow") for name in leaving]
        now = [_Text(f"{indent}{name}  {one.before:,}"), *_sampled(lines, few, indent)]
    if one.fate == "goes":
        then.append(_Text(f"{indent}{name}  gone", "yellow"))
    else:
        new = "  new" if one.fate == "new" else ""
        lines = []
        for comer in one.coming:
            if fates.get(f"{one.path}/{comer.name}") == "new":
                continue
            folder, _, old = comer.origin.rpartition("/")
            origin = _seen(folder or "/", base) + (f"/{shown(old)}" if old != comer.name else "")
            what = f"  from {origin}" if comer.origin else "  made"
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
