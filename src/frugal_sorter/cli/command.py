"""One command: the account that it acts for, its module, and the job that it stands for."""

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

from frugal_sorter.cli import COMMANDS, UNLISTED
from frugal_sorter.cli.call import Call, tell, tell_of_open_runs
from frugal_sorter.cli.options import command_line, is_short, line_of
from frugal_sorter.cli.output.text import PrintableStream
from frugal_sorter.cli.parser import Parser, parser_of
from frugal_sorter.errors import FrugalError, UsageError
from frugal_sorter.platforms import accounts, disk
from frugal_sorter.rules.units import Mistakes, nearest
from frugal_sorter.state.folders import forget_all

if TYPE_CHECKING:
    from frugal_sorter.cli.jobs import Job
    from frugal_sorter.planning.plan import Plan


def act_as(user: str) -> None:
    """Become an account for good, so that nothing is done that it could not do itself.

    Its home, its trash, its rules and its history are used; what is made belongs to it.

    Raises:
        UsageError: there is no such account, or this one is not root.
    """
    try:
        variables = accounts.become(user)
    except KeyError:
        raise UsageError(f"--for: there is no account {user!r}", "`getent passwd` lists them") from None
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
    from frugal_sorter.cli.jobs import numbers_of, take_out

    plan = job.plan(args.call.begin())
    job.decide(plan, None)
    if job.is_steerable:
        take_out(args, plan, numbers_of(job, plan))
    return plan


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
            hint = nearest(name, COMMANDS) or "`frugal --help` lists them"
            raise UsageError(f"there is no command `{name}`", hint)
        module: Command = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
        parser = parser_of(name, {**COMMANDS, **UNLISTED}[name])
        # The command of a schedule is none of our arguments.
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
    return run_job(job, args.call.begin(screen.may_ask() and not args.yes), screen)


def _close(call: Call, error: BaseException | None, code: int = 0) -> None:
    if why := call.close(error, code):
        with suppress(OSError):
            tell(why)


def _code_of(raised: BaseException) -> int:
    """Say what ended a command, in its words, and return the exit code; what is nobody's fault but ours is raised."""
    try:
        raise raised
    except Mistakes as mistakes:
        count = len(mistakes.all)
        _say(mistakes.message)
        _say(f"{count} mistake{'' if count == 1 else 's'}; nothing runs from a file with a mistake in it")
        return mistakes.exit_code
    except FrugalError as error:
        _say(f"frugal: {error.text}")
        return error.exit_code
    except KeyboardInterrupt as stopped:
        _say("\nstopped; nothing was left half done")
        return 143 if isinstance(stopped, _Terminated) else 130
    except BrokenPipeError:
        # Whoever read our output has enough.
        _close_output()
        return 141
    except OSError as error:
        where = os.fsdecode(error.filename) if error.filename else "the output"
        _close_output()
        _say(f"frugal: {where}: {(error.strerror or 'cannot be used').lower()}; nothing is lost, see `frugal history`")
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
    from frugal_sorter.cli.output.text import shown

    with suppress(OSError):
        sys.stdout.flush()
    with suppress(OSError):
        print("\n".join(map(shown, text.split("\n"))), file=sys.stderr)
        sys.stderr.flush()
    _close_output()
