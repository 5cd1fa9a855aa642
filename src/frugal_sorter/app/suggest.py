"""Rules that a folder suggests, tried out by the planner before anybody sees them."""

from __future__ import annotations

import importlib.util
import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from frugal_sorter.app.session import Session
from frugal_sorter.filesystem.record import Listing, Unknown, place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.types import TYPE_OF_SUFFIX
from frugal_sorter.filesystem.walk import read_folder, walk
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.planning.guard import never_entered
from frugal_sorter.planning.plan import Plan
from frugal_sorter.proposing.learning import Item, LearntRule, Score, learn, score_of
from frugal_sorter.proposing.proposal import Group, Seen, folders_around, propose
from frugal_sorter.rules.fields import FIELDS, Facts
from frugal_sorter.rules.file.load import FORMAT, read_rules
from frugal_sorter.rules.file.one_rule import Value, rule_text
from frugal_sorter.rules.model import RuleBook

# From more files than these no more is learnt.
_MOST_LEARNT = 20_000
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


@dataclass
class Learnt:
    """A rule file that was learnt from a tree that somebody sorted.

    Args:
        rules: in order.
        score: how good such a list is on files that it was not made from.
        text: the rule file.
        items: how many files it was learnt from.
    """

    rules: Sequence[LearntRule]
    score: Score
    text: str
    items: int


def learn_from(folder: str, sorted_tree: str) -> Learnt:
    """Return rules that put files of a folder where somebody would put them who sorted a tree by hand; nothing is changed.

    Args:
        folder: in which the rules act, resolved.
        sorted_tree: the tree, resolved.

    Raises:
        OSError: it cannot be read.
    """
    items: list[Item] = []

    def descend(listing: Listing, name: str, level: int) -> int | None:
        inside = (
            never_entered(f"{listing.folder}/{name}", name) or name[0] == "." or f"{listing.folder}/{name}" == folder
        )
        return None if inside else level + 1

    for listing, _ in walk(sorted_tree, 1, True, descend, lambda _: None):
        below = listing.folder[len(sorted_tree.rstrip("/")) + 1 :]
        # What lies directly in the tree is not sorted yet.
        items += [
            Item(name, below, status.st_size, status.st_mtime_ns)
            for name, status in zip(listing.names, listing.status, strict=True) if below and name[0] != "."
        ]  # fmt: skip
    if len(items) > _MOST_LEARNT:
        # Evenly, so that each folder keeps its part.
        items = sorted(items, key=lambda one: (one.folder, one.name))[:: -(-len(items) // _MOST_LEARNT)]
    rules = learn(items)
    return Learnt(rules, score_of(items) if rules else Score(), _learnt_text(folder, sorted_tree, rules), len(items))


def _learnt_text(folder: str, sorted_tree: str, rules: Sequence[LearntRule]) -> str:
    base = os.path.relpath(sorted_tree, folder)
    known: set[str] = set()
    parts = [f"frugal = {FORMAT}"]
    for rule in rules:
        name, number = f"{rule.target}: {' '.join(test.value for test in rule.tests)}", 2
        while (shown := name if number == 2 else f"{name} ({number - 1})") in known:
            number += 1
        known.add(shown)
        keys: dict[str, Value] = {
            "name": shown,
            "in": folder,
            "where": rule.where,
            "move": os.path.normpath(f"{base}/{_escaped(rule.target)}"),
        }
        if not rule.is_sure:
            keys["off"] = True
        parts.append(f"# right on {rule.right:,}, wrong on {rule.wrong:,}\n{rule_text(keys)}")
    return "\n\n".join(parts) + "\n"


def _escaped(target: str) -> str:
    """Return a target as a template, braces in names of folders doubled."""
    parts = [
        part if part.startswith("{modified:%") else part.replace("{", "{{").replace("}", "}}")
        for part in target.split("/")
    ]
    return "/".join(parts)
