"""Frugal Sorter for scripts: what the command line does, as functions that print and ask nothing.

The names, arguments and fields of this module are kept: they are neither removed nor renamed in a version 1, and new ones have
defaults. Texts may change; codes do not. Everything is recorded in the history as a call of the command line is.

All functions raise an `Error` where a command would end with 2 or 3: a mistake in a rule file, a folder that is missing,
another process that is changing files, a journal that cannot be used. What goes wrong with one entry raises nothing: it is a
`Left` with its code.
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from frugal_sorter.app.session import Session
from frugal_sorter.app.visits import Visiting
from frugal_sorter.errors import FrugalError as Error
from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import PROBLEMS, Reason, Why

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result
    from frugal_sorter.journal.database import Visit as Recorded
    from frugal_sorter.planning.plan import Plan
    from frugal_sorter.rules.model import RuleBook
    from frugal_sorter.steps.step import Step

__all__ = [
    "Change",
    "Done",
    "Error",
    "Inventory",
    "Left",
    "Planned",
    "Row",
    "Visit",
    "carry_out",
    "history",
    "inventory",
    "load_rules",
    "plan",
    "report",
    "undo",
]

By = Literal["type", "ext", "folder", "age", "owner", "size"]


class Change(NamedTuple):
    """One change of a plan.

    Args:
        number: within the plan, from 1, as `frugal preview` and `--without` have it.
        action: such as `move`, `trash`, `delete`, `copy`, `pack`; docs/formats.md lists them.
        rule: the name of the rule that asks for it.
        source: the absolute path of the entry; None for a zip that is made.
        target: where it goes; None for what is deleted.
        bytes: its size; of a folder, all in it.
    """

    number: int
    action: str
    rule: str
    source: str | None
    target: str | None
    bytes: int


class Left(NamedTuple):
    """An entry that is left alone or was not changed, or a rule that is refused, and why.

    Args:
        path: of the entry; empty for a rule as a whole.
        rule: the name of the rule.
        code: of the reason, such as `fresh` or `changed`; docs/unattended.md lists them.
        reason: in words.
        problem: a person should know of it.
    """

    path: str
    rule: str
    code: str
    reason: str
    problem: bool


class Planned:
    """What would be done; nothing has been changed.

    Attributes:
        changes: in the order in which they will be made; what only goes along, such as the originals of a zip, is not one.
        left: what is left alone.
        refused: rules that are not carried out at all, such as for a limit.
        problems: what is wrong as a whole, such as a folder that is missing, in words.
    """

    def __init__(self, plan: Plan, session: Session) -> None:
        from frugal_sorter.planning.selection import Numbers

        self._plan, self._session = plan, session
        self._ids = {number: step.id for number, step in enumerate(Numbers(plan).steps, 1)}
        numbers = {step: number for number, step in self._ids.items()}
        self.changes: tuple[Change, ...] = tuple(_change(step, numbers[step.id]) for step in plan.asked if step.id in numbers)
        self.left: tuple[Left, ...] = tuple(_left(one.place.path, one.rule, one.reason) for one in plan.not_touched)
        self.refused: tuple[Left, ...] = tuple(_left("", one.rule, one.reason) for one in plan.refused)
        self.problems: tuple[str, ...] = tuple(plan.problems)

    @property
    def ok(self) -> bool:
        """Whether nothing is refused, and there is nothing that a person should know."""
        return not self.refused and not self._plan.has_problem

    def without(self, numbers: Iterable[int]) -> Planned:
        """Return the plan without some changes, and everything that belongs to them.

        Args:
            numbers: of the changes.

        Raises:
            Error: there is no change of that number.
        """
        from frugal_sorter.app.rules import leave_out

        wanted = set(numbers)
        if unknown := wanted - self._ids.keys():
            raise UsageError(f"the plan has no change {min(unknown)}", f"choose from 1 to {len(self._ids)}")
        out = {self._ids[number] for number in wanted}
        return Planned(leave_out(self._plan, lambda step: step.id in out, Why.LEFT_OUT()), self._session)


class Done(NamedTuple):
    """What a run did.

    Args:
        run: its number, for `undo`; 0 where nothing was to be done.
        changed: how many entries were changed, by action; one with several actions counts for each.
        bytes: how large the changed entries are.
        not_done: what was to be done and was not.
        ok: whether all was done that a person should know of.
    """

    run: int
    changed: Mapping[str, int]
    bytes: int
    not_done: tuple[Left, ...]
    ok: bool


class Row(NamedTuple):
    """One row of an inventory: what its files have in common, how many they are, and their size in bytes."""

    keys: tuple[str, ...]
    files: int
    bytes: int
    disk_bytes: int


class Inventory(NamedTuple):
    """What some folders hold.

    Args:
        by: the names of the keys of each row.
        rows: the largest first.
        files: how many files in all; one with several names counts once.
        bytes: their size.
        unread: what could not be read.
    """

    by: tuple[str, ...]
    rows: tuple[Row, ...]
    files: int
    bytes: int
    unread: tuple[Left, ...]

    def to_pandas(self) -> Any:
        """Return the rows as a `pandas.DataFrame`: a column of text for each key, and `files`, `bytes`, `disk_bytes` as int64.

        Raises:
            Error: pandas is not installed.
        """
        try:
            import pandas
        except ImportError:
            raise UsageError("to_pandas() needs pandas", "run `pip install pandas`") from None
        keys = {name: pandas.array([row.keys[at] for row in self.rows], dtype="string") for at, name in enumerate(self.by)}
        counted = {
            name: pandas.array([getattr(row, name) for row in self.rows], dtype="int64")
            for name in ("files", "bytes", "disk_bytes")
        }
        return pandas.DataFrame({**keys, **counted})


class Visit(NamedTuple):
    """One call of a command that changes files, as the history has it.

    Args:
        command: the command line.
        by: who made it: an account, a schedule or a watcher.
        began_ns: in ns since the epoch.
        outcome: `done`, `nothing to do`, `refused`, `failed`, `stopped`, `interrupted` or `running`.
        reason: what a person should know, in words; empty for nothing.
        runs: the numbers of its runs.
    """

    command: str
    by: str
    began_ns: int
    outcome: str
    reason: str
    runs: tuple[int, ...]


def load_rules(path: str | os.PathLike[str], text: str | None = None) -> RuleBook:
    """Read a rule file, for `plan`.

    Args:
        path: of the file; relative folders in it are below the folder of this.
        text: its contents, where it is not written yet; None to read the file.

    Raises:
        Error: it cannot be read, or has mistakes; all of them are named, a line each.
    """
    from frugal_sorter.rules import load

    file = slashed.Path(slashed.abspath(os.fspath(path)))
    return load.load_rules(file) if text is None else load.read_rules(text.encode("utf-8", "surrogateescape"), file)


def plan(rules: RuleBook | str | os.PathLike[str], again: bool = False, at_most: int | None = None) -> Planned:
    """Return what rules would do now; no file is changed but what an interrupted run left is put right first.

    Args:
        rules: as `load_rules` returned them, or the path of their file.
        again: also do what was undone before.
        at_most: how many files each rule may remove; None for what the file says.
    """
    from frugal_sorter.app.rules import plan_rules

    book = load_rules(rules) if isinstance(rules, (str, os.PathLike)) else rules
    session = _begin(f"plan({book.file})")
    return Planned(plan_rules(session, book, again, at_most), session)


def carry_out(planned: Planned) -> Done:
    """Make the changes of a plan, and record the run; what has changed since is skipped, and named.

    Args:
        planned: as `plan` or `Planned.without` returned it.
    """
    from frugal_sorter.app.carry_out import carry_out as execute

    visiting, work = planned._session.visiting, planned._plan
    assert visiting is not None
    visiting.plan = work
    if not work.asked:
        visiting.close(None)
        return Done(0, {}, 0, (), planned.ok)
    try:
        return _done(execute(planned._session, work, lambda _step, _mark: None), planned.ok)
    except BaseException as error:
        visiting.close(error)
        raise


def undo(run: int | None = None, only: Sequence[str | os.PathLike[str]] = ()) -> Done:
    """Undo a run, and return what that did; what has changed since is left, and named.

    Args:
        run: its number; None for the last one.
        only: just these paths, and what is below them.

    Raises:
        Error: there is no such run, or nothing of it can be undone.
    """
    from frugal_sorter.app.undo import plan_undoing

    session = _begin(f"undo({'' if run is None else run})")
    work = plan_undoing(session, run, [slashed.abspath(os.fspath(path)) for path in only]).plan
    planned = Planned(work, session)
    done = carry_out(planned)
    return done._replace(not_done=(*planned.left, *done.not_done))


def inventory(
    folders: str | os.PathLike[str] | Sequence[str | os.PathLike[str]],
    by: By | Sequence[By] = "type",
    levels: int | None = None,
    hidden: bool = False,
) -> Inventory:
    """Count what is in some folders; nothing is opened.

    Args:
        folders: one or more; what is in several of them is counted once.
        by: one or two ways to count.
        levels: how deep; None for all levels.
        hidden: hidden files and folders, too.
    """
    from frugal_sorter.reports.inventory import InventoryCounter

    named = [folders] if isinstance(folders, (str, os.PathLike)) else folders
    ways = (by,) if isinstance(by, str) else tuple(by)
    try:
        counter = InventoryCounter(levels, hidden, ways, now_ns=time.time_ns())
        found = counter.take([slashed.realpath(os.fspath(one)) for one in named])
    except OSError as error:
        raise UsageError(f"{error.filename}: {error.strerror or 'cannot be read'}", "check the path") from error
    rows = tuple(Row(tuple(one.keys), one.files, one.bytes, one.disk) for one in found.counts())
    unread = tuple(_left(one.path, "", one.reason) for one in found.unread)
    return Inventory(ways, rows, sum(row.files for row in rows), sum(row.bytes for row in rows), unread)


def history(since_ns: int | None = None) -> list[Visit]:
    """Return the calls of commands that change files, the oldest first.

    Args:
        since_ns: only those that ended, or run, at or after this moment, in ns since the epoch; None for all.
    """
    from frugal_sorter.journal.journal import Journal
    from frugal_sorter.state import ready_state_folder

    with Journal(ready_state_folder(), write=False) as journal:
        return [_visit(one) for one in journal.visits(since_ns=since_ns)]


def report(since_ns: int = 0) -> dict[str, Any]:
    """Return the figures of `frugal report` since a moment.

    Args:
        since_ns: in ns since the epoch; 0 for everything that is remembered.

    Returns:
        `runs` (numbers), `done` (entries by action), `freed`, `free` and `total` (bytes), `full_ns` (when the volume will be
        full, or None), `troubles` (visits that went wrong, as `Visit`).
    """
    from frugal_sorter.app.report import report as reported

    found = reported(Session.begin(), since_ns)
    troubles = [_visit(one) for one in found.troubles]
    return {
        "runs": list(found.runs),
        "done": {verb: count.entries for verb, count in found.done.items()},
        "freed": found.freed,
        "free": found.free,
        "total": found.total,
        "full_ns": found.full_ns,
        "troubles": troubles,
    }


def _begin(what: str) -> Session:
    return Session.begin(visiting=Visiting(command=f"{os.path.basename(sys.argv[0]) or 'python'}: {what}"))


def _visit(one: Recorded) -> Visit:
    return Visit(one.command, one.by, one.began_ns, one.outcome, one.reason, tuple(one.runs))


def _change(step: Step, number: int) -> Change:
    source, target = step.source and step.source.path, step.target and step.target.path
    return Change(number, step.verb, step.rule, source, target, step.bytes)


def _left(path: str, rule: str, reason: Reason) -> Left:
    return Left(path, rule, reason.code, str(reason), reason.problem)


def _done(result: Result, is_ok: bool) -> Done:
    not_done = tuple(
        Left(step.place.path, step.rule, mark.code, mark.reason, mark.outcome in PROBLEMS) for step, mark in result.not_done
    )
    changed: dict[str, int] = {verb: count.entries for verb, count in result.done.items()}
    return Done(result.run, changed, result.done.bytes, not_done, is_ok and not any(one.problem for one in not_done))
