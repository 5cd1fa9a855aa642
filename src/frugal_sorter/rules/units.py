"""Sizes, times, moments and promises to keep as people write them, and the mistakes in them."""

from __future__ import annotations

import math
import re
from collections.abc import Hashable, Iterable, Sequence
from datetime import date, datetime, timedelta
from typing import Literal, NamedTuple

from frugal_sorter.errors import FrugalError, UsageError, one_line
from frugal_sorter.values import frozen

_TRUTHS = {"yes": "true", "on": "true", "y": "true", "no": "false", "off": "false", "n": "false"}


class InvalidValue(UsageError):
    """A value that does not fit; whoever knows the place turns it into a `Mistake`.

    `others` are more things that are wrong with the same value.
    """

    def __init__(self, message: str, hint: str) -> None:
        super().__init__(message, hint)
        self.message, self.hint = message, hint
        self.others: list[InvalidValue] = []


@frozen(order=True)
class Mistake:
    """One thing that is wrong in a rule file, with what would be right."""

    file: str
    line: int
    rule: str
    message: str
    hint: str

    def __str__(self) -> str:
        rule = f'rule "{self.rule}": ' if self.rule else ""
        hint = f"; {self.hint}" if self.hint else ""
        return one_line(f"{self.file}:{self.line}: {rule}{self.message}{hint}")


class Mistakes(FrugalError):
    """Everything that is wrong in a rule file, in the order of its lines. Nothing runs from it."""

    def __init__(self, mistakes: Iterable[Mistake]) -> None:
        self.all = sorted(mistakes)
        super().__init__("")
        self.message = "\n".join(str(mistake) for mistake in self.all)

    def __str__(self) -> str:
        return self.message


def nearest(word: str, known: Iterable[str], cutoff: float = 0.6) -> str:
    """Return `did you mean ...?` with the closest known word, or an empty text; from 0 to 1, how close it must be."""
    import difflib

    close = difflib.get_close_matches(word.lower(), list(known), n=1, cutoff=cutoff)
    return f"did you mean `{close[0]}`?" if close else ""


def syntax_mistake(file: str, text: str, message: str) -> Mistake:
    """Return what tomllib says of a file as a mistake with its line, and what probably caused it."""
    place = re.search(r"\(at line (\d+), column (\d+)\)|\(at end of document\)", message)
    what = re.sub(r"\s*\(at .*\)$", "", message)
    line = int(place[1]) if place and place[1] else text.count("\n") + 1
    hint = "check the quotes and brackets before this point"
    if "Unescaped '\\'" in message or "hex value" in message.lower():
        hint = "write '...' instead of \"...\" around a text with backslashes, or / instead of \\"
    written = text.split("\n")[line - 1] if line <= text.count("\n") + 1 else ""
    value = written.partition("=")[2].strip()
    if written.count('"') > 2 and re.search(r'=\s*"[^"]*"[^"\s,\]}#]', written):
        hint = "put text that contains double quotes in single quotes: '...'"
    elif "overwrite" in message or "twice" in message:
        hint = "use each key only once"
    elif "Invalid value" in message and value.lower() in _TRUTHS:
        hint = f"use {_TRUTHS[value.lower()]}"
    elif "Invalid value" in message:
        hint = "a text needs quotes"
    return Mistake(file, line, "", f"this is not TOML: {what[:1].lower()}{what[1:]}", hint)


SECOND_NS = 1_000_000_000
_DAY_SECONDS = 86_400
DAY_NS = _DAY_SECONDS * SECOND_NS

# Compiled when they are first used, as few commands read any.
_SIZE = r"(?i)(\d+(?:\.\d+)?)\s*(B|bytes?|[KMGT]i?B)"
_DURATION_PART = r"(?i)\s*(\d+)\s*([a-z]+)\s*,?"
_SECONDS = {
    "second": 1, "sec": 1, "s": 1, "minute": 60, "min": 60, "hour": 3600, "h": 3600,
    "day": _DAY_SECONDS, "d": _DAY_SECONDS, "week": 7 * _DAY_SECONDS, "w": 7 * _DAY_SECONDS,
}  # fmt: skip
_MONTHS = {"month": 1, "year": 12, "y": 12}
_LARGEST = 1 << 62


def parse_size(text: str) -> int:
    """Return a size in bytes: `250 KB` is 250,000 and `250 KiB` 256,000.

    Raises:
        InvalidValue: it is not a size, or has no unit.
    """
    match = re.fullmatch(_SIZE, text.strip())
    if match is None:
        number = re.fullmatch(r"\s*\d+(?:\.\d+)?\s*", text)
        if number and not float(number[0]):
            return 0
        if number:
            raise InvalidValue(f"the size {text.strip()} has no unit", f"use {text.strip()} KB, or {text.strip()} bytes")
        raise InvalidValue(f'"{text}" is not a size', "a size looks like 250 KB, 1.5 GB or 10 MiB")
    from decimal import Decimal  # like `calendar` below, only where one is written: lists of runs have none

    number_text, unit = match[1], match[2].lower()
    power = "bkmgt".index(unit[0])
    size = int(Decimal(number_text) * (1024 if "i" in unit else 1000) ** power)
    if size > _LARGEST:
        raise InvalidValue(f'"{text}" is larger than any file can be', "sizes go up to T")
    return size


@frozen
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
                day = min(moment.day, _days_in(year, month + 1))
                moment = moment.replace(year=year, month=month + 1, day=day)
                moment_ns = int(moment.timestamp()) * SECOND_NS + rest
            except (ValueError, OverflowError, OSError):
                return -_LARGEST
        return max(moment_ns - self.seconds * SECOND_NS, -_LARGEST)

    @property
    def text(self) -> str:
        """The duration as it may be written, in the largest units that it is whole in."""
        parts = [f"{self.months} month{'' if self.months == 1 else 's'}"] if self.months else []
        for unit, seconds in (("day", _DAY_SECONDS), ("hour", 3_600), ("minute", 60), ("second", 1)):
            if self.seconds and self.seconds % seconds == 0:
                count = self.seconds // seconds
                parts.append(f"{count} {unit}{'' if count == 1 else 's'}")
                break
        return " ".join(parts) or "0 seconds"

    def from_now(self, now_ns: int) -> int:
        """Return the moment this long after another, months by the calendar."""
        if not self.months:
            return now_ns + self.seconds * SECOND_NS
        moment = datetime.fromtimestamp(now_ns // SECOND_NS)
        year, month = divmod(moment.year * 12 + moment.month - 1 + self.months, 12)
        try:
            day = min(moment.day, _days_in(year, month + 1))
            later = moment.replace(year=year, month=month + 1, day=day)
        except ValueError:
            raise InvalidValue("that date is out of range", "use a shorter time") from None
        return int(later.timestamp()) * SECOND_NS + self.seconds * SECOND_NS

    def after(self, moment_ns: int) -> int:
        """Return the first moment, to the second, from which going back this long ends after another moment."""
        if not self.months:
            return moment_ns + self.seconds * SECOND_NS + 1
        low, high = moment_ns, moment_ns + (self.seconds + (self.months + 1) * 32 * _DAY_SECONDS) * SECOND_NS
        while high - low > SECOND_NS:
            middle = (low + high) // 2
            low, high = (low, middle) if self.before(middle) > moment_ns else (middle, high)
        return high


def parse_duration(text: str) -> Duration:
    """Read a duration such as `30 days`, `1 day 12 hours` or `6 months`.

    Raises:
        InvalidValue: it is not a duration.
    """
    months = seconds = position = 0
    part = re.compile(_DURATION_PART)
    if text.strip() == "0":
        return Duration(0, 0)
    while position < len(text.rstrip()):
        match = part.match(text, position)
        unit = match[2].lower() if match else ""
        unit = unit.rstrip("s") if len(unit) > 1 else unit
        if match is None or (unit not in _SECONDS and unit not in _MONTHS):
            hint = "a duration looks like 30 days, 20 minutes, 6 months or 1 day 12 hours"
            if unit in {"m", "mo"}:
                hint = "use minutes or months"
            raise InvalidValue(f'"{text}" is not a duration', hint)
        if unit in _MONTHS:
            months += int(match[1]) * _MONTHS[unit]
        else:
            seconds += int(match[1]) * _SECONDS[unit]
        position = match.end()
    if not text.strip():
        raise InvalidValue("a duration is missing", "a duration looks like 30 days")
    if seconds * SECOND_NS > _LARGEST or months > 12 * 10_000:
        raise InvalidValue(f'"{text}" is too long', "use a shorter one")
    return Duration(months, seconds)


@frozen
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


def _days_in(year: int, month: int) -> int:
    from calendar import monthrange

    return monthrange(year, month)[1]


def _midnight_ns(day: date) -> int:
    """Return local midnight of a day, by the rules of the local time zone on that day."""
    try:
        return int(datetime(day.year, day.month, day.day).timestamp()) * SECOND_NS
    except (ValueError, OverflowError, OSError):
        return _LARGEST if day.year > 1970 else -_LARGEST


def parse_span(text: str) -> Span:
    """Read `2026-10-04`, `2026-10`, `2026`, `today` or `yesterday`.

    Raises:
        InvalidValue: it is not a date.
    """
    word = text.strip().lower()
    if word in {"today", "yesterday"}:
        return Span(None, 3, 0 if word == "today" else 1)
    match = re.fullmatch(r"(\d{4})(?:-(\d{1,2})(?:-(\d{1,2}))?)?", word)
    if match is None:
        raise InvalidValue(f'"{text}" is not a date', "a date looks like 2026-10-04, 2026-10, 2026, today or yesterday")
    numbers = [int(part) for part in match.groups() if part]
    try:
        first = date(*[*numbers, 1, 1][:3])
    except ValueError:
        raise InvalidValue(f'"{text}" is not a valid date', "write dates as year-month-day") from None
    return Span(first, len(numbers))


def local_time(ns: int) -> datetime:
    """Return a moment as local time.

    Raises:
        ValueError: it is outside the years 1 to 9999.
    """
    try:
        return datetime.fromtimestamp(ns // SECOND_NS)
    except (OverflowError, OSError) as error:
        raise ValueError("a date outside the years 1 to 9999") from error


_DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_HOURS = r"([a-z]{3})(?:-([a-z]{3}))?|(\d{1,2}):(\d{2})-(\d{1,2}):(\d{2})"


@frozen
class Hours:
    """Some days of the week and a time of day, in local time; 22:00-06:00 runs past midnight.

    `days` counts Monday as 0; `first` and `last` are minutes of the day, `last` not included.
    """

    days: frozenset[int]
    first: int
    last: int

    def hold(self, now_ns: int) -> bool:
        """Return True if a moment is within them."""
        now = datetime.fromtimestamp(now_ns // SECOND_NS)
        minute = now.hour * 60 + now.minute
        if self.first < self.last:
            return now.weekday() in self.days and self.first <= minute < self.last
        # Past midnight they belong to the day on which they began.
        yesterday = (now.weekday() - 1) % 7
        return (now.weekday() in self.days and minute >= self.first) or (yesterday in self.days and minute < self.last)

    def begin_after(self, now_ns: int) -> int:
        """Return the first moment after another at which they begin to hold, in ns since the epoch."""
        day = datetime.fromtimestamp(now_ns // SECOND_NS).replace(hour=0, minute=0, second=0)
        for ahead in range(9):
            begin = (day + timedelta(days=ahead)).replace(hour=self.first // 60, minute=self.first % 60)
            begin_ns = int(begin.timestamp()) * SECOND_NS
            if begin_ns > now_ns and begin.weekday() in self.days:
                return begin_ns
        raise AssertionError("add at least one day of the week")


def parse_hours(text: str) -> Hours:
    """Read days and hours such as `mon-fri 08:00-18:00`, `sat`, or `22:00-06:00`.

    Raises:
        InvalidValue: they cannot be read.
    """
    wrong = InvalidValue(f'"{text}" is neither days nor hours', "for example mon-fri 08:00-18:00")
    days: set[int] = set()
    first, last = 0, 24 * 60
    for part in text.lower().replace(",", " ").split():
        match = re.fullmatch(_HOURS, part)
        if match is None:
            raise wrong
        if match[1]:
            begin, end = match[1], match[2] or match[1]
            if begin not in _DAYS or end not in _DAYS:
                raise wrong
            at, stop = _DAYS.index(begin), _DAYS.index(end)
            days.update((at + step) % 7 for step in range((stop - at) % 7 + 1))
        else:
            hours = [int(number) for number in match.groups()[2:]]
            first, last = hours[0] * 60 + hours[1], hours[2] * 60 + hours[3]
            if max(hours[1], hours[3]) > 59 or first >= 24 * 60 or last > 24 * 60:
                raise wrong
    if not text.strip():
        raise wrong
    return Hours(frozenset(days or range(7)), first, last)


def parse_moment(text: str, now_ns: int) -> int:
    """Read a moment to look at: `in 2 weeks` or `2 weeks`, `tomorrow`, a date, or a date with a time.

    Of a date the first minute is meant; `tomorrow` is this time of the day.

    Raises:
        InvalidValue: it is neither.
    """
    word = " ".join(text.lower().split())
    wrong = InvalidValue(f'"{text}" is not a date or time', 'use "in 2 weeks", tomorrow, 2026-12-24 or "2026-12-24 08:00"')
    if word in ("now", "tomorrow"):
        return now_ns if word == "now" else Duration(0, _DAY_SECONDS).from_now(now_ns)
    if re.fullmatch(r"\d{4}-\d{1,2}-\d{1,2}|today|yesterday", word):
        return parse_span(word).bounds(now_ns)[0]
    if re.fullmatch(r"\d{4}-\d{1,2}-\d{1,2}[ t]\d{1,2}:\d{2}(:\d{2})?", word):
        try:
            day, clock = re.split("[ t]", word)
            year, month, of_month = map(int, day.split("-"))
            hour, minute, second = [*map(int, clock.split(":")), 0][:3]
            return int(datetime(year, month, of_month, hour, minute, second).timestamp()) * SECOND_NS
        except (ValueError, OverflowError, OSError):
            raise wrong from None
    try:
        return parse_duration(word.removeprefix("in ")).from_now(now_ns)
    except InvalidValue:
        raise wrong from None


def parse_past(text: str, now_ns: int) -> int:
    """Read a moment that has been: `14:00` (today), `yesterday`, a date with or without a time, `3 days` (ago).

    Raises:
        InvalidValue: it is none of these, or is in the future.
    """
    word = " ".join(text.lower().split()).removesuffix(" ago")
    wrong = InvalidValue(f'"{text}" is not a date or time', 'use 14:00, yesterday, "3 days", 2026-11-24 or "2026-11-24 08:00"')
    if re.fullmatch(r"\d{1,2}:\d{2}", word):
        word = f"{datetime.fromtimestamp(now_ns // SECOND_NS):%Y-%m-%d} {word}"
    try:
        moment_ns = parse_duration(word).before(now_ns)
    except InvalidValue:
        if word.startswith("in ") or word == "tomorrow":
            raise wrong from None
        try:
            moment_ns = parse_moment(word, now_ns)
        except InvalidValue:
            raise wrong from None
    if moment_ns > now_ns:
        raise InvalidValue(f'"{text}" is in the future', "use a time in the past")
    return moment_ns


def minute_text(ns: int) -> str:
    """Return a moment, in ns since the epoch, as its local date and time to the minute."""
    return f"{datetime.fromtimestamp(ns // SECOND_NS):%Y-%m-%d %H:%M}"


_Unit = Literal["newest", "all", "day", "week", "month", "year"]
_HINT = 'for example "newest 5", "all for 2 weeks", "one a week for 3 months" or "one a year"'


class Promise(NamedTuple):
    """One thing that is kept.

    Args:
        text: as written.
        unit: the period from which one is kept; the newest, or all.
        number: how many of the newest.
        lasting: for how long; None for ever.
    """

    text: str
    unit: _Unit
    number: int = 0
    lasting: Duration | None = None


class Promised(NamedTuple):
    """Why an entry is kept, and until when, in ns since the epoch; None if that is not known, or never ends."""

    promise: Promise
    until_ns: int | None


def parse_promise(text: str) -> Promise:
    """Read what is kept.

    Raises:
        InvalidValue: it is none of the forms.
    """
    word = " ".join(text.lower().split())
    if found := re.fullmatch(r"newest ([0-9]{1,6})", word):
        if int(found[1]) < 1:
            raise InvalidValue(f'"{text}" keeps nothing', 'for example "newest 5"')
        return Promise(word, "newest", int(found[1]))
    if found := re.fullmatch(r"all for (.+)", word):
        return Promise(word, "all", lasting=parse_duration(found[1]))
    if found := re.fullmatch(r"one (?:a|an|each|every|per) (day|week|month|year)(?: for (.+))?", word):
        unit: _Unit = found[1]  # type: ignore[assignment]
        return Promise(word, unit, lasting=parse_duration(found[2]) if found[2] else None)
    raise InvalidValue(f'"{text}" does not say what to keep', _HINT)


def _period(unit: _Unit, moment_ns: int) -> Hashable:
    day = datetime.fromtimestamp(moment_ns // SECOND_NS).date()
    periods: dict[_Unit, Hashable] = {"day": day, "week": day.isocalendar()[:2], "month": (day.year, day.month), "year": day.year}
    return periods[unit]


def _lasting(one: Promised) -> float:
    """Return what is the greater, the longer a promise lasts."""
    # The newest are kept until newer ones come, which nobody can predict; a date says more.
    if one.promise.unit == "newest":
        return -1
    return math.inf if one.until_ns is None else one.until_ns


def kept_of(moments_ns: Sequence[int], promises: Sequence[Promise], now_ns: int) -> list[Promised | None]:
    """Return for each entry of a group why it is kept, the reason that lasts longest; None where nothing keeps it.

    Args:
        moments_ns: the date of each, in ns since the epoch; of equal ones the first counts as the earlier.
        promises: what is kept.
        now_ns: the moment.
    """
    found: list[Promised | None] = [None] * len(moments_ns)
    order = sorted(range(len(moments_ns)), key=lambda at: moments_ns[at])

    def keep(at: int, promise: Promise) -> None:
        until_ns = None if promise.lasting is None else promise.lasting.from_now(moments_ns[at])
        one, known = Promised(promise, until_ns), found[at]
        if (until_ns is None or until_ns > now_ns) and (known is None or _lasting(one) > _lasting(known)):
            found[at] = one

    for promise in promises:
        if promise.unit == "newest":
            chosen = order[-promise.number :]
        elif promise.unit == "all":
            chosen = order
        else:
            first: dict[Hashable, int] = {}
            for at in order:
                first.setdefault(_period(promise.unit, moments_ns[at]), at)
            chosen = list(first.values())
        for at in chosen:
            keep(at, promise)
    return found
