"""What earlier runs say of entries that are met again: where rules put them, and what was taken back."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from glob import escape as glob_escape
from operator import itemgetter
from typing import TYPE_CHECKING, NamedTuple

from frugal_sorter.filesystem.record import FileRecord, Identity, Place
from frugal_sorter.journal.journal import Block, Journal
from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import Outcome, Reason, Why
from frugal_sorter.steps.kinds import ATTENDING, REPLACING, TAKING, VerbName
from frugal_sorter.steps.step import Mark, Step

if TYPE_CHECKING:
    from frugal_sorter.planning.endings import EarlierRuns

# Steps that put an entry somewhere without a rule having asked for it to be there.
_RUNNING: tuple[VerbName, ...] = ("run", "run-making")
_UNMAKING: tuple[VerbName, ...] = ("remove-made", "set-attribute")
# By the key of a rule and a place: the run that took something back there, and the entry as it was then.
_Back = dict[tuple[str, Place], tuple[int, Identity]]
_NOTHING: tuple[int, Identity | None] = (0, None)
_NOT_PUT = frozenset({"trash", "restore", "make-folder"})


class _Put(NamedTuple):
    """An entry that a rule put somewhere, and when."""

    run: int
    rule_key: str
    began_ns: int
    now: Identity


class _Memory:
    """Looks into a journal, a folder at a time; nothing may be written to it meanwhile."""

    def __init__(self, journal: Journal) -> None:
        self._journal = journal
        self._puts: dict[str, dict[str, list[_Put]]] = {}
        self._taken: dict[str, dict[str, list[tuple[VerbName, _Put]]]] = {}
        self._ran: dict[str, list[Identity]] | None = None
        self._back: dict[str, _Back] = {}
        self._unmade: _Back | None = None

    def put_in(self, folder: str) -> dict[str, list[_Put]]:
        """Return what rules have put into a folder, by name and the last first."""
        # Asked for each entry of a folder in turn, and answered by one look at the journal.
        if folder not in self._puts:
            found: dict[str, list[_Put]] = {}
            for block in self._journal.blocks_into(folder):
                for step, now in reversed(list(_done(block))):
                    if now is not None and step.target is not None and step.verb not in _NOT_PUT:
                        found.setdefault(step.target.name, []).append(_Put(block.run, step.rule_key, block.began_ns, now))
            self._puts[folder] = found
        return self._puts[folder]

    def put_here(self, key: str, place: Place, identity: Identity) -> int | None:
        """Return the last run in which a rule put an entry where it is, unchanged since."""
        for put in self.put_in(place.folder).get(place.name, ()):
            # The last word alone counts: a file that was edited since is a new one for its rule.
            if put.rule_key == key:
                return put.run if _is_same(put.now, identity) else None
        return None

    def arrived(self, record: FileRecord) -> int | None:
        """Return when the tool itself put an entry where it is, in ns."""
        for put in self.put_in(record.place.folder).get(record.place.name, ()):
            return put.began_ns if put.now.same_who(record.identity) else None
        return None

    def undone(self, key: str, place: Place, identity: Identity) -> Reason | None:
        """Return why a rule leaves an entry that it took away before, and that is here again, unchanged since."""
        if self._unmade is None:
            self._unmade = self._all_unmade()
        if place.folder not in self._back:
            self._back[place.folder] = self._put_back_into(place.folder)
        if (back := self._back[place.folder]) or self._unmade:
            # The last word holds.
            known = (key, place)
            run, was = max((found.get(known, _NOTHING) for found in (self._unmade, back)), key=itemgetter(0))
            if was is not None and _is_same(was, identity):
                return Why.UNDONE(run)
        if place.folder not in self._taken:
            self._taken[place.folder] = self._taken_from(place.folder)
        taken = self._taken[place.folder].get(place.name)
        if not taken:
            return None
        here = [(verb, put.run) for verb, put in taken if put.rule_key == key and _is_same(put.now, identity)]
        # This tool or the desktop may have brought it back from the trash.
        if trashed := next((run for verb, run in here if verb == "trash"), 0):
            return Why.RESTORED(trashed)
        if moved := next((run for verb, run in here if verb == "move"), 0):
            # What another rule or an undo put here since was moved by no person.
            own = next((put.run for put in self.put_in(place.folder).get(place.name, ()) if put.now.same_who(identity)), 0)
            return Why.MOVED_BACK(moved) if moved > own else None
        return None

    def _taken_from(self, folder: str) -> dict[str, list[tuple[VerbName, _Put]]]:
        """Return by name what rules have taken from a folder, the last first."""
        found: dict[str, list[tuple[VerbName, _Put]]] = {}
        for block in self._journal.blocks_out_of(folder):
            for step, now in reversed(list(_done(block))):
                if step.verb in ("trash", "move") and now is not None and step.source is not None:
                    put = _Put(block.run, step.rule_key, block.began_ns, now)
                    found.setdefault(step.source.name, []).append((step.verb, put))
        return found

    def _put_back_into(self, folder: str) -> _Back:
        """Return the entries that undos put back into a folder."""
        found: _Back = {}
        for block in self._journal.blocks_back_into(folder):
            for step, now in _done(block):
                if step.verb in ("move", "move-across", "restore") and step.target is not None and now is not None:
                    found[step.rule_key, step.target] = (block.run, now)
        return found

    def _all_unmade(self) -> _Back:
        """Return the entries from which undos took a tag, or a copy that was made of them; these can be anywhere."""
        found: _Back = {}
        for verb in _UNMAKING:
            for block in self._journal.blocks_with(verb, backward=True):
                for step, _ in _done(block):
                    if "entry" not in step.details:
                        continue
                    # The entry that it was made of is elsewhere: that is the one to remember.
                    known = (step.rule_key, Place(*step.details["entry"]))
                    if found.get(known, (0,))[0] <= block.run:
                        found[known] = (block.run, Identity(*step.details["entry_was"]))
        return found

    def has_run(self, key: str, identity: Identity) -> bool:
        """Return True if a rule has run its program for an entry, unchanged since."""
        if self._ran is None:
            self._ran = {}
            for verb in _RUNNING:
                for block in self._journal.blocks_with(verb):
                    for step, _ in _done(block):
                        # Neither leaves its entry another than it was.
                        if step.was is not None:
                            self._ran.setdefault(step.rule_key, []).append(step.was)
        return any(_is_same(one, identity) for one in self._ran.get(key, ()))


def earlier_runs_of(journal: Journal) -> EarlierRuns:
    """Return what the journal says of entries that the planner meets."""
    from frugal_sorter.planning.endings import EarlierRuns

    memory = _Memory(journal)
    return EarlierRuns(memory.undone, memory.put_here, journal.folders_written, memory.has_run)


def arrival_of(journal: Journal) -> Callable[[FileRecord], int | None]:
    """Return what tells when the tool itself put an entry where it is."""
    return _Memory(journal).arrived


def moved_on(journal: Journal, after: int, folder: str) -> dict[str, tuple[int, VerbName]]:
    """Return by name the first run after another that took an entry away from a folder, and how."""
    found: dict[str, tuple[int, VerbName]] = {}
    for block in journal.blocks_out_of_after(folder, after):
        for step, _ in _done(block):
            if step.verb in TAKING | REPLACING and step.source is not None:
                # The first run after: what happened later is not what took it away from here.
                found.setdefault(step.source.name, (block.run, step.verb))
    return found


def trashed_in(journal: Journal, folder: str) -> dict[str, int]:
    """Return by name the last run that put an entry into the `files` folder of a trash."""
    found: dict[str, int] = {}
    for block in journal.all_blocks_into(folder):
        for step, _ in _done(block):
            if step.verb == "trash" and step.target is not None:
                found[step.target.name] = block.run
    return found


def about(journal: Journal, named: str) -> list[tuple[int, Step, Mark | None]]:
    """Return the steps about entries of some name, old or new, in order.

    Args:
        journal: where to look.
        named: a name, or an absolute path; it may hold wildcards, whatever the case of its letters.
    """
    from frugal_sorter.rules.fields import is_like, is_wild

    wild = is_wild(named)
    folder, name = os.path.split(named)

    def is_meant(place: Place) -> bool:
        if not wild:
            return place.name == name and folder in ("", place.folder)
        return is_like(place.name, name) and (not folder or is_like(place.folder, folder))

    found = []
    for block in journal.blocks_naming("" if wild else name):
        for step, mark in block.steps:
            if step.verb not in ATTENDING and any(map(is_meant, filter(None, (step.source, step.target)))):
                found.append((block.run, step, mark))
    return found


def done_in(journal: Journal, run: int) -> Iterator[Step]:
    """Yield the steps of a run that a person asked for, except those taken back.

    Args:
        journal: where to look.
        run: its number.
    """
    gone = journal.taken_back(run)
    for step, mark in journal.steps(run):
        if step.verb not in ATTENDING and mark is not None and mark.outcome == Outcome.DONE and step.id not in gone:
            yield step


class Passage(NamedTuple):
    """A step that took an entry away from a place, or put it there: its run, and the folder that it went along with."""

    run: int
    step: Step
    along: str = ""

    def after(self, path: str) -> str:
        """Return where an entry is then that was at a path; empty where it is nowhere."""
        if self.step.target is None:
            return ""
        return self.step.target.path + path[len(self.step.place.path) :]


def taken_from(journal: Journal, path: str) -> Passage | None:
    """Return what last took an entry away from a path, alone or with a folder around it; None where nothing did.

    Args:
        journal: where to look.
        path: absolute.
    """
    at = path
    while not slashed.is_top(at):
        found = [
            Passage(run, step, "" if at == path else at)
            for run, step, mark in about(journal, glob_escape(at))
            if mark is not None
            and mark.outcome == Outcome.DONE
            and step.source is not None
            and step.source.path == at
            and step.verb in TAKING
        ]
        if found:
            return found[-1]
        at = os.path.dirname(at)
    return None


def put_at(journal: Journal, path: str, identity: Identity) -> Passage | None:
    """Return what put an entry where it is; None where no run did, or another entry is there by now.

    Args:
        journal: where to look.
        path: absolute.
        identity: of the entry.
    """
    for run, step, mark in reversed(about(journal, glob_escape(path))):
        if mark is None or mark.outcome != Outcome.DONE or step.target is None or step.target.path != path:
            continue
        return Passage(run, step) if mark.now is not None and mark.now.same_who(identity) else None
    return None


def _done(block: Block) -> Iterator[tuple[Step, Identity | None]]:
    for step, mark in block.steps:
        if mark is not None and mark.outcome == Outcome.DONE:
            yield step, mark.now


def _is_same(was: Identity, identity: Identity) -> bool:
    return was.same_who(identity) and was.same_state(identity)
