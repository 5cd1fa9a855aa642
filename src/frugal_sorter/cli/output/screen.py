"""The screen: lines, tables and questions; and a line that says how far a long command has got."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Literal, TypeVar

from frugal_sorter.cli.output.text import count_text, cut, raw, shown
from frugal_sorter.platforms import console

if TYPE_CHECKING:
    from rich.console import Console

    from frugal_sorter.cli.output.results import Column, Table

_AFTER_SECONDS, _EVERY_SECONDS = 1.0, 0.2


class Progress:
    """Writes over its own line on standard error, and takes it away at the end.

    Args:
        what: what is counted, such as `files counted`.
    """

    def __init__(self, what: str) -> None:
        self._what = what
        self._screen = raw(sys.stderr)
        self._shows = console.is_terminal(self._screen)
        self._next = time.monotonic() + _AFTER_SECONDS
        self._written = 0

    def update(self, count: int, what: str = "") -> None:
        """Show how far the work has got; `what` where by now something else is counted."""
        if not self._shows or time.monotonic() < self._next:
            return
        self._next = time.monotonic() + _EVERY_SECONDS
        text = shown(f"{count:,} {what or self._what}")
        self._screen.write("\r" + text.ljust(self._written))
        self._screen.flush()
        self._written = len(text)

    def clear(self) -> None:
        """Take the line away, so that another can be printed; it comes again when more is told."""
        if self._written:
            self._screen.write("\r" + " " * self._written + "\r")
            self._screen.flush()
            self._written = 0

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *_: object) -> None:
        self.clear()


_PIPED_WIDTH = 100_000
# Of a long list so many are printed at each end.
FEW = 3
# Between two columns of a table; and what is left of a cell at least, however narrow the terminal is.
_GAP, _LEAST = 2, 5
Item = TypeVar("Item")


class Screen:
    """Results go to standard output, everything else to standard error.

    Rich is imported for colour and for tables only: a long list that is piped on needs neither.

    Args:
        short: of long lists only the first and the last few are printed; unless it is said, on a terminal alone.
    """

    def __init__(self, short: bool | None = None) -> None:
        for stream in (sys.stdout, sys.stderr):
            if hasattr(stream, "reconfigure"):
                stream.reconfigure(errors="backslashreplace")
        self._coloured = console.is_terminal(sys.stdout)
        self.short = self._coloured if short is None else short
        # What is cleared before a line is printed, so that the two do not run into each other.
        self.progress: Progress | None = None

    @cached_property
    def _rich(self) -> Console:
        from rich.console import Console

        return Console(
            file=raw(sys.stdout),
            width=None if self._coloured else _PIPED_WIDTH,
            highlight=False,
            markup=False,
            emoji=False,
            no_color=None if self._coloured else True,
            force_terminal=None if self._coloured else False,
        )

    @property
    def is_terminal(self) -> bool:
        """Whether a person sees the lines as they come."""
        return self._coloured

    @property
    def width(self) -> int:
        """How many columns there are; very many where the output is piped."""
        return self._rich.width

    def line(self, text: str = "", style: str = "") -> None:
        """Print one line of the result; nothing is cut or wrapped."""
        self.parts((text, style))

    def lines(self, text: str, style: str = "") -> None:
        """Print several lines of the result."""
        for line in text.split("\n"):
            self.line(line, style)

    def parts(self, *parts: tuple[str, str]) -> None:
        """Print one line whose parts have styles of their own."""
        if self.progress is not None:
            self.progress.clear()
        if self._coloured:
            from rich.text import Text

            self._rich.print(Text.assemble(*((shown(text), style) for text, style in parts)), soft_wrap=True)
        else:
            sys.stdout.write("".join(shown(text) for text, _ in parts) + "\n")

    def table(self, table: Table) -> None:
        """Print a table without its title."""
        from rich.table import Table as Grid
        from rich.text import Text

        grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
        for column in table.columns:
            side: Literal["left", "right"] = "right" if column.is_right else "left"
            grid.add_column(column.head, justify=side, no_wrap=True, overflow="ellipsis")
        rows = [table.texts(row) for row in table.rows]
        if any(column.is_whole for column in table.columns):
            rows = self._narrowed(table.columns, rows)
        for row in rows:
            grid.add_row(*map(Text, map(shown, row)))
        if table.last is not None:
            grid.add_row(*(Text(shown(cell), style="bold") for cell in table.texts(table.last)))
        sys.stdout.flush()
        self._rich.print(grid)

    def _narrowed(self, columns: Sequence[Column], rows: Sequence[Sequence[str]]) -> list[list[str]]:
        """Return rows whose cells are cut in the middle where the terminal is too narrow, but for whole columns."""
        natural = [max(map(len, (column.head, *(row[at] for row in rows)))) for at, column in enumerate(columns)]
        others = [at for at, column in enumerate(columns) if not column.is_whole]
        room = self._rich.width - _GAP * len(columns) - sum(natural) + sum(natural[at] for at in others)
        widths: dict[int, int] = {}
        # What needs less than its share leaves the rest to the others.
        for rank, at in enumerate(sorted(others, key=lambda at: natural[at])):
            widths[at] = max(min(natural[at], room // (len(others) - rank)), _LEAST)
            room -= widths[at]
        return [[cut(cell, widths[at]) if at in widths else cell for at, cell in enumerate(row)] for row in rows]

    def sample(
        self, items: Sequence[Item], show: Callable[[Item], None], few: int = FEW, noun: str = "", indent: int = 4
    ) -> None:
        """Show each of some items; in a long list that is to be short only the first and the last few.

        Args:
            items: all of them.
            show: prints one.
            few: how many at each end.
            noun: what they are; nothing where that is clear.
            indent: by how many columns they are indented.
        """
        most = few if self.short and len(items) > 2 * few + 1 else len(items)
        for one in items[:most]:
            show(one)
        if most < len(items):
            between = len(items) - 2 * most
            what = count_text(between, f"more {noun}") if noun else f"{between:,} more"
            self.line(f"{' ' * indent}… {what} (--list-all shows all)", style="dim")
            for one in items[-most:]:
                show(one)

    def may_ask(self) -> bool:
        """Return True if there is a person to answer."""
        return sys.stdin is not None and console.is_terminal(sys.stdin)

    def number(self, question: str, default: int) -> int:
        """Ask until a number from 1 on is given; an empty line, or the end of the input, is the default."""
        while True:
            line = _answer(f"{question} [{default:,}]: ")
            said = line.strip().replace(",", "")
            if not said:
                return default
            if said.isascii() and said.isdigit() and 0 < int(said) < 10**12:
                return int(said)
            print(f"{shown(line.strip())!r} is not a whole number of 1 or more.", file=sys.stderr)

    def choose(self, question: str, answers: Sequence[str], default: str) -> str:
        """Ask until one of some answers is given; an empty line is the default, the end of the input the last one."""
        while True:
            line = _answer(f"{question}: ")
            answer = line.strip().lower() or default
            if not line:
                return answers[-1]
            if answer in answers:
                return answer

    def ask(self, question: str) -> bool:
        """Ask a question and return whether the answer is a clear yes; what is neither yes nor no is named."""
        return self.answer(question, ("yes", "no")) == "yes"

    def answer(self, question: str, answers: Sequence[str]) -> str:
        """Ask a question and return the answer; what is none of the answers is named, and taken for no.

        Args:
            question: it.
            answers: the words, yes and no among them; the first letter of each is enough.
        """
        said = _answer(f"{question} [{'/'.join(answers)}] ").strip().lower()
        for word in answers:
            if said in (word, word[0]):
                return word
        told = f"`{shown(said)}` is not an answer" if said else "No answer"
        known = [f"{word} ({word[0]})" for word in answers]
        what = f"Answer {', '.join(known[:-1])} or {known[-1]}."
        print(f"{told}; taken as no. {what}", file=sys.stderr, flush=True)
        return "no"


def _answer(prompt: str) -> str:
    """Ask, and return the line that a person types; what was typed before the question is no answer to it."""
    sys.stdout.flush()
    console.forget_typed(sys.stdin)
    print(prompt, end="", file=sys.stderr, flush=True)
    return sys.stdin.readline()
