"""The planner of `undo`: what takes a run back, and what is in the way."""

from __future__ import annotations

import base64
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from fnmatch import fnmatchcase
from itertools import groupby
from typing import Any, NamedTuple, cast

from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.errors import UsageError
from frugal_sorter.execution.earlier_runs import moved_on
from frugal_sorter.filesystem.extended_attributes import read_attribute
from frugal_sorter.filesystem.record import Identity, Place, Unknown, is_inside, place_of
from frugal_sorter.filesystem.status import folder_as_it_is, look_like_or_none, look_or_none
from frugal_sorter.filesystem.volumes import mount_at
from frugal_sorter.filesystem.walk import look_inside
from frugal_sorter.journal.database import Run
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.platforms import disk, system
from frugal_sorter.reasons import NotDone, Outcome, Why, reason_of, why_not
from frugal_sorter.steps.kinds import ATTENDING, FINAL, KINDS, LASTING, MAKING, REPLACING, TAKING, Details, VerbName
from frugal_sorter.steps.step import Mark, NotTouched, RunContext, Step, verbs_for

# What no undo can bring back.


def run_to_undo(journal: Journal, number: int | None) -> Run:
    """Return the run to take back: the one named, else the last one that is not itself an undo.

    Raises:
        UsageError: there is none.
    """
    if number is not None:
        return journal.run(number)
    for run in reversed(journal.runs()):
        if run.kind != "undo":
            return run
    raise UsageError("nothing to undo", "`frugal history` lists all runs")


def runs_to_undo(journal: Journal) -> Iterator[Run]:
    """Yield the runs that may have something left to take back, the last one first."""
    for run in reversed(journal.runs()):
        # What was permanently removed from the trash cannot be taken back.
        if run.kind not in ("undo", "empty") and run.undone_by is None and journal.counts(run.id).get(Outcome.DONE):
            yield run


def plan_undo(
    journal: Journal,
    run: Run,
    now_ns: int,
    only: Sequence[str] = (),
    on_progress: Callable[[int, int], None] = lambda _count, _of: None,
) -> Plan:
    """Plan what takes a run back, the last step first; nothing is changed.

    Args:
        journal: without interrupted_runs runs.
        run: the run to take back.
        now_ns: the moment of planning.
        only: absolute paths, as they were or as they are now; just these and what is below them.
        on_progress: called with how many changes of the run were checked, of how many.
    """
    return _UndoPlanner(journal, run, now_ns, only, on_progress).plan()


class _Later(NamedTuple):
    """A later run that took an entry away: its number, how, and with which folder around it, in words."""

    run: int
    verb: VerbName
    along: str


def _made_anew(journal: Journal, run: Run) -> dict[Place, Identity]:
    """Return what is where a run had put something, put there anew when an undo of it was itself taken back.

    A copy, a link or what crosses to another volume is then another entry than the one that the run knows.
    """
    levels = {run.id: 0}
    found: dict[Place, Identity] = {}
    if run.undoes is not None:
        # What an undo has brought back over volumes is another entry than the one that the first run had there.
        found |= _put_by(journal, run.id)
    for undo, undone in journal.undos().items():
        if undone not in levels:
            continue
        levels[undo] = levels[undone] + 1
        if levels[undo] % 2 == 0:
            found |= _put_by(journal, undo)
    return found


def _put_by(journal: Journal, run: int) -> dict[Place, Identity]:
    return {
        step.target: mark.now
        for step, mark in journal.steps(run)
        if mark is not None and mark.outcome == Outcome.DONE and mark.now is not None and step.target is not None
    }


def _renew_members(steps: Sequence[Step]) -> None:
    """Let a zip that is made again know its members as they are now: what came back across volumes is another entry."""
    now = {step.source.path: step.was for step in steps if step.source is not None and step.was is not None}
    for step in steps:
        if step.verb == "pack":
            step.details["members"] = [
                {**member, "was": [*now.get(member["path"], member["was"])]} for member in step.details["members"]
            ]


class _UndoPlanner:
    def __init__(
        self, journal: Journal, run: Run, now_ns: int, only: Sequence[str], on_progress: Callable[[int, int], None]
    ) -> None:
        self.journal = journal
        self.run = run
        self.only = only
        self.on_progress = on_progress
        self.result = Plan("undo", now_ns, run.origin, undoes=run.id)
        self.ran = 0
        # What a group adds to these three at their ends is taken back when it is blocked: the folders that will be made again;
        # the places that steps give something back to; and, of those, where the entry is now, if it has come from another one.
        self.made: dict[str, None] = {}
        self.given: dict[Place, Step] = {}
        self.coming: dict[Place, Place] = {}
        self._promises: tuple[dict[Any, Any], ...] = (self.made, self.given, self.coming)
        # By file and attribute, since a file can have several names: what it has after the steps planned before.
        self.texts: dict[tuple[int, int, str], str] = {}
        self.left_by: dict[str, dict[str, tuple[int, VerbName]]] = {}
        # Asked once: of a run that was taken back before, each step asks for it.
        self.own_undos = {undo for undo, undone in journal.undos().items() if undone == run.id}
        self.anew = _made_anew(journal, run)

    def plan(self) -> Plan:
        times: list[Step] = []
        checked, of = 0, self.journal.counts(self.run.id).get(Outcome.DONE, 0)
        with Descriptors() as descriptors:
            self.verbs = verbs_for(RunContext(descriptors))
            # The last first: a folder comes back before what was in it, and a name is free before it is needed.
            steps = self.journal.steps_backward(self.run.id)
            done: Iterable[tuple[Step, Mark]]
            done = ((step, mark) for step, mark in steps if mark is not None and mark.outcome == Outcome.DONE)
            done = list(done) if self.only else done
            for group, members in groupby(done, key=lambda one: one[0].group):
                # One by one: a run of a million has them all in no group.
                for together in [list(members)] if group else ([one] for one in members):
                    times += self._group(together)
                    checked += sum(step.verb not in ATTENDING for step, _ in together)
                    self.on_progress(checked, of)
        for wanted in self.only:
            if not any(self._is_about(step, wanted) for step, _ in done):
                raise UsageError(
                    f"{wanted}: run {self.run.id} did not change it",
                    (f"run `frugal history {self.run.id}` to list what it changed"),
                )
        # Times of folders are given back only where the folder is again what it was.
        if not self.result.not_touched and not self.only:
            # With something left where it is, the folders are not as they were.
            for back in times:
                self._times(back)
        if self.ran:
            what = "a program was" if self.ran == 1 else f"{self.ran:,} programs were"
            self.result.notes.append(Note(f"{what} run, and frugal cannot undo what it did", False))
        return self.result

    def _group(self, members: Sequence[tuple[Step, Mark]]) -> list[Step]:
        """Plan the way back of steps that belong together; if one is blocked, so are all that take entries."""
        if self.only and not any(self._is_wanted(step) for step, _ in members):
            return []
        backs: list[Step] = []
        times: list[Step] = []
        freed: set[Place] = set()
        left: list[NotTouched] = []
        promised = [len(promises) for promises in self._promises]
        for step, mark in members:
            back = self.verbs[step.verb].inverse(step, mark)
            if back is not None:
                back.of = step.id
                _weigh_alike(step, back)
            if back is None:
                left += self._cannot(step)
            elif back.verb == "restore-times":
                times.append(back)
            else:
                try:
                    self._refuse_away(back)
                    backs += self._checked(back, freed)
                except (NotDone, OSError) as blocked:
                    reason = why_not(blocked)
                    if reason.why is Why.NOTHING_TO_UNDO:
                        continue
                    left.append(back.not_touched(reason))
                    # A copy or a tag that stays harms nobody; an entry that cannot come back holds its companions.
                    if back.verb not in ("remove-made", "set-attribute"):
                        others = [one for one in backs if one.verb not in ATTENDING]
                        left += [one.not_touched(Why.RELATED_NOT_UNDONE()) for one in others]
                        for promises, count in zip(self._promises, promised, strict=True):
                            while len(promises) > count:
                                promises.popitem()
                        self.result.not_touched += left
                        return []
        self.result.not_touched += left
        folders = [step for step in backs if step.verb == "make-folder"]
        # Each separately: a folder that cannot be made must not hold back entries that go elsewhere.
        for step in folders:
            self.result.add_group([step])
            if "mtime_ns" in step.details and step.target is not None:
                details: Details = {"mtime_ns": step.details["mtime_ns"]}
                times.append(Step(0, "restore-times", "", "", step.target, None, None, details))
        _renew_members(backs)
        self.result.add_group([step for step in backs if step.verb != "make-folder"])
        return times

    def _is_wanted(self, step: Step) -> bool:
        return any(self._is_about(step, wanted) for wanted in self.only)

    @staticmethod
    def _is_about(step: Step, wanted: str) -> bool:
        paths = [place.path for place in (step.source, step.target) if place]
        paths += [member["path"] for member in step.details.get("members", ())]
        has_wildcard = any(letter in wanted for letter in "*?[")
        return any(is_inside(path, wanted) or (has_wildcard and fnmatchcase(path, wanted)) for path in paths)

    def _cannot(self, step: Step) -> list[NotTouched]:
        if step.verb in FINAL:
            return [step.not_touched(Why.DELETED())]
        self.ran += step.verb in LASTING
        return []

    def _checked(self, step: Step, freed: set[Place]) -> list[Step]:
        """Return the steps that take one back, if nothing is in their way.

        Raises:
            NotDone: something does, and what; or nothing is to do, since that was done before or what it made is gone.
        """
        if step.verb == "make-folder":
            assert step.target is not None
            path = step.target.path
            if path in self.made or disk.lexists(path):
                return []
            above = self._folders(step.target.folder)
            self.made[path] = None
            return [*above, step]
        if step.verb == "remove-folder":
            # It comes back as it is now, if that is taken back in turn.
            with suppress(OSError):
                step.details = cast(Details, folder_as_it_is(step.place.path))
            step.was = self.anew.get(step.place, step.was)
            return [step]
        if step.verb == "set-attribute":
            return [self._attribute(step)]
        if step.verb == "remove-made":
            made = self._made_thing(step)
            # What made room for it can come back to its place.
            freed |= {made.source} if made.source is not None else set()
            return [made]
        if step.verb in REPLACING:
            step.was = self._entry(step)
            return [step]
        if step.source is not None and step.was is not None:
            step.was = self._entry(step)
        if step.target is None:
            return [step]
        taken = disk.lexists(step.target.path) and step.target not in freed and not self._is_itself(step)
        if step.target in self.given or taken:
            raise NotDone(Why.OTHER_FILE_AT(step.target.path))
        folders = self._folders(step.target.folder) if step.verb in MAKING else []
        self.given[step.target] = step
        if step.source is not None and step.verb in TAKING:
            freed.add(step.source)
            if (first := self._now(step.source)) is not step.source:
                self.coming[step.target] = first
            if step.was is not None:
                self._has_again(step, step.was)
            if step.verb == "move":
                step.verb = self._kind_of_move(step)
        return [*folders, step]

    def _now(self, place: Place) -> Place:
        """Return where an entry is now that will be at a place when the turn of a later step comes."""
        step = self.given.get(place)
        if step is None or step.source is None or step.verb not in TAKING:
            return place
        return self.coming.get(place, step.source)

    def _has_again(self, step: Step, now: Identity) -> None:
        """Add the attributes that an entry gets back because the volume where it is now did not keep them."""
        for name, value in step.details.get("restore", {}).get("", {}).get("attributes", {}).items():
            self.texts[now.dev, now.ino, name] = base64.b64decode(value).decode("utf-8", "surrogateescape")

    def _is_itself(self, step: Step) -> bool:
        """Return True if what is at the target of a step is its own entry: both names are one, but for case."""
        one, other = step.source, step.target
        if one is None or other is None or step.was is None or one.folder != other.folder:
            return False
        # On a volume that takes `a.log` and `A.log` for one name, an entry is in its own way.
        if system.folded(one.name) != system.folded(other.name):
            return False
        found = self._look(other, step.was)
        return found is not None and found.dev == step.was.dev and found.same_who(step.was)

    def _kind_of_move(self, step: Step) -> VerbName:
        assert step.source is not None and step.target is not None
        # A folder that is gone will be made again by then, on the mount of the nearest one above.
        return "move" if mount_at(step.target.folder) == mount_at(step.source.folder) else "move-across"

    def _as_it_came(self, step: Step) -> Identity:
        """Return the entry of a step as it is known last: on its way over volumes it has been others by its numbers."""
        assert step.source is not None and step.was is not None
        before = self.given.get(step.source)
        if before is not None and before.was is not None and before.verb in TAKING:
            return before.was
        return self.anew.get(step.source, step.was)

    def _entry(self, step: Step) -> Identity:
        """Return the entry that a step takes back as it is now."""
        assert step.source is not None and step.was is not None
        found, was = self._look(step.source, step.was), self._as_it_came(step)
        if found is None or not found.same_who(was):
            later = self._moved_on(step.source)
            if later is not None:
                if later.run in self.own_undos:
                    raise NotDone(Why.NOTHING_TO_UNDO())  # an earlier undo of this run took it back already
                if later.verb in FINAL:
                    raise NotDone(Why.DELETED_SINCE(later.along, later.run))
                raise NotDone(Why.MOVED_AGAIN(later.run, later.along))
            if step.verb == "restore" and found is None:
                raise NotDone(Why.GONE_FROM_TRASH())
            raise NotDone(Why.GONE() if found is None else Why.OTHER_FILE_THERE())
        if step.verb in TAKING and not found.same_state(was):
            self.result.notes.append(Note(f"{step.source.path} was edited since; it will be moved back with the edits", False))
        return found

    def _moved_on(self, place: Place) -> _Later | None:
        """Return the first later run that took an entry away from a place, or a folder with the entry in it."""
        # The entry first, then each folder around it, since one of those may have been moved with it.
        at = place
        while at.name:
            if at.folder not in self.left_by:
                self.left_by[at.folder] = moved_on(self.journal, self.run.id, at.folder)
            later = self.left_by[at.folder].get(at.name)
            if later is not None:
                return _Later(*later, "" if at is place else f" with {at.path}")
            at = place_of(at.folder)
        return None

    def _made_thing(self, step: Step) -> Step:
        assert step.source is not None and step.was is not None
        found = self._look(step.source, step.was)
        if found is None:
            raise NotDone(Why.NOTHING_TO_UNDO())
        was = self.anew.get(step.source, step.was)
        if not found.same_who(was):
            raise NotDone(Why.OTHER_FILE_THERE())
        if not found.same_state(was):
            raise NotDone(Why.EDITED())
        if step.details["again"]["verb"] in ("copy", "unpack") and found.kind != "link":
            self._original(Place(*step.details["entry"]), Identity(*step.details["entry_was"]))
        step.was = found
        return step

    def _original(self, place: Place, was: Identity) -> None:
        """Check that what something was made of is there, or will be by then, as it was: else this is the only one.

        Raises:
            NotDone: it is not.
        """
        if place in self.given or place.path in self.made:
            return  # it comes back before this step; then the two are compared
        found = self._look(place, was)
        # Of a folder other steps may have changed what is inside, and take it back before; then both are compared.
        if found is not None and found.kind == was.kind and (was.kind == "folder" or found.same_state(was)):
            return
        later = self._moved_on(place)
        if found is not None:
            why = "its source has changed since"
        elif later is not None and later.verb in FINAL:
            why = f"what it was made from was permanently deleted by run {later.run}"
        elif later is not None:
            raise NotDone(Why.SOURCE_MOVED_ON(later.run))
        else:
            why = "its source no longer exists"
        raise NotDone(Why.ONLY_COPY_LEFT(why))

    def _refuse_away(self, step: Step) -> None:
        """Check that no volume is away that a step needs.

        Raises:
            NotDone: one is.
        """
        for place in (step.source, step.target):
            if place is not None and (top := self.run.away(place.path)):
                raise NotDone(Why.VOLUME_AWAY(top))

    def _attribute(self, step: Step) -> Step:
        assert step.source is not None and step.was is not None
        if step.source.path in self.made:
            raise NotDone(Why.NOTHING_TO_UNDO())  # a folder that was removed later on comes back as it was before the run
        found = self._look(step.source, step.was)
        was = self._as_it_came(step)
        if found is None and (later := self._moved_on(step.source)) is not None and later.run not in self.own_undos:
            raise NotDone(Why.MOVED_AGAIN(later.run, later.along))
        if found is None or not found.same_who(was):
            raise NotDone(Why.GONE() if found is None else Why.OTHER_FILE_THERE())
        name, now = step.details["attribute"], self._now(step.source)
        key = (found.dev, found.ino, name)
        try:
            # Several rules may have changed it, one after the other.
            text = self.texts[key] if key in self.texts else read_attribute(now.path, name)
        except OSError as error:
            raise NotDone(reason_of(error)) from None
        if text == step.details["new"] != step.details["old"]:
            raise NotDone(Why.NOTHING_TO_UNDO())  # a part of the run was taken back before
        if text != step.details["old"]:
            raise NotDone(Why.TAGS_CHANGED())
        self.texts[key] = step.details["new"]
        step.was = found
        return step

    def _folders(self, folder: str) -> list[Step]:
        """Return the steps that make a folder and those above it, as far as they are missing."""
        missing: list[str] = []
        while folder not in self.made and not disk.lexists(folder):
            missing.insert(0, folder)
            folder = os.path.dirname(folder)
        self.made.update(dict.fromkeys(missing))
        return [Step(0, "make-folder", "", "", None, place_of(path), None) for path in missing]

    def _times(self, step: Step) -> None:
        assert step.source is not None
        # A folder that this undo makes again has no time of its own yet.
        if step.was is None:
            self.result.add_group([step])
            return
        try:
            found = look_or_none(step.source)
        except OSError:
            return  # what cannot be looked at keeps the time that it has
        if found is not None and found.identity.same_who(step.was) and found.mtime_ns == step.details["now_ns"]:
            self.result.add_group([step])

    def _look(self, place: Place, was: Identity) -> Identity | None:
        place = self._now(place)
        try:
            found = look_like_or_none(place, was)
        except OSError as error:
            self.result.notes.append(Note(f"{place.path}: {reason_of(error)}", True))
            return None
        # The time of a folder says nothing of what is inside it, so that all of it is looked at.
        if found is None or found.identity.kind != "folder":
            return None if found is None else found.identity
        inside = look_inside(place.path)
        return found.identity._replace(inside=None if isinstance(inside, Unknown) else inside.digest)


def _weigh_alike(step: Step, back: Step) -> None:
    """Let a step that takes one back say as much of what is inside its entry as that one did."""
    may = KINDS[back.verb].may
    if "files" in step.details and "files" in may:
        back.details.setdefault("files", step.details["files"])
    if "bytes" in step.details and "bytes" in may:
        back.details.setdefault("bytes", step.details["bytes"])
