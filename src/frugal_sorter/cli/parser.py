"""The parser of arguments: a mistake is one line, as everywhere."""

from __future__ import annotations

import argparse
import os
import sys
from functools import partial
from typing import NoReturn

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
