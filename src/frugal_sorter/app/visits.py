"""The record of visits: who came, what came of it, and why; also where nothing was done."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from frugal_sorter.errors import FrugalError, RefusedError, StateError, UsageError
from frugal_sorter.filesystem.volumes import free_bytes
from frugal_sorter.journal.database import Driver, Visit, VisitOutcome, with_done
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import accounts
from frugal_sorter.reasons import PROBLEMS, Outcome
from frugal_sorter.state import OwnerLog, log, read_settings, ready_state_folder
from frugal_sorter.steps.kinds import ATTENDING, KINDS
from frugal_sorter.steps.step import Mark, Step
from frugal_sorter.values import field, mutable, replace

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result

# What decides how a command works; any other variable may hold a secret.
_TELLING = ("HOME", "LANG", "LC_ALL", "LOGNAME", "PATH", "SHELL", "TZ", "USER", "XDG_CONFIG_HOME", "XDG_STATE_HOME")
_PROBLEM_SECONDS = 60
# At most this many steps that were not done are named in a record.
_NAMED = 3
OnStep = Callable[[Step, Mark], None]


@mutable
class Visiting:
    """What is known of a visit while it lasts.

    Args:
        driver: who came.
        name: of the schedule or the watcher; empty for a person.
        command: the command line.
        rules: the rule file, or empty.
        log: a file for the owner of the machine, with a line for each thing done; empty for none.
        began_ns: when it began.
        plan: what it plans to do; None while there is none.
        visit: what was written down of it; None while nothing was.
        approved: who approved what, and when; empty where nobody was asked.
    """

    driver: Driver = "person"
    name: str = ""
    command: str = ""
    rules: str = ""
    log: str = ""
    began_ns: int = field(default_factory=time.time_ns)
    plan: Plan | None = None
    visit: Visit | None = None
    approved: str = ""

    def _seen(self) -> Visit:
        return Visit(
            self.driver,
            self.name,
            self.command,
            self.rules,
            accounts.account_name(),
            self.began_ns,
            free_before=_free(_near(self.plan)),
            environment={
                **(environment_of() if self.driver != "person" else {}),
                **({"approved": self.approved} if self.approved else {}),
            },
        )

    def begin(self, journal: Journal) -> None:
        """Write down that files will be changed, so that a kill leaves its trace; under the writer lock."""
        visit = self._seen()
        self.visit = replace(visit, id=journal.record(visit))
        journal.visit = self.visit.id

    def end(self, journal: Journal, result: Result) -> None:
        """Write down what a run did."""
        assert self.visit is not None and self.plan is not None
        outcome, reason = outcome_of(self.plan, result)
        self.visit = replace(
            with_done(self.visit, result.done),
            ended_ns=time.time_ns(),
            outcome=outcome,
            reason=reason,
            free_after=_free(_near(self.plan)),
        )
        journal.record(self.visit)
        self._log_outcome(self.visit)
        _tell_of_trouble(self.visit)

    @contextmanager
    def telling(self, on_step: OnStep) -> Iterator[OnStep]:
        """Return what to call after each step: it also writes to the log, if there is one.

        Raises:
            UsageError: there is one, and it cannot be opened.
        """
        if not self.log:
            yield on_step
            return
        with self._open_log() as log:
            log.line(f"{self._title()} begins")

            def tell(step: Step, mark: Mark) -> None:
                if step.verb not in ATTENDING:
                    log.line(_line_of(step, mark))
                on_step(step, mark)

            yield tell

    def _open_log(self) -> OwnerLog:
        try:
            return OwnerLog(self.log)
        except OSError as error:
            why = (error.strerror or "unknown error").lower()
            raise UsageError(f"cannot write the log {self.log} ({why})", "name another file, or remove --log") from None

    def _title(self) -> str:
        return f"{self.name or accounts.account_name()}: {self.command}"

    def _log_outcome(self, visit: Visit) -> None:
        if self.log:
            why = f": {visit.reason}" if visit.reason else ""
            with self._open_log() as log:
                log.line(f"{self._title()}: {visit.outcome}{why}")

    def skip(self, why: str, outcome: VisitOutcome = "nothing to do") -> None:
        """Write down that it was not the time for it, or what else kept it from acting."""
        self._end_with(outcome, why)

    def _end_with(self, outcome: VisitOutcome, reason: str, error: BaseException | None = None) -> None:
        """Write down how it ended, in the history and the log, and tell of trouble."""
        visit = replace(self.visit or self._seen(), ended_ns=time.time_ns(), outcome=outcome, reason=reason)
        with Journal(ready_state_folder(), write=True) as journal:
            self.visit = replace(visit, id=journal.record(visit))
        try:
            self._log_outcome(self.visit)
        except UsageError as failed:
            if str(failed) != str(error):  # else a person knows already
                raise
        _tell_of_trouble(self.visit)

    def close(self, error: BaseException | None, code: int = 0) -> None:
        """Write down what came of it, if no run did that: nothing to do, refused, failed, or declined.

        Args:
            error: what ended it; None where it came to its end.
            code: the exit code.

        Raises:
            StateError: it cannot be written down.
        """
        if self.visit is not None and self.visit.outcome != "running":
            return
        # A person who only looked, or mistyped something and was told so, is not a visit; what is unattended always is.
        if self.driver == "person" and self.plan is None and not isinstance(error, (RefusedError, StateError, OSError)):
            return
        if error is None and self.plan is None:
            outcome, reason = _outcome_of_code(code)
        elif error is not None:
            outcome, reason = outcome_of_error(error)
        elif self.plan is not None and self.plan.asked and not self.plan.refused:
            outcome, reason = "stopped", "you answered no"
        else:
            assert self.plan is not None
            outcome, reason = outcome_of(self.plan, None)
        self._end_with(outcome, reason, error)


def outcome_of(plan: Plan, result: Result | None) -> tuple[VisitOutcome, str]:
    """Return what came of a plan, and what a person should know of it, in words.

    This is the only place where that is decided. What is left by design, such as a file in use, is not part of it.

    Args:
        plan: what was to be done.
        result: what was; None where nothing was to be done.
    """
    refused = [*map(str, plan.refused)]
    in_the_way = Counter(one.reason for one in plan.not_touched if one.reason.problem)
    wrong = [*plan.problems, *(f"{count:,} left alone: {why}" for why, count in in_the_way.items())]
    if result is not None:
        not_done = [(step, mark) for step, mark in result.not_done if mark.outcome in PROBLEMS]
        wrong += [f"not done: {step.place.path}: {mark.reason}" for step, mark in not_done[:_NAMED]]
        wrong += [f"{len(not_done) - _NAMED:,} more not done"] if len(not_done) > _NAMED else []
    reason = "; ".join([*refused, *wrong])
    if result is None:
        return ("refused" if refused else "failed" if wrong else "nothing to do"), reason
    if result.stopped:
        return "stopped", reason
    return "done", reason


def outcome_of_error(error: BaseException) -> tuple[VisitOutcome, str]:
    """Return what came of a visit that an error ended, and why."""
    if isinstance(error, RefusedError):
        return "refused", error.text
    if isinstance(error, BrokenPipeError):
        return "stopped", "whoever read its output has ended"
    if isinstance(error, FrugalError):
        return "failed", error.text
    if isinstance(error, KeyboardInterrupt):
        return "stopped", "before anything was changed"
    return "failed", str(error) or type(error).__name__


def _outcome_of_code(code: int) -> tuple[VisitOutcome, str]:
    return ("done", "") if code == 0 else ("failed", f"it exited with {code}")


def _near(plan: Plan | None) -> str:
    """Return a folder on the volume that a plan is mostly about; empty where there is none."""
    if plan is None:
        return ""
    if plan.levels:
        return next(iter(plan.levels))
    return next((step.place.folder for step in plan.asked), "")


def _free(near: str) -> int | None:
    with suppress(OSError):
        return free_bytes(near) if near else None
    return None


def environment_of() -> Mapping[str, str]:
    """Return what this process sees of its surroundings, values only of variables that decide how a command works."""
    try:
        folder = os.getcwd()
    except OSError:
        folder = "(removed)"
    known = {name: os.environ[name] for name in _TELLING if name in os.environ}
    return {**known, "folder": folder, "umask": f"{accounts.umask():03o}", "account": accounts.account_name()}


def _line_of(step: Step, mark: Mark) -> str:
    words = KINDS[step.verb].words
    said = words.done if words is not None and mark.outcome is Outcome.DONE else mark.outcome.name.lower().replace("_", " ")
    paths = " → ".join(place.path for place in (step.source, step.target) if place is not None)
    return f"{said}  {paths}" + (f": {mark.reason}" if mark.reason else "")


def summary_of(visit: Visit) -> str:
    """Return one line for a person about a visit that went wrong."""
    return f"frugal {visit.name or visit.driver}: {visit.outcome}: {visit.reason}\ncommand: {visit.command}\n"


def _tell_of_trouble(visit: Visit) -> None:
    """Start the program that the settings name, where nobody watched and something went wrong."""
    if visit.driver == "person" or not visit.is_in_trouble:
        return
    command = read_settings().on_problem
    if not command:
        return
    import subprocess  # most visits go well, and tell nobody

    try:
        subprocess.run(
            command,
            input=summary_of(visit).encode("utf-8", "surrogateescape"),
            timeout=_PROBLEM_SECONDS,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            check=True,
            cwd="/",
        )
    except (OSError, subprocess.SubprocessError) as error:
        # That nobody could be told is itself written where people look.
        log().error("on-problem: %s: %s", command[0], error)
        raise StateError(
            f"on-problem: {command[0]} could not report it ({error})", "see `[on-problem]` in the settings"
        ) from error
