"""The file of the journal: its tables, the runs and visits in it, and older versions of it."""

from __future__ import annotations

import errno
import json
import os
import sqlite3
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from itertools import repeat
from typing import Any, Literal, NamedTuple, TypeVar, cast

from frugal_sorter.errors import StateError
from frugal_sorter.filesystem.record import Identity, Place, is_inside
from frugal_sorter.filesystem.volumes import Seen
from frugal_sorter.platforms import disk, volumes
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Outcome
from frugal_sorter.state import Reserve
from frugal_sorter.steps.kinds import FINAL, KINDS, REPLACING, Details, VerbName
from frugal_sorter.steps.step import Step, Tally, Witness
from frugal_sorter.values import field, frozen, replace

RunState = Literal["open", "done", "stopped", "interrupted"]
Counts = Mapping[Outcome | None, int]


@frozen
class Run:
    """One carried-out plan.

    Args:
        undone_by: the undo that took back the last of it; None where something of it is left to take back.
        taken_back: how many of its steps have been taken back.
        undoable: how many of its steps were done and can be, or have been, undone; 0 where that was not written down.
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


Driver = Literal["person", "schedule", "watch"]
VisitOutcome = Literal["running", "done", "nothing to do", "refused", "failed", "stopped", "interrupted"]
# What a person should know, if nobody saw it.
TROUBLE: frozenset[VisitOutcome] = frozenset({"refused", "failed", "interrupted"})

VISITS = """
CREATE TABLE visits (
    id INTEGER PRIMARY KEY AUTOINCREMENT, driver TEXT NOT NULL, name BLOB NOT NULL, command BLOB NOT NULL,
    rules BLOB NOT NULL, account TEXT NOT NULL, began_ns INTEGER NOT NULL, ended_ns INTEGER, first_ns INTEGER NOT NULL,
    times INTEGER NOT NULL, outcome TEXT NOT NULL, reason BLOB NOT NULL, counts TEXT NOT NULL, freed INTEGER NOT NULL,
    free_before INTEGER, free_after INTEGER, environment TEXT NOT NULL, passed_ns INTEGER
);
CREATE INDEX visits_by_name ON visits (name);
"""
COLUMNS = (
    "driver, name, command, rules, account, began_ns, ended_ns, first_ns, times, outcome, reason, counts, freed,"
    " free_before, free_after, environment"
)


# The amount of all, beside those by verb.
_ALL = "all"


class Amount(NamedTuple):
    """How much was done: entries that are files, folders, the files inside these, and bytes."""

    files: int
    folders: int
    inside: int
    bytes: int


@frozen
class Visit:
    """One visit.

    Args:
        driver: who came: a person, a timer, or a watcher.
        name: of the schedule or the watcher; empty for a person.
        command: the command line.
        rules: the rule file, or empty.
        account: that it acted for.
        began_ns: when the last one of its row began, in ns since the epoch.
        ended_ns: when that ended; None while it runs.
        first_ns: when the first one of its row began.
        times: how many visits the row stands for.
        outcome: what came of it.
        reason: why, in words; with `done`, what else a person should know.
        counts: what was done, by verb.
        freed: how many bytes are permanently removed.
        free_before: bytes free on the volume before it; None where nobody looked.
        free_after: bytes free after it.
        environment: what an unattended one saw of its surroundings, by name.
        id: its number; 0 while it is not written down.
        runs: the numbers of its runs.
        amount: what was done in all, each entry counted once.
    """

    driver: Driver
    name: str
    command: str
    rules: str
    account: str
    began_ns: int
    ended_ns: int | None = None
    first_ns: int = 0
    times: int = 1
    outcome: VisitOutcome = "running"
    reason: str = ""
    counts: Mapping[VerbName, Amount] = field(default_factory=dict)
    freed: int = 0
    free_before: int | None = None
    free_after: int | None = None
    environment: Mapping[str, str] = field(default_factory=dict)
    id: int = 0
    runs: Sequence[int] = ()
    amount: Amount = Amount(0, 0, 0, 0)

    @property
    def by(self) -> str:
        """Who came, as it is shown: the name of the schedule, or the account of the person."""
        return self.name or self.account

    @property
    def entries(self) -> int:
        """How many entries it did something with."""
        return self.amount.files + self.amount.folders

    @property
    def is_in_trouble(self) -> bool:
        """Whether a person must know of it: nothing was done that should have been, or only in part."""
        return self.outcome in TROUBLE or (self.outcome == "done" and bool(self.reason))

    def is_like(self, other: Visit) -> bool:
        """Return True if another visit, later than this one, says nothing but that it was there as well."""
        return self.outcome == "nothing to do" and (
            (self.driver, self.name, self.command, self.outcome, self.reason, self.environment)
            == (other.driver, other.name, other.command, other.outcome, other.reason, other.environment)
        )

    def again(self, other: Visit) -> Visit:
        """Return this with one more visit that is like it."""
        return replace(self, began_ns=other.began_ns, ended_ns=other.ended_ns, times=self.times + 1)


def with_done(visit: Visit, done: Tally) -> Visit:
    """Return a visit with what was done in it."""
    counts = {verb: Amount(*count, done.bytes_by[verb]) for verb, count in done.items() if count.entries}
    freed = sum(size for verb, size in done.bytes_by.items() if verb in FINAL | REPLACING)
    return replace(visit, counts=counts, freed=freed, amount=Amount(*done.all, done.bytes))


def row_of(visit: Visit) -> tuple[object, ...]:
    """Return what is kept of a visit, in the order of the columns."""
    return (
        visit.driver, os.fsencode(visit.name), os.fsencode(visit.command), os.fsencode(visit.rules), visit.account,
        visit.began_ns, visit.ended_ns, visit.first_ns or visit.began_ns, visit.times, visit.outcome,
        os.fsencode(visit.reason), json.dumps({**visit.counts, _ALL: visit.amount}), visit.freed,
        visit.free_before, visit.free_after, json.dumps(visit.environment),
    )  # fmt: skip


def visit_of(row: Sequence[Any], runs: Sequence[int]) -> Visit:
    """Return the visit of a row with its number in front.

    Raises:
        ValueError, TypeError, KeyError: the row is damaged.
    """
    number, driver, name, command, rules, account, began, ended, first, times, outcome, reason, counts, *rest = row
    freed, before, after, environment = rest
    counted = {verb: Amount(*map(int, amount)) for verb, amount in json.loads(counts).items()}
    # Earlier versions kept no amount of all: an entry with several steps is in it several times.
    summed = Amount(*map(sum, zip(*counted.values(), strict=True))) if counted else Amount(0, 0, 0, 0)
    amount = counted.pop(_ALL, summed)
    # A row can be damaged, too: what is shown to a person must be of a kind that the program knows.
    if driver not in Driver.__args__ or outcome not in VisitOutcome.__args__:  # type: ignore[attr-defined]
        raise ValueError(f"record {number} is of an unknown kind")
    return Visit(
        cast(Driver, driver),
        os.fsdecode(name),
        os.fsdecode(command),
        os.fsdecode(rules),
        str(account),
        int(began),
        None if ended is None else int(ended),
        int(first),
        int(times),
        cast(VisitOutcome, outcome),
        os.fsdecode(reason),
        cast(dict[VerbName, Amount], counted),
        int(freed),
        None if before is None else int(before),
        None if after is None else int(after),
        {str(key): str(value) for key, value in json.loads(environment).items()},
        int(number),
        tuple(runs),
        amount,
    )


STEPS = 1_000


class Touch(NamedTuple):
    """What some steps of a block have in common: their verb, and the numbers of their rule and folders."""

    verb: VerbName
    rule: int
    source_folder: int | None
    target_folder: int | None


def in_blocks(steps: Sequence[Step]) -> Iterator[Sequence[Step]]:
    """Yield steps by the thousand."""
    for first in range(0, len(steps), STEPS):
        yield steps[first : first + STEPS]


def encode(steps: Sequence[Step], folders: Mapping[str, int], rules: Mapping[tuple[str, str], int]) -> tuple[bytes, set[Touch]]:
    """Return steps as a blob, and what they touch, by which the blob is found again.

    Args:
        steps: in order, each numbered one more than the one before.
        folders: the number of each folder.
        rules: the number of each rule, by its name and its key.
    """
    # Column by column, as they are in the blob: alike next to alike packs best.
    verbs = [step.verb for step in steps]
    asked_by = [rules[step.rule, step.rule_key] for step in steps]
    sources = [step.source for step in steps]
    targets = [step.target for step in steps]
    source_folders = [place and folders[place[0]] for place in sources]
    target_folders = [place and folders[place[0]] for place in targets]
    columns = [
        verbs, asked_by, source_folders, [place and place[1] for place in sources],
        target_folders, [place and place[1] for place in targets],
        [step.was for step in steps],
        # Most blocks have none of these.
        *(column if any(column) else None for column in (
            [step.details or None for step in steps], [step.group for step in steps], [step.witness for step in steps],
            [step.of for step in steps],
        )),
    ]  # fmt: skip
    # A row for each combination instead of each step: a thousand steps into one folder are found by one row.
    touched = set(map(Touch._make, set(zip(verbs, asked_by, source_folders, target_folders, strict=True))))
    # The lowest level: names of one folder are alike, and the next level costs more time than it saves room.
    return zlib.compress(json.dumps(columns, separators=(",", ":")).encode("ascii"), 1), touched


def decode(
    blob: bytes,
    first: int,
    folders_of: Callable[[set[int]], Mapping[int, Any]],
    rules_of: Callable[[set[int]], Mapping[int, Any]],
) -> list[Step]:
    """Return the steps of a blob.

    Args:
        blob: as `encode` returned it.
        first: the number of its first step.
        folders_of: returns the folders of some numbers.
        rules_of: returns the names and keys of the rules of some numbers.

    Raises:
        StateError: this version does not know a verb of them.
    """
    steps: list[Step] = []
    loaded: list[Any] = json.loads(zlib.decompress(blob))
    if unknown := set(loaded[0]) - KINDS.keys():
        raise StateError(
            f"the journal has steps that this version does not know: {min(map(ascii, unknown))}",
            "use the version of frugal that wrote them",
        )
    folders = folders_of({number for column in (loaded[2], loaded[4]) for number in column if number is not None})
    rules = rules_of(set(loaded[1]))
    # A column that was left out holds nothing for any step.
    columns = [repeat(None) if column is None else column for column in loaded]
    for number, row in enumerate(zip(*columns, strict=False), first):
        verb, rule, source_folder, source_name, target_folder, target_name, was, details, group, witness, of = row
        source = None if source_name is None else Place(folders[source_folder], source_name)
        # A name that stays is kept once: two of them are a tenth of what a step takes.
        target_name = source_name if target_name == source_name else target_name
        target = None if target_name is None else Place(folders[target_folder], target_name)
        identity = was and Identity(*was)
        name, key = rules[rule]
        seen_by = witness and Witness(Place(*witness[0]), Identity(*witness[1]))
        steps.append(Step(number, verb, name, key, source, target, identity, details or Details(), group or 0, seen_by, of or 0))
    return steps


def kinds(blob: bytes) -> tuple[list[VerbName], Sequence[int]]:
    """Return the verbs of the steps of a blob, and of each the number of the step that it takes back, none where none does.

    Lists of runs ask for no more, and to take a block apart whole takes several times as long (2.1 s instead of 0.9 for the
    history of twelve runs of 50,000 steps).
    """
    text = zlib.decompress(blob)
    # The first column holds words, the last one numbers: neither has a bracket in it.
    first, last = text.index(b"]"), text.rindex(b"[")
    verbs: Any = json.loads(text[1 : first + 1])
    of: Any = () if text.endswith(b",null]") else json.loads(text[last:-1])
    if set(map(type, verbs)) != {str} or not {int, type(None)}.issuperset(map(type, of)):
        raise ValueError("a verb is not text, or a number of a step none")
    return verbs, of


def mentions(blob: bytes, name: str) -> bool:
    """Return quickly whether some entry in a blob may have a name; False is certain."""
    # As it is in the JSON, escapes included: most blocks are never parsed.
    return json.dumps(name).encode("ascii") in zlib.decompress(blob)


SCHEMA = 8
# What is known of the clock; which runs were forgotten, when; what each schedule keeps finding in use.
CLOCK = """
CREATE TABLE clock (
    believed_ns INTEGER NOT NULL, doubted_ns INTEGER NOT NULL, passed_ns INTEGER NOT NULL, is_set INTEGER NOT NULL,
    is_monthly INTEGER NOT NULL
);
CREATE TABLE forgotten (run INTEGER PRIMARY KEY, at_ns INTEGER NOT NULL);
CREATE TABLE waiting (name BLOB NOT NULL, path BLOB NOT NULL, since_ns INTEGER NOT NULL, PRIMARY KEY (name, path));
"""
# A row of `packs` is a block of steps. The numbers of runs never come again, also when all of them are forgotten.
# `token` makes the private names of a run its own; `volumes` says which volumes it works on. Texts that may hold names
# are bytes.
TABLES = f"""
CREATE TABLE runs (
    id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, origin BLOB NOT NULL, undoes INTEGER,
    backward INTEGER NOT NULL, account TEXT NOT NULL, began_ns INTEGER NOT NULL, ended_ns INTEGER, state TEXT NOT NULL,
    counts TEXT, token TEXT NOT NULL, volumes TEXT NOT NULL, visit INTEGER, passed_ns INTEGER
);
CREATE TABLE folders (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE);
CREATE TABLE rules (id INTEGER PRIMARY KEY, name BLOB NOT NULL, key TEXT NOT NULL, UNIQUE (name, key));
CREATE TABLE packs (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, first INTEGER NOT NULL, steps BLOB NOT NULL);
CREATE INDEX packs_by_run ON packs (run);
CREATE TABLE touched (
    pack INTEGER NOT NULL, verb TEXT NOT NULL, rule INTEGER NOT NULL, source_folder INTEGER, target_folder INTEGER
);
CREATE INDEX touched_by_source ON touched (source_folder);
CREATE INDEX touched_by_target ON touched (target_folder);
CREATE TABLE marks (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL,
    outcome INTEGER NOT NULL, reason BLOB NOT NULL, code TEXT NOT NULL DEFAULT '', now TEXT, data TEXT
);
CREATE INDEX marks_by_run ON marks (run);
{VISITS}{CLOCK}"""
# From the forms before: the first knew no visits, the second believed every clock, and none had codes of reasons.
_CODES = "ALTER TABLE marks ADD COLUMN code TEXT NOT NULL DEFAULT ''"
_PASSED = f"ALTER TABLE runs ADD COLUMN passed_ns INTEGER; UPDATE runs SET passed_ns = began_ns; {CLOCK}"
MIGRATE = {
    5: f"ALTER TABLE runs ADD COLUMN visit INTEGER; {VISITS}{_PASSED}{_CODES}",
    6: f"ALTER TABLE visits ADD COLUMN passed_ns INTEGER; UPDATE visits SET passed_ns = began_ns; {_PASSED}{_CODES}",
    7: _CODES,
}


class Numbering:
    """Values that are written down once, such as folders, and the numbers that stand for them.

    Args:
        db: where they are kept.
        table: its name.
        columns: what makes up a value; the first of them may hold names, and is kept as bytes.
    """

    def __init__(self, db: sqlite3.Connection, table: str, columns: Sequence[str]) -> None:
        names, marks = ", ".join(columns), ", ".join("?" * len(columns))
        where = " AND ".join(f"{column} = ?" for column in columns)
        self._db, self._is_single = db, len(columns) == 1
        self._insert = f"INSERT OR IGNORE INTO {table} ({names}) VALUES ({marks})"
        self._find = f"SELECT id FROM {table} WHERE {where}"
        self._value = f"SELECT {names} FROM {table} WHERE id = ?"
        self._numbers: dict[Any, int] = {}
        self._values: dict[int, Any] = {}

    def numbers_for(self, values: Iterable[Any]) -> Mapping[Any, int]:
        """Return the numbers of some values, and of others; new ones get the next numbers, within a transaction."""
        for value in values:
            # Ten thousand files are in a few folders: each path is kept once, and compared as a number.
            if value not in self._numbers:
                first, *rest = (value,) if self._is_single else value
                row = (os.fsencode(first), *rest)
                self._db.execute(self._insert, row)
                self._numbers[value] = int(self._db.execute(self._find, row).fetchone()[0])
        return self._numbers

    def values_of(self, numbers: Iterable[int]) -> Mapping[int, Any]:
        """Return the values of some numbers, and of others."""
        for number in numbers:
            if number not in self._values:
                first, *rest = self._db.execute(self._value, (number,)).fetchone()
                self._values[number] = os.fsdecode(first) if self._is_single else (os.fsdecode(first), *rest)
        return self._values

    def forget(self) -> None:
        """Forget the numbers that a transaction gave which was taken back."""
        self._numbers.clear()
        self._values.clear()


def write_block(db: sqlite3.Connection, run: int, steps: Sequence[Step], folders: Numbering, rules: Numbering) -> None:
    """Write steps of a run that follow each other, within a transaction."""
    met = {place[0] for step in steps for place in (step.source, step.target) if place is not None}
    asked = {(step.rule, step.rule_key) for step in steps}
    blob, touched = encode(steps, folders.numbers_for(met), rules.numbers_for(asked))
    number = db.execute("INSERT INTO packs (run, first, steps) VALUES (?, ?, ?)", (run, steps[0].id, blob)).lastrowid
    db.executemany(
        "INSERT INTO touched (pack, verb, rule, source_folder, target_folder) VALUES (?, ?, ?, ?, ?)",
        ((number, *one) for one in touched),
    )


# Errors that a damaged row can raise when it is parsed.
DAMAGED = (ValueError, TypeError, AttributeError, KeyError, IndexError, OverflowError, RecursionError, zlib.error, MemoryError)
Done = TypeVar("Done")
Statement = tuple[str, Sequence[Sequence[object]]]
# With less than this free, an error that does not say so is one of a full disk, too.
_SCARCE_BYTES, _SCARCE_FILES = 1 << 20, 16
# A folder that is kept in memory (file-hierarchy(7)).
_IN_MEMORY = "/dev/shm"


class Database:
    """A journal's file.

    Args:
        path: where it is.
        write: whether something will be written; a reader neither makes nor changes the file.

    Raises:
        StateError: it is damaged, of another version, or cannot be opened.
    """

    def __init__(self, path: Path, write: bool) -> None:
        self.path = path
        # Called whenever a transaction is taken back: what was remembered from it is not there any more.
        self.on_rollback: list[Callable[[], None]] = []
        # Kept for a full disk alone: how a run ended must be written down even then.
        self._reserve = Reserve(path.parent) if write else None
        try:
            self.connection = self._with_room(lambda: self._connect(write))
        except sqlite3.OperationalError as error:
            raise StateError(
                f"{path}: the journal cannot be opened ({error})", "free disk space, or fix its permissions"
            ) from error
        except (sqlite3.DatabaseError, *DAMAGED) as error:
            raise self._damaged(error) from error

    def close(self) -> None:
        """Close it, and keep room again for the next time."""
        self.connection.close()
        if self._reserve is not None:
            self._reserve.keep()

    def _with_room(self, work: Callable[[], Done]) -> Done:
        """Do some work; if the disk is full, once more with the room that was kept for that."""
        try:
            return work()
        except (sqlite3.OperationalError, OSError) as error:
            if self._reserve is None or not self._is_full(error) or not self._reserve.release():
                raise
            return work()

    def _is_full(self, error: sqlite3.OperationalError | OSError) -> bool:
        if isinstance(error, OSError):
            return error.errno in (errno.ENOSPC, errno.EDQUOT)
        if error.sqlite_errorcode == sqlite3.SQLITE_FULL:
            return True
        # A file beside the journal that cannot be made, or grow, is reported as an error of the disk.
        folder = str(self.path.parent)
        names = volumes.free_names(folder)
        return volumes.room(folder).free < _SCARCE_BYTES or (names is not None and names < _SCARCE_FILES)

    def _connect(self, write: bool) -> sqlite3.Connection:
        if self.path.is_symlink() or (self.path.exists() and not self.path.is_file()):
            raise StateError(f"{self.path} is not a file", "rename it to start a new journal")
        # Who only reads leaves no file behind, not even an empty one.
        fresh = not self.path.exists()
        if fresh and not write:
            db = sqlite3.connect(":memory:", isolation_level=None)
        else:
            if fresh:
                # The names of other people's files are in it: for this account alone from the first moment.
                disk.close(disk.open(self.path, disk.O_CREAT | disk.O_WRONLY | disk.O_CLOEXEC, 0o600))
            # So long another command may take to write its marks.
            db = sqlite3.connect(self.path, isolation_level=None, timeout=10)
        try:
            if not (fresh and not write):
                db = self._in_wal_mode(db, write)
            return self._in_this_form(db, write)
        # Also on Ctrl-C: an open connection would hold its locks.
        except BaseException:
            db.close()
            raise

    def _in_wal_mode(self, db: sqlite3.Connection, write: bool) -> sqlite3.Connection:
        try:
            # Readers go on while a run is written down, and a crash leaves a log that is played again.
            db.execute("PRAGMA journal_mode = WAL")
            # What was forgotten is gone from the file, too.
            db.execute("PRAGMA secure_delete = ON")
        except sqlite3.OperationalError:
            if write:
                raise
            db.close()
            return self._read_without_room()
        return db

    def _read_without_room(self) -> sqlite3.Connection:
        """Return a copy in memory: reading, too, makes files beside the journal, and the disk is full."""
        import tempfile

        memory, log = sqlite3.connect(":memory:", isolation_level=None), Path(f"{self.path}-wal")
        for base in (_IN_MEMORY, None):
            with suppress(OSError, sqlite3.OperationalError), tempfile.TemporaryDirectory(dir=base) as folder:
                for path in (self.path, log) if log.exists() else (self.path,):
                    Path(folder, path.name).write_bytes(path.read_bytes())
                copy = sqlite3.connect(f"{folder}/{self.path.name}")
                copy.backup(memory)
                copy.close()
                return memory
        if log.exists() and log.stat().st_size:
            raise StateError(f"{self.path}: the disk is full, and so is every other", "free disk space")
        memory.close()
        return sqlite3.connect(f"{self.path.as_uri()}?immutable=1", isolation_level=None, uri=True)

    def _in_this_form(self, db: sqlite3.Connection, write: bool) -> sqlite3.Connection:
        """Make the tables of a new journal, give one of the form before those that it lacks, and return it.

        Raises:
            StateError: it is of a still older or a newer form.
        """
        version = _version_of(db)
        if version == 0 or version in MIGRATE:
            # A reader changes no file, not even one that a writer has just begun: it works on a copy in memory.
            if not write:
                copy = sqlite3.connect(":memory:", isolation_level=None)
                db.backup(copy)
                db.close()
                db = copy
            # Another process may have done it between the look and the lock.
            db.execute("BEGIN IMMEDIATE")
            version = _version_of(db)
            for statement in (TABLES if version == 0 else MIGRATE.get(version, "")).split(";"):
                db.execute(statement)
            if version < SCHEMA:
                db.execute(f"PRAGMA user_version = {SCHEMA}")
            db.execute("COMMIT")
        elif version > SCHEMA:
            raise StateError(
                f"{self.path}: the journal is of a newer version ({version}; this one knows {SCHEMA})",
                "install that version of frugal-sorter again",
            )
        elif version < SCHEMA:
            raise StateError(
                f"{self.path}: the journal is of an older form ({version}; this one knows {SCHEMA})",
                "rename it to start a new journal; the runs in it can then no longer be undone",
            )
        return db

    # Writing

    @contextmanager
    def _transaction(self, durable: bool) -> Iterator[None]:
        """Write all or nothing.

        Args:
            durable: it is on the disk when the block is left; else a loss of power can take it back.
        """
        # Marks need not outlast a loss of power: how a step ended can be read off the disk.
        self.connection.execute(f"PRAGMA synchronous = {'FULL' if durable else 'NORMAL'}")
        self.connection.execute("BEGIN IMMEDIATE")
        try:
            yield
            self.connection.execute("COMMIT")
        except BaseException:
            # Before the rollback can fail: numbers that it takes back must not be written again.
            for forget in self.on_rollback:
                forget()
            if self.connection.in_transaction:
                self.connection.execute("ROLLBACK")
            raise

    def write(self, work: Callable[[], Done], durable: bool, or_else: str = "the journal cannot be written") -> Done:
        """Do some work in a transaction of its own, and return what it returns.

        Args:
            work: what to do; done again, from the start, where the disk was full.
            durable: it is on the disk when this returns; else a loss of power can take it back.
            or_else: what to say where it cannot be done, before the error itself.

        Raises:
            StateError: it cannot be written; then nothing of it is.
        """

        def once() -> Done:
            with self._transaction(durable):
                return work()

        try:
            return self._with_room(once)
        except (sqlite3.Error, ValueError) as error:
            raise StateError(f"{self.path}: {or_else} ({error})", "free disk space there") from error

    def write_all(self, statements: Sequence[Statement], durable: bool) -> None:
        """Write rows in one transaction: each statement with the rows that it is for.

        Raises:
            StateError: it cannot be written; then nothing of it is.
        """

        def work() -> None:
            for statement, rows in statements:
                self.connection.executemany(statement, rows)

        self.write(work, durable)

    # Reading

    def read(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        """Return the rows of a query.

        Raises:
            StateError: the file is damaged.
        """
        with self.sound():
            return self.connection.execute(statement, tuple(values)).fetchall()

    @contextmanager
    def sound(self) -> Iterator[None]:
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
            "rename it to start a new journal; the runs in it can then no longer be undone",
        )


def _version_of(db: sqlite3.Connection) -> int:
    return int(db.execute("PRAGMA user_version").fetchone()[0])
