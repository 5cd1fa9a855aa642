"""One command: who calls it, the account that it acts for, its module, and the job that it stands for."""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import signal
import sys
from collections.abc import Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, NoReturn, Protocol

from frugal_sorter.app.session import Session
from frugal_sorter.cli import CHANGING, COMMANDS, UNLISTED
from frugal_sorter.cli.options import Parser, command_line, did_you_mean, is_short, line_of, parser_of
from frugal_sorter.cli.output.text import PrintableStream, count_text, moment_text, shown, stray_texts, width_of, wrapped
from frugal_sorter.errors import FrugalError, UsageError
from frugal_sorter.platforms import accounts, console, disk, slashed
from frugal_sorter.reasons import Outcome
from frugal_sorter.rules.units import Mistakes
from frugal_sorter.state import LastRun, forget_all, state_folder, writer_is_active

if TYPE_CHECKING:
    from frugal_sorter.app.visits import Visiting
    from frugal_sorter.cli.jobs import Job
    from frugal_sorter.execution.recovery import Recovered
    from frugal_sorter.journal.database import Driver, Run, VisitOutcome
    from frugal_sorter.planning.plan import Plan


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
        """Everything that had to be recorded of this call is recorded."""
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
        # What a person mistypes before anything was looked at is not a visit.
        if not self._is_recorded or self._is_closed or (self._visiting is None and self.driver == "person"):
            return ""
        self._is_closed = True
        try:
            (self._visiting or self._new_visit()).close(error, code)
        except (FrugalError, OSError) as failed:
            return f"this run was not fully recorded: {failed}"
        return ""


def tell(text: str) -> None:
    """Print a remark that a person should read."""
    if sys.stdout is not None:
        sys.stdout.flush()
    _print_error(f"Note: {shown(text)}")


# Runs that were interrupted: every command says so, and the first that changes files puts right what they left.


def undo_offer(number: int) -> str:
    """Return how to take a run back, and how much of it that is; empty where nothing of it comes back."""
    from frugal_sorter.journal.journal import Journal

    with Journal(state_folder(), write=False) as journal:
        left = journal.left_to_undo(journal.run(number))
    return f"to undo {count_text(left, 'change')}: frugal undo {number}" if left else ""


def tell_of_open_runs(command: str) -> None:
    """Print which runs were interrupted, before a command that changes nothing."""
    folder = state_folder()
    try:
        # Those recover what they find, and tell of it.
        if command in CHANGING or not LastRun(folder).has_open_runs() or writer_is_active(folder):
            return
        from frugal_sorter.journal.journal import Journal

        with Journal(folder, write=False) as journal:
            for run in journal.interrupted_runs():
                away = [volume.top for volume in run.volumes if not volume.is_here()]
                back = f"; to undo what it changed: frugal undo {run.id}" if journal.may_be_undone(run.id) else ""
                what = _waits(run, away) if away else f"{_named(run)}{back}"
                tell(what)
    except (FrugalError, OSError):
        return  # the command that needs the journal says what is wrong with it


def _tell(recovered: Recovered) -> None:
    run = recovered.run
    if recovered.away:
        tell(_waits(run, recovered.away))
    else:
        done = recovered.counts.get(Outcome.DONE, 0)
        steps = count_text(sum(recovered.counts.values()), "step")
        offer = undo_offer(run.id)
        way_back = f"; {offer}" if offer else ""
        tell(f"{_named(run)} after {done:,} of {steps}; its unfinished changes have been cleaned up{way_back}")
    for path in recovered.removed[:_SHOWN]:
        tell(f"run {run.id}: the unfinished {path} was removed")
    if len(recovered.removed) > _SHOWN:
        tell(f"run {run.id}: {count_text(len(recovered.removed) - _SHOWN, 'more unfinished file')} removed")
    for text in stray_texts(recovered.stray):
        tell(text)
    for one in recovered.apart[:_SHOWN]:
        tell(f"run {run.id} could not be cleaned up and was left as it is: {one}")
    if len(recovered.apart) > _SHOWN:
        tell(f"run {run.id}: {count_text(len(recovered.apart) - _SHOWN, 'more step')}; `frugal history {run.id}` names them")


def _named(run: Run) -> str:
    return f"run {run.id} ({run.kind}, {moment_text(run.began_ns)}) was interrupted"


def _waits(run: Run, away: list[str] | tuple[str, ...]) -> str:
    where = " and ".join(map(shown, away))
    return f"{_named(run)}; some of its changes cannot be checked until the volume at {where} is mounted again"


def act_as(user: str) -> None:
    """Permanently become an account, so that nothing is done that it could not do itself.

    Its home, its trash, its rules and its history are used; what is made belongs to it.

    Raises:
        UsageError: there is no such account, or this one is not root.
    """
    try:
        variables = accounts.become(user)
    except KeyError:
        raise UsageError(f"--for: no account named {user!r}", "run `getent passwd` to list the accounts") from None
    except PermissionError:
        raise UsageError("--for: only root can act as another account", "use sudo") from None
    except OSError as error:
        raise UsageError(f"--for: {error.strerror}", f"sign in as {user}") from None
    for name in list(os.environ):
        if name.startswith("XDG_"):
            del os.environ[name]
    os.environ |= variables
    forget_all()


class Command(Protocol):
    """What each module of a subcommand has."""

    EXAMPLES: str

    def add_arguments(self, parser: argparse.ArgumentParser) -> None:
        """Add the options and arguments of the command."""
        ...

    def job(self, args: argparse.Namespace) -> Job | None:
        """Return what is to be changed; None, or no such function, where the command only looks."""
        ...

    def run(self, args: argparse.Namespace) -> int:
        """Do the work where there is no job, and return the exit code."""
        ...


def parsed_command(words: Sequence[str]) -> tuple[Command, argparse.Namespace]:
    """Return the module of a command, and its arguments as it reads them.

    Raises:
        UsageError: it cannot read them.
    """
    module: Command = importlib.import_module(f"frugal_sorter.cli.commands.{words[0]}")
    parser = Parser(prog=f"frugal {words[0]}", allow_abbrev=False)
    module.add_arguments(parser)
    parsed = parser.parse_args(list(words[1:]))
    parsed.call = Call(words[0], line_of(words))
    return module, parsed


def plan_of_command(words: Sequence[str], at_most: int | None = None) -> Plan | None:
    """Return what a command would do now, where nobody can be asked; None where it only looks.

    Args:
        words: its name and its arguments.
        at_most: how many files it may take away, where its arguments do not say.

    Raises:
        FrugalError: it could not run at all.
    """
    module, args = parsed_command(words)
    if words[0] == "watch":
        # What it would do first is what a tidy would.
        return plan_of_command(["tidy", str(args.rules)], at_most)
    args.yes = False
    if at_most is not None and getattr(args, "at_most", 0) is None:
        args.at_most = at_most
    job = _job_of(module, args)
    if job is None:
        return None
    from frugal_sorter.cli.jobs import take_out

    plan = job.decide(job.plan(args.call.begin()), None)
    return take_out(args, plan, job.numbers(plan))[0] if job.is_steerable else plan


def _job_of(module: Command, args: argparse.Namespace) -> Job | None:
    return module.job(args) if hasattr(module, "job") else None


def run(name: str, args: list[str], call: Call | None = None) -> int:
    """Run a subcommand by name and return its exit code; no error gets past here as a traceback.

    Args:
        name: of the subcommand.
        args: its arguments.
        call: who makes it; None for a person.
    """
    # A command ends soon, and plans are many small values without cycles: looking for some is lost time.
    collects = gc.isenabled()
    gc.disable()
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = PrintableStream(sys.stdout), PrintableStream(sys.stderr)
    try:
        return _run(name, args, call or Call(name, command_line()))
    finally:
        sys.stdout, sys.stderr = before
        if collects:
            gc.enable()


class _Terminated(KeyboardInterrupt):
    """Somebody asked this program to end (SIGTERM) while nothing was being changed."""


def _terminate(_number: int, _frame: object) -> NoReturn:
    raise _Terminated


def _run(name: str, args: list[str], call: Call) -> int:
    signal.signal(signal.SIGTERM, _terminate)
    parsed = argparse.Namespace(call=call)
    try:
        if name not in COMMANDS and name not in UNLISTED:
            hint = did_you_mean(name, [*COMMANDS, "--help", "--version"]) or "run `frugal --help` to list the commands"
            raise UsageError(f"unknown command `{name}`", hint)
        if meant := console.misquoted(args):
            raise UsageError("this shell hands on ' as a letter", f'write "{meant}"')
        module: Command = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
        parser = parser_of(name, {**COMMANDS, **UNLISTED}[name])
        # The command of a schedule is not one of our arguments.
        at = args.index("--") if getattr(module, "TAKES_COMMAND", False) and "--" in args else len(args)
        parser.parse_args(args[:at], parsed)
        parsed.after = args[at + 1 :]
        if getattr(parsed, "for_user", None):
            act_as(parsed.for_user)
        call.log = getattr(parsed, "log", None) or ""
        tell_of_open_runs(name)
        code = _do(module, parsed)
        sys.stdout.flush()
        _close(parsed.call, None, code)
        return code
    except BaseException as error:
        _close(parsed.call, error)
        return _code_of(error)


def _do(module: Command, args: argparse.Namespace) -> int:
    job = _job_of(module, args)
    if job is None:
        return module.run(args)
    from frugal_sorter.cli.jobs import run_job
    from frugal_sorter.cli.output.screen import Screen

    screen = Screen(is_short(args))
    if args.dry_run:
        args.call.is_done()
    return run_job(job, args.call.begin(screen.may_ask() and not args.yes), screen)


def _close(call: Call, error: BaseException | None, code: int = 0) -> None:
    if why := call.close(error, code):
        with suppress(OSError):
            tell(why)


def _code_of(raised: BaseException) -> int:
    """Print what ended a command, and return the exit code; a fault of our own is raised."""
    try:
        raise raised
    except Mistakes as mistakes:
        count = len(mistakes.all)
        _say(mistakes.message)
        _say(f"{count} error{('' if count == 1 else 's')}; fix them first: frugal does not run a rule file that has errors")
        return mistakes.exit_code
    except FrugalError as error:
        _say(f"frugal: {error.text}")
        return error.exit_code
    except KeyboardInterrupt as stopped:
        _say("\nstopped; no change was left unfinished")
        return 143 if isinstance(stopped, _Terminated) else 130
    except BrokenPipeError:
        # The reader of our output has closed it.
        _close_output()
        return 141
    except OSError as error:
        where = os.fsdecode(error.filename) if error.filename else "the output"
        _close_output()
        _say(f"frugal: {where}: {(error.strerror or 'cannot be used').lower()}; no files were lost, see `frugal history`")
        return 1


def _close_output() -> None:
    """Send what is still to be printed nowhere, so that Python does not complain about it at exit."""
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError:
            nowhere = disk.open(os.devnull, disk.O_WRONLY)
            os.dup2(nowhere, stream.fileno())
            disk.close(nowhere)


def _say(text: str) -> None:
    with suppress(OSError):
        sys.stdout.flush()
    with suppress(OSError):
        _print_error("\n".join(map(shown, text.split("\n"))))
        sys.stderr.flush()
    _close_output()


def _print_error(text: str) -> None:
    width = width_of(sys.stderr)
    print(wrapped(text, width) if width else text, file=sys.stderr)
