"""The parser of all commands together: what completion and the manual are made from."""

from __future__ import annotations

import argparse
import importlib
from typing import Any

from frugal_sorter.cli.main import COMMANDS
from frugal_sorter.cli.parser import Parser, help_formatter


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
