"""The planner of `undo`: what takes a run back, and what stands in the way."""

from __future__ import annotations

import os
from collections.abc import Callable

from frugal_sorter.errors import UsageError
from frugal_sorter.files.inside import look_inside
from frugal_sorter.files.record import FileRecord, Identity, Place, Unknown
from frugal_sorter.files.status import look_or_none
from frugal_sorter.files.walk import reason_of
from frugal_sorter.plans.by_rules import Past
from frugal_sorter.plans.plan import Left, Note, Plan, Step
from frugal_sorter.work.descriptors import Descriptors
from frugal_sorter.work.executor import verbs_over
from frugal_sorter.work.journal import Journal, Run
from frugal_sorter.work.mark import Outcome


def run_to_undo(journal: Journal, number: int | None) -> Run:
    """Return the run to take back: the one named, else the last that is neither an undo nor undone.

    Raises:
        UsageError: there is none.
    """
    if number is not None:
        return journal.run(number)
    for run in reversed(journal.runs()):
        if run.kind != "undo" and run.undone_by is None and journal.counts(run.id).get(Outcome.DONE):
            return run
    raise UsageError("there is nothing to undo", "`frugal history` lists all runs")


def plan_undo(journal: Journal, run: Run, now_ns: int) -> Plan:
    """Plan what takes a run back, the last step first; nothing is changed.

    Args:
        journal: without unsettled runs.
        run: the run to take back.
        now_ns: the moment of planning.
    """
    return _UndoPlanner(journal, run, now_ns).plan()


class _UndoPlanner:
    def __init__(self, journal: Journal, run: Run, now_ns: int) -> None:
        self.journal = journal
        self.run = run
        self.result = Plan("undo", now_ns, run.origin, undoes=run.id)
        self.made: set[str] = set()
        self.given: set[Place] = set()

    def plan(self) -> Plan:
        times: list[Step] = []
        with Descriptors() as descriptors:
            verbs = verbs_over(descriptors)
            for step, mark in reversed(list(self.journal.steps(self.run.id))):
                if mark is None or mark.outcome != Outcome.DONE:
                    continue
                back = verbs[step.verb].back(step, mark)
                if back is None:
                    continue
                if back.verb == "restore-times":
                    times.append(back)
                elif back.verb == "move":
                    self._move(back)
                elif back.verb == "make-folder":
                    self._make(back)
                else:
                    self._add(back)
        if not self.result.left:
            # With something left where it is, the folders are not as they were.
            for back in times:
                self._times(back)
        return self.result

    def _add(self, step: Step) -> None:
        self.result.add(
            step.verb, step.rule, step.rule_key, step.source, step.target, step.was, step.args
        )  # fmt: skip

    def _make(self, step: Step) -> None:
        assert step.target is not None
        path = step.target.path
        if path not in self.made and not os.path.lexists(path):
            self.made.add(path)
            self._add(step)

    def _move(self, step: Step) -> None:
        assert step.source is not None and step.target is not None and step.was is not None
        found = self._look(step.source)
        if found is None or not found.same_who(step.was):
            later = self.journal.moved_on(self.run.id, step.source)
            if later is not None and later.undoes == self.run.id:
                return  # an earlier undo of this run took it back already
            if later is not None:
                why = f"run {later.id} moved it on; undo that one first"
            else:
                why = "no longer there" if found is None else "another file stands there now"
            self._blocked(step, why)
            return
        if step.target in self.given or os.path.lexists(step.target.path):
            self._blocked(step, f"{step.target.path} is taken")
            return
        if not found.same_state(step.was):
            self.result.notes.append(Note(f"{step.source.path}: edited since; it goes back as it is now", False))
        for folder in self._missing_above(step.target.folder):
            self.made.add(folder)
            self.result.add("make-folder", "", "", None, Place(*os.path.split(folder)), None)
        self.given.add(step.target)
        self.result.add("move", step.rule, step.rule_key, step.source, step.target, found)

    def _missing_above(self, folder: str) -> list[str]:
        missing: list[str] = []
        while folder not in self.made and not os.path.lexists(folder):
            missing.insert(0, folder)
            folder = os.path.dirname(folder)
        return missing

    def _times(self, step: Step) -> None:
        assert step.source is not None and step.was is not None
        found = look_or_none(step.source)
        if found is not None and found.identity.same_who(step.was) and found.mtime_ns == step.args["now_ns"]:
            self._add(step)

    def _look(self, place: Place) -> Identity | None:
        try:
            found = look_or_none(place)
        except OSError as error:
            self.result.notes.append(Note(f"{place.path}: {reason_of(error)}", True))
            return None
        if found is None or found.identity.kind != "folder":
            return None if found is None else found.identity
        inside = look_inside(place.path)
        return found.identity._replace(inside=None if isinstance(inside, Unknown) else inside.digest)

    def _blocked(self, step: Step, why: str) -> None:
        assert step.source is not None
        self.result.left.append(Left(step.source, step.rule, why, True))


def past_of(journal: Journal) -> Past:
    """Return what the journal says of entries that the planner meets."""
    taken = journal.taken_back()

    def taken_back(key: str, place: Place, identity: Identity) -> int | None:
        return _if_same(taken.get((key, place)), identity)

    def put_here(key: str, place: Place, identity: Identity) -> int | None:
        return _if_same(journal.put_at(key, place), identity)

    return Past(taken_back, put_here, journal.written)


def arrival_of(journal: Journal) -> Callable[[FileRecord], int | None]:
    """Return what tells when the tool itself put an entry where it is."""

    def arrived(record: FileRecord) -> int | None:
        found = journal.arrived(record.place)
        return found[0] if found is not None and found[1].same_who(record.identity) else None

    return arrived


def _if_same(found: tuple[int, Identity] | None, identity: Identity) -> int | None:
    if found is None:
        return None
    run, was = found
    return run if was.same_who(identity) and was.same_state(identity) else None
