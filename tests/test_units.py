from __future__ import annotations

import time
from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.cli.output import text as cli_text
from frugal_sorter.cli.output.text import iso_text, shown, size_text
from frugal_sorter.rules.units import SECOND_NS, InvalidValue, parse_duration, parse_size, parse_span


def ns(text: str) -> int:
    return int(datetime.fromisoformat(text).timestamp()) * SECOND_NS


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("0 B", 0), ("12 bytes", 12), ("1 byte", 1), ("250 KB", 250_000), ("250 KiB", 256_000), ("250kb", 250_000),
        ("1.5 MB", 1_500_000), ("0.1 GB", 100_000_000), ("2 TiB", 2 << 40), ("500 mb", 500_000_000),
    ],
)  # fmt: skip
def test_sizes(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize(
    ("text", "hint"),
    [("10", "use 10 KB"), ("ten MB", "looks like"), ("-1 MB", "looks like"), ("5 PB", "looks like"), ("9999999999 TB", "T")],
)
def test_what_is_no_size(text: str, hint: str) -> None:
    with pytest.raises(InvalidValue) as caught:
        parse_size(text)
    assert hint in caught.value.hint


@pytest.mark.parametrize(
    ("duration", "now", "then"),
    [
        ("30 days", "2026-11-23T12:00:00", "2026-10-24T13:00:00"),  # by the clock, across the end of summer time
        ("1 day 12 hours", "2026-11-23T12:00:00", "2026-11-22T00:00:00"),
        ("2 weeks", "2026-11-23T12:00:00", "2026-11-09T12:00:00"),
        ("90s", "2026-11-23T12:00:00", "2026-11-23T11:58:30"),
        ("1 month", "2026-03-31T08:00:00", "2026-02-28T08:00:00"),  # months by the calendar
        ("1 month", "2026-11-23T12:00:00", "2026-10-23T12:00:00"),  # the same time of day, whatever the clocks did
        ("1 year", "2028-02-29T12:00:00", "2027-02-28T12:00:00"),
        ("1 year 1 month 1 day", "2026-11-23T12:00:00", "2025-10-22T12:00:00"),
        ("20 minutes", "2026-10-25T02:10:00+01:00", "2026-10-25T02:50:00+02:00"),
    ],
)
def test_durations_before_a_moment(duration: str, now: str, then: str) -> None:
    assert parse_duration(duration).before(ns(now)) == ns(then)


@pytest.mark.parametrize("text", ["", "soon", "3", "3 m", "3 fortnights", "days 3", "3 days ago", "99999999999999 years"])
def test_what_is_no_duration(text: str) -> None:
    with pytest.raises(InvalidValue):
        parse_duration(text)


@pytest.mark.parametrize(
    ("text", "first", "after"),
    [
        ("2026-10-04", "2026-10-04", "2026-10-05"),
        ("2026-12-31", "2026-12-31", "2027-01-01"),
        ("2026-02", "2026-02-01", "2026-03-01"),
        ("2026-12", "2026-12-01", "2027-01-01"),
        ("2026", "2026-01-01", "2027-01-01"),
        ("today", "2026-11-23", "2026-11-24"),
        ("Yesterday", "2026-11-22", "2026-11-23"),
        ("2026-10-25", "2026-10-25T00:00:00+02:00", "2026-10-26T00:00:00+01:00"),  # a day of 25 hours
        ("2026-03-29", "2026-03-29T00:00:00+01:00", "2026-03-30T00:00:00+02:00"),  # a day of 23 hours
    ],
)
def test_spans_are_local_days(text: str, first: str, after: str) -> None:
    assert parse_span(text).bounds(ns("2026-11-23T12:00:00")) == (ns(first), ns(after))


@pytest.mark.parametrize("text", ["2026-13", "2026-02-30", "26-1-1", "tomorrow", "", "0000", "2026-1-1-1"])
def test_what_is_no_date(text: str) -> None:
    with pytest.raises(InvalidValue):
        parse_span(text)


@given(st.text(max_size=30))
def test_no_text_ends_in_anything_but_a_value_or_a_clear_no(text: str) -> None:
    for parse in (parse_size, parse_duration, parse_span):
        try:
            parse(text)
        except InvalidValue as wrong:
            assert wrong.message and wrong.hint


@pytest.mark.parametrize(
    ("size", "text"),
    [(0, "0 B"), (999, "999 B"), (1000, "1.0 kB"), (99_960, "100 kB"), (999_960, "1.0 MB"), (12_345_678, "12.3 MB"), (5 * 10**18, "5000 PB")],
)  # fmt: skip
def test_sizes_for_people(size: int, text: str) -> None:
    assert size_text(size) == text


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("plain é 🔥.txt", "plain é 🔥.txt"),
        ("two\nlines\x1b[31m", "two\\nlines\\x1b[31m"),
        ("raw\udcff", "raw\\xff"),
        ("right‮to left", "right\\u202eto left"),
    ],
)
def test_names_cannot_play_with_the_terminal(name: str, text: str) -> None:
    assert shown(name) == text


@pytest.mark.parametrize(
    ("zone", "at", "told"),
    [
        ("UTC", "2026-11-23T09:14:59+00:00", "2026-11-23T09:14:59+00:00"),
        ("Europe/Berlin", "2026-10-25T00:59:59+00:00", "2026-10-25T02:59:59+02:00"),
        ("Europe/Berlin", "2026-10-25T01:00:00+00:00", "2026-10-25T02:00:00+01:00"),
        ("Asia/Kathmandu", "2026-11-23T18:14:59+00:00", "2026-11-23T23:59:59+05:45"),
        ("Australia/Lord_Howe", "2026-11-23T13:29:59+00:00", "2026-11-24T00:29:59+11:00"),
        ("Asia/Kathmandu", "1912-03-25T15:21:53+00:00", "1912-03-25T21:03:09+05:41:16"),
    ],
)
def test_moments_for_programs(zone: str, at: str, told: str, monkeypatch: pytest.MonkeyPatch) -> None:
    _live_in(zone, monkeypatch)
    assert iso_text(ns(at)) == told


@given(st.integers(0, 4_000_000_000), st.sampled_from(["Europe/Berlin", "Asia/Kolkata", "America/St_Johns"]))
def test_moments_for_programs_are_those_of_the_library(seconds: int, zone: str) -> None:
    with pytest.MonkeyPatch.context() as patch:
        _live_in(zone, patch)
        assert iso_text(seconds * SECOND_NS) == datetime.fromtimestamp(seconds).astimezone().isoformat()
    time.tzset()
    cli_text._quarter.cache_clear()


def test_a_moment_beyond_all_calendars_is_told_in_seconds() -> None:
    assert iso_text(10**15 * SECOND_NS) == f"{10**15}s"


def _live_in(zone: str, patch: pytest.MonkeyPatch) -> None:
    patch.setenv("TZ", zone)
    time.tzset()
    cli_text._quarter.cache_clear()


@pytest.mark.parametrize(
    ("text", "written"),
    [
        ("30d", "30 days"),
        ("36h", "36 hours"),
        ("1 month 2h", "1 month 2 hours"),
        ("90s", "90 seconds"),
        ("2 years", "24 months"),
        ("1d 1s", "86401 seconds"),
    ],
)
def test_a_duration_is_written_as_it_can_be_read(text: str, written: str) -> None:
    duration = parse_duration(text)
    assert duration.text == written and parse_duration(written) == duration
