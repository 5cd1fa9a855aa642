"""When a schedule runs: read from words, and the next times, compared with systemd's own."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, timezone
from itertools import islice, pairwise
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.rules.units import InvalidValue
from frugal_sorter.schedule.cron import _fields
from frugal_sorter.schedule.systemd import calendar_of
from frugal_sorter.schedule.when import DAYS, When, parse_when
from tests.support import NOW_NS

SECOND_NS = 1_000_000_000


def times(when: When, after_ns: int = NOW_NS, count: int = 3) -> list[str]:
    """Return the next times, in the local time of tests."""
    found = islice(when.times_after(after_ns), count)
    return [datetime.fromtimestamp(one // SECOND_NS).strftime("%a %d.%m.%y %H:%M") for one in found]


# NOW_NS is Monday, 2026-11-23 12:00.
@pytest.mark.parametrize(("text", "expected"), [
    ("daily 18:00", ["Mon 23.11.26 18:00", "Tue 24.11.26 18:00", "Wed 25.11.26 18:00"]),
    ("daily 08:00 and 18:00", ["Mon 23.11.26 18:00", "Tue 24.11.26 08:00", "Tue 24.11.26 18:00"]),
    ("Daily  08:00, 18:00", ["Mon 23.11.26 18:00", "Tue 24.11.26 08:00", "Tue 24.11.26 18:00"]),
    ("daily 12:00", ["Tue 24.11.26 12:00", "Wed 25.11.26 12:00", "Thu 26.11.26 12:00"]),
    ("mon-fri 18:00", ["Mon 23.11.26 18:00", "Tue 24.11.26 18:00", "Wed 25.11.26 18:00"]),
    ("fri-mon 9:05", ["Fri 27.11.26 09:05", "Sat 28.11.26 09:05", "Sun 29.11.26 09:05"]),
    ("mon, thu 07:30", ["Thu 26.11.26 07:30", "Mon 30.11.26 07:30", "Thu 03.12.26 07:30"]),
    ("tue and sunday 07:30", ["Tue 24.11.26 07:30", "Sun 29.11.26 07:30", "Tue 01.12.26 07:30"]),
    ("monthly 1 06:00", ["Tue 01.12.26 06:00", "Fri 01.01.27 06:00", "Mon 01.02.27 06:00"]),
    ("monthly 31 06:00", ["Thu 31.12.26 06:00", "Sun 31.01.27 06:00", "Wed 31.03.27 06:00"]),
    ("monthly last 22:00", ["Mon 30.11.26 22:00", "Thu 31.12.26 22:00", "Sun 31.01.27 22:00"]),
    ("every 15 minutes", ["Mon 23.11.26 12:15", "Mon 23.11.26 12:30", "Mon 23.11.26 12:45"]),
    ("every hour", ["Mon 23.11.26 13:00", "Mon 23.11.26 14:00", "Mon 23.11.26 15:00"]),
    ("every 6 hours", ["Mon 23.11.26 18:00", "Tue 24.11.26 00:00", "Tue 24.11.26 06:00"]),
    ("once 2026-12-24 20:00", ["Thu 24.12.26 20:00"]),
    ('cron "0 3 * * 1"', ["Mon 30.11.26 03:00", "Mon 07.12.26 03:00", "Mon 14.12.26 03:00"]),
    ("cron 0 3 13 * fri", ["Fri 27.11.26 03:00", "Fri 04.12.26 03:00", "Fri 11.12.26 03:00"]),
    ('cron "*/30 8-9 1 jan,jul *"', ["Fri 01.01.27 08:00", "Fri 01.01.27 08:30", "Fri 01.01.27 09:00"]),
    ("start-up", []), ("log-on", []), ("arrival", []),
])  # fmt: skip
def test_what_is_written_is_read(text: str, expected: list[str]) -> None:
    assert times(parse_when(text, NOW_NS)) == expected


@pytest.mark.parametrize(("text", "told", "instead"), [
    ("", "the time is missing", "daily 18:00"), ("18:00", "on which days", "daily 18:00"), ("daily", "not specific enough", "daily 18:00"),
    ("hourly", "not specific enough", "every 1 hour"), ("midnight", "not specific enough", "daily 00:00"), ("weekdays", "enough", "mon-fri 18:00"),
    ("reboot", "enough", "start-up"), ("login", "enough", "log-on"), ("daily 6pm", "not a time of day", "use 18:00"),
    ("daily 12am", "not a time of day", "use 00:00"), ("mon 25:00", "not a time of day", "18:00"), ("mon-fri", "time of day is missing", "mon-fri 18:00"),
    ("sometimes", "does not say when", "daily 18:00"), ("moonday 10:00", "does not say when", "mon-fri"),
    ("every 7 minutes", "evenly into an hour", "10"), ("every 5 hours", "evenly into a day", "12 hours"),
    ("every 60 minutes", "is an hour", "every 1 hour"), ("every 10 seconds", "cannot be read", "arrival"),
    ("every 3 days", "cannot be read", "daily 18:00"), ("every now and then", "cannot be read", "every 15 minutes"),
    ("monthly 06:00", "day of the month", "monthly 1 06:00"), ("monthly 32 06:00", "day of the month", "last"),
    ("monthly 3", "time of day is missing", "monthly 3 18:00"),
    ("once 2020-01-01 10:00", "is in the past", "in the future"), ("once tomorrow", "not a date and time", "2026-12-24"), ("once 2026-02-30 10:00", "not a date and time", "once"),
    ("once 2027-03-28 02:30", "clocks go forward", "later"), ('cron "0 3 * *"', "cron expression", "five fields"), ("cron 61 3 * * *", "Bad minute", "five"),
    ("cron @daily", "cron expression", "five"), ("cron 0 3 L * *", "cron expression", "five"), ("cron 0 0 31 2 *", "Bad day", "five"),
])  # fmt: skip
def test_a_mistake_is_answered_with_what_would_be_right(text: str, told: str, instead: str) -> None:
    with pytest.raises(InvalidValue) as wrong:
        parse_when(text, NOW_NS)
    assert told in wrong.value.message and instead in wrong.value.hint


@given(st.text(alphabet="dailymonthyevcrs -0123456789:,/*\"'andltue", max_size=30))
def test_any_text_is_a_time_or_a_clear_mistake(text: str) -> None:
    try:
        when = parse_when(text, NOW_NS)
    except InvalidValue as wrong:
        assert wrong.message and wrong.hint and "\n" not in wrong.message
        return
    found = list(islice(when.times_after(NOW_NS), 5))
    assert found == sorted(set(found)) and all(one > NOW_NS for one in found)
    # Whatever it was asked from before, the first time after the one before is the same.
    assert all(when.next_after(one) == later for one, later in pairwise(found))


def texts(random: Random, count: int) -> Iterator[str]:
    """Yield some schedules of every form that a clock tells."""
    for _ in range(count):
        hour, minute = random.randrange(24), random.choice([0, 15, 30, 59])
        first, last = random.sample(DAYS, 2)
        yield random.choice([
            f"daily {hour}:{minute:02}", f"daily {hour}:{minute:02} and {(hour + 7) % 24}:30", f"{first}-{last} {hour}:{minute:02}",
            f"{first}, {last} {hour}:{minute:02}", f"monthly {random.randrange(1, 32)} {hour}:{minute:02}",
            f"monthly last {hour}:{minute:02}", f"every {random.choice([1, 5, 15, 30])} minutes", f"every {random.choice([1, 2, 6, 12])} hours",
            f"once 20{random.randrange(27, 40)}-0{random.randrange(1, 10)}-1{random.randrange(10)} {hour}:{minute:02}",
            f"cron {minute} {hour} * * {random.randrange(8)}", f"cron {minute} */6 {random.randrange(1, 29)} * *",
            f"cron {minute} {hour} {random.randrange(1, 29)} * {random.randrange(7)}", f"cron 0,30 {hour} * {random.randrange(1, 13)} *",
        ])  # fmt: skip


@contextmanager
def zone(name: str) -> Iterator[None]:
    before = os.environ.get("TZ", "")
    os.environ["TZ"] = name
    time.tzset()
    try:
        yield
    finally:
        os.environ["TZ"] = before
        time.tzset()


# Before, in and after the hours that the clock leaps over or has twice, and on a day like any other.
BASES = (
    "2027-03-27 22:10",
    "2027-03-28 00:50",
    "2027-10-30 22:40",
    "2027-10-31 00:20",
    "2027-10-31 01:20",
    "2026-11-25 12:34",
    "2028-02-28 23:59",
)


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="systemd is not installed")
@pytest.mark.parametrize("where", ["Europe/Berlin", "America/New_York"])
def test_the_next_times_are_those_of_systemd(where: str) -> None:
    random = Random(20261125)
    with zone(where):
        for text in texts(random, 100):
            base = random.choice(BASES)
            base_ns = int(datetime.fromisoformat(f"{base}+00:00").timestamp()) * SECOND_NS
            try:
                when = parse_when(text, base_ns)
            except InvalidValue:
                assert text.startswith("once")  # at an hour that there is not, or has been
                continue
            theirs: set[int] = set()
            for one in calendar_of(when):
                said = subprocess.run(
                    ["systemd-analyze", "calendar", f"--base-time={base} UTC", "--iterations=6", one],
                    capture_output=True, text=True, check=True, env={**os.environ, "LC_ALL": "C", "TZ": where},
                ).stdout  # fmt: skip
                for found in re.findall(r"(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) UTC", said):
                    at = datetime.strptime(found, "%Y-%m-%d %H:%M:%S").replace(tzinfo=timezone.utc)  # noqa: UP017
                    theirs.add(int(at.timestamp()) * SECOND_NS)
            ours = list(islice(when.times_after(base_ns), 6))
            assert ours == sorted(theirs)[: len(ours)] and (ours or not theirs), (text, base)


def test_a_line_of_a_crontab_is_the_same_as_its_five_fields() -> None:
    for text in texts(Random(7), 120):
        when = parse_when(text, NOW_NS)
        both = when.month_days is not None and len(when.weekdays) < 7 and not when.either
        if when.kind == "once" or both or (when.month_days is not None and 0 in when.month_days):
            continue  # cron cannot do these
        found = sorted(
            moment for fields in _fields(when) for moment in islice(parse_when(f"cron {fields}", NOW_NS).times_after(NOW_NS), 8)
        )
        assert found[:8] == list(islice(when.times_after(NOW_NS), 8)), text
