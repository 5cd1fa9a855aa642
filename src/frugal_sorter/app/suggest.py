"""Rules that a folder suggests, tried out by the planner before anybody sees them."""

from __future__ import annotations

import importlib.util
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from frugal_sorter.app.session import Session
from frugal_sorter.filesystem.record import Listing, Unknown, place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.types import TYPE_OF_SUFFIX
from frugal_sorter.filesystem.walk import read_folder
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.planning.plan import Plan
from frugal_sorter.proposing.proposal import Group, Seen, folders_around, propose
from frugal_sorter.rules.fields import FIELDS, Facts
from frugal_sorter.rules.file.load import FORMAT, read_rules
from frugal_sorter.rules.file.one_rule import rule_text
from frugal_sorter.rules.model import RuleBook

# So many files of a group are opened, and this part of them must have it.
_LOOKED_INTO, _NEARLY_ALL = 30, 0.8


@dataclass
class Proposal:
    """A rule file that is proposed.

    Args:
        groups: its rules.
        text: it.
        book: what it means.
        plan: what it would do.
        seen: how many files were looked at.
    """

    groups: Sequence[Group]
    text: str
    book: RuleBook | None
    plan: Plan | None
    seen: int

    def taken(self, name: str) -> list[str]:
        """Return the names of what a rule would take, as the planner has it."""
        assert self.plan is not None
        return [step.place.name for step in self.plan.asked if step.rule == name]


def suggest(session: Session, folder: str) -> Proposal:
    """Return the rules that a folder suggests; nothing is changed.

    Args:
        session: of the command.
        folder: absolute, resolved.

    Raises:
        OSError: it cannot be read.
    """
    listing = read_folder(folder, True)
    files = [
        Seen(name, status.st_size, status.st_mtime_ns)
        for name, status in zip(listing.names, listing.status, strict=True) if name[0] != "."
    ]  # fmt: skip
    groups = propose(folder, files, folders_around(folder, _read), session.now_ns)
    for group in groups:
        _rename_from_inside(session, folder, group)
    _name_apart(groups)
    if not groups:
        return Proposal([], "", None, None, len(files))
    text = _text(folder, groups)
    book = read_rules(text.encode("utf-8", "surrogateescape"), Path(folder) / "proposed.toml")
    plan = plan_by_rules(book, session.world(), EarlierRuns(), True)
    return Proposal(groups, text, book, plan, len(files))


def _rename_from_inside(session: Session, folder: str, group: Group) -> None:
    """Have files whose names say nothing get what stands inside in front, where nearly all of them have it."""
    name, form = ("taken", "{taken|modified:%Y-%m-%d}") if group.files[0].type == "image" else ("title", "{title}")
    library = FIELDS[name].library
    if not group.says_nothing or (library and importlib.util.find_spec(library) is None):
        return
    world, known = session.world(), list[object]()
    for one in group.files[:_LOOKED_INTO]:
        with suppress(OSError):
            found = Facts(look(place_of(f"{folder}/{one.name}")), folder, TYPE_OF_SUFFIX, world)(name)
            known += [] if found in (None, "") or isinstance(found, Unknown) else [found]
    world.contents.close()
    looked = min(len(group.files), _LOOKED_INTO)
    if len(known) < _NEARLY_ALL * looked:
        return
    if name == "taken":
        group.keys["rename"] = f"{form} {{name}}"
        group.keys["move"] = str(group.keys["move"]).replace("{modified:", "{taken|modified:")
    elif len(set(known)) == len(known):
        group.keys["rename"] = f"{form}.{{ext}}"


def _read(folder: str) -> Listing | None:
    try:
        return read_folder(folder, False)
    except OSError:
        return None


def _name_apart(groups: Sequence[Group]) -> None:
    """See that no two rules have one name."""
    known: set[str] = set()
    for group in groups:
        name, number = str(group.keys["name"]), 2
        while group.keys["name"] in known:
            group.keys["name"], number = f"{name} ({number})", number + 1
        known.add(str(group.keys["name"]))


def _text(folder: str, groups: Sequence[Group]) -> str:
    parts = [f"frugal = {FORMAT}"]
    for group in groups:
        keys = {"name": group.keys["name"], "in": folder}
        parts.append(rule_text({**keys, **{key: value for key, value in group.keys.items() if key != "name"}}))
    return "\n\n".join(parts) + "\n"
