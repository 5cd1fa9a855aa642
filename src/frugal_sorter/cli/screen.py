"""The terminal: tables, lines, colour, and the one question. Piped output has none of it."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

_PIPED_WIDTH = 100_000


def _console(file: object, terminal: bool) -> Console:
    return Console(
        file=file,  # type: ignore[arg-type]
        width=None if terminal else _PIPED_WIDTH,
        highlight=False,
        markup=False,
        emoji=False,
        soft_wrap=True,
        legacy_windows=False,
        no_color=None if terminal else True,
        force_terminal=None if terminal else False,
    )


class Screen:
    """Results go to standard output, everything else to standard error."""

    def __init__(self) -> None:
        for stream in (sys.stdout, sys.stderr):
            if hasattr(stream, "reconfigure"):
                stream.reconfigure(errors="backslashreplace")
        self._out = _console(sys.stdout, sys.stdout.isatty())
        self._error = _console(sys.stderr, sys.stderr.isatty())

    def line(self, text: str = "", style: str = "") -> None:
        """Print one line of the result; nothing is cut or wrapped."""
        self._out.print(Text(text, style=style), soft_wrap=True)

    def parts(self, *parts: tuple[str, str]) -> None:
        """Print one line whose parts have styles of their own."""
        self._out.print(Text.assemble(*parts), soft_wrap=True)

    def aside(self, text: str) -> None:
        """Print a line that is not part of the result."""
        self._out.file.flush()
        self._error.print(Text(text), soft_wrap=True)

    def table(
        self,
        columns: Sequence[tuple[str, str]],
        rows: Sequence[Sequence[str]],
        last: Sequence[str] | None = None,
    ) -> None:
        """Print a table.

        Args:
            columns: for each its heading and its side, "left" or "right".
            rows: the cells.
            last: a row of totals.
        """
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_footer=False)
        for heading, side in columns:
            justify = "right" if side == "right" else "left"
            table.add_column(heading, justify=justify, no_wrap=True, overflow="ellipsis")  # type: ignore[arg-type]
        for row in rows:
            table.add_row(*map(Text, row))
        if last is not None:
            table.add_row(*(Text(cell, style="bold") for cell in last))
        self._out.print(table, soft_wrap=False)

    def may_ask(self) -> bool:
        """Tell whether there is a person to answer."""
        return sys.stdin is not None and sys.stdin.isatty()

    def ask(self, question: str) -> bool:
        """Ask a question and return whether the answer is a clear yes."""
        self._out.file.flush()
        print(f"{question} [yes/no] ", end="", file=sys.stderr, flush=True)
        return sys.stdin.readline().strip().lower() in ("yes", "y")


def account() -> str:
    """Return the name of the account that this process acts for."""
    import pwd

    try:
        return pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        return str(os.geteuid())
