"""What was intended and what was done, in SQLite: written before the first change of a run.

Guarantee: when `begin` has returned, every step of the run is on the disk with all that is needed
to find out later whether it was done, and to take it back; when `note` has returned, what a verb
says before a point of no return is on the disk, too. Limit: marks of steps are written in batches,
since their outcome can be read off the disk; after a kill up to a batch of them is missing until
the run is settled.
"""

from __future__ import annotations

import json
import os
import pwd
import sqlite3
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, TypeVar, cast

from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.files.record import Identity, Place
from frugal_sorter.plans.plan import ATTENDING, TAKING, Plan, Step, VerbName, Witness
from frugal_sorter.state.reserve import Reserve
from frugal_sorter.work.mark import Mark, Outcome

SCHEMA = 2
_ENCODING = sys.getfilesystemencoding()
FILE_NAME = "journal.sqlite"
Done = TypeVar("Done")
RunState = Literal["open", "done", "stopped", "interrupted"]

_STEPS = """
CREATE TABLE steps (
    run INTEGER NOT NULL, id INTEGER NOT NULL, verb TEXT NOT NULL, rule INTEGER NOT NULL,
    source_folder INTEGER, source_name BLOB, target_folder INTEGER, target_name BLOB,
    was TEXT, args TEXT, grouped INTEGER, witness TEXT,
    outcome INTEGER, reason TEXT, now TEXT, data TEXT,
    PRIMARY KEY (run, id)
) WITHOUT ROWID;
"""
_STEPS_BY_TARGET = "CREATE INDEX steps_by_target ON steps (target_folder);"
_TABLES = f"""
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, origin BLOB NOT NULL, undoes INTEGER, backward INTEGER NOT NULL,
    account TEXT NOT NULL, began_ns INTEGER NOT NULL, ended_ns INTEGER, state TEXT NOT NULL
);
CREATE TABLE folders (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE);
CREATE TABLE rules (id INTEGER PRIMARY KEY, name TEXT NOT NULL, key TEXT NOT NULL, UNIQUE (name, key));
{_STEPS}
{_STEPS_BY_TARGET}
"""
# What brings a journal of an older schema to the next one.
_MIGRATIONS = {
    1: f"""
ALTER TABLE steps RENAME TO steps_1;
{_STEPS}
INSERT INTO steps SELECT run, id, verb, rule, source_folder, source_name, target_folder, target_name,
    CASE WHEN kind IS NULL THEN NULL ELSE json_array(kind, dev, ino, size, mtime_ns, born_ns, inside, NULL) END,
    NULLIF(args, '{{}}'), NULL, NULL, outcome, reason, now, NULL FROM steps_1;
DROP TABLE steps_1;
{_STEPS_BY_TARGET}
""",
}
_COLUMNS = (
    "run", "id", "verb", "rule", "source_folder", "source_name", "target_folder", "target_name",
    "was", "args", "grouped", "witness",
)  # fmt: skip
_STEP = """
SELECT s.id, s.verb, r.name, r.key, sf.path, s.source_name, tf.path, s.target_name,
    s.was, s.args, s.grouped, s.witness, s.outcome, s.reason, s.now, s.data
FROM steps s JOIN rules r ON r.id = s.rule
LEFT JOIN folders sf ON sf.id = s.source_folder LEFT JOIN folders tf ON tf.id = s.target_folder
"""
# What says how an entry was once its step was done; most are as they were before (`_SAME`).
_NOW = "s.now, s.was"
_SAME = "="
# Steps by which rules put entries somewhere, undos aside.
_PUT = """
FROM steps s JOIN folders f ON f.id = s.target_folder JOIN rules r ON r.id = s.rule JOIN runs ON runs.id = s.run
WHERE s.outcome = ? AND NOT runs.backward AND s.verb NOT IN ('trash', 'restore', 'make-folder')
"""
_ATTENDING = f"({', '.join(repr(verb) for verb in sorted(ATTENDING))})"
_TAKING = f"({', '.join(repr(verb) for verb in sorted(TAKING))})"


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
        self._taken: dict[int, dict[Place, int]] = {}
        self._puts: dict[str, dict[str, list[tuple[int, str, int, Identity]]]] = {}
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
        for older in range(version, SCHEMA) if version else ():
            db.executescript(f"BEGIN IMMEDIATE; {_MIGRATIONS[older]} PRAGMA user_version = {older + 1}; COMMIT;")
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
        with self._transaction():
            cursor = self._db.execute(
                "INSERT INTO runs (kind, origin, undoes, backward, account, began_ns, state)"
                " VALUES (?, ?, ?, ?, ?, ?, 'open')",
                (plan.kind, os.fsencode(plan.origin), plan.undoes, self._backward(plan), account, began_ns),
            )
            run = cast(int, cursor.lastrowid)
            ids = _Ids(self._db)
            self._db.executemany(
                f"INSERT INTO steps ({', '.join(_COLUMNS)}) VALUES ({', '.join('?' * len(_COLUMNS))})",
                (_row(run, step, ids) for step in plan.steps),
            )
        return run

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        self._taken.clear()
        self._puts.clear()
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._db.execute("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

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
            (
                mark.outcome, mark.reason, _as_text(mark.now) if mark.now else None,
                json.dumps(mark.data) if mark.data else None, run, mark.step,
            )
            for mark in marks
        ]  # fmt: skip
        self._write("UPDATE steps SET outcome = ?, reason = ?, now = ?, data = ? WHERE run = ? AND id = ?", rows)

    def mark_done(self, run: int, spans: Sequence[tuple[int, int, bool]]) -> None:
        """Write down that whole spans of steps were done, and left their entries as they were or took them away.

        Args:
            run: the run.
            spans: the first and the last step of each, and whether its entries are there.

        Raises:
            StateError: as `mark`.
        """
        rows = [(Outcome.DONE, _SAME if there else None, run, first, last) for first, last, there in spans]
        self._write("UPDATE steps SET outcome = ?, reason = '', now = ? WHERE run = ? AND id BETWEEN ? AND ?", rows)

    def note(self, run: int, mark: Mark) -> None:
        """Write down, durably, what a verb says before a point of no return.

        Raises:
            StateError: it cannot be written; then the verb must not go on.
        """
        self.mark(run, [mark])

    def close(self, run: int, state: RunState, ended_ns: int) -> None:
        """Say that a run has ended, and how."""
        self._write("UPDATE runs SET state = ?, ended_ns = ? WHERE id = ?", [(state, ended_ns, run)])

    def forget(self, before_ns: int) -> int:
        """Forget the runs that ended before a moment, and return how many.

        Kept are those whose ends are not all known, and those of which something still lies in a trash.
        """
        old = [run for run in self.runs() if run.ended_ns is not None and run.ended_ns < before_ns]
        gone = [run.id for run in old if not self._is_needed(run.id)]
        if gone:
            self._write("DELETE FROM steps WHERE run = ?", [(run,) for run in gone])
            self._write("DELETE FROM runs WHERE id = ?", [(run,) for run in gone])
        return len(gone)

    def _is_needed(self, run: int) -> bool:
        for step, mark in self.steps(run):
            if mark is None or mark.outcome in (Outcome.OPEN, Outcome.NOTED):
                return True
            trashed = step.verb == "trash" and mark.outcome == Outcome.DONE and step.target is not None
            if trashed and step.target is not None and os.path.lexists(step.target.path):
                return True
        return False

    def _write(self, statement: str, rows: Sequence[Sequence[object]]) -> None:
        def write() -> None:
            with self._transaction():
                self._db.executemany(statement, rows)

        try:
            self._with_room(write)
        except sqlite3.Error as error:
            raise StateError(f"{self.path}: the journal cannot be written ({error})", "make room there") from error

    # Reading

    def runs(self) -> list[Run]:
        """Return all runs, the oldest first."""
        rows = self._db.execute(
            "SELECT id, kind, origin, undoes, account, began_ns, ended_ns, state,"
            f" EXISTS (SELECT 1 FROM steps WHERE run = runs.id AND verb NOT IN {_ATTENDING} AND outcome = ?)"
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
        """Return how many steps of a run ended in which way; None is for those without a mark."""
        rows = self._db.execute(
            f"SELECT outcome, COUNT(*) FROM steps WHERE run = ? AND verb NOT IN {_ATTENDING} GROUP BY outcome", (run,)
        )
        return {None if outcome is None else Outcome(outcome): count for outcome, count in rows}

    def moved_on(self, after: int, place: Place) -> Run | None:
        """Return the first run after another that took an entry away from a place."""
        if after not in self._taken:
            rows = self._db.execute(
                "SELECT f.path, s.source_name, s.run FROM steps s JOIN folders f ON f.id = s.source_folder"
                f" WHERE s.run > ? AND s.verb IN {_TAKING} AND s.outcome = ? ORDER BY s.run DESC",
                (after, Outcome.DONE),
            )
            self._taken[after] = {Place(os.fsdecode(folder), os.fsdecode(name)): run for folder, name, run in rows}
        run = self._taken[after].get(place)
        return None if run is None else self.run(run)

    def put_at(self, rule_key: str, place: Place) -> tuple[int, Identity] | None:
        """Return the last run in which a rule moved an entry to a place, and that entry."""
        for run, key, _, now in self._put_in(place.folder).get(place.name, ()):
            if key == rule_key:
                return run, now
        return None

    def _put_in(self, folder: str) -> dict[str, list[tuple[int, str, int, Identity]]]:
        """Return what rules have put into a folder, by name and the last first: run, rule key, moment and entry."""
        if folder not in self._puts:
            found: dict[str, list[tuple[int, str, int, Identity]]] = {}
            rows = self._db.execute(
                f"SELECT s.target_name, s.run, r.key, runs.began_ns, {_NOW} {_PUT} AND f.path = ? ORDER BY s.run DESC",
                (Outcome.DONE, os.fsencode(folder)),
            )
            for name, run, key, began_ns, *now in rows:
                if now[0] is not None:
                    found.setdefault(os.fsdecode(name), []).append((run, key, began_ns, _now(now)))
            self._puts[folder] = found
        return self._puts[folder]

    def taken_back(self) -> dict[tuple[str, Place], tuple[int, Identity]]:
        """Return the entries that undos put back or undid something of: by rule and place, the run and the entry."""
        rows = self._db.execute(
            f"SELECT r.key, s.verb, f.path, s.target_name, s.run, s.args, {_NOW} FROM steps s"
            " JOIN runs ON runs.id = s.run JOIN rules r ON r.id = s.rule LEFT JOIN folders f ON f.id = s.target_folder"
            " WHERE runs.backward AND s.outcome = ? AND s.verb IN"
            " ('move', 'move-across', 'restore', 'remove-made', 'set-attribute') ORDER BY s.run",
            (Outcome.DONE,),
        )
        found: dict[tuple[str, Place], tuple[int, Identity]] = {}
        for key, verb, folder, name, run, args, *now in rows:
            if verb in ("remove-made", "set-attribute"):
                of = json.loads(args)
                if "entry" in of:
                    found[key, Place(*of["entry"])] = (run, Identity(*of["entry_was"]))
            else:
                found[key, Place(os.fsdecode(folder), os.fsdecode(name))] = (run, _now(now))
        return found

    def has_run(self, rule_key: str) -> list[Identity]:
        """Return the entries that a rule has run its program for."""
        rows = self._db.execute(
            f"SELECT {_NOW} FROM steps s JOIN rules r ON r.id = s.rule"
            " WHERE r.key = ? AND s.verb = 'run' AND s.outcome = ?",
            (rule_key, Outcome.DONE),
        )
        return [_now(row) for row in rows if row[0]]

    def about(self, name: str) -> list[tuple[int, Step, Mark | None]]:
        """Return the steps about entries of some name, old or new, in order.

        Args:
            name: a name, or an absolute path.
        """
        folder, last = os.path.split(name)
        found: dict[tuple[int, int], tuple[int, Step, Mark | None]] = {}
        for side in ("source", "target"):
            where, values = f"s.{side}_name = ?", [os.fsencode(last)]
            if folder:
                where += f" AND {side[0]}f.path = ?"
                values.append(os.fsencode(folder))
            for run, *row in self._db.execute(_STEP.replace("SELECT", "SELECT s.run,", 1) + f" WHERE {where}", values):
                step, mark = _step(tuple(row))
                if step.verb not in ATTENDING:
                    found[run, step.id] = (run, step, mark)
        return [found[key] for key in sorted(found)]

    def written(self, rule_keys: Sequence[str]) -> frozenset[str]:
        """Return the folders that some rules have moved entries into."""
        found: set[str] = set()
        for key in rule_keys:
            rows = self._db.execute(
                f"SELECT DISTINCT f.path {_PUT} AND r.key = ?",
                (Outcome.DONE, key),
            )
            found.update(os.fsdecode(path) for (path,) in rows)
        return frozenset(found)

    def arrived(self, place: Place) -> tuple[int, Identity] | None:
        """Return when the tool last moved an entry to a place, in ns, and that entry."""
        for _, _, began_ns, now in self._put_in(place.folder).get(place.name, ()):
            return began_ns, now
        return None


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
        source and ids.folder(source.folder), source and _raw(source.name),
        target and ids.folder(target.folder), target and _raw(target.name),
        was and _as_text(was), json.dumps(dict(step.args)) if step.args else None, step.group or None,
        json.dumps([step.witness.place, step.witness.identity]) if step.witness else None,
    )  # fmt: skip


def _raw(name: str) -> bytes:
    return name.encode(_ENCODING, "surrogateescape")


def _step(row: tuple[object, ...]) -> tuple[Step, Mark | None]:
    (number, verb, rule, key, source_folder, source_name, target_folder, target_name,
     was_text, args, grouped, witness, outcome, reason, now, data) = row  # fmt: skip
    was = _identity(cast(str, was_text)) if was_text else None
    step = Step(
        cast(int, number), cast(VerbName, verb), cast(str, rule), cast(str, key),
        _place(source_folder, source_name), _place(target_folder, target_name), was,
        json.loads(cast(str, args)) if args else {},
        cast(int, grouped or 0), _witness(cast("str | None", witness)),
    )  # fmt: skip
    if outcome is None:
        return step, None
    found = was if now == _SAME else _identity(cast(str, now)) if now else None
    known = json.loads(cast(str, data)) if data else None
    return step, Mark(step.id, Outcome(cast(int, outcome)), cast(str, reason), found, known)


def _now(columns: Sequence[object]) -> Identity:
    """Return an entry as it was once its step was done, from the columns of `_NOW`."""
    return _identity(cast(str, columns[1] if columns[0] == _SAME else columns[0]))


def _witness(text: str | None) -> Witness | None:
    if text is None:
        return None
    place, identity = json.loads(text)
    return Witness(Place(*place), Identity(*identity))


def _place(folder: object, name: object) -> Place | None:
    if name is None:
        return None
    return Place(os.fsdecode(cast(bytes, folder)), os.fsdecode(cast(bytes, name)))


def _as_text(identity: Identity) -> str:
    if identity.inside is None and identity.sample is None:
        # As json.dumps has it, for the many.
        born = "null" if identity.born_ns is None else identity.born_ns
        return f'["{identity.kind}",{identity.dev},{identity.ino},{identity.size},{identity.mtime_ns},{born}]'
    return json.dumps(identity)


def _identity(text: str) -> Identity:
    return Identity(*json.loads(text))
