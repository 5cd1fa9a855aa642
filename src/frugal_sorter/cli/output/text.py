"""Names, sizes, counts and dates as people read them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from functools import lru_cache
from typing import Any, TextIO

from frugal_sorter.errors import printable
from frugal_sorter.platforms import slashed

_QUARTER = 900
# What a cell may not begin with, in full width, too, which some spreadsheets take for the same.
_FORMULA = frozenset("=+-@\t\r＝＋－＠")


# A name as it is fit for a terminal.
shown = printable


def size_text(size: int) -> str:
    """Return a size as people write it, in units of 1000."""
    if size < 1000:
        return f"{size} B"
    number = float(size)
    for unit in ("kB", "MB", "GB", "TB", "PB"):
        number /= 1000
        if number < 999.95:
            return f"{number:.1f} {unit}" if number < 99.95 else f"{number:.0f} {unit}"
    return f"{number:.0f} PB"


def signed_size_text(size: int) -> str:
    """Return a difference of sizes with its sign."""
    return f"{'+' if size > 0 else '-' if size < 0 else ''}{size_text(abs(size))}"


def share_text(part: int, total: int) -> str:
    """Return a part of a whole in percent, empty where there is no whole."""
    if not total:
        return ""
    return "<1%" if 0 < part < total / 200 else f"{part / total:.0%}"


def count_text(count: int, noun: str, plural: str = "") -> str:
    """Return a count with its noun, such as `1 file` or `2,314 files`."""
    return f"{count:,} {noun if count == 1 else plural or noun + 's'}"


def date_text(ns: int) -> str:
    """Return a moment as a local date (ISO 8601)."""
    return moment_text(ns)[:10]


def moment_text(ns: int) -> str:
    """Return a moment as local date and time, to the minute."""
    try:
        return datetime.fromtimestamp(ns // 1_000_000_000).strftime("%Y-%m-%d %H:%M")
    except (ValueError, OverflowError, OSError):
        return "beyond the calendar"


def ago_text(ns: int, now_ns: int) -> str:
    """Return how far a moment is from now, such as `12 days ago` or `in 3 hours`."""
    seconds = abs(now_ns - ns) // 1_000_000_000
    if seconds >= 2 * 86_400 and (days := _days_between(ns, now_ns)):
        return f"in {count_text(days, 'day')}" if ns > now_ns else f"{count_text(days, 'day')} ago"
    for unit, length in (("day", 86_400), ("hour", 3_600), ("minute", 60), ("second", 1)):
        if seconds >= length * (2 if unit == "day" else 1) or unit == "second":
            amount = count_text(seconds // length, unit)
            break
    return f"in {amount}" if ns > now_ns else f"{amount} ago"


def _days_between(one_ns: int, other_ns: int) -> int:
    """Return how many days apart two moments are on a local calendar, 0 beyond it."""
    try:
        one, other = (datetime.fromtimestamp(ns // 1_000_000_000).date() for ns in (one_ns, other_ns))
    except (ValueError, OverflowError, OSError):
        return 0
    return abs((one - other).days)


def iso_text(ns: int) -> str:
    """Return a moment as ISO 8601 with its offset from UTC, for programs."""
    seconds = ns // 1_000_000_000
    quarter, rest = divmod(seconds, _QUARTER)
    try:
        hour, begin, offset = _quarter(quarter)
        if begin + rest >= 3_600:
            return datetime.fromtimestamp(seconds).astimezone().isoformat()
    except (ValueError, OverflowError, OSError):
        return f"{seconds}s"
    return f"{hour}{(begin + rest) // 60:02}:{(begin + rest) % 60:02}{offset}"


@lru_cache(maxsize=1024)
def _quarter(number: int) -> tuple[str, int, str]:
    """Return the date and hour of a quarter of an hour, its first second of that, and its offset from UTC.

    Offsets change at the end of one. It lies within an hour, but where, long ago, an offset had odd minutes.
    """
    text = datetime.fromtimestamp(number * _QUARTER).astimezone().isoformat()
    return text[:14], int(text[14:16]) * 60 + int(text[17:19]), text[19:]


def cut(text: str, width: int) -> str:
    """Return a text that is cut in the middle to a width in letters: its end often says more than that."""
    if len(text) <= width:
        return text
    tail = (width - 1) // 2
    return f"{text[: width - 1 - tail]}…{text[len(text) - tail :]}"


def below(path: str, base: str) -> str:
    """Return a path as seen from a base folder, where it lies below it."""
    if slashed.is_top(base):
        return shown(path)
    if path == base:
        return "."
    prefix = base.rstrip("/") + "/"
    return shown(path[len(prefix) :] if path.startswith(prefix) else path)


def cell_text(text: str) -> str:
    """Return a cell of CSV that no spreadsheet takes for a formula, and that any terminal can show."""
    text = shown(text)
    return f"'{text}" if text[:1] in _FORMULA else text


def held_text(levels: Iterable[int | None]) -> str:
    """Return what is counted of folders that a rule acts in, in words: hidden files too, and down to which level.

    Args:
        levels: of each of them, how many levels were counted; None for all.
    """
    deepest = set(levels)
    if deepest <= {None}:
        return "hidden files too"
    if deepest == {1}:
        return "hidden files too, subfolders not"
    return "hidden files too, as deep as the rules look"


def common_base(folders: list[str]) -> str:
    """Return the folder that all of some folders lie in."""
    return slashed.common_of(folders)


class PrintableStream:
    """A stream that lets only printable letters and ends of lines through.

    Args:
        stream: where it goes.
    """

    def __init__(self, stream: TextIO) -> None:
        self.stream = stream

    def write(self, text: str) -> int:
        """Write a text, with what is not printable escaped."""
        self.stream.write(printable_lines(text))
        return len(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.stream, name)


def printable_lines(text: str) -> str:
    """Return a text of whole lines with what is not printable escaped; CSV ends its lines with both characters."""
    if text.isascii() and text.replace("\n", "").isprintable():
        return text
    lines = text.split("\n")
    ends = [line.endswith("\r") for line in lines[:-1]]
    escaped = [shown(line[:-1]) + "\r" if end else shown(line) for line, end in zip(lines, ends, strict=False)]
    return "\n".join([*escaped, shown(lines[-1])])


def raw(stream: Any) -> TextIO:
    """Return the stream behind a printable one, for what is not text from outside."""
    behind: TextIO = stream.stream if isinstance(stream, PrintableStream) else stream
    return behind
