"""Rules tried on a machine that is elsewhere: planned by its full inventory as they would be there."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

from frugal_sorter.app.rules import look_ahead
from frugal_sorter.app.session import Session
from frugal_sorter.filesystem.contents import Contents
from frugal_sorter.filesystem.record import Identity, Unknown, Unread
from frugal_sorter.filesystem.status import OpenFiles
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.elsewhere import NOT_HELD, Machine
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reports.machine import INSIDE, FullInventory, read, take
from frugal_sorter.reports.saved import each_saved
from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.load import read_rules
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.state import forget_all, ready_state_folder
from frugal_sorter.values import frozen, replace

# Title, artist and album are read in one look.
_READER = {"title": "label", "artist": "label", "album": "label"}


class _Contents(Contents):
    """The contents of files, as far as an inventory has them."""

    def __init__(self, machine: Machine) -> None:
        super().__init__()
        self._machine = machine

    def read(self, fact: str, path: str) -> Any | Unknown:
        known = self._machine.entries[path].inside.get(fact, {"unknown": NOT_HELD})
        return known["value"] if "value" in known else Unknown(known["unknown"])


class _OpenFiles(OpenFiles):
    """No program there can be asked."""

    def holder(self, was: Identity, path: str) -> str | None:
        raise OSError(0, NOT_HELD, path)

    holder_below = writer = holder  # type: ignore[assignment]


@frozen
class Elsewhere:
    """Another machine, by its inventory."""

    inventory: FullInventory

    @property
    def machine(self) -> Machine:
        return self.inventory.machine

    def session(self, session: Session) -> Session:
        """Return a session that looks at the machine, at the moment of its inventory."""
        known = {"contents": _Contents(self.machine), "open_files": _OpenFiles()}
        return replace(
            session, now_ns=self.inventory.saved.made_ns, machine=self.machine.name, account=self.machine.account, elsewhere=known
        )

    def book(self, raw: bytes, path: Path) -> RuleBook:
        """Return rules as they would be read there, in the folder of the inventory.

        Args:
            raw: the rule file.
            path: where it is here; the lists that it names are read from beside it.

        Raises:
            Mistakes: something in it is wrong.
        """
        machine = self.machine
        with machine.reading_beside(os.path.dirname(slashed.abspath(path))):
            book = read_rules(raw, path, machine.folder)
        away = {folder: f"is {NOT_HELD}" for rule in book.rules for folder in rule.folders if not machine.holds(folder)}
        return replace(book, file=slashed.join(machine.folder, path.name), unmounted={**away, **book.unmounted}, trash=())

    def missing(self, book: RuleBook) -> list[str]:
        """Return what the rules ask for that the inventory does not hold, a sentence each."""
        names = {leaf.on.name for rule in book.rules for leaf in rule.where.leaves()}
        names |= {name for rule in book.rules for name in rule.fields}
        inside = sorted(name for name in names if _READER.get(name, name) in {*INSIDE, "text"} and FIELDS[name].cost >= 20)
        if self.inventory.looked_inside:
            inside = [name for name in inside if name == "text"]
        said = []
        if inside:
            hint = "" if inside == ["text"] else "; take it with --look-inside for these"
            said.append(f"What is in files is {NOT_HELD}: {', '.join(inside)}{hint}")
        if "in use" in names:
            said.append(f"Which files are open is {NOT_HELD}")
        if any(rule.ending in ("duplicates", "unpack") for rule in book.rules):
            said.append(f"What is in files is {NOT_HELD}, so duplicates and archives are left alone")
        if self.inventory.runs:
            said.append(
                f"What the {self.inventory.runs:,} earlier runs there did is {NOT_HELD}: dates of arrival may be earlier, and "
                "files that were undone are planned again"
            )
        return said


class There(NamedTuple):
    """What rules would do on one of many machines.

    Args:
        machine: its name.
        taken_ns: when its inventory was taken, in ns since the epoch.
        plan: what they would do.
        missing: what they ask for that the inventory does not hold, a sentence each.
    """

    machine: str
    taken_ns: int
    plan: Plan
    missing: list[str]


def on_each(
    folder: str, session: Session, rules: tuple[bytes, Path], at_most: int | None, unread: Callable[[Unread], None]
) -> Iterator[There]:
    """Yield what rules would do on each machine that has a full inventory in a folder, one after the other.

    Args:
        folder: an absolute path.
        session: of the command.
        rules: the bytes of the rule file, and where it is here.
        at_most: how many entries each rule may take away; None for what it says itself.
        unread: called with each inventory that cannot be read, or is not a full one.

    Raises:
        OSError: the folder cannot be read.
        Mistakes: something in the rules is wrong.
    """
    for _, inventory in each_saved(folder, read, unread):
        with _in_place(inventory) as there:
            book = there.book(*rules)
            plan = look_ahead(there.session(session), book, at_most=at_most)
            yield There(there.machine.name, inventory.saved.made_ns, plan, there.missing(book))


def full_of(session: Session, folder: str, looks_inside: bool) -> Iterator[Any]:
    """Return what a full inventory of a folder says, with how many runs there were before; see `machine.take`."""
    with Journal(ready_state_folder(), write=False) as journal:
        runs = len(journal.runs())
    return take(folder, looks_inside, runs, session.on_progress)


@contextmanager
def elsewhere(path: Path) -> Iterator[Elsewhere]:
    """Ask everything of the machine that a full inventory was taken on.

    Raises:
        UsageError: it cannot be read, or is not a full one.
    """
    with _in_place(read(path)) as there:
        yield there


@contextmanager
def _in_place(inventory: FullInventory) -> Iterator[Elsewhere]:
    forget_all()
    try:
        with inventory.machine.in_place_of_this():
            yield Elsewhere(inventory)
    finally:
        forget_all()
