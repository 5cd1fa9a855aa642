"""Acting on what comes into folders: an event says where something changed, and only there the rules are asked."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Callable, Collection, Iterable, Mapping
from contextlib import suppress
from typing import Protocol

from frugal_sorter.app.carry_out import carry_out
from frugal_sorter.app.rules import leave_out, plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.errors import FrugalError, RefusedError
from frugal_sorter.execution.executor import Result
from frugal_sorter.filesystem.events import Event, Source
from frugal_sorter.filesystem.record import Place, is_inside
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import Root, earliest_changes, held_until, is_dated, owner_of, roots_of
from frugal_sorter.platforms import disk, slashed, volumes
from frugal_sorter.platforms.volumes import Mount
from frugal_sorter.reasons import Why
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.units import SECOND_NS, Duration
from frugal_sorter.steps.kinds import TAKING
from frugal_sorter.steps.step import Mark, Step
from frugal_sorter.values import field, mutable, replace

SETTLE = Duration(0, 5)
# This many entries at once are handled together: when it is quiet again, or after this many times the wait.
_MANY, _PATIENCE = 1_000, 6
# Between two visits: what comes one by one is gathered for so long.
_GAP_NS = SECOND_NS // 4
# Another writer is at work: again after so long.
_RETRY_NS, _LONG_NS = 2 * SECOND_NS, 600 * SECOND_NS
_PAUSE_NS = 60 * SECOND_NS
# An entry that was moved so often within this time goes round in a circle.
_TURNS, _TURNS_NS = 3, 600 * SECOND_NS
# A date that passes is acted on at most so much later, so that many dates are one visit.
_GATHER_NS = 5 * SECOND_NS
# The clocks are compared so often: a machine that slept, or whose clock was set, is looked at as a whole.
LOOK_SECONDS = 60
_JUMP_NS = 30 * SECOND_NS


class Listener(Protocol):
    """The listener of a watcher."""

    def watching(self, roots: Collection[Root], missing: Collection[str]) -> None:
        """It watches these folders, and waits for those."""

    def note(self, text: str) -> None:
        """Something that a person should know."""

    def planned(self, plan: Plan) -> None:
        """It is about to carry a plan out."""

    def step(self, step: Step, mark: Mark) -> None:
        """A step has ended."""

    def done(self, plan: Plan, result: Result) -> None:
        """A plan was carried out."""

    def left(self, plan: Plan) -> None:
        """What a plan does not touch stays until another time: nobody looks again."""


@mutable
class _Dirty:
    """A folder in which something changed: when first and when last, in ns."""

    first_ns: int
    last_ns: int


@mutable(slots=False)
class Watcher:
    """What is known of the folders of a rule file while they are watched.

    Args:
        read_book: reads the rule file.
        begin: begins the session of one visit.
        source: of events.
        listener: gets its events.
        rescan_ns: after so long all folders are looked at, whatever was told.
        every_ns: look so often instead of waiting for events; 0 for events.
        settle: for how long a file must have been left alone, where its rule does not say.
        clock: the time of day, in ns since the epoch.
        running: a clock that nobody sets, in ns, which does not count while the machine sleeps.
        once: what is there now is taken, and nothing after it: the dates of files are enough.
        stop: returns whether a person or a signal wants it to end.
    """

    read_book: Callable[[], RuleBook]
    begin: Callable[[], Session]
    source: Source
    listener: Listener
    rescan_ns: int = 6 * 3_600 * SECOND_NS
    every_ns: int = 0
    settle: Duration = SETTLE
    clock: Callable[[], int] = time.time_ns
    running: Callable[[], int] = time.monotonic_ns
    once: bool = False
    stop: Callable[[], bool] = lambda: False
    _dirty: dict[str, _Dirty] = field(default_factory=dict)
    _later: dict[str, int] = field(default_factory=dict)
    # When the last was heard of an entry: however old it says that it is, it came or changed then.
    _heard: dict[str, int] = field(default_factory=dict)
    _turns: dict[tuple[int, int], list[int]] = field(default_factory=dict)
    _circling: set[tuple[int, int]] = field(default_factory=set)
    _missing: frozenset[str] = frozenset()
    _all_at_ns: int | None = None
    _retry_ns: int = 0
    _problem: str = ""
    _refused_ns: int = 0
    _armed: bool = False
    _mounts: frozenset[Mount] = frozenset()
    _apart_ns: int = 0

    def start(self) -> None:
        """Read the rules, watch their folders, and have all of them looked at first.

        Raises:
            Mistakes, UsageError: the rule file cannot be read.
        """
        self._take_book(self.read_book())
        self._apart_ns = self.clock() - self.running()
        self._arm()
        self._all_at_ns = self.clock()

    def read_again(self) -> None:
        """Read the rule file anew; one with a mistake leaves the rules in force that were."""
        try:
            book = self.read_book()
        except FrugalError as error:
            self.listener.note(f"the new rule file has an error, so the previous rules stay in use: {error.message}")
            return
        self._take_book(book)
        self._arm()
        self._all_at_ns = self.clock()
        self.listener.note("reloaded the rule file")

    def _take_book(self, book: RuleBook) -> None:
        none = Duration(0, 0)
        rules = tuple(replace(one, settle=self.settle) if one.settle == none else one for one in book.rules)
        self.book = replace(book, rules=rules, _matchers={})
        # The shortest: what a rule wants to be left alone for longer, it holds itself.
        self._settle_ns = min([one.settle.seconds * SECOND_NS for one in rules], default=0)
        self._file = slashed.realpath(book.file)

    def _arm(self) -> None:
        """Watch what the rules act in; what is missing is waited for at the nearest folder that is there."""
        self.roots = roots_of(self.book)
        missing = frozenset(root.folder for root in self.roots if not _is_folder(root.folder))
        away = frozenset(map(slashed.realpath, self.book.unmounted))
        missing |= away & frozenset(root.folder for root in self.roots)
        here = [root for root in self.roots if root.folder not in missing]
        tops = [
            root.folder
            for root in here
            if not any(
                other.levels is None and other.folder != root.folder and is_inside(root.folder, other.folder) for other in here
            )
        ]
        # The folder above tells when one of them goes, and when it comes again.
        flat = {os.path.dirname(self._file), *(os.path.dirname(top) for top in tops), *map(_nearest, missing)}
        if self.every_ns == 0:
            if by_turns := [top for top in tops if _tells_nothing(top)]:
                self._poll(f"{by_turns[0]} is on a volume that does not report changes")
            else:
                self._watch(tops, [one for one in flat if not any(is_inside(one, top) for top in tops)])
        if missing != self._missing or not self._armed:
            self.listener.watching(here, sorted(missing))
        self._missing, self._armed, self._mounts = missing, True, self._mounts_here()

    def _mounts_here(self) -> frozenset[Mount]:
        """Return what is mounted in or above the folders that the rules act in and write to."""
        targets = [target for rule in self.book.rules for target in rule.targets if target.absolute]
        folders = {*self.book.unmounted, *(root.folder for root in self.roots)}
        folders |= {slashed.realpath(slashed.join(one.top, *one.head)) for one in targets}
        return frozenset(
            mount
            for mount in volumes.mounts()
            if any(is_inside(folder, mount.top) or is_inside(mount.top, folder) for folder in folders)
        )

    def _watch(self, tops: Collection[str], flat: Collection[str]) -> None:
        try:
            self.source.watch(tops, flat)
        except OSError as error:
            limit = "; `sysctl fs.inotify.max_user_watches` is the limit" if error.errno == errno.ENOSPC else ""
            self._poll(f"the system cannot watch these folders ({(error.strerror or 'unknown error').lower()}){limit}")
            return
        except RecursionError:
            self._poll("some of these folders are nested too deeply to be watched")
            return
        watched = self.source.watched()
        if watched is not None and watched < (wanted := sum(map(_folders_below, tops))):
            self._poll(f"the system watches only {watched:,} of {wanted:,} folders")

    def _poll(self, why: str) -> None:
        # All events or none: those of some folders alone would look like all of them.
        with suppress(OSError, RecursionError):
            self.source.watch((), ())
        self.every_ns = 15 * SECOND_NS
        self.listener.note(f"checking every 15 seconds: {why}")

    # What happens

    def take(self, events: Iterable[Event]) -> None:
        """Note what the source told."""
        now_ns = self.clock()
        again = lost = False
        for event in events:
            if event.lost or (event.mounts and self._mounts != self._mounts_here()):
                self._all_at_ns = now_ns
                again = lost = True
            elif event.path == self._file:
                again = False
                self.read_again()
            elif event.folder:
                again = again or self._is_of_a_root(event.path)
                self._mark(event, now_ns)
        if lost:
            # Which places are on a volume that is not mounted is known by the rules as they are read.
            with suppress(FrugalError):
                self._take_book(self.read_book())
        if again:
            self._arm()

    def _is_of_a_root(self, path: str) -> bool:
        """Return True if a folder that rules act in, or one above it, came or went."""
        if not any(is_inside(root.folder, path) for root in self.roots):
            return False
        is_there = _is_folder(path)
        known = {root.folder for root in self.roots} - self._missing
        changed = is_there != any(is_inside(folder, path) for folder in known) or path in self._missing
        # One that was made anew in the place of another is another folder.
        if path in {root.folder for root in self.roots}:
            self._all_at_ns = self.clock()
            return True
        if changed:
            self._all_at_ns = self.clock()
        return changed

    def _mark(self, event: Event, now_ns: int) -> None:
        # A folder that was made may hold something already.
        for folder in (event.folder, event.path):
            owner = owner_of(self.book, folder) if folder == event.folder or disk.isdir(folder) else None
            if owner is None or owner in self._missing:
                continue
            self._heard[event.path] = now_ns
            known = self._dirty.get(owner)
            self._dirty[owner] = _Dirty(now_ns if known is None else known.first_ns, now_ns)

    # What is to be done

    def due_in(self) -> float:
        """Return after how many seconds something is to be done, if nothing happens; at most a minute."""
        moments = [self._due_of(dirty) for dirty in self._dirty.values()]
        moments += [*self._later.values(), *([] if self._all_at_ns is None else [self._all_at_ns])]
        first = max(min(moments, default=self.clock() + LOOK_SECONDS * SECOND_NS), self._retry_ns)
        return min(max((first - self.clock()) / SECOND_NS, 0), LOOK_SECONDS)

    def _due_of(self, dirty: _Dirty) -> int:
        if len(self._heard) < _MANY:
            return dirty.first_ns + self._settle_ns
        return min(dirty.last_ns + self._settle_ns, dirty.first_ns + _PATIENCE * max(self._settle_ns, SECOND_NS))

    def act(self) -> bool:
        """Do what is due now, and return True if anything was.

        Raises:
            FrugalError: it cannot go on at all.
        """
        now_ns = self.clock()
        apart_ns = now_ns - self.running()
        if abs(apart_ns - self._apart_ns) > _JUMP_NS:
            # The machine slept, or its clock was set: what was told meanwhile, and what is due, is not known.
            self._apart_ns, self._all_at_ns = apart_ns, now_ns
            # What was noted by the clock as it was means nothing by this one.
            self._retry_ns = 0
            self._heard.clear()
            self._turns.clear()
        if now_ns < self._retry_ns:
            return False
        if self._all_at_ns is not None and self._all_at_ns <= now_ns:
            return self._visit(None, now_ns)
        due = {folder for folder, dirty in self._dirty.items() if self._due_of(dirty) <= now_ns}
        due |= {folder for folder, at_ns in self._later.items() if at_ns <= now_ns}
        return self._visit(frozenset(due), now_ns) if due else False

    def _visit(self, only: frozenset[str] | None, now_ns: int) -> bool:
        session = self.begin()
        try:
            plan = plan_rules(session, self.book, only=only)
            plan = self._leave_circling(plan, now_ns)
            plan, held = self._leave_fresh(plan, now_ns, only)
            session.narrowed(plan)
            if plan.asked:
                self.listener.planned(plan)
                result = carry_out(session, plan, self._on_step, self.stop)
                self.listener.done(plan, result)
            if self.once:
                self.listener.left(plan)
        except RefusedError as refused:
            # Another writer; what is due stays due.
            self._retry_ns = now_ns + _RETRY_NS
            self._say_refused(session, refused)
            return True
        except FrugalError as failed:
            # A full disk, for one: a person has to help, and until then it goes on trying.
            self._retry_ns = now_ns + _PAUSE_NS
            if failed.message != self._problem:
                self._problem = failed.message
                self.listener.note(f"{failed.text}; trying again every minute")
                if session.visiting is not None:
                    session.visiting.close(failed)
            return True
        self._forget(only, {**held_until(self.book, plan, now_ns), **held}, now_ns)
        self._retry_ns = now_ns + _GAP_NS
        self._close(session, plan, only)
        return True

    def _on_step(self, step: Step, mark: Mark) -> None:
        if step.verb in TAKING and step.was is not None and mark.now is not None:
            key = (mark.now.dev, mark.now.ino)
            self._turns.setdefault(key, []).append(self.clock())
        self.listener.step(step, mark)

    def _leave_circling(self, plan: Plan, now_ns: int) -> Plan:
        """Leave what was moved again and again: two rules, or two programs, hand it to each other."""
        self._turns = {
            key: moments for key, turns in self._turns.items() if (moments := [at for at in turns if now_ns - at < _TURNS_NS])
        }

        self._circling &= set(self._turns)

        def goes_round(step: Step) -> bool:
            return step.was is not None and len(self._turns.get((step.was.dev, step.was.ino), ())) >= _TURNS

        for step in filter(goes_round, plan.asked):
            key = (step.was.dev, step.was.ino) if step.was is not None else (0, 0)
            if key not in self._circling:
                self._circling.add(key)
                self.listener.note(f"{step.place.path} was moved {_TURNS} times within 10 minutes; leaving it alone")
        return leave_out(plan, goes_round, Why.CIRCLE(_TURNS))

    def _leave_fresh(self, plan: Plan, now_ns: int, only: frozenset[str] | None) -> tuple[Plan, dict[str, int]]:
        """Leave what something was heard of a moment ago; return the rest and, by folder, when the first of it may be taken."""
        settles = {rule.name: rule.settle for rule in self.book.rules}
        held: dict[str, int] = {}

        def is_fresh(step: Step) -> bool:
            if step.source is None or step.rule not in settles:
                return False
            path = step.source.path
            at_ns = self._heard.get(path)
            if step.was is not None and step.was.kind == "folder":
                at_ns = max((at for one, at in self._heard.items() if is_inside(one, path)), default=None)
            if only is None and not self.once:
                # There was no event for it: its status says when it came here, whatever date it carries.
                at_ns = max(at_ns or 0, _changed_ns(step.source, now_ns)) or None
            until_ns = 0 if at_ns is None else settles[step.rule].from_now(at_ns)
            if until_ns <= now_ns:
                return False
            held[step.source.folder] = min(until_ns, held.get(step.source.folder, until_ns))
            return True

        plan = leave_out(plan, is_fresh, Why.FRESH())
        longest = max((settle.seconds for settle in settles.values()), default=0) * SECOND_NS
        self._heard = {path: at_ns for path, at_ns in self._heard.items() if now_ns - at_ns < longest}
        return plan, held

    def _forget(self, only: frozenset[str] | None, held: Mapping[str, int], now_ns: int) -> None:
        """Note what was looked at, and when to look there again."""
        if only is None:
            self._dirty.clear()
            self._later.clear()
            self._all_at_ns = now_ns + (self.every_ns or self.rescan_ns)
        for folder in only or ():
            self._dirty.pop(folder, None)
            self._later.pop(folder, None)
        if self.every_ns:
            return
        moments: Mapping[str, int] = {}
        if is_dated(self.book):
            moments = earliest_changes(self.book, self.begin().world(), only)
        for folder in {*moments, *held}:
            at_ns = min(moments.get(folder, held.get(folder, 0)), held.get(folder, moments.get(folder, 0)))
            self._later[folder] = max(at_ns, now_ns) + (_GATHER_NS if folder not in held else 0)

    def _close(self, session: Session, plan: Plan, only: frozenset[str] | None) -> None:
        """Write down a look that found nothing only where all was looked at, or something is wrong."""
        problems: list[str] = [one.reason for one in plan.refused] + plan.problems
        problem = "; ".join(problems)
        if session.visiting is not None and (only is None or problem != self._problem):
            session.visiting.close(None)
        if problem != self._problem:
            # That a folder is missing was said when it went.
            for text in problems:
                if not any(text.startswith(folder) for folder in self._missing):
                    self.listener.note(text)
        self._problem = problem

    def _say_refused(self, session: Session, refused: RefusedError) -> None:
        if refused.message != self._problem:
            self._problem, self._refused_ns = refused.message, self.clock()
            self.listener.note(f"{refused.message}; trying again")
        elif session.visiting is not None and self.clock() - self._refused_ns > _LONG_NS:
            # No run should take this long: write it down, and tell the person in the settings.
            self._refused_ns = self.clock()
            session.visiting.close(refused)


def _changed_ns(place: Place, now_ns: int) -> int:
    """Return when an entry was last changed or moved, in ns; 0 where that is not known, or is in the future."""
    try:
        changed_ns = look(place).ctime_ns
    except OSError:
        return 0
    return changed_ns if changed_ns <= now_ns else 0


def _is_folder(path: str) -> bool:
    """Return True if a folder is there, and no link that must not be followed leads to it."""
    return disk.isdir(path) and slashed.unfollowed(path) is None


def _nearest(folder: str) -> str:
    """Return the nearest folder above one that is missing."""
    above = os.path.dirname(folder)
    while not _is_folder(above):
        above = os.path.dirname(above)
    return above


def _tells_nothing(folder: str) -> bool:
    """Return True if a folder is on a volume that others can change without this system hearing it."""
    return volume_of(disk.stat(folder).st_dev, folder).is_shared


def _folders_below(folder: str) -> int:
    count, left = 0, [folder]
    while left:
        count += 1
        with suppress(OSError), disk.scandir(left.pop()) as entries:
            left += [entry.path for entry in entries if entry.is_dir(follow_symlinks=False)]
    return count
