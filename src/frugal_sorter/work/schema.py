"""The tables of the journal: what they are, how steps get into them, and what brings older ones up."""

from __future__ import annotations

import json
import os
import sqlite3
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import cast

from frugal_sorter.files.record import Identity, Place
from frugal_sorter.plans.plan import ATTENDING, Step, Witness
from frugal_sorter.work.packs import in_packs, pack

SCHEMA = 3
_BASE = """
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, origin BLOB NOT NULL, undoes INTEGER, backward INTEGER NOT NULL,
    account TEXT NOT NULL, began_ns INTEGER NOT NULL, ended_ns INTEGER, state TEXT NOT NULL, counts TEXT
);
CREATE TABLE folders (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE);
CREATE TABLE rules (id INTEGER PRIMARY KEY, name TEXT NOT NULL, key TEXT NOT NULL, UNIQUE (name, key));
"""
_PACKS = """
CREATE TABLE packs (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, first INTEGER NOT NULL, steps BLOB NOT NULL);
CREATE INDEX packs_by_run ON packs (run);
CREATE TABLE touched (
    pack INTEGER NOT NULL, verb TEXT NOT NULL, rule INTEGER NOT NULL, source_folder INTEGER, target_folder INTEGER
);
CREATE INDEX touched_by_source ON touched (source_folder);
CREATE INDEX touched_by_target ON touched (target_folder);
CREATE TABLE marks (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL,
    outcome INTEGER NOT NULL, reason TEXT NOT NULL, now TEXT, data TEXT
);
CREATE INDEX marks_by_run ON marks (run);
"""
TABLES = _BASE + _PACKS
# Up to schema 2 every step had a row.
_FROM_1 = """
ALTER TABLE steps RENAME TO steps_1;
CREATE TABLE steps (
    run INTEGER NOT NULL, id INTEGER NOT NULL, verb TEXT NOT NULL, rule INTEGER NOT NULL,
    source_folder INTEGER, source_name BLOB, target_folder INTEGER, target_name BLOB,
    was TEXT, args TEXT, grouped INTEGER, witness TEXT,
    outcome INTEGER, reason TEXT, now TEXT, data TEXT,
    PRIMARY KEY (run, id)
) WITHOUT ROWID;
INSERT INTO steps SELECT run, id, verb, rule, source_folder, source_name, target_folder, target_name,
    CASE WHEN kind IS NULL THEN NULL ELSE json_array(kind, dev, ino, size, mtime_ns, born_ns, inside, NULL) END,
    NULLIF(args, '{}'), NULL, NULL, outcome, reason, now, NULL FROM steps_1;
DROP TABLE steps_1;
"""
_ROW_OF_2 = """
SELECT s.id, s.verb, r.name, r.key, sf.path, s.source_name, tf.path, s.target_name, s.was, s.args, s.grouped, s.witness
FROM steps s JOIN rules r ON r.id = s.rule
LEFT JOIN folders sf ON sf.id = s.source_folder LEFT JOIN folders tf ON tf.id = s.target_folder
WHERE s.run = ? ORDER BY s.id
"""
_ASKED = f"verb NOT IN ({', '.join(repr(verb) for verb in sorted(ATTENDING))})"


class Numbers(dict[object, int]):
    """The numbers of values that are written down once, such as folders; a new value gets the next number.

    Args:
        db: where they are kept.
        table: its name.
        columns: what makes up a value.
    """

    def __init__(self, db: sqlite3.Connection, table: str, columns: Sequence[str]) -> None:
        where = " AND ".join(f"{column} = ?" for column in columns)
        self._db = db
        self._insert = f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})"
        self._find = f"SELECT id FROM {table} WHERE {where}"

    def __missing__(self, value: object) -> int:
        row = (os.fsencode(value),) if isinstance(value, str) else cast("tuple[str, ...]", value)
        self._db.execute(self._insert, row)
        self[value] = number = cast(int, self._db.execute(self._find, row).fetchone()[0])
        return number


class Folders(dict[int, str]):
    """The folders of numbers."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def __missing__(self, number: int) -> str:
        row = self._db.execute("SELECT path FROM folders WHERE id = ?", (number,)).fetchone()
        self[number] = path = os.fsdecode(row[0])
        return path


class Rules(dict[int, tuple[str, str]]):
    """The names and keys of the rules of numbers."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def __missing__(self, number: int) -> tuple[str, str]:
        self[number] = rule = self._db.execute("SELECT name, key FROM rules WHERE id = ?", (number,)).fetchone()
        return cast("tuple[str, str]", rule)


def numbers_of(db: sqlite3.Connection) -> tuple[Numbers, Numbers]:
    """Return the numbers of folders and those of rules."""
    return Numbers(db, "folders", ("path",)), Numbers(db, "rules", ("name", "key"))


def write_pack(
    db: sqlite3.Connection, run: int, steps: Sequence[Step], folders: Mapping[object, int], rules: Mapping[object, int]
) -> None:
    """Write steps of a run that follow each other, within a transaction."""
    blob, touched = pack(steps, folders, rules)
    number = db.execute("INSERT INTO packs (run, first, steps) VALUES (?, ?, ?)", (run, steps[0].id, blob)).lastrowid
    db.executemany(
        "INSERT INTO touched (pack, verb, rule, source_folder, target_folder) VALUES (?, ?, ?, ?, ?)",
        ((number, *one) for one in touched),
    )


def bring_up(db: sqlite3.Connection, version: int) -> None:
    """Bring a journal of an older schema to this one, or leave it wholly as it was."""
    if version == SCHEMA:
        return
    if version == 1:
        db.executescript(f"BEGIN IMMEDIATE; {_FROM_1} PRAGMA user_version = 2; COMMIT;")
    db.execute("BEGIN IMMEDIATE")
    try:
        for statement in ("ALTER TABLE runs ADD COLUMN counts TEXT", *_PACKS.split(";")):
            db.execute(statement)
        folders, rules = numbers_of(db)
        for run, state in db.execute("SELECT id, state FROM runs").fetchall():
            for steps in in_packs([_step_of_2(row) for row in db.execute(_ROW_OF_2, (run,))]):
                write_pack(db, run, steps, folders, rules)
            counts: Counter[str] = Counter()
            for outcome, count in db.execute(
                f"SELECT outcome, COUNT(*) FROM steps WHERE run = ? AND {_ASKED} GROUP BY outcome", (run,)
            ):
                counts["" if outcome is None else str(outcome)] = count
            if state != "open":
                db.execute("UPDATE runs SET counts = ? WHERE id = ?", (json.dumps(counts), run))
        db.execute(
            "INSERT INTO marks (run, first, last, outcome, reason, now, data)"
            " SELECT run, id, id, outcome, COALESCE(reason, ''), now, data FROM steps"
            " WHERE outcome IS NOT NULL ORDER BY run, id"
        )
        db.execute("DROP TABLE steps")
        db.execute(f"PRAGMA user_version = {SCHEMA}")
        db.execute("COMMIT")
    except BaseException:
        if db.in_transaction:
            db.execute("ROLLBACK")
        raise


def _step_of_2(row: Sequence[object]) -> Step:
    (number, verb, rule, key, source_folder, source_name, target_folder, target_name,
     was, args, grouped, witness) = row  # fmt: skip
    known = json.loads(cast(str, witness)) if witness else None
    return Step(
        cast(int, number), verb, cast(str, rule), cast(str, key),  # type: ignore[arg-type]
        _place(source_folder, source_name), _place(target_folder, target_name),
        Identity(*json.loads(cast(str, was))) if was else None, json.loads(cast(str, args)) if args else {},
        cast(int, grouped or 0), Witness(Place(*known[0]), Identity(*known[1])) if known else None,
    )  # fmt: skip


def _place(folder: object, name: object) -> Place | None:
    if name is None:
        return None
    return Place(os.fsdecode(cast(bytes, folder)), os.fsdecode(cast(bytes, name)))
