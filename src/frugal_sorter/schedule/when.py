"""When something runs: read from plain words, the next times computed, and written as schedulers want it.

Times are local ones. One that the clock leaps over in spring is left out that day; of two that are alike in autumn
the first one counts, as systemd does it (systemd.time(7)).
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Iterator, Mapping
from datetime import date, datetime, timedelta
from typing import Literal

from frugal_sorter.rules.units import SECOND_NS, InvalidValue
from frugal_sorter.values import frozen

WhenKind = Literal["times", "once", "start-up", "log-on", "arrival"]
Time = tuple[int, int]

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_DAY_NAMES = {day: at for at, day in enumerate(DAYS)} | {
    day.lower(): at for at, day in enumerate(("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"))
}
_ALL_DAYS = frozenset(range(7))
LAST = 0
FORMS = (
    "daily 18:00, daily 08:00 and 18:00, mon-fri 18:00, mon, thu 07:30, monthly 1 06:00, monthly last 22:00, every 15 minutes,"
    ' every 2 hours, once 2026-12-24 20:00, start-up, log-on, arrival, cron "0 3 * * 1"'
)
# What people type, and our word for it.
_EVERYDAY = {
    "hourly": "every 1 hour", "midnight": "daily 00:00", "noon": "daily 12:00", "nightly": "daily 02:00",
    "weekly": "mon 08:00", "weekdays": "mon-fri 18:00", "boot": "start-up", "reboot": "start-up",
    "startup": "start-up", "login": "log-on", "logon": "log-on", "daily": "daily 18:00", "monthly": "monthly 1 06:00",
    "change": "arrival", "watch": "arrival", "@reboot": "start-up", "@daily": "daily 00:00", "@hourly": "every 1 hour",
    "@weekly": "sun 00:00", "@monthly": "monthly 1 00:00", "minutely": "every 1 minute", "yearly": "monthly 1 06:00",
}  # fmt: skip
# Whole parts of an hour and of a day, so that the times are the same each hour and each day.
_MINUTES, _HOURS = (1, 2, 3, 4, 5, 6, 10, 12, 15, 20, 30), (1, 2, 3, 4, 6, 8, 12)
# No rule of days is without a day for longer: 29 February over the turn of a century.
_FARTHEST_DAYS = 366 * 8 + 1


@frozen
class When:
    """When something runs.

    Args:
        text: as it was written.
        kind: `times` for what comes again and again by the clock.
        times: hours and minutes of a day, in order.
        weekdays: on which days of the week, Monday as 0.
        month_days: on which days of the month, the last one as 0; None for all.
        months: in which months; None for all.
        either: with days of the week and of the month, one of both is enough, as cron has it (crontab(5)).
        at: the one moment of `once`, in local time.
    """

    text: str
    kind: WhenKind
    times: tuple[Time, ...] = ()
    weekdays: frozenset[int] = _ALL_DAYS
    month_days: frozenset[int] | None = None
    months: frozenset[int] | None = None
    either: bool = False
    at: datetime | None = None

    def next_after(self, moment_ns: int) -> int | None:
        """Return the first time after a moment, in ns since the epoch; None where there is none, or no clock tells."""
        return next(self.times_after(moment_ns), None)

    def times_after(self, moment_ns: int) -> Iterator[int]:
        """Yield the times after a moment, in ns since the epoch."""
        if self.kind == "once":
            assert self.at is not None
            once_ns = int(self.at.timestamp()) * SECOND_NS
            if once_ns > moment_ns:
                yield once_ns
        if self.kind != "times":
            return
        # A day before: what is today by this time zone can be yesterday by the clock that leapt.
        day = datetime.fromtimestamp(moment_ns // SECOND_NS).date() - timedelta(days=1)
        for ahead in range(_FARTHEST_DAYS):
            this = day + timedelta(days=ahead)
            if not self._is_on(this):
                continue
            for hour, minute in self.times:
                at_ns = _moment_ns(datetime(this.year, this.month, this.day, hour, minute))
                if at_ns is not None and at_ns > moment_ns:
                    yield at_ns

    def _is_on(self, day: date) -> bool:
        if self.months is not None and day.month not in self.months:
            return False
        on_weekday = day.weekday() in self.weekdays
        if self.month_days is None:
            return on_weekday
        is_last = LAST in self.month_days and day.day == calendar.monthrange(day.year, day.month)[1]
        on_day = day.day in self.month_days or is_last
        return (on_day or on_weekday) if self.either else (on_day and on_weekday)

    def by_minute(self) -> Mapping[tuple[int, ...], tuple[int, ...]]:
        """Return the times as hours that have the same minutes: minutes to hours."""
        minutes: dict[int, list[int]] = {}
        for hour, minute in self.times:
            minutes.setdefault(hour, []).append(minute)
        hours: dict[tuple[int, ...], list[int]] = {}
        for hour, those in minutes.items():
            hours.setdefault(tuple(those), []).append(hour)
        return {those: tuple(found) for those, found in hours.items()}


def _moment_ns(local: datetime) -> int | None:
    """Return a local time in ns since the epoch, None where the clock leaps over it."""
    seconds = local.timestamp()
    return None if datetime.fromtimestamp(seconds) != local else int(seconds) * SECOND_NS


def parse_when(text: str, now_ns: int) -> When:
    """Read when something runs; the forms are in `FORMS`.

    Args:
        text: such as `mon-fri 18:00`.
        now_ns: now; `once` must be later.

    Raises:
        InvalidValue: it cannot be read; says what would be.
    """
    word = " ".join(text.lower().split())
    if not word:
        raise InvalidValue("the time is missing", f"use one of {FORMS}")
    if word in ("start-up", "log-on", "arrival"):
        return When(word, word)  # type: ignore[arg-type]
    if word in _EVERYDAY:
        raise InvalidValue(f'"{text}" is not specific enough', f"use {_EVERYDAY[word]}")
    if hint := _meant(word):
        raise InvalidValue(f'"{text}" cannot be read', f"use {hint}")
    head, _, rest = word.partition(" ")
    if head == "cron":
        return _cron(rest, word)
    if head == "every":
        return _every(rest, word)
    if head == "once":
        return _once(rest, word, now_ns)
    if head == "daily":
        return When(word, "times", _times(rest, "daily"))
    if head == "monthly":
        return _monthly(rest, word)
    match = re.match(r"((?:[a-z]+(?:\s?-\s?[a-z]+)?(?:,\s?|\sand\s|\s)?)+)(.*)", word)
    if match is None:
        if re.fullmatch(r"[\d:]+", word):
            raise InvalidValue(f'"{text}" does not say on which days', f"use daily {word}")
        raise InvalidValue(f'"{text}" does not say when', f"use one of {FORMS}")
    weekdays = _weekdays(match[1], text)
    return When(word, "times", _times(match[2], match[1].strip()), weekdays)


def _meant(word: str) -> str:
    """Return how a time that is often written otherwise is written here; empty where it is none."""
    if day := re.fullmatch(r"(?:every |on )?([a-z]{3})[a-z]*?days?|(?:every|on) ([a-z]{3})", word):
        name = day[1] or day[2]
        return f"{name} 08:00" if name in _DAY_NAMES else ""
    if clock := re.fullmatch(r"(?:daily )?at (.+)|(\d{1,2}(?::\d{2})? ?[ap]m)", word):
        found = re.fullmatch(r"(\d{1,2})(?::(\d{2}))? ?([ap]m)?", clock[1] or clock[2])
        if found is not None:
            hour = int(found[1]) % (12 if found[3] else 24) + 12 * (found[3] == "pm")
            return f"daily {hour:02}:{found[2] or '00'}"
    return f'cron "{word}"' if re.fullmatch(r"[\d*,/-]+( [\d*,/a-z-]+){4}", word) else ""


def _times(text: str, after: str) -> tuple[Time, ...]:
    """Read `08:00 and 18:00`."""
    found: set[Time] = set()
    parts = [part for part in re.split(r"\s*(?:,|\band\b)\s*|\s+", text) if part]
    for part in parts:
        match = re.fullmatch(r"(\d{1,2}):(\d{2})", part)
        if match is None or int(match[1]) > 23 or int(match[2]) > 59:
            hint = "a time looks like 18:00"
            noon = re.fullmatch(r"(\d{1,2})(?::(\d{2}))?(am|pm)", part)
            if noon is not None and 1 <= int(noon[1]) <= 12:
                hour = int(noon[1]) % 12 + (12 if noon[3] == "pm" else 0)
                hint = f"use {hour:02}:{noon[2] or '00'}"
            raise InvalidValue(f'"{part}" is not a time of day', hint)
        found.add((int(match[1]), int(match[2])))
    if not found:
        raise InvalidValue("the time of day is missing", f"for example {after} 18:00")
    return tuple(sorted(found))


def _weekdays(text: str, whole: str) -> frozenset[int]:
    """Read `mon-fri` or `mon, thu`."""
    days: set[int] = set()
    for part in re.split(r",\s*|\s+and\s+|\s+", re.sub(r"\s*-\s*", "-", text.strip().rstrip(","))):
        names = part.split("-")
        if len(names) > 2 or not all(name in _DAY_NAMES for name in names):
            raise InvalidValue(f'"{whole}" does not say when', f"use one of {FORMS}")
        first, last = _DAY_NAMES[names[0]], _DAY_NAMES[names[-1]]
        days.update((first + step) % 7 for step in range((last - first) % 7 + 1))
    return frozenset(days)


def _monthly(rest: str, word: str) -> When:
    days, _, times = rest.partition(" ")
    if days != "last" and not (days.isascii() and days.isdigit() and 1 <= int(days) <= 31):
        raise InvalidValue("the day of the month is missing", "for example monthly 1 06:00, or monthly last 22:00")
    day = LAST if days == "last" else int(days)
    return When(word, "times", _times(times, f"monthly {days}"), month_days=frozenset({day}))


def _every(rest: str, word: str) -> When:
    match = re.fullmatch(r"(\d{1,4} )?(minute|hour)s?", rest)
    if match is None:
        unit = re.fullmatch(r"(?:\d+ )?(second|day|week|month)s?", rest)
        hint = {"second": "use every 1 minute, or arrival", "day": "use daily 18:00", "week": "use mon 08:00"}
        said = hint.get(unit[1], "use monthly 1 06:00") if unit else "for example every 15 minutes, or every 2 hours"
        raise InvalidValue(f'"{word}" cannot be read', said)
    count = int(match[1] or 1)
    allowed = _MINUTES if match[2] == "minute" else _HOURS
    if count not in allowed:
        if count == 60 and match[2] == "minute":
            raise InvalidValue(f'"{word}" is an hour', "use every 1 hour")
        raise InvalidValue(
            f'"{word}" does not divide evenly into {("an hour" if match[2] == "minute" else "a day")}',
            f"use {', '.join(map(str, allowed[:-1]))} or {allowed[-1]} {match[2]}s",
        )
    if match[2] == "minute":
        return When(word, "times", tuple((hour, minute) for hour in range(24) for minute in range(0, 60, count)))
    return When(word, "times", tuple((hour, 0) for hour in range(0, 24, count)))


def _once(rest: str, word: str, now_ns: int) -> When:
    match = re.fullmatch(r"(\d{4})-(\d{1,2})-(\d{1,2})[ t](\d{1,2}):(\d{2})", rest)
    try:
        at = datetime(*map(int, match.groups())) if match else None  # type: ignore[arg-type]
    except ValueError:
        at = None
    if at is None:
        raise InvalidValue(f'"{rest}" is not a date and time', "for example once 2026-12-24 20:00")
    moment_ns = _moment_ns(at)
    if moment_ns is None:
        raise InvalidValue(f"{at:%H:%M} does not exist on that day because the clocks go forward", "choose an hour later")
    if moment_ns <= now_ns:
        raise InvalidValue(f"{at:%Y-%m-%d %H:%M} is in the past", "choose a time in the future")
    return When(word, "once", at=at)


def _cron(rest: str, word: str) -> When:
    """Read the five fields of crontab(5)."""
    from cronsim import CronSim, CronSimError

    fields = rest.strip("\"'")
    # Letters are names of days and months, never the further signs that some programs have.
    if not re.fullmatch(r"(?:[\d*/,-]|[a-z]{3}| )+", fields) or len(fields.split()) != 5:
        raise InvalidValue(f'"{fields}" is not a valid cron expression', 'five fields, such as cron "0 3 * * 1"')
    try:
        parsed = CronSim(fields, datetime(2026, 1, 1))
    except CronSimError as error:
        raise InvalidValue(f'"{fields}": {error}', 'five fields, such as cron "0 3 * * 1"') from None
    _, _, of_month, _, of_week = fields.split()
    days = frozenset(day for day in parsed.days if isinstance(day, int))
    month_days = None if of_month.startswith("*") and len(days) == 31 else days
    # cron counts Sunday as 0 and as 7.
    weekdays = frozenset((day - 1) % 7 for day in parsed.weekdays if isinstance(day, int))
    months = None if len(parsed.months) == 12 else frozenset(map(int, parsed.months))
    either = not of_month.startswith("*") and not of_week.startswith("*")
    times = tuple((hour, minute) for hour in sorted(parsed.hours) for minute in sorted(parsed.minutes))
    when = When(word, "times", times, weekdays, month_days, months, either)
    if when.next_after(1_767_225_600 * SECOND_NS) is None:
        raise InvalidValue(f'"{fields}" never occurs', "choose a date that exists")
    return when
