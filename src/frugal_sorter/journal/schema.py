"""The tables of the journal: what they are, and how steps get into them."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Mapping, Sequence
from typing import cast

from frugal_sorter.journal.blocks import pack
from frugal_sorter.steps.step import Step

SCHEMA = 5
# The numbers of runs never come again, also when all of them are forgotten. `token` makes the private names of a
# run its own; `volumes` says which volumes it works on. Texts that may hold names are bytes.
TABLES = """
CREATE TABLE runs (
    id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, origin BLOB NOT NULL, undoes INTEGER,
    backward INTEGER NOT NULL, account TEXT NOT NULL, began_ns INTEGER NOT NULL, ended_ns INTEGER, state TEXT NOT NULL,
    counts TEXT, token TEXT NOT NULL, volumes TEXT NOT NULL
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
    outcome INTEGER NOT NULL, reason BLOB NOT NULL, now TEXT, data TEXT
);
CREATE INDEX marks_by_run ON marks (run);
"""


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
        name, *rest = (value,) if isinstance(value, str) else cast("tuple[str, ...]", value)
        row = (os.fsencode(name), *rest)
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
        name, key = self._db.execute("SELECT name, key FROM rules WHERE id = ?", (number,)).fetchone()
        self[number] = rule = os.fsdecode(name), cast(str, key)
        return rule


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
