"""The tables of the journal: what they are, and how steps get into them."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from frugal_sorter.journal.blocks import encode
from frugal_sorter.journal.visits import VISITS
from frugal_sorter.steps.step import Step

SCHEMA = 7
# What is known of the clock; which runs were forgotten, when; what each schedule finds in use again and again.
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
    outcome INTEGER NOT NULL, reason BLOB NOT NULL, now TEXT, data TEXT
);
CREATE INDEX marks_by_run ON marks (run);
{VISITS}{CLOCK}"""
# From the forms before: one knew no visits, the other believed every clock.
_PASSED = f"ALTER TABLE runs ADD COLUMN passed_ns INTEGER; UPDATE runs SET passed_ns = began_ns; {CLOCK}"
MIGRATE = {
    5: f"ALTER TABLE runs ADD COLUMN visit INTEGER; {VISITS}{_PASSED}",
    6: f"ALTER TABLE visits ADD COLUMN passed_ns INTEGER; UPDATE visits SET passed_ns = began_ns; {_PASSED}",
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
            # Ten thousand files lie in a few folders: each path is kept once, and compared as a number.
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


def write_block(
    db: sqlite3.Connection, run: int, steps: Sequence[Step], folders: Numbering, rules: Numbering
) -> None:  # fmt: skip
    """Write steps of a run that follow each other, within a transaction."""
    met = {place[0] for step in steps for place in (step.source, step.target) if place is not None}
    asked = {(step.rule, step.rule_key) for step in steps}
    blob, touched = encode(steps, folders.numbers_for(met), rules.numbers_for(asked))
    number = db.execute("INSERT INTO packs (run, first, steps) VALUES (?, ?, ?)", (run, steps[0].id, blob)).lastrowid
    db.executemany(
        "INSERT INTO touched (pack, verb, rule, source_folder, target_folder) VALUES (?, ?, ?, ?, ?)",
        ((number, *one) for one in touched),
    )
