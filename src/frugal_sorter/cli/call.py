"""One call of a command: who made it, its session, and the record that it leaves behind."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from frugal_sorter.app.session import Session
from frugal_sorter.cli.output.text import count_text, moment_text, shown
from frugal_sorter.cli.output.words import stray_texts
from frugal_sorter.errors import FrugalError
from frugal_sorter.platforms import slashed
from frugal_sorter.state.folders import LastRun, state_folder, writer_is_active

if TYPE_CHECKING:
    # Only what changes files, or runs by itself, is recorded.
    from frugal_sorter.app.visits import Visiting
    from frugal_sorter.execution.recovery import Recovered
    from frugal_sorter.journal.visits import Driver, Run, VisitOutcome

# Each call of one of these is a visit, whoever makes it.
CHANGING = frozenset({"tidy", "sort", "purge", "gather", "duplicates", "undo", "trash", "rules", "leftovers"})
_SHOWN = 3


class Call:
    """One call of a command.

    Args:
        command: its name.
        line: the whole command line, as it is recorded.
        driver: who makes it.
        name: of the schedule or watcher; empty for a person.
    """

    def __init__(self, command: str, line: str, driver: Driver = "person", name: str = "") -> None:
        self.line, self.driver, self.name = line, driver, name
        self.log = ""
        self._is_recorded = command in CHANGING or driver != "person"
        self._is_closed = False
        self._visiting: Visiting | None = None

    def begin(self, asks: bool = False) -> Session:
        """Begin a session; it tells of each interrupted run that it recovers.

        Args:
            asks: a person at a terminal answers before anything is done.
        """
        return Session.begin(_tell, self._new_visit() if self._is_recorded else None, asks)

    def _new_visit(self) -> Visiting:
        from frugal_sorter.app.visits import Visiting

        log = slashed.abspath(self.log) if self.log else ""
        self._visiting = Visiting(self.driver, self.name, self.line, log=log)
        return self._visiting

    def watches(self) -> None:
        """From now on each time that this process acts is a visit of its own."""
        self.driver, self.name, self._is_recorded = "watch", self.name or "watch", True

    def skip(self, why: str, outcome: VisitOutcome = "nothing to do") -> None:
        """Record that nothing was done, by design or on request, and nothing after that."""
        self._new_visit().skip(why, outcome)
        self.is_done()

    def is_done(self) -> None:
        """All that is to be recorded of this call is recorded."""
        self._is_recorded = False

    @property
    def is_in_trouble(self) -> bool:
        """Whether a person must know of what came of it; also where it could not be recorded."""
        visit = self._visiting.visit if self._visiting is not None else None
        return visit.is_in_trouble if visit is not None else self._is_recorded

    def close(self, error: BaseException | None, code: int = 0) -> str:
        """Record what came of it, where its run did not.

        Args:
            error: what ended it; None where it came to its end.
            code: its exit code.

        Returns:
            why it could not be recorded, or an empty text.
        """
        # What a person mistypes before anything was looked at is no visit.
        if not self._is_recorded or self._is_closed or (self._visiting is None and self.driver == "person"):
            return ""
        self._is_closed = True
        try:
            (self._visiting or self._new_visit()).close(error, code)
        except (FrugalError, OSError) as failed:
            return f"the record of this visit is not complete: {failed}"
        return ""


def tell(text: str) -> None:
    """Say something in passing that a person should know of."""
    if sys.stdout is not None:
        sys.stdout.flush()
    print(f"Note: {shown(text)}", file=sys.stderr)


# Runs that were interrupted: every command says so, and the first that changes files puts right what they left.


def undo_offer(number: int) -> str:
    """Return how to take a run back, and how much of it that is; empty where nothing of it comes back."""
    from frugal_sorter.journal.journal import Journal

    with Journal(state_folder(), write=False) as journal:
        left = journal.left_to_undo(number)
    return f"`frugal undo {number}` takes back {count_text(left, 'step')}" if left else ""


def tell_of_open_runs(command: str) -> None:
    """Say which runs were interrupted, before a command that changes nothing."""
    folder = state_folder()
    try:
        # Those recover what they find, and tell of it.
        if command in CHANGING or not LastRun(folder).has_open_runs() or writer_is_active(folder):
            return
        from frugal_sorter.journal.journal import Journal

        with Journal(folder, write=False) as journal:
            for run in journal.interrupted_runs():
                away = [volume.top for volume in run.volumes if not volume.is_here()]
                back = f"; `frugal undo {run.id}` takes it back" if journal.may_be_undone(run.id) else ""
                what = _waits(run, away) if away else f"{_named(run)}{back}"
                tell(what)
    except (FrugalError, OSError):
        return  # the command that needs the journal says what is wrong with it


def _tell(recovered: Recovered) -> None:
    run = recovered.run
    if recovered.away:
        tell(_waits(run, recovered.away))
    else:
        from frugal_sorter.changes.outcome import Outcome

        done = recovered.counts.get(Outcome.DONE, 0)
        steps = count_text(sum(recovered.counts.values()), "step")
        offer = undo_offer(run.id)
        way_back = f"; {offer}" if offer else ""
        tell(f"{_named(run)} after {done:,} of {steps}; what it left half done was put right{way_back}")
    for path in recovered.removed[:_SHOWN]:
        tell(f"run {run.id}: the unfinished {path} was removed")
    if len(recovered.removed) > _SHOWN:
        tell(f"run {run.id}: {count_text(len(recovered.removed) - _SHOWN, 'more unfinished file')} removed")
    for text in stray_texts(recovered.stray):
        tell(text)
    for one in recovered.apart[:_SHOWN]:
        tell(f"run {run.id} cannot be put right here and is left as it is: {one}")
    if len(recovered.apart) > _SHOWN:
        tell(
            f"run {run.id}: {count_text(len(recovered.apart) - _SHOWN, 'more step')}; `frugal history {run.id}` names them"
        )


def _named(run: Run) -> str:
    return f"run {run.id} ({run.kind} of {moment_text(run.began_ns)}) was interrupted"


def _waits(run: Run, away: list[str] | tuple[str, ...]) -> str:
    where = " and ".join(map(shown, away))
    return f"{_named(run)}; some of its steps wait until the volume at {where} is there again"
