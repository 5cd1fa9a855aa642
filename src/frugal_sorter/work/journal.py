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
import sqlite3
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, NamedTuple, TypeVar, cast

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.files.record import Identity
from frugal_sorter.plans.plan import ATTENDING, Plan, Step
from frugal_sorter.state.reserve import Reserve
from frugal_sorter.work.mark import Mark, Outcome
from frugal_sorter.work.packs import in_packs, mentions, unpack
from frugal_sorter.work.schema import SCHEMA, TABLES, Folders, Rules, bring_up, numbers_of, write_pack

FILE_NAME = "journal.sqlite"
# So many packs are kept as they were read, for the next who asks.
_KEPT_PACKS = 32
# What says that an entry is as it was before its step, but for its place.
_SAME = "="
_MARK = "INSERT INTO marks (run, first, last, outcome, reason, now, data) VALUES (?, ?, ?, ?, ?, ?, ?)"
Done = TypeVar("Done")
RunState = Literal["open", "done", "stopped", "interrupted"]
Counts = Mapping[Outcome | None, int]


@dataclass(frozen=True, slots=True)
class Run:
    """One carried-out plan. Times are in ns since the epoch; `undone_by` is the undo of it."""

    id: int
    kind: str
    origin: str
    undoes: int | None
    undone_by: int | None
    account: str
    began_ns: int
    ended_ns: int | None
    state: RunState


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
        try:
            self._db = self._with_room(lambda: self._connect(write))
        except sqlite3.OperationalError as error:
            raise StateError(
                f"{self.path}: the journal cannot be opened ({error})", "make room, or mend its rights"
            ) from error
        except sqlite3.DatabaseError as error:
            raise StateError(
                f"{self.path}: the journal is damaged ({error})",
                "move it aside to start a new one; what it holds can then not be undone",
            ) from error
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
        fresh = not self.path.exists()
        if fresh and not write:
            db = sqlite3.connect(":memory:", isolation_level=None)
        else:
            if fresh:
                os.close(os.open(self.path, os.O_CREAT | os.O_WRONLY | os.O_CLOEXEC, 0o600))
            db = sqlite3.connect(self.path, isolation_level=None, timeout=10)
            try:
                db.execute("PRAGMA journal_mode = WAL")
            except sqlite3.OperationalError:
                if write or Path(f"{self.path}-wal").exists():
                    raise
                # Reading, too, makes files beside the journal; on a full disk it must do without.
                db = sqlite3.connect(f"{self.path.as_uri()}?immutable=1", isolation_level=None, uri=True)
        version = db.execute("PRAGMA user_version").fetchone()[0]
        if version == 0:
            db.executescript(f"BEGIN; {TABLES} PRAGMA user_version = {SCHEMA}; COMMIT;")
        elif version > SCHEMA:
            db.close()
            raise StateError(
                f"{self.path}: the journal is of a newer version ({version}; this one knows {SCHEMA})",
                "install that version of frugal-sorter again",
            )
        else:
            bring_up(db, version)
        return db

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
        except sqlite3.Error as error:
            raise StateError(
                f"{self.path}: the run cannot be written down ({error}), so nothing was changed",
                "make room there",
            ) from error

    def _begin(self, plan: Plan, began_ns: int) -> int:
        account = pwd.getpwuid(os.geteuid()).pw_name if _has_account() else str(os.geteuid())
        with self._transaction(durable=True):
            cursor = self._db.execute(
                "INSERT INTO runs (kind, origin, undoes, backward, account, began_ns, state)"
                " VALUES (?, ?, ?, ?, ?, ?, 'open')",
                (plan.kind, os.fsencode(plan.origin), plan.undoes, self._backward(plan), account, began_ns),
            )
            run = cast(int, cursor.lastrowid)
            for steps in in_packs(plan.steps):
                write_pack(self._db, run, steps, *self._numbers)
        return run

    @contextmanager
    def _transaction(self, durable: bool) -> Iterator[None]:
        """Write all or nothing.

        Args:
            durable: it is on the disk when the block is left; else a loss of power can take it back.
        """
        self._marks.clear()
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

    def note(self, run: int, mark: Mark) -> None:
        """Write down, durably, what a verb says before a point of no return.

        Raises:
            StateError: it cannot be written; then the verb must not go on.
        """
        self._mark(run, [mark], durable=True)

    def _mark(self, run: int, marks: Sequence[Mark], durable: bool) -> None:
        rows = [
            (
                run, mark.step, mark.step, mark.outcome, mark.reason,
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
        rows = [(run, first, last, Outcome.DONE, "", _SAME if there else None, None) for first, last, there in spans]
        self._write(_MARK, rows, durable=False)

    def close(self, run: int, state: RunState, ended_ns: int, counts: Counts) -> None:
        """Say that a run has ended, how, and how many steps that a person asked for ended in which way."""
        text = json.dumps({"" if outcome is None else str(int(outcome)): count for outcome, count in counts.items()})
        self._write(
            "UPDATE runs SET state = ?, ended_ns = ?, counts = ? WHERE id = ?", [(state, ended_ns, text, run)], True
        )

    def forget(self, before_ns: int) -> int:
        """Forget the runs that ended before a moment, and return how many.

        Kept are those whose ends are not all known, and those of which something still lies in a trash.
        """
        old = [run for run in self.runs() if run.ended_ns is not None and run.ended_ns < before_ns]
        gone = [(run.id,) for run in old if not self._is_needed(run.id)]
        if gone:
            self._write("DELETE FROM touched WHERE pack IN (SELECT id FROM packs WHERE run = ?)", gone, False)
            for table, column in (("packs", "run"), ("marks", "run"), ("runs", "id")):
                self._write(f"DELETE FROM {table} WHERE {column} = ?", gone, True)
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
        def write() -> None:
            with self._transaction(durable):
                self._db.executemany(statement, rows)

        if not rows:
            return
        try:
            self._with_room(write)
        except sqlite3.Error as error:
            raise StateError(f"{self.path}: the journal cannot be written ({error})", "make room there") from error

    # Reading

    def runs(self) -> list[Run]:
        """Return all runs, the oldest first."""
        rows = self._db.execute(
            "SELECT id, kind, origin, undoes, account, began_ns, ended_ns, state FROM runs ORDER BY id DESC"
        ).fetchall()
        runs: list[Run] = []
        undone_by: dict[int, int] = {}
        # An undo that was itself undone undoes nothing; later runs come first, so that is known.
        for number, kind, origin, undoes, account, began, ended, state in rows:
            undone = undone_by.get(number)
            runs.append(Run(number, kind, os.fsdecode(origin), undoes, undone, account, began, ended, state))
            if undoes is not None and undone is None and self.counts(number).get(Outcome.DONE):
                undone_by.setdefault(undoes, number)
        return runs[::-1]

    def run(self, number: int) -> Run:
        """Return one run.

        Raises:
            UsageError: there is no such run.
        """
        for run in self.runs():
            if run.id == number:
                return run
        raise UsageError(f"there is no run {number}", "`frugal history` lists them")

    def unsettled(self) -> list[Run]:
        """Return the runs that were begun and have not ended."""
        return [run for run in self.runs() if run.state == "open"]

    def counts(self, run: int) -> Counts:
        """Return how many steps of a run ended in which way; None is for those without a mark."""
        row = self._db.execute("SELECT counts FROM runs WHERE id = ?", (run,)).fetchone()
        if row is not None and row[0] is not None:
            return {Outcome(int(key)) if key else None: count for key, count in json.loads(row[0]).items()}
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
        rows = self._db.execute(
            "SELECT packs.id, packs.run, packs.first, packs.steps, runs.began_ns, runs.backward"
            f" FROM packs JOIN runs ON runs.id = packs.run WHERE {where}",
            tuple(values),
        ).fetchall()
        for number, run, first, blob, began_ns, backward in rows:
            if name and not mentions(blob, name):
                continue
            steps = self._steps(number, first, blob)
            marks = self._marks_of(run)
            yield Pack(run, began_ns, bool(backward), [(step, _read(step, marks.get(step.id))) for step in steps])

    def folder_number(self, folder: str) -> int | None:
        """Return the number of a folder, if any run touched it."""
        row = self._db.execute("SELECT id FROM folders WHERE path = ?", (os.fsencode(folder),)).fetchone()
        return row and cast(int, row[0])

    def folders_written(self, rule_keys: Sequence[str]) -> frozenset[str]:
        """Return the folders that some rules have moved entries into, or would have."""
        marks = ", ".join("?" * len(rule_keys))
        rows = self._db.execute(
            "SELECT DISTINCT folders.path FROM rules JOIN touched ON touched.rule = rules.id"
            " JOIN packs ON packs.id = touched.pack JOIN runs ON runs.id = packs.run"
            f" JOIN folders ON folders.id = touched.target_folder WHERE rules.key IN ({marks}) AND NOT runs.backward",
            tuple(rule_keys),
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
            for first, last, *mark in self._db.execute(
                "SELECT first, last, outcome, reason, now, data FROM marks WHERE run = ? ORDER BY id", (run,)
            ):
                marks.update(dict.fromkeys(range(first, last + 1), tuple(mark)))
        return self._marks[run]


def _read(step: Step, row: tuple[object, ...] | None) -> Mark | None:
    if row is None:
        return None
    outcome, reason, now, data = row
    found = step.was if now == _SAME else Identity(*json.loads(cast(str, now))) if now else None
    known = json.loads(cast(str, data)) if data else None
    return Mark(step.id, Outcome(cast(int, outcome)), cast(str, reason), found, known)


def _has_account() -> bool:
    try:
        pwd.getpwuid(os.geteuid())
    except KeyError:
        return False
    return True
