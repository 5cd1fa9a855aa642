"""Intents and outcomes: written before each change, read back after a crash."""

from __future__ import annotations

import json
import os
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from operator import attrgetter
from typing import TYPE_CHECKING, NamedTuple, cast

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import Identity
from frugal_sorter.filesystem.volumes import Seen, volumes_below
from frugal_sorter.journal.database import (
    COLUMNS,
    Counts,
    Database,
    Numbering,
    Run,
    RunState,
    Visit,
    decode,
    in_blocks,
    kinds,
    mentions,
    row_of,
    visit_of,
    with_done,
    write_block,
)
from frugal_sorter.platforms import accounts, disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Outcome, reason_of_record
from frugal_sorter.rules.units import DAY_NS, SECOND_NS, minute_text
from frugal_sorter.state import LastRun, is_count
from frugal_sorter.steps.kinds import ATTENDING, LASTING, VerbName
from frugal_sorter.steps.step import Mark, Step, Tally
from frugal_sorter.values import frozen, replace

if TYPE_CHECKING:
    from frugal_sorter.planning.plan import Plan


# A visit a week is usual, and no clock is set back by a day.
_LEAP_NS, _BACK_NS = 8 * DAY_NS, DAY_NS
_LATER_DAY_NS = DAY_NS // 2
# A job can come once a month, and no longer stretch is ever taken for usual.
_MONTH_NS = 35 * DAY_NS


@frozen
class Clock:
    """What is known of the clock of this machine.

    Args:
        believed_ns: the last moment that was believed.
        doubted_ns: the first moment since that was not; 0 for none.
        passed_ns: how much time has surely passed, counted from the first moment: what is forgotten by age follows it.
        is_set: a time server had set the clock at the last believed moment.
        is_monthly: visits were weeks apart and believed: a job that comes once a month.
    """

    believed_ns: int
    doubted_ns: int
    passed_ns: int
    is_set: bool
    is_monthly: bool = False


def heard(last: Clock, now_ns: int, is_set: bool, is_confirmed: bool) -> Clock:
    """Return what is known after the clock was looked at; it is doubted where `doubted_ns` is not 0.

    Args:
        last: what was known before.
        now_ns: what it says.
        is_set: whether a time server sets it.
        is_confirmed: a person says that it is right.
    """
    gap_ns = now_ns - last.believed_ns
    since_ns = now_ns - last.doubted_ns
    is_monthly = abs(last.doubted_ns - last.believed_ns) <= _MONTH_NS
    goes_on = last.doubted_ns > 0 and 0 <= since_ns <= (_MONTH_NS if is_monthly else _LEAP_NS)
    is_usual = -_BACK_NS <= gap_ns <= (_MONTH_NS if last.is_monthly else _LEAP_NS)
    is_second_day = goes_on and since_ns >= _LATER_DAY_NS
    if not (is_usual or is_second_day or is_confirmed or is_set):
        return replace(last, doubted_ns=last.doubted_ns if goes_on else now_ns)
    # Nobody saw the time of a leap pass, unless a person or a time server stands for both of its ends.
    passed_ns = gap_ns if is_usual or is_confirmed or (is_set and last.is_set) else since_ns if is_second_day else 0
    is_monthly = last.is_monthly or (is_second_day and since_ns > _LEAP_NS)
    return Clock(now_ns, 0, last.passed_ns + max(passed_ns, 0), is_set, is_monthly)


def doubt_text(clock: Clock) -> str:
    """Return why the clock is not believed; empty where it is."""
    if not clock.doubted_ns:
        return ""
    said, last = minute_text(clock.doubted_ns), minute_text(clock.believed_ns)
    return f"the clock says {said}, but the last run was at {last}"


FILE_NAME = "journal.sqlite"
# This many blocks are cached as they were read.
_KEPT_BLOCKS, _KEPT_MARKS = 32, 200_000
_LONGEST_SPAN = 100_000_000
# How much time has passed by now; where nobody looked at the clock, what it says.
_PASSED = "COALESCE((SELECT passed_ns FROM clock), ?)"
# A command within the hour need not write down that an hour has passed.
_WORTH_WRITING_NS = 3_600 * SECOND_NS
_UNNAMED = (
    "DELETE FROM folders WHERE id NOT IN (SELECT source_folder FROM touched WHERE source_folder IS NOT NULL"
    " UNION SELECT target_folder FROM touched WHERE target_folder IS NOT NULL)",
    "DELETE FROM rules WHERE id NOT IN (SELECT rule FROM touched)",
)
_TABLES_OF_RUNS = (("packs", "run"), ("marks", "run"), ("runs", "id"))
# Verbs whose steps are not taken back by an undo.
_STAYING = ATTENDING | LASTING
# The fields by which an entry is as it was before its step, except for its place.
_SAME = "="
# Beside the ends of the steps: the entries that a run changed, its steps that can be undone, and those of another run it undid.
_ENTRIES, _UNDOABLE, _TOOK = _SUMS = ("entries", "undoable", "took")
_MARK = "INSERT INTO marks (run, first, last, outcome, reason, code, now, data) VALUES (?, ?, ?, ?, ?, ?, ?, ?)"


class Block(NamedTuple):
    """Steps of a run that follow each other, each with its mark if it has one."""

    run: int
    began_ns: int
    backward: bool
    steps: list[tuple[Step, Mark | None]]


class Journal:
    """The journal of this user on this machine.

    Args:
        folder: the state folder.
        write: whether runs will be begun; a reader neither makes nor changes the file.

    Raises:
        StateError: it is damaged, from a newer version, or cannot be opened.
    """

    def __init__(self, folder: Path, write: bool) -> None:
        self._file = Database(folder / FILE_NAME, write)
        self._folder = folder
        self._folders = Numbering(self._file.connection, "folders", ("path",))
        self._rules = Numbering(self._file.connection, "rules", ("name", "key"))
        self._file.on_rollback += [self._folders.forget, self._rules.forget]
        # What was read: the last blocks, the marks of one run, and what of each run can be taken back.
        self._blocks: OrderedDict[int, list[Step]] = OrderedDict()
        self._marks: dict[int, dict[int, tuple[object, ...]]] = {}
        self._can_be_undone: dict[int, set[int]] = {}
        self._left: dict[int, set[int]] | None = None
        # The visit that runs are begun for; 0 for none.
        self.visit = 0
        # Why the clock is not believed; empty where it is.
        self.doubt, self._after_doubt_ns = "", 0

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def _forget_what_was_read(self) -> None:
        self._marks.clear()
        self._can_be_undone.clear()
        self._left = None

    # Writing

    def begin(self, plan: Plan, began_ns: int) -> int:
        """Write down every intent of a plan, durably, and return the number of the run.

        Raises:
            StateError: it cannot be written; then nothing may be changed.
        """
        volumes = json.dumps(volumes_below(_folders_of(plan.steps)))
        numbers = LastRun(self._folder)
        # Before the run is there: a command that finds the file and no open run has lost only one look.
        numbers.open_runs(True)
        self._forget_what_was_read()

        def begin() -> int:
            (last,) = self._file.connection.execute(
                "SELECT COALESCE(MAX(seq), 0) FROM sqlite_sequence WHERE name = 'runs'"
            ).fetchone()
            # Also where all runs were forgotten, or the journal was moved aside: `undo 7` never means another run.
            run = max(int(last), numbers.read()) + 1
            self._file.connection.execute(
                "INSERT INTO runs (id, kind, origin, undoes, backward, account, began_ns, state, token, volumes, visit,"
                f" passed_ns) VALUES (?, ?, ?, ?, ?, ?, ?, 'open', ?, ?, ?, {_PASSED})",
                (
                    run,
                    plan.kind,
                    os.fsencode(plan.origin),
                    plan.undoes,
                    self._backward(plan),
                    accounts.account_name(),
                    began_ns,
                    os.urandom(8).hex(),
                    volumes,
                    self.visit or None,
                    began_ns,
                ),
            )
            for steps in in_blocks(plan.steps):
                write_block(self._file.connection, run, steps, self._folders, self._rules)
            return run

        run = self._file.write(begin, True, "nothing was changed, because the run cannot be recorded")
        # Beside the journal, too: if that is moved aside, the next run still has a number that no other had.
        numbers.write(run)
        return run

    def _backward(self, plan: Plan) -> bool:
        """Return True if a plan takes entries back; the undo of an undo puts them where the rules did."""
        # Only one level is asked: the undo of an undo is forward again, like the run itself.
        row = self._file.connection.execute("SELECT backward FROM runs WHERE id = ?", (plan.undoes,)).fetchone()
        return row is not None and not row[0]

    def mark(self, run: int, marks: Sequence[Mark]) -> None:
        """Write down how steps ended; what was said of them before no longer holds.

        Raises:
            StateError: it cannot be written; the run must stop, and is recovered by the next.
        """
        self._mark(run, marks, durable=False)

    def note(self, run: int, mark: Mark, durable: bool = True) -> None:
        """Write down what a verb says before a point of no return.

        Args:
            run: the run.
            mark: what it says.
            durable: it must outlast a loss of power, rather than a kill alone.

        Raises:
            StateError: it cannot be written; then the verb must not go on.
        """
        self._mark(run, [mark], durable)

    def _mark(self, run: int, marks: Sequence[Mark], durable: bool) -> None:
        rows = [
            (
                run,
                mark.step,
                mark.step,
                mark.outcome,
                os.fsencode(mark.reason),
                mark.code,
                json.dumps(mark.now) if mark.now else None,
                json.dumps(mark.data) if mark.data else None,
            )
            for mark in marks
        ]
        self._write(_MARK, rows, durable)

    def mark_done(self, run: int, spans: Sequence[tuple[int, int, bool]]) -> None:
        """Write down that whole spans of steps were done, and left their entries as they were or took them away.

        Args:
            run: the run.
            spans: the first and the last step of each, and whether its entries are there.

        Raises:
            StateError: as `mark`.
        """
        rows = [(run, first, last, Outcome.DONE, b"", "", _SAME if there else None, None) for first, last, there in spans]
        self._write(_MARK, rows, durable=False)

    def close(self, run: int, state: RunState, ended_ns: int, counts: Counts, done: Tally) -> None:
        """Record that a run has ended, how, and with what results.

        Args:
            run: its number.
            state: how it ended.
            ended_ns: when.
            counts: how many of the steps that a person asked for had each outcome.
            done: what was done of it.
        """
        ends = {"" if outcome is None else str(int(outcome)): count for outcome, count in counts.items()}
        text = json.dumps({**ends, _ENTRIES: done.all.entries, **self._sums(run)})
        self._write("UPDATE runs SET state = ?, ended_ns = ?, counts = ? WHERE id = ?", [(state, ended_ns, text, run)], True)
        if not self._file.connection.execute("SELECT 1 FROM runs WHERE state = 'open' LIMIT 1").fetchone():
            LastRun(self._folder).open_runs(False)

    def recount(self, run: int) -> None:
        """Write down anew how much of a run can be undone: how its steps ended is known better than when it was closed."""
        (row,) = self._file.read("SELECT counts FROM runs WHERE id = ?", (run,))
        with self._file.sound():
            text = json.dumps({**json.loads(row[0] or "{}"), **self._sums(run)})
        self._write("UPDATE runs SET counts = ? WHERE id = ?", [(text, run)], True)

    def _sums(self, run: int) -> dict[str, int]:
        """Return how many steps of a run can be undone, and how many of another run these undid, for lists of all runs."""
        self._forget_what_was_read()
        undoable = self._undoable(run)
        ((undoes,),) = self._file.read("SELECT undoes FROM runs WHERE id = ?", (run,))
        theirs = self._undoable(undoes) if undoes else set()
        kinds = self._kinds(run)
        took = {of for first, _, taken in kinds for step, of in enumerate(taken, first) if of in theirs and step in undoable}
        return {_UNDOABLE: len(undoable), _TOOK: len(took)}

    def believe(self, now_ns: int, is_set: Callable[[], bool], is_confirmed: bool = False) -> None:
        """Note what the clock says, under the writer lock; `doubt` then says why it is not believed.

        Args:
            now_ns: the moment, in ns since the epoch.
            is_set: whether a time server sets the clock.
            is_confirmed: a person says that it is right.
        """
        rows = self._file.read("SELECT believed_ns, doubted_ns, passed_ns, is_set, is_monthly FROM clock")
        if is_new := not rows:
            (last,) = self._file.read("SELECT MAX(began_ns) FROM (SELECT began_ns FROM runs UNION SELECT began_ns FROM visits)")
            # Before the first visit a person may have set up a schedule, and has looked at the clock.
            set_up = (path.stat().st_mtime_ns for path in (self._folder / "schedules").glob("*.json"))
            last_ns = last[0] or max(set_up, default=now_ns)
            rows = [(last_ns, 0, last_ns, 0, 0)]
        before = Clock(*rows[0])
        if not (is_new or is_confirmed or before.doubted_ns or not 0 <= now_ns - before.believed_ns < _WORTH_WRITING_NS):
            return
        clock = heard(before, now_ns, is_set(), is_confirmed)
        self.doubt, self._after_doubt_ns = doubt_text(clock), clock.believed_ns + DAY_NS
        values = (clock.believed_ns, clock.doubted_ns, clock.passed_ns, clock.is_set, clock.is_monthly)
        self._file.write_all([("DELETE FROM clock", [()]), ("INSERT INTO clock VALUES (?, ?, ?, ?, ?)", [values])], False)

    def likely_ns(self, now_ns: int) -> int:
        """Return a moment that is no earlier than now, as far as anybody knows: a day after the last that was believed.

        What goes to the trash on a night with a wrong clock must not be permanently removed on the next.
        """
        return self._after_doubt_ns if self.doubt else now_ns

    def forget(self, keep_ns: int) -> list[int]:
        """Forget the runs and visits that ended long ago, and return the numbers of these runs.

        Runs with a step whose end is not known are kept, and runs that put something in a trash that is still there. The
        clock alone does not say how much time has passed since: see `believe`.

        Args:
            keep_ns: for how long runs are remembered.
        """
        rows = self._file.read("SELECT believed_ns, passed_ns FROM clock")
        if not rows or self.doubt:
            return []
        ((now_ns, passed_ns),) = rows
        before_ns = passed_ns - keep_ns
        old = self._file.read("SELECT id FROM runs WHERE ended_ns IS NOT NULL AND passed_ns < ? ORDER BY id", (before_ns,))
        gone = [run for (run,) in old if not self._is_needed(run)]
        ids = [(run,) for run in gone]
        self._forget_what_was_read()
        self._file.write_all(
            [
                ("INSERT OR IGNORE INTO forgotten VALUES (?, ?)", [(run, now_ns) for run in gone]),
                ("DELETE FROM touched WHERE pack IN (SELECT id FROM packs WHERE run = ?)", ids),
                *((f"DELETE FROM {table} WHERE {column} = ?", ids) for table, column in _TABLES_OF_RUNS),
                # The names of folders and rules that no run tells of any more.
                *((statement, [()] if gone else []) for statement in _UNNAMED),
                (
                    "DELETE FROM visits WHERE ended_ns IS NOT NULL AND passed_ns < ? AND id NOT IN"
                    " (SELECT visit FROM runs WHERE visit IS NOT NULL)",
                    [(before_ns,)],
                ),
            ],
            durable=bool(gone),
        )
        self._blocks.clear()
        self._folders.forget()
        self._rules.forget()
        return gone

    def waiting(self, name: str, paths: Iterable[str], now_ns: int) -> dict[str, int]:
        """Note what a schedule finds in use, and return since when it has found each of these so at every visit.

        Args:
            name: of the schedule.
            paths: everything in use now.
            now_ns: the moment, in ns since the epoch.
        """
        key = os.fsencode(name)
        known = dict(self._file.read("SELECT path, since_ns FROM waiting WHERE name = ?", (key,)))
        found = {path: int(known.get(os.fsencode(path), now_ns)) for path in paths}
        rows = [(key, os.fsencode(path), since_ns) for path, since_ns in found.items()]
        if known or rows:
            insert = ("INSERT INTO waiting VALUES (?, ?, ?)", rows)
            self._file.write_all([("DELETE FROM waiting WHERE name = ?", [(key,)]), insert], False)
        return found

    # Visits

    def record(self, visit: Visit) -> int:
        """Write down a visit, or that one that is written down has ended, and return its number.

        One of an unattended driver that found nothing, as the one before it did, is counted there.

        Raises:
            StateError: it cannot be written.
        """
        marks, names = ", ".join("?" * len(row_of(visit))), ", ".join(f"{name} = ?" for name in COLUMNS.split(", "))

        def work() -> int:
            db, number, found = self._file.connection, visit.id, visit
            if not number and visit.driver != "person":
                last = self._last_visit(visit)
                if last is not None and last.is_like(visit):
                    number, found = last.id, last.again(visit)
            if number:
                db.execute(
                    f"UPDATE visits SET {names}, passed_ns = {_PASSED} WHERE id = ?", (*row_of(found), found.began_ns, number)
                )
                return number
            done = db.execute(
                f"INSERT INTO visits ({COLUMNS}, passed_ns) VALUES ({marks}, {_PASSED})", (*row_of(found), found.began_ns)
            )
            return int(done.lastrowid or 0)

        return self._file.write(work, False, "cannot record this run")

    def credit(self, run: int, done: Tally) -> None:
        """Write down for the visit of a run that was interrupted what was done all the same."""
        for visit in self.visits():
            if run in visit.runs:
                self.record(with_done(visit, done))

    def _last_visit(self, visit: Visit) -> Visit | None:
        row = self._file.connection.execute(
            f"SELECT id, {COLUMNS} FROM visits WHERE driver = ? AND name = ? ORDER BY id DESC LIMIT 1",
            (visit.driver, os.fsencode(visit.name)),
        ).fetchone()
        return None if row is None else visit_of(row, ())

    def interrupt_visits(self) -> None:
        """Record the visits that were begun and not ended as interrupted: the writer lock is held."""
        if self._file.read("SELECT 1 FROM visits WHERE outcome = 'running' LIMIT 1"):
            self._write("UPDATE visits SET outcome = 'interrupted' WHERE outcome = ?", [("running",)], False)

    def visits(self, name: str | None = None, since_ns: int | None = None) -> list[Visit]:
        """Return the visits, the oldest first.

        Args:
            name: of a schedule or a watcher, or an account; None for all.
            since_ns: only those that ended, or run, at or after this moment.

        Raises:
            StateError: the journal is damaged.
        """
        runs: dict[int, list[int]] = {}
        for run, visit in self._file.read("SELECT id, visit FROM runs WHERE visit IS NOT NULL ORDER BY id"):
            runs.setdefault(visit, []).append(run)
        with self._file.sound():
            found = [
                visit_of(row, runs.get(row[0], ())) for row in self._file.read(f"SELECT id, {COLUMNS} FROM visits ORDER BY id")
            ]
        return [
            one
            for one in found
            if (name is None or one.by == name) and (since_ns is None or one.ended_ns is None or one.ended_ns >= since_ns)
        ]

    def _is_needed(self, run: int) -> bool:
        for step, mark in self.steps(run):
            if mark is None or mark.outcome in (Outcome.OPEN, Outcome.NOTED):
                return True
            trashed = step.verb == "trash" and mark.outcome == Outcome.DONE and step.target is not None
            # Nobody but this run knows where the entry came from, should its info file be lost.
            if trashed and step.target is not None and disk.lexists(step.target.path):
                return True
        return False

    def _write(self, statement: str, rows: Sequence[Sequence[object]], durable: bool) -> None:
        if rows:
            self._forget_what_was_read()
            self._file.write_all([(statement, rows)], durable)

    # Reading

    def numbers(self) -> list[int]:
        """Return the numbers of all runs, the oldest first."""
        return [run for (run,) in self._file.read("SELECT id FROM runs ORDER BY id")]

    def undos(self) -> dict[int, int]:
        """Return, for each run that took another one back, which one, the oldest first."""
        return dict(self._file.read("SELECT id, undoes FROM runs WHERE undoes IS NOT NULL ORDER BY id"))

    def runs(self) -> list[Run]:
        """Return all runs, the oldest first.

        What was undone of each is read from the steps of those that undid it, unless one undo undid all: that their counts say.
        """
        rows = self._file.read(
            "SELECT id, kind, origin, undoes, account, began_ns, ended_ns, state, token, volumes, counts FROM runs"
            " ORDER BY id DESC"
        )
        undoing: dict[int, list[int]] = {}
        for number, _, _, undoes, *_ in rows:
            if undoes is not None:
                undoing.setdefault(undoes, []).append(number)
        with self._file.sound():
            sums = {row[0]: _sums_of(row[-1]) for row in rows if row[-1] is not None}
        whole = {run for run in undoing if _is_whole(run, undoing, sums)}
        left: dict[int, set[int]] = {}
        runs: list[Run] = []
        # What undid a run is younger than it, so that is known by the time the run is met.
        for number, kind, origin, undoes, account, began, ended, state, token, volumes, _ in rows:
            with self._file.sound():
                seen = tuple(Seen(*volume) for volume in json.loads(volumes))
                origin = os.fsdecode(origin)
                account = account if isinstance(account, str) else os.fsdecode(account)
                if undoes is not None and not undoes < number:
                    raise ValueError(f"run {number} undoes run {undoes}")
            undone, taken, undoable = None, 0, sums.get(number, (0, 0))[0]
            if number in whole:
                left[number], undone, taken = set(), undoing[number][0], undoable
            elif number in undoing or (undoes is not None and undoes not in whole):
                left[number] = self._left_of(number, undoing.get(number, ()), left)
            if number in undoing and number not in whole:
                undoable = len(self._undoable(number))
                taken = undoable - len(left[number])
                undone = undoing[number][0] if taken and not left[number] else None
            # From the youngest down, as the rows come; turned round at the end.
            runs.append(Run(number, kind, origin, undoes, undone, account, began, ended, state, token, seen, taken, undoable))
        self._left = left
        return runs[::-1]

    def may_be_undone(self, run: int) -> bool:
        """Return True if a run, which may not have ended, was about anything that can be taken back."""
        return any(verb not in _STAYING for _, verbs, _ in self._kinds(run) for verb in verbs)

    def can_be_undone(self, run: int) -> bool:
        """Return True if something done in a run can be taken back: what was permanently removed from the trash cannot."""
        return any(
            step.verb not in _STAYING
            and mark is not None
            and mark.outcome == Outcome.DONE
            and (step.verb != "trash" or step.target is None or disk.lexists(step.target.path))
            for step, mark in self.steps(run)
        )

    def left_to_undo(self, run: Run) -> int:
        """Return how many steps of a run were done and can still be undone."""
        # A run without an end, or of an older version, has no sums.
        return (run.undoable or len(self._undoable(run.id))) - run.taken_back

    def _undoable(self, run: int) -> set[int]:
        """Return the steps of a run that were done and can be taken back."""
        if run not in self._can_be_undone:
            done = {step for step, mark in self._marks_of(run).items() if mark[0] == Outcome.DONE}
            for first, verbs, _ in self._kinds(run):
                if _STAYING.isdisjoint(verbs):
                    continue
                done.difference_update(step for step, verb in enumerate(verbs, first) if verb in _STAYING)
            self._can_be_undone[run] = done
        return self._can_be_undone[run]

    def _kinds(self, run: int) -> Iterator[tuple[int, list[VerbName], Sequence[int]]]:
        """Yield of each block of a run its first step, the verbs of its steps, and the steps that these take back."""
        # One after the other: most who ask stop at the first, and all blocks of a large run would be held at once.
        for number, first in self._file.read("SELECT id, first FROM packs WHERE run = ? ORDER BY id", (run,)):
            # None where another process has forgotten the run meanwhile.
            for (blob,) in self._file.read("SELECT steps FROM packs WHERE id = ?", (number,)):
                with self._file.sound():
                    first, (verbs, of) = int(first), kinds(blob)
                yield first, verbs, of

    def _left_of(self, run: int, undoing: Sequence[int], left: Mapping[int, set[int]]) -> set[int]:
        """Return the steps of a run that no undo has taken back, or that were redone since.

        Args:
            run: its number.
            undoing: the runs that took steps of it back.
            left: what is left of each of those; an undo that was itself taken back took nothing back.
        """
        # By step, not by run: an undo can be of a part, and can itself be taken back in part.
        found = set(self._undoable(run))
        for undo in undoing:
            for first, _, taken in self._kinds(undo):
                found.difference_update(of for step, of in enumerate(taken, first) if step in left[undo])
        return found

    def taken_back(self, run: int) -> set[int]:
        """Return the steps of a run that were taken back and not done again since."""
        if self._left is None:
            self.runs()
        assert self._left is not None
        return set(self._undoable(run)) - self._left[run] if run in self._left else set()

    def is_first_of_kind(self, run: int) -> bool:
        """Return True if no run before this one was by the same command."""
        rows = self._file.read("SELECT 1 FROM runs WHERE id < ? AND kind = (SELECT kind FROM runs WHERE id = ?)", (run, run))
        return not rows

    def run(self, number: int) -> Run:
        """Return one run.

        Raises:
            UsageError: there is no such run.
        """
        # All runs are read, since what took this one back is among the others.
        for run in self.runs():
            if run.id == number:
                return run
        for (at_ns,) in self._file.read("SELECT at_ns FROM forgotten WHERE run = ?", (number,)):
            raise UsageError(
                f"run {number} was forgotten on {minute_text(at_ns)}", "`keep_days` in the settings says how long runs are kept"
            )
        raise UsageError(f"run {number} does not exist", "`frugal history` lists them")

    def token(self, number: int) -> str:
        """Return what makes the private names of a run its own."""
        return cast(str, self._file.read("SELECT token FROM runs WHERE id = ?", (number,))[0][0])

    def interrupted_runs(self) -> list[Run]:
        """Return the runs that were begun and have not ended."""
        # Asked by each command that changes files; mostly there is none, and then nothing needs to be read of any.
        if not self._file.read("SELECT 1 FROM runs WHERE state = 'open' LIMIT 1"):
            return []
        return [run for run in self.runs() if run.state == "open"]

    def counts(self, run: int) -> Counts:
        """Return how many steps of a run had each outcome; None is for those without a mark."""
        (row,) = self._file.read("SELECT counts FROM runs WHERE id = ?", (run,)) or [(None,)]
        # Written down at the end; only a run without an end has its steps counted.
        if row[0] is not None:
            with self._file.sound():
                ends = json.loads(row[0])
                return {Outcome(int(key)) if key else None: int(count) for key, count in ends.items() if key not in _SUMS}
        return Counter(mark and mark.outcome for step, mark in self.steps(run) if step.verb not in ATTENDING)

    def entries(self, run: int) -> int | None:
        """Return how many entries a run changed; None where it has not ended, or was written down in an older form."""
        (row,) = self._file.read("SELECT counts FROM runs WHERE id = ?", (run,)) or [(None,)]
        with self._file.sound():
            return None if row[0] is None else json.loads(row[0]).get(_ENTRIES)

    def steps(self, run: int) -> Iterator[tuple[Step, Mark | None]]:
        """Yield the steps of a run in order, each with its mark, if it has one."""
        for block in self._find("packs.run = ? ORDER BY packs.id", (run,)):
            yield from block.steps

    def steps_backward(self, run: int) -> Iterator[tuple[Step, Mark | None]]:
        """Yield the steps of a run as `steps` does, the last one first; only one block of them is held."""
        for block in self._find("packs.run = ? ORDER BY packs.id DESC", (run,)):
            yield from reversed(block.steps)

    def blocks_into(self, folder: str) -> Iterator[Block]:
        """Yield the blocks with the steps whose target is in a folder, the last first; those of undos aside."""
        return self._touching("target", folder, "AND NOT runs.backward ORDER BY packs.id DESC")

    def blocks_out_of(self, folder: str) -> Iterator[Block]:
        """Yield the blocks with the steps whose entry was in a folder, the last first; those of undos aside."""
        return self._touching("source", folder, "AND NOT runs.backward ORDER BY packs.id DESC")

    def blocks_out_of_after(self, folder: str, run: int) -> Iterator[Block]:
        """Yield the blocks of runs after one with the steps whose entry was in a folder, the first one first."""
        return self._touching("source", folder, "AND packs.run > ? ORDER BY packs.id", run)

    def all_blocks_into(self, folder: str) -> Iterator[Block]:
        """Yield the blocks with the steps whose target is in a folder, the first one first, those of undos too."""
        return self._touching("target", folder, "ORDER BY packs.id")

    def blocks_back_into(self, folder: str) -> Iterator[Block]:
        """Yield the blocks of undos with the steps whose target is in a folder, the first one first."""
        return self._touching("target", folder, "AND runs.backward ORDER BY packs.id")

    def blocks_with(self, verb: VerbName, backward: bool = False) -> Iterator[Block]:
        """Yield the blocks with the steps of a verb, the first one first; of undos alone, if these are asked for."""
        where = "packs.id IN (SELECT pack FROM touched WHERE verb = ?) AND runs.backward >= ? ORDER BY packs.id"
        return self._find(where, (verb, backward), only=lambda step: step.verb == verb)

    def blocks_naming(self, name: str) -> Iterator[Block]:
        """Yield the blocks that may be about an entry of some name, the first one first."""
        return self._find("1 ORDER BY packs.id", (), name)

    def _touching(self, side: str, folder: str, more: str, *values: object) -> Iterator[Block]:
        # A folder that no step was ever about has no number, and no block to be read.
        rows = self._file.read("SELECT id FROM folders WHERE path = ?", (os.fsencode(folder),))
        if rows:
            having, place = f"packs.id IN (SELECT pack FROM touched WHERE {side}_folder = ?)", attrgetter(side)
            yield from self._find(
                f"{having} {more}",
                (rows[0][0], *values),
                only=lambda step: (at := place(step)) is not None and at.folder == folder,
            )

    def _find(
        self, where: str, values: Sequence[object], name: str = "", only: Callable[[Step], bool] = lambda _: True
    ) -> Iterator[Block]:
        rows = self._file.read(
            "SELECT packs.id, packs.run, packs.first, packs.steps, runs.began_ns, runs.backward"
            f" FROM packs JOIN runs ON runs.id = packs.run WHERE {where}",
            values,
        )
        marks_of: tuple[int, dict[int, tuple[object, ...]]] = 0, {}
        for number, run, first, blob, began_ns, backward in rows:
            with self._file.sound():
                # Before it is parsed: few blocks have the name.
                if name and not mentions(blob, name):
                    continue
                steps = self._steps(number, first, blob)
                # Held here, since who asks may ask of other runs in between.
                if marks_of[0] != run:
                    marks_of = run, self._marks_of(run)
                marks = marks_of[1]
                ended = [(step, _mark_of(step, marks.get(step.id))) for step in steps if only(step)]
            yield Block(run, began_ns, bool(backward), ended)

    def folders_written(self, rule_keys: Sequence[str]) -> frozenset[str]:
        """Return the folders that some rules have moved entries into, or would have."""
        marks = ", ".join("?" * len(rule_keys))
        rows = self._file.read(
            "SELECT DISTINCT folders.path FROM rules JOIN touched ON touched.rule = rules.id"
            " JOIN packs ON packs.id = touched.pack JOIN runs ON runs.id = packs.run"
            f" JOIN folders ON folders.id = touched.target_folder WHERE rules.key IN ({marks}) AND NOT runs.backward",
            rule_keys,
        )
        return frozenset(os.fsdecode(path) for (path,) in rows)

    def _steps(self, number: int, first: int, blob: bytes) -> list[Step]:
        # Several questions are asked of one run in a row: it is parsed once for them.
        if number not in self._blocks:
            self._blocks[number] = decode(blob, first, self._folders.values_of, self._rules.values_of)
            while len(self._blocks) > _KEPT_BLOCKS:
                self._blocks.popitem(last=False)
        self._blocks.move_to_end(number)
        return self._blocks[number]

    def _marks_of(self, run: int) -> dict[int, tuple[object, ...]]:
        if run not in self._marks:
            marks = dict[int, tuple[object, ...]]()
            # The last word on a step holds.
            for first, last, *mark in self._file.read(
                "SELECT first, last, outcome, reason, code, now, data FROM marks WHERE run = ? ORDER BY id", (run,)
            ):
                # A damaged number must not become a table of a billion entries.
                if last - first > _LONGEST_SPAN:
                    raise ValueError(f"a mark of {last - first:,} steps")
                marks.update(dict.fromkeys(range(first, last + 1), tuple(mark)))
            # A folder asks of several runs in turn; those of a run of a million stay in memory alone.
            self._marks[run] = marks
            while len(self._marks) > 1 and sum(map(len, self._marks.values())) > _KEPT_MARKS:
                del self._marks[next(iter(self._marks))]
        return self._marks[run]


def _sums_of(counts: str) -> tuple[int, int]:
    """Return how many steps of a run can be undone, and how many of another run it undid; 0 where an older version wrote it."""
    found = json.loads(counts)
    undoable, took = found.get(_UNDOABLE, 0), found.get(_TOOK, 0)
    if not is_count(undoable) or not is_count(took):
        raise ValueError("the sums of a run are not counts")
    return undoable, took


def _is_whole(run: int, undoing: Mapping[int, Sequence[int]], sums: Mapping[int, tuple[int, int]]) -> bool:
    """Return True if one undo undid all of a run that can be undone, and nothing of that undo was undone since."""
    (undo, *more) = undoing[run]
    undoable, took = sums.get(run, (0, 0))[0], sums.get(undo, (0, 0))[1]
    return not more and undo not in undoing and 0 < undoable == took


def _folders_of(steps: Sequence[Step]) -> Iterator[str]:
    """Yield the folders that some steps are about."""
    last = ""
    for step in steps:
        for place in (step.source, step.target, step.witness and step.witness.place):
            if place is not None and place[0] != last:
                last = place[0]
                yield last
        for member in step.details.get("members", ()) if step.details else ():
            yield os.path.dirname(member["path"])


def _mark_of(step: Step, row: tuple[object, ...] | None) -> Mark | None:
    if row is None:
        return None
    outcome, reason, code, now, data = row
    found = step.was if now == _SAME else Identity(*json.loads(cast(str, now))) if now else None
    known = json.loads(cast(str, data)) if data else None
    ended, text = Outcome(cast(int, outcome)), os.fsdecode(cast(bytes, reason))
    return Mark(step.id, ended, reason_of_record(text, str(code), ended) if text else "", found, known)
