"""Runs one subcommand: its arguments, its module, and what becomes of its errors."""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import signal
import sys
from contextlib import suppress
from typing import NoReturn, Protocol

from frugal_sorter.cli.interrupted import tell_of_open_runs
from frugal_sorter.cli.main import COMMANDS
from frugal_sorter.cli.output.printable import PrintableStream
from frugal_sorter.errors import FrugalError, UsageError
from frugal_sorter.rules.file.mistakes import Mistakes, nearest


class Command(Protocol):
    """What each module of a subcommand has."""

    EXAMPLES: str

    def add_arguments(self, parser: argparse.ArgumentParser) -> None:
        """Add the options and arguments of the command."""
        ...

    def run(self, args: argparse.Namespace) -> int:
        """Do the work and return the exit code."""
        ...


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise UsageError(f"{self.prog}: {message}", f"`{self.prog} --help` shows the options")


def run(name: str, args: list[str]) -> int:
    """Run a subcommand by name and return its exit code; no error gets past here as a traceback."""
    # A command ends soon, and plans are many small values without cycles: looking for some is lost time.
    collects = gc.isenabled()
    gc.disable()
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = PrintableStream(sys.stdout), PrintableStream(sys.stderr)
    try:
        return _run(name, args)
    finally:
        sys.stdout, sys.stderr = before
        if collects:
            gc.enable()


class _Terminated(KeyboardInterrupt):
    """Somebody asked this program to end (SIGTERM) while nothing was being changed."""


def _terminate(_number: int, _frame: object) -> NoReturn:
    raise _Terminated


def _run(name: str, args: list[str]) -> int:
    signal.signal(signal.SIGTERM, _terminate)
    try:
        if name not in COMMANDS:
            hint = nearest(name, COMMANDS) or "`frugal --help` lists them"
            raise UsageError(f"there is no command `{name}`", hint)
        module: Command = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
        parser = _Parser(
            prog=f"frugal {name}",
            description=f"{COMMANDS[name][:1].upper()}{COMMANDS[name][1:]}.",
            epilog="examples:\n" + module.EXAMPLES.strip("\n"),
            formatter_class=argparse.RawDescriptionHelpFormatter,
            allow_abbrev=False,
        )
        module.add_arguments(parser)
        parsed = parser.parse_args(args)
        if getattr(parsed, "for_user", None):
            from frugal_sorter.cli.account import act_as

            act_as(parsed.for_user)
        tell_of_open_runs(name)
        code = module.run(parsed)
        sys.stdout.flush()
        return code
    except Mistakes as mistakes:
        count = len(mistakes.all)
        _say(mistakes.message)
        _say(f"{count} mistake{'' if count == 1 else 's'}; nothing runs from a file with a mistake in it")
        return mistakes.exit_code
    except FrugalError as error:
        _say(f"frugal: {error.message}{f'; {error.hint}' if error.hint else ''}")
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
            nowhere = os.open(os.devnull, os.O_WRONLY)
            os.dup2(nowhere, stream.fileno())
            os.close(nowhere)


def _say(text: str) -> None:
    from frugal_sorter.cli.output.text import shown

    with suppress(OSError):
        sys.stdout.flush()
    with suppress(OSError):
        print("\n".join(map(shown, text.split("\n"))), file=sys.stderr)
        sys.stderr.flush()
    _close_output()
