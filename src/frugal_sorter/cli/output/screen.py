"""The screen: lines, tables and questions; and a line that says how far a long command has got."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeVar

from frugal_sorter.cli.output.text import breaks, columns, count_text, cut, raw, share_text, shown, width_of, wrapped
from frugal_sorter.platforms import console

if TYPE_CHECKING:
    from rich.console import Console

    from frugal_sorter.cli.output.results import Column, Table

# An orange that can be read on light and on dark ground; yellow cannot on light.
_STYLES = {"warn": "color(130)", "refused": "bold color(130)"}
_AFTER_SECONDS, _EVERY_SECONDS, _MINUTES_FROM = 1.0, 0.2, 90


class Progress:
    """Writes over its own line on standard error, and takes it away at the end.

    Args:
        what: what is counted, such as `files counted`.
    """

    def __init__(self, what: str) -> None:
        self._what = what
        self._screen = raw(sys.stderr)
        self._shows = console.is_terminal(self._screen)
        self._pid = os.getpid()
        self._began, self._of = time.monotonic(), 0
        self._next = self._began + _AFTER_SECONDS
        self._written = 0

    def update(self, count: int, of: int = 0, what: str = "") -> None:
        """Show how far the work has got, and how long the rest will take where it is known how much there is.

        Args:
            count: how much is done.
            of: how much there is; 0 where that is not known.
            what: what is counted, where by now that is something else.
        """
        if not count:
            return
        now = time.monotonic()
        # A fork counts its own part only.
        if not self._shows or now < self._next or os.getpid() != self._pid:
            return
        if (of, what or self._what) != (self._of, self._what):
            self._of, self._what, self._began = of, what or self._what, now
        self._next = now + _EVERY_SECONDS
        text = f"{count:,} {self._what}"
        if 0 < count <= of:
            left = (now - self._began) * (of - count) / count
            rest = f"{left:.0f} s" if left < _MINUTES_FROM else f"{left / 60:.0f} min"
            # The first moments say little about the others.
            rest = f", about {rest} left" if now - self._began > _AFTER_SECONDS else ""
            text = f"{count:,} of {of:,} {self._what} ({share_text(count, of)}{rest})"
        text = cut(shown(text), (width_of(sys.stderr) or _PIPED_WIDTH) - 1)
        self._screen.write("\r" + text.ljust(self._written))
        self._screen.flush()
        self._written = len(text)

    def clear(self) -> None:
        """Clear the line, so that another can be printed; it comes back with the next news."""
        if self._written:
            self._screen.write("\r" + " " * self._written + "\r")
            self._screen.flush()
            self._written = 0

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *_: object) -> None:
        self.clear()


def in_pager(show: Callable[[], object]) -> None:
    """Show what a function prints in the pager of this system (`$PAGER`), without colours."""
    from contextlib import redirect_stdout
    from io import StringIO
    from pydoc import pager

    with redirect_stdout(StringIO()) as text:
        show()
    pager(text.getvalue())


_PIPED_WIDTH = 100_000
# This many lines of a long list are printed at each end.
FEW = 3
# How many lines a list usually has around it: headings, what is left alone, the question.
_AROUND = 12
# Between two columns of a table; and what is left of a cell at least, however narrow the terminal is.
_GAP, _LEAST = 2, 5
Item = TypeVar("Item")


class Screen:
    """Results go to standard output, everything else to standard error.

    Rich is imported for colour only: a long list that is piped on needs none.

    Args:
        short: of long lists, print only the first and the last few; by default only on a terminal.
    """

    def __init__(self, short: bool | None = None) -> None:
        for stream in (sys.stdout, sys.stderr):
            if hasattr(stream, "reconfigure"):
                stream.reconfigure(errors="backslashreplace")
        self._coloured = console.is_terminal(sys.stdout)
        self.short = self._coloured if short is None else short
        self._may_be_whole = short is None
        # How many entries of long lists have been left out.
        self.left_out = 0
        # What is cleared before a line is printed, so that the two do not run into each other.
        self.progress: Progress | None = None

    @cached_property
    def _rich(self) -> Console:
        from rich.console import Console
        from rich.theme import Theme

        return Console(file=raw(sys.stdout), highlight=False, markup=False, emoji=False, theme=Theme(_STYLES))

    @property
    def is_terminal(self) -> bool:
        """Whether a person sees the lines as they come."""
        return self._coloured

    @property
    def width(self) -> int:
        """How many columns there are; very many where the output is piped."""
        return self._rich.width if self._coloured else _PIPED_WIDTH

    def has_room(self, count: int) -> bool:
        """Return True if a list that would be short fits whole: so many lines, and what is usually around them."""
        return self.short and self._may_be_whole and count + _AROUND <= self._rich.height

    def line(self, text: str = "", style: str = "") -> None:
        """Print one line of the result; on a terminal it is wrapped between words."""
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

            line = Text.assemble(*((shown(text), style) for text, style in parts))
            at, indent = breaks(line.plain, self.width)
            for number, part in enumerate(line.divide(at)):
                part.rstrip()
                self._rich.print(Text(" " * indent) + part if number else part, soft_wrap=True)
        else:
            sys.stdout.write("".join(shown(text) for text, _ in parts) + "\n")

    def table(self, table: Table, below: Callable[[Any], str] | None = None) -> None:
        """Print a table without its title.

        Args:
            table: it.
            below: returns a line to print below a row.
        """
        if any(column.is_extra for column in table.columns) and not (self._coloured and self._fits(table)):
            table = table.plain
        heads = [column.head for column in table.columns]
        last = [table.texts(table.last)] if table.last is not None else []
        rows = [[shown(cell) for cell in table.texts(row)] for row in table.rows]
        widths = self._widths(table.columns, [heads, *rows, *last])
        self.parts((_row(table.columns, heads, widths), "dim"))
        for row, cells in zip(table.rows, rows, strict=True):
            self.parts((_row(table.columns, cells, widths), ""))
            if below is not None and (text := below(row)):
                self.parts((f"  {cut(shown(text), self.width - 2)}", "dim"))
        for cells in last:
            self.parts((_row(table.columns, cells, widths), "bold"))

    def _fits(self, table: Table) -> bool:
        rows = [[column.head for column in table.columns], *map(table.texts, table.rows)]
        return self._missing(_natural(rows)) <= 0

    def _missing(self, widths: Sequence[int]) -> int:
        """Return by how much a row is wider than the terminal; negative where there is room."""
        return sum(widths) + _GAP * (len(widths) - 1) - self.width

    def _widths(self, columns_: Sequence[Column], rows: Sequence[Sequence[str]]) -> list[int]:
        """Return how wide each column is: as wide as its cells where there is room; whole columns give way last."""
        widths = _natural(rows)
        for whole in (False, True):
            missing = self._missing(widths)
            if missing <= 0:
                break
            giving = [at for at, column in enumerate(columns_) if column.is_whole is whole]
            room = sum(widths[at] for at in giving) - missing
            # What needs less than its share leaves the rest to the others.
            for rank, at in enumerate(sorted(giving, key=lambda at: widths[at])):
                widths[at] = max(min(widths[at], room // (len(giving) - rank)), min(widths[at], _LEAST))
                room -= widths[at]
        return widths

    def sample(
        self,
        items: Sequence[Item],
        show: Callable[[Item], None],
        few: int = FEW,
        noun: str = "",
        indent: int = 4,
        weight: Callable[[Item], int] = lambda _: 1,
    ) -> None:
        """Show each of some items; in a long list that is to be short only the first and the last few.

        Args:
            items: all of them.
            show: prints one.
            few: how many at each end.
            noun: what they are; nothing where that is clear.
            indent: by how many columns they are indented.
            weight: how many entries one item stands for.
        """
        most = few if self.short and len(items) > 2 * few + 1 else len(items)
        for one in items[:most]:
            show(one)
        if most < len(items):
            between = len(items) - 2 * most
            what = count_text(between, f"more {noun}") if noun else f"{between:,} more"
            self.left_out += sum(weight(one) for one in items[most:-most])
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
            print(f"`{shown(answer)}` is not an answer.", file=sys.stderr, flush=True)

    def ask(self, question: str) -> bool:
        """Ask a question and return whether the answer is a clear yes; what is neither yes nor no is named."""
        return self.answer(question, ("yes", "no")) == "yes"

    def answer(self, question: str, answers: Sequence[str]) -> str:
        """Ask a question and return the answer; anything but the answers is named, and taken for no.

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
    """Ask, and return the line that a person types; what was typed before the question is not an answer to it."""
    sys.stdout.flush()
    console.forget_typed(sys.stdin)
    width = width_of(sys.stderr)
    print(wrapped(prompt, width) if width else prompt, end="", file=sys.stderr, flush=True)
    return sys.stdin.readline()


def _natural(rows: Sequence[Sequence[str]]) -> list[int]:
    """Return how wide the columns of some rows are where there is room."""
    return [max(map(columns, cells)) for cells in zip(*rows, strict=True)]


def _row(columns_: Sequence[Column], cells: Sequence[str], widths: Sequence[int]) -> str:
    """Return a row of a table; what does not fit is cut in the middle, where names differ least."""
    parts = []
    for column, cell, width in zip(columns_, cells, widths, strict=True):
        text = cell if columns(cell) <= width else cut(cell, width)
        gap = " " * (width - columns(text))
        parts.append(gap + text if column.is_right else text + gap)
    return (" " * _GAP).join(parts).rstrip()
