"""One use of the tool by one account: the clock, read once, the machine, and the right to change files."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from frugal_sorter.platforms import accounts, slashed
from frugal_sorter.state import forget_all, ready_state_folder
from frugal_sorter.values import frozen

if TYPE_CHECKING:
    # What only counts needs no journal and no conditions, so that none are imported for it.
    from frugal_sorter.app.visits import Visiting
    from frugal_sorter.execution.recovery import Recovered
    from frugal_sorter.journal.journal import Journal
    from frugal_sorter.planning.endings import EarlierRuns
    from frugal_sorter.planning.plan import Plan
    from frugal_sorter.rules.fields import World


_PATIENCE_SECONDS = 5


def _ignore(_: Recovered) -> None:
    return None


def _quiet(_count: int, _of: int = 0) -> None:
    """Report no progress."""


@frozen
class Session:
    """What all use cases of one command share.

    Args:
        now_ns: when it began, in ns since the epoch; nothing in a plan is newer.
        machine: the name of this machine.
        account: the account that this process acts for.
        on_recovered: called for each interrupted run that was recovered, with what became of it.
        visiting: what is recorded of it; None where nothing is.
        asks: a person sees what is planned and answers before it is done.
        on_progress: called while planning with how many entries were checked, of how many (0 where that is not known).
        elsewhere: what conditions can ask for, by its name in the world, where an inventory stands for the machine.
        digests: digests of all files are taken before a run, to verify their contents later.
    """

    now_ns: int
    machine: str
    account: str
    on_recovered: Callable[[Recovered], None] = _ignore
    visiting: Visiting | None = None
    asks: bool = False
    on_progress: Callable[[int, int], None] = _quiet
    elsewhere: Mapping[str, Any] | None = None
    digests: bool = False

    @classmethod
    def begin(
        cls, on_recovered: Callable[[Recovered], None] = _ignore, visiting: Visiting | None = None, asks: bool = False
    ) -> Session:
        """Return a session that begins now, on this machine, for this account."""
        forget_all()
        return cls(time.time_ns(), accounts.machine_name(), accounts.account_name(), on_recovered, visiting, asks)

    def log_to(self, path: str) -> None:
        """Write what is done to a log for the owner of the machine, unless one was named before; empty for none."""
        if self.visiting is not None and path and not self.visiting.log:
            self.visiting.log = slashed.abspath(path)

    def planned(self, plan: Plan, rules: str = "") -> Plan:
        """Note what this session is about to do, for the record, and return it.

        Args:
            plan: it.
            rules: the rule file that it comes from.
        """
        if self.visiting is not None:
            self.visiting.plan, self.visiting.rules = plan, rules
        return plan

    def narrowed(self, plan: Plan) -> None:
        """Note that less of what was planned is to be done."""
        if self.visiting is not None and self.visiting.plan is not None:
            self.visiting.plan = plan

    def forget_plan(self) -> None:
        """What was planned is not to be done, and nothing is left undone by that."""
        if self.visiting is not None:
            self.visiting.plan = None

    @property
    def is_unattended(self) -> bool:
        """Whether nobody watches: a schedule or a watcher drives it."""
        return self.visiting is not None and self.visiting.driver != "person"

    @contextmanager
    def changing(self, what: str) -> Iterator[Journal]:
        """Hold the right to change files, with the journal open and interrupted runs recovered.

        Args:
            what: the command, shown to other writers.

        Raises:
            RefusedError: another process is changing files.
            StateError: the journal cannot be used.
        """
        from frugal_sorter.execution.executor import changing

        # A person prefers to know at once; an unattended run can wait until another is finished.
        patience = _PATIENCE_SECONDS if self.is_unattended else 0
        with changing(ready_state_folder(), what, self.on_recovered, patience) as journal:
            journal.believe(self.now_ns, accounts.is_clock_set)
            yield journal

    @contextmanager
    def looking(self) -> Iterator[tuple[Callable[[int | None], World], EarlierRuns]]:
        """Yield what returns the world of a moment, and what earlier runs say, to plan without changing anything."""
        from frugal_sorter.planning.endings import EarlierRuns

        if self.elsewhere is not None:
            yield lambda now_ns: self.world(now_ns=now_ns), EarlierRuns()
            return
        from frugal_sorter.execution.earlier_runs import earlier_runs_of
        from frugal_sorter.journal.journal import Journal

        with Journal(ready_state_folder(), write=False) as journal:
            yield lambda now_ns: self.world(journal, now_ns), earlier_runs_of(journal)

    def world(self, journal: Journal | None = None, now_ns: int | None = None) -> World:
        """Return what conditions can ask for that is not in the entries.

        Args:
            journal: knows when the tool itself put an entry where it is; without one nobody does.
            now_ns: another moment to look at.
        """
        from frugal_sorter.rules.fields import World

        moment_ns = self.now_ns if now_ns is None else now_ns
        if journal is None:
            return World(moment_ns, self.machine, self.account, on_progress=self.on_progress, **(self.elsewhere or {}))
        from frugal_sorter.execution.earlier_runs import arrival_of

        return World(moment_ns, self.machine, self.account, arrival_of(journal), on_progress=self.on_progress)
