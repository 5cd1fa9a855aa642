"""What was intended and what was done, in SQLite: written before the first change of a run.

Guarantee: when `begin` has returned, every step of the run is on the disk with all that is needed
to find out later whether it was done, and to take it back. Limit: marks of steps are written in
batches, since their outcome can be read off the disk; after a kill up to a batch of them is
missing until the run is settled.
"""

from __future__ import annotations

import json
import os
import pwd
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, cast

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.files.record import Identity, Kind, Place
from frugal_sorter.plans.plan import Plan, Step, VerbName
from frugal_sorter.work.mark import Mark, Outcome

SCHEMA = 1
FILE_NAME = "journal.sqlite"
RunState = Literal["open", "done", "stopped", "interrupted"]

_TABLES = """
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, origin BLOB NOT NULL, undoes INTEGER, backward INTEGER NOT NULL,
    account TEXT NOT NULL, began_ns INTEGER NOT NULL, ended_ns INTEGER, state TEXT NOT NULL
);
CREATE TABLE folders (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE);
CREATE TABLE rules (id INTEGER PRIMARY KEY, name TEXT NOT NULL, key TEXT NOT NULL, UNIQUE (name, key));
CREATE TABLE steps (
    run INTEGER NOT NULL, id INTEGER NOT NULL, verb TEXT NOT NULL, rule INTEGER NOT NULL,
    source_folder INTEGER, source_name BLOB, target_folder INTEGER, target_name BLOB,
    kind TEXT, dev INTEGER, ino INTEGER, size INTEGER, mtime_ns INTEGER, born_ns INTEGER,
    inside TEXT, args TEXT NOT NULL,
    outcome INTEGER, reason TEXT, now TEXT,
    PRIMARY KEY (run, id)
) WITHOUT ROWID;
CREATE INDEX steps_by_source ON steps (source_folder, source_name);
CREATE INDEX steps_by_target ON steps (target_folder, target_name);
"""
_STEP = """
SELECT s.id, s.verb, r.name, r.key, sf.path, s.source_name, tf.path, s.target_name,
    s.kind, s.dev, s.ino, s.size, s.mtime_ns, s.born_ns, s.inside, s.args, s.outcome, s.reason, s.now
FROM steps s JOIN rules r ON r.id = s.rule
LEFT JOIN folders sf ON sf.id = s.source_folder LEFT JOIN folders tf ON tf.id = s.target_folder
"""
# Steps by which rules put entries somewhere, undos aside.
_PUT = """
FROM steps s JOIN folders f ON f.id = s.target_folder JOIN rules r ON r.id = s.rule JOIN runs ON runs.id = s.run
WHERE s.outcome = ? AND NOT runs.backward
"""


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


def _signed(number: int) -> int:
    """Fit an unsigned inode number into SQLite's signed 64 bits."""
    return number - (1 << 64) if number >= 1 << 63 else number


def _unsigned(number: int) -> int:
    return number + (1 << 64) if number < 0 else number


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
        try:
            self._db = self._connect(write)
        except sqlite3.OperationalError as error:
            raise StateError(
                f"{self.path}: the journal cannot be opened ({error})", "make room, or mend its rights"
            ) from error
        except sqlite3.DatabaseError as error:
            raise StateError(
                f"{self.path}: the journal is damaged ({error})",
                "move it aside to start a new one; what it holds can then not be undone",
            ) from error

    def _connect(self, write: bool) -> sqlite3.Connection:
        fresh = not self.path.exists()
        if fresh and not write:
            db = sqlite3.connect(":memory:", isolation_level=None)
        else:
            if fresh:
                os.close(os.open(self.path, os.O_CREAT | os.O_WRONLY | os.O_CLOEXEC, 0o600))
            db = sqlite3.connect(self.path, isolation_level=None, timeout=10)
            db.execute("PRAGMA journal_mode = WAL")
            db.execute("PRAGMA synchronous = FULL")
        version = db.execute("PRAGMA user_version").fetchone()[0]
        if version == 0:
            db.executescript(f"BEGIN; {_TABLES} PRAGMA user_version = {SCHEMA}; COMMIT;")
        elif version > SCHEMA:
            db.close()
            raise StateError(
                f"{self.path}: the journal is of a newer version ({version}; this one knows {SCHEMA})",
                "install that version of frugal-sorter again",
            )
        return db

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self._db.close()

    # Writing

    def begin(self, plan: Plan, began_ns: int) -> int:
        """Write down every intent of a plan, durably, and return the number of the run.

        Raises:
            StateError: it cannot be written; then nothing may be changed.
        """
        account = pwd.getpwuid(os.geteuid()).pw_name if _has_account() else str(os.geteuid())
        try:
            self._db.execute("BEGIN IMMEDIATE")
            cursor = self._db.execute(
                "INSERT INTO runs (kind, origin, undoes, backward, account, began_ns, state)"
                " VALUES (?, ?, ?, ?, ?, ?, 'open')",
                (plan.kind, os.fsencode(plan.origin), plan.undoes, self._backward(plan), account, began_ns),
            )
            run = cast(int, cursor.lastrowid)
            ids = _Ids(self._db)
            self._db.executemany(
                f"INSERT INTO steps VALUES ({', '.join('?' * 19)})",
                (_row(run, step, ids) for step in plan.steps),
            )
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise StateError(
                f"{self.path}: the run cannot be written down ({error}), so nothing was changed",
                "make room there",
            ) from error
        return run

    def _backward(self, plan: Plan) -> bool:
        """Tell whether a plan takes entries back; the undo of an undo puts them where the rules did."""
        row = self._db.execute("SELECT backward FROM runs WHERE id = ?", (plan.undoes,)).fetchone()
        return row is not None and not row[0]

    def mark(self, run: int, marks: Sequence[Mark]) -> None:
        """Write down how steps ended.

        Raises:
            StateError: it cannot be written; the run must stop, and is settled by the next.
        """
        rows = [
            (mark.outcome, mark.reason, json.dumps(mark.now) if mark.now else None, run, mark.step) for mark in marks
        ]
        self._write("UPDATE steps SET outcome = ?, reason = ?, now = ? WHERE run = ? AND id = ?", rows)

    def close(self, run: int, state: RunState, ended_ns: int) -> None:
        """Say that a run has ended, and how."""
        self._write("UPDATE runs SET state = ?, ended_ns = ? WHERE id = ?", [(state, ended_ns, run)])

    def _write(self, statement: str, rows: Iterable[Sequence[object]]) -> None:
        try:
            self._db.execute("BEGIN IMMEDIATE")
            self._db.executemany(statement, rows)
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise StateError(f"{self.path}: the journal cannot be written ({error})", "make room there") from error

    # Reading

    def runs(self) -> list[Run]:
        """Return all runs, the oldest first."""
        rows = self._db.execute(
            "SELECT id, kind, origin, undoes, account, began_ns, ended_ns, state,"
            " EXISTS (SELECT 1 FROM steps WHERE run = runs.id AND verb = 'move' AND outcome = ?)"
            " FROM runs ORDER BY id DESC",
            (Outcome.DONE,),
        ).fetchall()
        runs: list[Run] = []
        undone_by: dict[int, int] = {}
        # An undo that was itself undone undoes nothing; later runs come first, so that is known.
        for number, kind, origin, undoes, account, began, ended, state, moved in rows:
            undone = undone_by.get(number)
            runs.append(Run(number, kind, os.fsdecode(origin), undoes, undone, account, began, ended, state))
            if undoes is not None and undone is None and moved:
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

    def steps(self, run: int) -> Iterator[tuple[Step, Mark | None]]:
        """Yield the steps of a run in order, each with its mark, if it has one."""
        for row in self._db.execute(f"{_STEP} WHERE s.run = ? ORDER BY s.id", (run,)):
            yield _step(row)

    def counts(self, run: int) -> dict[Outcome | None, int]:
        """Return how many moves of a run ended in which way; None is for those without a mark."""
        rows = self._db.execute(
            "SELECT outcome, COUNT(*) FROM steps WHERE run = ? AND verb = 'move' GROUP BY outcome", (run,)
        )
        return {None if outcome is None else Outcome(outcome): count for outcome, count in rows}

    def moved_on(self, after: int, place: Place) -> Run | None:
        """Return the first run after another that took an entry away from a place."""
        row = self._db.execute(
            "SELECT s.run FROM steps s JOIN folders f ON f.id = s.source_folder WHERE f.path = ? AND s.source_name = ?"
            " AND s.run > ? AND s.verb = 'move' AND s.outcome = ? ORDER BY s.run LIMIT 1",
            (os.fsencode(place.folder), os.fsencode(place.name), after, Outcome.DONE),
        ).fetchone()
        return None if row is None else self.run(int(row[0]))

    def put_at(self, rule_key: str, place: Place) -> tuple[int, Identity] | None:
        """Return the last run in which a rule moved an entry to a place, and that entry."""
        row = self._db.execute(
            f"SELECT s.run, s.now {_PUT} AND f.path = ? AND s.target_name = ? AND r.key = ? ORDER BY s.run DESC LIMIT 1",
            (Outcome.DONE, os.fsencode(place.folder), os.fsencode(place.name), rule_key),
        ).fetchone()
        return None if row is None or row[1] is None else (int(row[0]), _identity(row[1]))

    def taken_back(self) -> dict[tuple[str, Place], tuple[int, Identity]]:
        """Return the entries that undos put back: by rule and place, the run and the entry."""
        rows = self._db.execute(
            "SELECT r.key, f.path, s.target_name, s.run, s.now FROM steps s JOIN runs ON runs.id = s.run"
            " JOIN rules r ON r.id = s.rule JOIN folders f ON f.id = s.target_folder"
            " WHERE runs.backward AND s.verb = 'move' AND s.outcome = ? ORDER BY s.run",
            (Outcome.DONE,),
        )
        return {
            (key, Place(os.fsdecode(folder), os.fsdecode(name))): (run, _identity(now))
            for key, folder, name, run, now in rows
        }

    def written(self, rule_keys: Sequence[str]) -> frozenset[str]:
        """Return the folders that some rules have moved entries into."""
        found: set[str] = set()
        for key in rule_keys:
            rows = self._db.execute(
                f"SELECT DISTINCT f.path {_PUT} AND r.key = ? AND s.verb = 'move'",
                (Outcome.DONE, key),
            )
            found.update(os.fsdecode(path) for (path,) in rows)
        return frozenset(found)

    def arrived(self, place: Place) -> tuple[int, Identity] | None:
        """Return when the tool last moved an entry to a place, in ns, and that entry."""
        row = self._db.execute(
            f"SELECT runs.began_ns, s.now {_PUT} AND f.path = ? AND s.target_name = ? ORDER BY s.run DESC LIMIT 1",
            (Outcome.DONE, os.fsencode(place.folder), os.fsencode(place.name)),
        ).fetchone()
        return None if row is None or row[1] is None else (int(row[0]), _identity(row[1]))


def _has_account() -> bool:
    try:
        pwd.getpwuid(os.geteuid())
    except KeyError:
        return False
    return True


class _Ids:
    """Numbers for folders and rules, so that each is written down once."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db
        self._folders: dict[str, int] = {}
        self._rules: dict[tuple[str, str], int] = {}

    def folder(self, path: str) -> int:
        if path not in self._folders:
            self._folders[path] = self._id("folders", ("path",), (os.fsencode(path),))
        return self._folders[path]

    def rule(self, name: str, key: str) -> int:
        if (name, key) not in self._rules:
            self._rules[name, key] = self._id("rules", ("name", "key"), (name, key))
        return self._rules[name, key]

    def _id(self, table: str, columns: tuple[str, ...], values: tuple[object, ...]) -> int:
        marks = ", ".join("?" * len(columns))
        self._db.execute(f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) VALUES ({marks})", values)
        where = " AND ".join(f"{column} = ?" for column in columns)
        return int(self._db.execute(f"SELECT id FROM {table} WHERE {where}", values).fetchone()[0])


def _row(run: int, step: Step, ids: _Ids) -> tuple[object, ...]:
    source, target, was = step.source, step.target, step.was
    return (
        run, step.id, step.verb, ids.rule(step.rule, step.rule_key),
        source and ids.folder(source.folder), source and os.fsencode(source.name),
        target and ids.folder(target.folder), target and os.fsencode(target.name),
        *(was._replace(ino=_signed(was.ino)) if was else (None,) * len(Identity._fields)),
        json.dumps(dict(step.args)), None, None, None,
    )  # fmt: skip


def _step(row: tuple[object, ...]) -> tuple[Step, Mark | None]:
    (number, verb, rule, key, source_folder, source_name, target_folder, target_name,
     kind, dev, ino, size, mtime_ns, born_ns, inside, args, outcome, reason, now) = row  # fmt: skip
    was = None
    if kind is not None:
        was = Identity(
            cast(Kind, kind), *cast(tuple[int, int, int, int], (dev, ino, size, mtime_ns)), cast(int, born_ns)
        )
        was = was._replace(ino=_unsigned(was.ino), inside=cast("str | None", inside))
    step = Step(
        cast(int, number), cast(VerbName, verb), cast(str, rule), cast(str, key),
        _place(source_folder, source_name), _place(target_folder, target_name), was, json.loads(cast(str, args)),
    )  # fmt: skip
    if outcome is None:
        return step, None
    found = _identity(cast(str, now)) if now else None
    return step, Mark(step.id, Outcome(cast(int, outcome)), cast(str, reason), found)


def _place(folder: object, name: object) -> Place | None:
    if name is None:
        return None
    return Place(os.fsdecode(cast(bytes, folder)), os.fsdecode(cast(bytes, name)))


def _identity(text: str) -> Identity:
    return Identity(*json.loads(text))
