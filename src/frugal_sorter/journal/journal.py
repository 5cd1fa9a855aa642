"""What was intended and what was done, in SQLite: written before the first change of a run.

Guarantee: when `begin` has returned, every step of the run is on the disk with all that is needed
to find out later whether it was done, and to take it back; when `note` has returned, what a verb
says before a point of no return is on the disk, too. Limit: marks of steps are written in batches
and not waited for, since their outcome can be read off the disk; after a kill some of them are
missing until the run is settled.
"""

from __future__ import annotations

import json
import os
import pwd
import secrets
import sqlite3
import zlib
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeVar, cast

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.filesystem.record import Identity, is_inside
from frugal_sorter.filesystem.volumes import Seen, volumes_below
from frugal_sorter.journal.blocks import in_packs, mentions, unpack
from frugal_sorter.journal.schema import SCHEMA, TABLES, Folders, Rules, numbers_of, write_pack
from frugal_sorter.planning.plan import Plan
from frugal_sorter.state.last_run import LastRun
from frugal_sorter.state.reserve import Reserve
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.kinds import ATTENDING, FINAL
from frugal_sorter.steps.step import Step

FILE_NAME = "journal.sqlite"
# So many packs are kept as they were read, for the next who asks.
_KEPT_PACKS = 32
_LONGEST_SPAN = 100_000_000
_DAY_NS = 86_400_000_000_000
# A clock is believed when there were runs on so many days by it.
_SURE_DAYS = 3
_TABLES_OF_RUNS = (("packs", "run"), ("marks", "run"), ("runs", "id"))
# What a damaged row can raise when it is taken apart.
DAMAGED = (
    ValueError, TypeError, AttributeError, KeyError, IndexError, OverflowError, RecursionError, zlib.error, MemoryError,
)  # fmt: skip
# What says that an entry is as it was before its step, but for its place.
_SAME = "="
_MARK = "INSERT INTO marks (run, first, last, outcome, reason, now, data) VALUES (?, ?, ?, ?, ?, ?, ?)"
Done = TypeVar("Done")
RunState = Literal["open", "done", "stopped", "interrupted"]
Counts = Mapping[Outcome | None, int]


@dataclass(frozen=True, slots=True)
class Run:
    """One carried-out plan.

    Args:
        undone_by: the undo that took back the last of it; None where something of it is left to take back.
        taken_back: how many of its steps have been taken back.
        undoable: how many of its steps were done and can be, or have been, taken back.
        began_ns: when it began, in ns since the epoch.
        ended_ns: when it ended.
        token: what makes its private names its own.
        volumes: those that it works on.
    """

    id: int
    kind: str
    origin: str
    undoes: int | None
    undone_by: int | None
    account: str
    began_ns: int
    ended_ns: int | None
    state: RunState
    token: str = ""
    volumes: tuple[Seen, ...] = ()
    taken_back: int = 0
    undoable: int = 0

    def away(self, path: str) -> str:
        """Return where the volume of a path is mounted when it is there, if it is not there now; else an empty text."""
        on = [volume for volume in self.volumes if is_inside(path, volume.top)]
        if not on:
            return ""
        nearest = max(on, key=lambda volume: len(volume.top))
        return "" if nearest.is_here() else nearest.top


class Pack(NamedTuple):
    """Some steps of a run that follow each other, each with its mark if it has one."""

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
        self.path = folder / FILE_NAME
        self._reserve = Reserve(folder) if write else None
        self._packs: OrderedDict[int, list[Step]] = OrderedDict()
        self._marks: dict[int, dict[int, tuple[object, ...]]] = {}
        self._can_be_undone: dict[int, frozenset[int]] = {}
        try:
            self._db = self._with_room(lambda: self._connect(write))
        except sqlite3.OperationalError as error:
            raise StateError(
                f"{self.path}: the journal cannot be opened ({error})", "free disk space, or fix its permissions"
            ) from error
        except (sqlite3.DatabaseError, *DAMAGED) as error:
            raise self._damaged(error) from error
        self._numbers = numbers_of(self._db)
        self._folders, self._rules = Folders(self._db), Rules(self._db)

    def _with_room(self, work: Callable[[], Done]) -> Done:
        """Do some work with the database; if the disk is full, once more with the room that was kept."""
        try:
            return work()
        except (sqlite3.OperationalError, OSError):
            if self._reserve is None or not self._reserve.release():
                raise
            return work()

    def _connect(self, write: bool) -> sqlite3.Connection:
        if self.path.is_symlink() or (self.path.exists() and not self.path.is_file()):
            raise StateError(f"{self.path}: this is no file", "move it aside to start a new journal")
        fresh = not self.path.exists()
        if fresh and not write:
            db = sqlite3.connect(":memory:", isolation_level=None)
        else:
            if fresh:
                os.close(os.open(self.path, os.O_CREAT | os.O_WRONLY | os.O_CLOEXEC, 0o600))
            db = sqlite3.connect(self.path, isolation_level=None, timeout=10)
        try:
            if not (fresh and not write):
                db = self._in_wal_mode(db, write)
            self._refuse_other_forms(db)
        except BaseException:
            db.close()
            raise
        return db

    def _in_wal_mode(self, db: sqlite3.Connection, write: bool) -> sqlite3.Connection:
        try:
            db.execute("PRAGMA journal_mode = WAL")
        except sqlite3.OperationalError:
            if write or Path(f"{self.path}-wal").exists():
                raise
            db.close()
            # Reading, too, makes files beside the journal; on a full disk it must do without.
            return sqlite3.connect(f"{self.path.as_uri()}?immutable=1", isolation_level=None, uri=True)
        return db

    def _refuse_other_forms(self, db: sqlite3.Connection) -> None:
        """Make the tables of a new journal, and see that an older one has just these.

        Raises:
            StateError: it is of an older or a newer form.
        """
        version = db.execute("PRAGMA user_version").fetchone()[0]
        if version == 0:
            db.executescript(f"BEGIN; {TABLES} PRAGMA user_version = {SCHEMA}; COMMIT;")
        elif version > SCHEMA:
            raise StateError(
                f"{self.path}: the journal is of a newer version ({version}; this one knows {SCHEMA})",
                "install that version of frugal-sorter again",
            )
        elif version < SCHEMA:
            raise StateError(
                f"{self.path}: the journal is of an older form ({version}; this one knows {SCHEMA})",
                "move it aside to start a new one; what it holds can then not be undone",
            )

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self._db.close()
        if self._reserve is not None:
            self._reserve.keep()

    # Writing

    def begin(self, plan: Plan, began_ns: int) -> int:
        """Write down every intent of a plan, durably, and return the number of the run.

        Raises:
            StateError: it cannot be written; then nothing may be changed.
        """
        try:
            return self._with_room(lambda: self._begin(plan, began_ns))
        except (sqlite3.Error, ValueError) as error:
            raise StateError(
                f"{self.path}: the run cannot be written down ({error}), so nothing was changed",
                "free disk space there",
            ) from error

    def _begin(self, plan: Plan, began_ns: int) -> int:
        account = pwd.getpwuid(os.geteuid()).pw_name if _has_account() else str(os.geteuid())
        volumes = json.dumps(volumes_below(_folders_of(plan.steps)))
        numbers = LastRun(self.path.parent)
        numbers.open_runs(True)
        with self._transaction(durable=True):
            (last,) = self._db.execute(
                "SELECT COALESCE(MAX(seq), 0) FROM sqlite_sequence WHERE name = 'runs'"
            ).fetchone()
            run = max(last, numbers.read()) + 1
            self._db.execute(
                "INSERT INTO runs (id, kind, origin, undoes, backward, account, began_ns, state, token, volumes)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, 'open', ?, ?)",
                (
                    run, plan.kind, os.fsencode(plan.origin), plan.undoes, self._backward(plan), account, began_ns,
                    secrets.token_hex(8), volumes,
                ),
            )  # fmt: skip
            for steps in in_packs(plan.steps):
                write_pack(self._db, run, steps, *self._numbers)
        numbers.write(run)
        return cast(int, run)

    @contextmanager
    def _transaction(self, durable: bool) -> Iterator[None]:
        """Write all or nothing.

        Args:
            durable: it is on the disk when the block is left; else a loss of power can take it back.
        """
        self._marks.clear()
        self._can_be_undone.clear()
        self._db.execute(f"PRAGMA synchronous = {'FULL' if durable else 'NORMAL'}")
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._db.execute("COMMIT")
        except BaseException:
            # Numbers that were given to folders and rules go with the rest.
            for numbers in self._numbers:
                numbers.clear()
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

    def _backward(self, plan: Plan) -> bool:
        """Tell whether a plan takes entries back; the undo of an undo puts them where the rules did."""
        row = self._db.execute("SELECT backward FROM runs WHERE id = ?", (plan.undoes,)).fetchone()
        return row is not None and not row[0]

    def mark(self, run: int, marks: Sequence[Mark]) -> None:
        """Write down how steps ended; what was said of them before no longer holds.

        Raises:
            StateError: it cannot be written; the run must stop, and is settled by the next.
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
                run, mark.step, mark.step, mark.outcome, os.fsencode(mark.reason),
                json.dumps(mark.now) if mark.now else None, json.dumps(mark.data) if mark.data else None,
            )
            for mark in marks
        ]  # fmt: skip
        self._write(_MARK, rows, durable)

    def mark_done(self, run: int, spans: Sequence[tuple[int, int, bool]]) -> None:
        """Write down that whole spans of steps were done, and left their entries as they were or took them away.

        Args:
            run: the run.
            spans: the first and the last step of each, and whether its entries are there.

        Raises:
            StateError: as `mark`.
        """
        rows = [(run, first, last, Outcome.DONE, b"", _SAME if there else None, None) for first, last, there in spans]
        self._write(_MARK, rows, durable=False)

    def close(self, run: int, state: RunState, ended_ns: int, counts: Counts) -> None:
        """Say that a run has ended, how, and how many steps that a person asked for ended in which way."""
        text = json.dumps({"" if outcome is None else str(int(outcome)): count for outcome, count in counts.items()})
        self._write(
            "UPDATE runs SET state = ?, ended_ns = ?, counts = ? WHERE id = ?", [(state, ended_ns, text, run)], True
        )
        if not self._db.execute("SELECT 1 FROM runs WHERE state = 'open' LIMIT 1").fetchone():
            LastRun(self.path.parent).open_runs(False)

    def forget(self, now_ns: int, keep_ns: int) -> int:
        """Forget the runs that ended long ago, and return how many.

        Kept are those whose ends are not all known, and those of which something still lies in a trash. What day it
        is, the clock alone does not say: age is counted from the last day but two on which there was a run.

        Args:
            now_ns: the moment, in ns since the epoch.
            keep_ns: for how long runs are remembered.
        """
        runs = self.runs()
        days = sorted({now_ns // _DAY_NS, *(run.began_ns // _DAY_NS for run in runs if run.began_ns <= now_ns)})
        before_ns = min(now_ns, (days[-min(len(days), _SURE_DAYS)] + 1) * _DAY_NS) - keep_ns
        old = [run for run in runs if run.ended_ns is not None and run.ended_ns < before_ns]
        gone = [(run.id,) for run in old if not self._is_needed(run.id)]
        if gone:
            self._write_all([
                ("DELETE FROM touched WHERE pack IN (SELECT id FROM packs WHERE run = ?)", gone),
                *((f"DELETE FROM {table} WHERE {column} = ?", gone) for table, column in _TABLES_OF_RUNS),
            ])  # fmt: skip
            self._packs.clear()
        return len(gone)

    def _is_needed(self, run: int) -> bool:
        for step, mark in self.steps(run):
            if mark is None or mark.outcome in (Outcome.OPEN, Outcome.NOTED):
                return True
            trashed = step.verb == "trash" and mark.outcome == Outcome.DONE and step.target is not None
            if trashed and step.target is not None and os.path.lexists(step.target.path):
                return True
        return False

    def _write(self, statement: str, rows: Sequence[Sequence[object]], durable: bool) -> None:
        if rows:
            self._write_all([(statement, rows)], durable)

    def _write_all(self, statements: Sequence[tuple[str, Sequence[Sequence[object]]]], durable: bool = True) -> None:
        def write() -> None:
            with self._transaction(durable):
                for statement, rows in statements:
                    self._db.executemany(statement, rows)

        try:
            self._with_room(write)
        except (sqlite3.Error, ValueError) as error:
            raise StateError(
                f"{self.path}: the journal cannot be written ({error})", "free disk space there"
            ) from error

    # Reading

    def runs(self) -> list[Run]:
        """Return all runs, the oldest first."""
        rows = self._read(
            "SELECT id, kind, origin, undoes, account, began_ns, ended_ns, state, token, volumes FROM runs"
            " ORDER BY id DESC"
        )
        undoing: dict[int, list[int]] = {}
        left: dict[int, set[int]] = {}
        runs: list[Run] = []
        # What took a run back is younger than it, so that is known by the time the run is met.
        for number, kind, origin, undoes, account, began, ended, state, token, volumes in rows:
            with self._sound():
                seen = tuple(Seen(*volume) for volume in json.loads(volumes))
                origin = os.fsdecode(origin)
                account = account if isinstance(account, str) else os.fsdecode(account)
                if undoes is not None and not undoes < number:
                    raise ValueError(f"run {number} takes back run {undoes}")
            undone, taken, undoable = None, 0, 0
            if undoes is not None or number in undoing:
                left[number] = self._left_of(number, undoing.get(number, ()), left)
            if undoes is not None:
                undoing.setdefault(undoes, []).append(number)
            if number in undoing:
                undoable = len(self._undoable(number))
                taken = undoable - len(left[number])
                undone = undoing[number][0] if taken and not left[number] else None
            runs.append(
                Run(number, kind, origin, undoes, undone, account, began, ended, state, token, seen, taken, undoable)
            )
        return runs[::-1]

    def can_be_undone(self, run: int) -> bool:
        """Tell whether something was done in a run that can be taken back at all."""
        return bool(self._undoable(run))

    def _undoable(self, run: int) -> frozenset[int]:
        """Return the steps of a run that were done and can be taken back."""
        if run not in self._can_be_undone:
            self._can_be_undone[run] = frozenset(
                step.id for step, mark in self.steps(run)
                if mark is not None and mark.outcome == Outcome.DONE
                and step.verb not in ATTENDING and step.verb not in FINAL and step.verb != "run"
            )  # fmt: skip
        return self._can_be_undone[run]

    def _left_of(self, run: int, undoing: Sequence[int], left: Mapping[int, set[int]]) -> set[int]:
        """Return the steps of a run that no undo has taken back, or that were done again after all since.

        Args:
            run: its number.
            undoing: the runs that took steps of it back.
            left: what is left of each of those; an undo that was itself taken back took nothing back.
        """
        found = set(self._undoable(run))
        for undo in undoing:
            found -= {step.of for step, _ in self.steps(undo) if step.id in left[undo]}
        return found

    def run(self, number: int) -> Run:
        """Return one run.

        Raises:
            UsageError: there is no such run.
        """
        for run in self.runs():
            if run.id == number:
                return run
        raise UsageError(f"there is no run {number}", "`frugal history` lists them")

    def token(self, number: int) -> str:
        """Return what makes the private names of a run its own."""
        return cast(str, self._read("SELECT token FROM runs WHERE id = ?", (number,))[0][0])

    def unsettled(self) -> list[Run]:
        """Return the runs that were begun and have not ended."""
        return [run for run in self.runs() if run.state == "open"]

    def counts(self, run: int) -> Counts:
        """Return how many steps of a run ended in which way; None is for those without a mark."""
        (row,) = self._read("SELECT counts FROM runs WHERE id = ?", (run,)) or [(None,)]
        if row[0] is not None:
            with self._sound():
                return {Outcome(int(key)) if key else None: int(count) for key, count in json.loads(row[0]).items()}
        return Counter(mark and mark.outcome for step, mark in self.steps(run) if step.verb not in ATTENDING)

    def steps(self, run: int) -> Iterator[tuple[Step, Mark | None]]:
        """Yield the steps of a run in order, each with its mark, if it has one."""
        for one in self.packs("packs.run = ? ORDER BY packs.id", (run,)):
            yield from one.steps

    def packs(self, where: str, values: Sequence[object], name: str = "") -> Iterator[Pack]:
        """Yield the packs that a condition in SQL over `packs` and `runs` finds.

        Args:
            where: the condition, and the order.
            values: what stands for its question marks.
            name: only those that may mention this name.
        """
        rows = self._read(
            "SELECT packs.id, packs.run, packs.first, packs.steps, runs.began_ns, runs.backward"
            f" FROM packs JOIN runs ON runs.id = packs.run WHERE {where}",
            values,
        )
        for number, run, first, blob, began_ns, backward in rows:
            with self._sound():
                if name and not mentions(blob, name):
                    continue
                steps = self._steps(number, first, blob)
                marks = self._marks_of(run)
                pack = Pack(
                    run, began_ns, bool(backward), [(step, _mark_of(step, marks.get(step.id))) for step in steps]
                )
            yield pack

    def _read(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        with self._sound():
            return self._db.execute(statement, tuple(values)).fetchall()

    @contextmanager
    def _sound(self) -> Iterator[None]:
        """Read something that may be damaged.

        Raises:
            StateError: it is; says what can be done.
        """
        try:
            yield
        except StateError:
            raise
        except (sqlite3.Error, *DAMAGED) as error:
            raise self._damaged(error) from error

    def _damaged(self, error: Exception) -> StateError:
        return StateError(
            f"{self.path}: the journal is damaged ({error or type(error).__name__})",
            "move it aside to start a new one; what it holds can then not be undone",
        )

    def folder_number(self, folder: str) -> int | None:
        """Return the number of a folder, if any run touched it."""
        rows = self._read("SELECT id FROM folders WHERE path = ?", (os.fsencode(folder),))
        return cast(int, rows[0][0]) if rows else None

    def folders_written(self, rule_keys: Sequence[str]) -> frozenset[str]:
        """Return the folders that some rules have moved entries into, or would have."""
        marks = ", ".join("?" * len(rule_keys))
        rows = self._read(
            "SELECT DISTINCT folders.path FROM rules JOIN touched ON touched.rule = rules.id"
            " JOIN packs ON packs.id = touched.pack JOIN runs ON runs.id = packs.run"
            f" JOIN folders ON folders.id = touched.target_folder WHERE rules.key IN ({marks}) AND NOT runs.backward",
            rule_keys,
        )
        return frozenset(os.fsdecode(path) for (path,) in rows)

    def _steps(self, number: int, first: int, blob: bytes) -> list[Step]:
        if number not in self._packs:
            self._packs[number] = unpack(blob, first, self._folders, self._rules)
            while len(self._packs) > _KEPT_PACKS:
                self._packs.popitem(last=False)
        self._packs.move_to_end(number)
        return self._packs[number]

    def _marks_of(self, run: int) -> dict[int, tuple[object, ...]]:
        if run not in self._marks:
            self._marks = {run: {}}
            marks = self._marks[run]
            # The last word on a step holds.
            for first, last, *mark in self._read(
                "SELECT first, last, outcome, reason, now, data FROM marks WHERE run = ? ORDER BY id", (run,)
            ):
                if last - first > _LONGEST_SPAN:
                    raise ValueError(f"a mark of {last - first:,} steps")
                marks.update(dict.fromkeys(range(first, last + 1), tuple(mark)))
        return self._marks[run]


def _folders_of(steps: Sequence[Step]) -> Iterator[str]:
    """Yield the folders that some steps are about."""
    last = ""
    for step in steps:
        for place in (step.source, step.target, step.witness and step.witness.place):
            if place is not None and place[0] != last:
                last = place[0]
                yield last
        for member in step.args.get("members", ()) if step.args else ():
            yield os.path.dirname(member["path"])


def _mark_of(step: Step, row: tuple[object, ...] | None) -> Mark | None:
    if row is None:
        return None
    outcome, reason, now, data = row
    found = step.was if now == _SAME else Identity(*json.loads(cast(str, now))) if now else None
    known = json.loads(cast(str, data)) if data else None
    return Mark(step.id, Outcome(cast(int, outcome)), os.fsdecode(cast(bytes, reason)), found, known)


def _has_account() -> bool:
    try:
        pwd.getpwuid(os.geteuid())
    except KeyError:
        return False
    return True
