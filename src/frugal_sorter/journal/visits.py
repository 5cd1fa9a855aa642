"""Runs and visits, as the journal knows them."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping, Sequence
from typing import Any, Literal, NamedTuple, cast

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.filesystem.volumes import Seen
from frugal_sorter.steps.kinds import FINAL, REPLACING, VerbName
from frugal_sorter.steps.step import Tally
from frugal_sorter.values import field, frozen, replace

RunState = Literal["open", "done", "stopped", "interrupted"]
Counts = Mapping[Outcome | None, int]


@frozen
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


Driver = Literal["person", "schedule", "watch"]
VisitOutcome = Literal["running", "done", "nothing to do", "refused", "failed", "stopped", "interrupted"]
# What a person should know of, if nobody saw it.
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
        freed: how many bytes are gone for good.
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
        raise ValueError(f"visit {number} is of no kind that there is")
    return Visit(
        cast(Driver, driver), os.fsdecode(name), os.fsdecode(command), os.fsdecode(rules), str(account), int(began),
        None if ended is None else int(ended), int(first), int(times), cast(VisitOutcome, outcome), os.fsdecode(reason),
        cast(dict[VerbName, Amount], counted), int(freed),
        None if before is None else int(before), None if after is None else int(after),
        {str(key): str(value) for key, value in json.loads(environment).items()}, int(number), tuple(runs), amount,
    )  # fmt: skip
