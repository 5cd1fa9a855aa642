"""Sizes, durations and dates as people write them."""

from __future__ import annotations

import calendar
import re
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal

from frugal_sorter.rules.mistakes import Wrong

SECOND_NS = 1_000_000_000
_DAY_SECONDS = 86_400

_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(B|bytes?|[KMGT]i?B)", re.IGNORECASE)
_DURATION_PART = re.compile(r"\s*(\d+)\s*([a-z]+)\s*,?", re.IGNORECASE)
_SECONDS = {
    "second": 1, "sec": 1, "s": 1, "minute": 60, "min": 60, "hour": 3600, "h": 3600,
    "day": _DAY_SECONDS, "d": _DAY_SECONDS, "week": 7 * _DAY_SECONDS, "w": 7 * _DAY_SECONDS,
}  # fmt: skip
_MONTHS = {"month": 1, "year": 12, "y": 12}
_LARGEST = 1 << 62


def parse_size(text: str) -> int:
    """Return a size in bytes: `250 KB` is 250,000 and `250 KiB` 256,000.

    Raises:
        Wrong: it is not a size, or has no unit.
    """
    match = _SIZE.fullmatch(text.strip())
    if match is None:
        number = re.fullmatch(r"\s*\d+(?:\.\d+)?\s*", text)
        if number:
            raise Wrong(f"the size {text.strip()} has no unit", f"say {text.strip()} KB, or {text.strip()} bytes")
        raise Wrong(f'"{text}" is not a size', "a size looks like 250 KB, 1.5 GB or 10 MiB")
    number_text, unit = match[1], match[2].lower()
    power = "bkmgt".index(unit[0])
    size = int(Decimal(number_text) * (1024 if "i" in unit else 1000) ** power)
    if size > _LARGEST:
        raise Wrong(f'"{text}" is larger than any file can be', "sizes go up to T")
    return size


@dataclass(frozen=True, slots=True)
class Duration:
    """A length of time: calendar months, and seconds beside them."""

    months: int
    seconds: int

    def before(self, now_ns: int) -> int:
        """Return the moment this long before another, in ns since the epoch.

        Months and years go by the local calendar (31 March less a month is 28 or 29 February,
        the same time of day); all else by the clock.
        """
        moment_ns = now_ns
        if self.months:
            whole, rest = divmod(now_ns, SECOND_NS)
            try:
                moment = datetime.fromtimestamp(whole)
                month = moment.year * 12 + moment.month - 1 - self.months
                year, month = divmod(month, 12)
                day = min(moment.day, calendar.monthrange(year, month + 1)[1])
                moment = moment.replace(year=year, month=month + 1, day=day)
                moment_ns = int(moment.timestamp()) * SECOND_NS + rest
            except (ValueError, OverflowError, OSError):
                return -_LARGEST
        return max(moment_ns - self.seconds * SECOND_NS, -_LARGEST)


def parse_duration(text: str) -> Duration:
    """Read a duration such as `30 days`, `1 day 12 hours` or `6 months`.

    Raises:
        Wrong: it is not a duration.
    """
    months = seconds = position = 0
    while position < len(text.rstrip()):
        match = _DURATION_PART.match(text, position)
        unit = match[2].lower() if match else ""
        unit = unit.rstrip("s") if len(unit) > 1 else unit
        if match is None or (unit not in _SECONDS and unit not in _MONTHS):
            hint = "a duration looks like 30 days, 20 minutes, 6 months or 1 day 12 hours"
            if unit in {"m", "mo"}:
                hint = "say minutes or months"
            raise Wrong(f'"{text}" is not a duration', hint)
        if unit in _MONTHS:
            months += int(match[1]) * _MONTHS[unit]
        else:
            seconds += int(match[1]) * _SECONDS[unit]
        position = match.end()
    if not text.strip():
        raise Wrong("a duration is missing", "a duration looks like 30 days")
    if seconds * SECOND_NS > _LARGEST or months > 12 * 10_000:
        raise Wrong(f'"{text}" is longer than any file is old', "use a shorter one")
    return Duration(months, seconds)


@dataclass(frozen=True, slots=True)
class Span:
    """A day, a month or a year as written; `today` and `yesterday` are days counted from now."""

    first: date | None
    parts: int
    days_ago: int = 0

    def bounds(self, now_ns: int) -> tuple[int, int]:
        """Return the first moment of the span and the first after it, in ns, in local time."""
        first = self.first
        if first is None:
            first = datetime.fromtimestamp(now_ns // SECOND_NS).date() - timedelta(days=self.days_ago)
        try:
            if self.parts == 1:
                after = date(first.year + 1, 1, 1)
            elif self.parts == 2:
                after = date(first.year + first.month // 12, first.month % 12 + 1, 1)
            else:
                after = first + timedelta(days=1)
            end = _midnight_ns(after)
        except (ValueError, OverflowError):
            end = _LARGEST
        return _midnight_ns(first), end


def _midnight_ns(day: date) -> int:
    """Return local midnight of a day, by the rules of the local time zone on that day."""
    try:
        return int(datetime(day.year, day.month, day.day).timestamp()) * SECOND_NS
    except (ValueError, OverflowError, OSError):
        return _LARGEST if day.year > 1970 else -_LARGEST


def parse_span(text: str) -> Span:
    """Read `2026-10-04`, `2026-10`, `2026`, `today` or `yesterday`.

    Raises:
        Wrong: it is not a date.
    """
    word = text.strip().lower()
    if word in {"today", "yesterday"}:
        return Span(None, 3, 0 if word == "today" else 1)
    match = re.fullmatch(r"(\d{4})(?:-(\d{1,2})(?:-(\d{1,2}))?)?", word)
    if match is None:
        raise Wrong(f'"{text}" is not a date', "a date looks like 2026-10-04, 2026-10, 2026, today or yesterday")
    numbers = [int(part) for part in match.groups() if part]
    try:
        first = date(*[*numbers, 1, 1][:3])
    except ValueError:
        raise Wrong(f'there is no such date as "{text}"', "a date is written year-month-day") from None
    return Span(first, len(numbers))


def local_time(ns: int) -> datetime:
    """Return a moment as local time.

    Raises:
        ValueError: it lies outside the years 1 to 9999.
    """
    try:
        return datetime.fromtimestamp(ns // SECOND_NS)
    except (OverflowError, OSError) as error:
        raise ValueError("a date outside the years 1 to 9999") from error
