"""The parser of arguments: a mistake is one line, as everywhere."""

from __future__ import annotations

import argparse
from typing import NoReturn

from frugal_sorter.errors import UsageError


class Parser(argparse.ArgumentParser):
    """Reads the arguments of a command."""

    def error(self, message: str) -> NoReturn:
        raise UsageError(f"{self.prog}: {message}", f"`{self.prog} --help` shows the options")
