"""The parser of arguments: a mistake is one line, as everywhere."""

from __future__ import annotations

import argparse
import os
import sys
from typing import NoReturn

from frugal_sorter.errors import UsageError

_USUAL_WIDTH = 80


class HelpFormatter(argparse.RawDescriptionHelpFormatter):
    """Lays out the help of a command, as wide as the terminal.

    One is made for each argument that is added. The parent would load `shutil` to ask for the width, and with it three
    libraries for archives.
    """

    def __init__(self, prog: str) -> None:
        super().__init__(prog, width=_columns() - 2)


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
