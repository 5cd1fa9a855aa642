"""The parsers of commands, each alone and all together."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from functools import partial
from typing import Any, NoReturn

from frugal_sorter.cli import COMMANDS
from frugal_sorter.errors import UsageError

_USUAL_WIDTH = 80


def help_formatter() -> partial[argparse.RawDescriptionHelpFormatter]:
    """Return what lays out the help of a command, as wide as the terminal.

    One is made for each argument that is added. Not told the width, each would ask for it, and load `shutil` for that, with
    three libraries for archives.
    """
    return partial(argparse.RawDescriptionHelpFormatter, width=_columns() - 2)


def _columns() -> int:
    """Return the width of the terminal, a usual one where there is none; `COLUMNS` says otherwise."""
    said = os.environ.get("COLUMNS", "")
    if said.isdecimal() and int(said) > 0:
        return int(said)
    try:
        return os.get_terminal_size(sys.__stdout__.fileno() if sys.__stdout__ else -1).columns or _USUAL_WIDTH
    except (OSError, ValueError):
        return _USUAL_WIDTH


class Parser(argparse.ArgumentParser):
    """Reads the arguments of a command."""

    def error(self, message: str) -> NoReturn:
        raise UsageError(f"{self.prog}: {message}", f"`{self.prog} --help` shows the options")


def parser_of(name: str, summary: str) -> Parser:
    """Return the parser of one command."""
    module = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
    parser = Parser(
        prog=f"frugal {name}", description=f"{summary[:1].upper()}{summary[1:]}.",
        epilog="examples:\n" + module.EXAMPLES.strip("\n"), formatter_class=help_formatter(),
        allow_abbrev=False,
    )  # fmt: skip
    module.add_arguments(parser)
    return parser


def whole_parser(complete: Any = None) -> Parser:
    """Return the parser of the program with all its commands.

    Args:
        complete: called with each argument of each command; it says how that is completed.
    """
    whole = Parser(prog="frugal", description="Sorts files by rules that a person wrote.", allow_abbrev=False)
    commands = whole.add_subparsers(dest="command", metavar="COMMAND")
    for name, summary in COMMANDS.items():
        module = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
        one = commands.add_parser(name, help=summary.replace("%", "%%"), description=summary, allow_abbrev=False)
        module.add_arguments(one)
        if complete is not None:
            _walk(one, name, complete)
    return whole


def _walk(parser: argparse.ArgumentParser, name: str, complete: Any) -> None:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in action.choices.values():
                _walk(inner, name, complete)
        else:
            complete(name, action)
