from __future__ import annotations

import gzip
import json
import math
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.app.rules import save_due
from frugal_sorter.app.session import Session
from frugal_sorter.reports import forecast
from frugal_sorter.reports.forecast import DAY_NS, Point, full_at_ns, outlook_of, points_from_dates, trend_of, trends_by_folder
from frugal_sorter.reports.saved import Saved, SavedFile, kept_of, look_now, save, saved_path
from frugal_sorter.rules.load import load_rules
from frugal_sorter.state import machine_id, ready_state_folder
from frugal_sorter.values import replace
from tests.conftest import Frugal
from tests.support import NOW_NS, aged, put, rules_text

MB = 1_000_000


def series(*sizes: float) -> list[Point]:
    """Return a size in MB for each day."""
    return [Point(NOW_NS + day * DAY_NS, int(size * MB)) for day, size in enumerate(sizes)]


def test_linear_growth_is_found_with_its_date() -> None:
    trend = trend_of(series(*(100 + 10 * day for day in range(20))))
    assert trend.per_day == pytest.approx(10 * MB) and not trend.is_bad_fit
    # Nobody knows the day of a hundred to the day.
    assert trend.low == pytest.approx(9 * MB) and trend.high == pytest.approx(11 * MB)
    likely, earliest, latest = full_at_ns(trend, 1_000 * MB, NOW_NS)
    assert likely == NOW_NS + 100 * DAY_NS
    assert earliest is not None and latest is not None
    assert (earliest - NOW_NS) / DAY_NS == pytest.approx(90.9, 0.01)
    assert (latest - NOW_NS) / DAY_NS == pytest.approx(111.1, 0.01)


def test_weekly_clean_ups_are_no_trend_down() -> None:
    trend = trend_of(series(*(100 + 10 * (day % 7) for day in range(28))))
    assert trend.clean_ups == 3 and trend.per_day == 0 and trend.is_flat
    assert [peak.bytes for peak in trend.peaks] == [160 * MB] * 3 and trend.emptied_days == 7
    once = trend_of(series(*(100 + 10 * (day % 7) for day in range(14))))
    assert once.clean_ups == 1 and once.per_day == pytest.approx(10 * MB) and not once.is_bad_fit
    down = trend_of(series(*(500 - 20 * day for day in range(20))))
    assert down.clean_ups == 0 and down.per_day == pytest.approx(-20 * MB)
    assert full_at_ns(down, 1_000 * MB, NOW_NS) == (None, None, None)


def test_a_jump_does_not_bend_the_trend() -> None:
    jump = [100 + day + (400 if day == 9 else 0) for day in range(20)]
    assert trend_of(series(*jump)).per_day == pytest.approx(1 * MB, rel=0.1)


def test_flat_is_flat_and_noise_is_a_bad_fit() -> None:
    flat = trend_of(series(*([100.0] * 9 + [100.1])))
    assert flat.is_flat and full_at_ns(flat, 10 * MB, NOW_NS) == (None, None, None)
    noise = trend_of(series(*(100 + 4 * math.sin(day * 2.4) + 0.25 * day for day in range(30))))
    assert noise.is_bad_fit and noise.low is not None and noise.high is not None and noise.low < noise.high


@pytest.mark.parametrize("sizes", [(), (5,), (5, 5)])
def test_too_few_points_are_no_trend(sizes: tuple[float, ...]) -> None:
    trend = trend_of(series(*sizes))
    assert trend.low is None and (trend.per_day is None or len(sizes) == 2)


def test_two_points_are_a_difference_without_an_interval() -> None:
    trend = trend_of(series(100, 110))
    assert (trend.per_day, trend.low, trend.high) == (10 * MB, None, None)


def test_two_looks_within_minutes_are_one_point() -> None:
    points = series(100, 110, 120)
    again = [*points, Point(points[-1].at_ns + 60_000_000_000, 500 * MB)]
    assert trend_of(again).points == 3 and trend_of(points).per_day == pytest.approx(10 * MB)
    assert full_at_ns(trend_of(points), 10**15 * MB, NOW_NS) == (None, None, None)


@given(st.integers(1, 50), st.integers(0, 10**6), st.integers(3, 20))
def test_the_slope_of_any_line_is_found(slope: int, start: int, points: int) -> None:
    trend = trend_of(series(*(start + slope * day for day in range(points))))
    assert trend.per_day == pytest.approx(slope * MB) and trend.misfit == pytest.approx(0, abs=1e-6)


class Dates(NamedTuple):
    """A file for the dates of a first visit: days ago that it was born and written, and its size in MB."""

    born: float
    written: float
    size: int


def visited(dates: list[Dates], monkeypatch: pytest.MonkeyPatch) -> Saved:
    """Return a folder that holds files with such dates now."""
    births = {f"{at}.log": NOW_NS - int(one.born * DAY_NS) for at, one in enumerate(dates)}
    monkeypatch.setattr(forecast, "_born_ns", lambda _, file: births[file.path])
    files = {
        f"{at}.log": SavedFile(f"{at}.log", one.size * MB, 0, NOW_NS - int(one.written * DAY_NS), at, 1)
        for at, one in enumerate(dates)
    }
    return Saved("/srv/intake", "m", NOW_NS, 10**12, 100_000 * MB, files)


MONTHLY = [(30.0 * month + 1, 100) for month in range(20)]


@pytest.mark.parametrize(
    ("name", "dates", "per_day", "doubt"),
    [
        ("grown here", [Dates(day, day, size) for day, size in MONTHLY], 100 / 30, None),
        ("a copied machine", [Dates(0.1 + day / 2000, day, size) for day, size in MONTHLY], 100 / 30, None),
        ("copied over midnight", [Dates(0.3 + day / 1000, day, size) for day, size in MONTHLY], 100 / 30, None),
        ("migrated, with its dates lost", [Dates(0.1, 0.1, 100)] * 20, None, "short"),
        ("all written today, in hours", [Dates(hour / 24, hour / 24, 2_000) for hour in range(8)], None, "short"),
        ("young and steady", [Dates(day, day, 100) for day in range(14)], 100, None),
        ("still, then a burst today",
         [Dates(400, 400, 5_000), *(Dates(hour / 24, hour / 24, 3_000) for hour in range(8))], None, "burst"),
        ("a burst of a day after a year of growth",
         [*(Dates(day, day, size) for day, size in MONTHLY), *[Dates(0.2, 0.2, 3_000)] * 8], None, "burst"),
        ("nothing", [], None, "no points"),
        ("one file", [Dates(100, 100, 5)], 0, None),
        ("written in the future", [Dates(10, 10, 100), Dates(1, -5, 100)], None, None),
        ("written before there were clocks", [Dates(300, 20_000, 100), Dates(300, 20_001, 100)], 0, None),
    ],
)  # fmt: skip
def test_dates_of_a_first_visit_tell_what_they_can(
    name: str, dates: list[Dates], per_day: float | None, doubt: str | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = visited(dates, monkeypatch)
    even, fine = points_from_dates(now)
    trend = trend_of(even, 0)
    outlook = outlook_of(trend, fine, now.free, NOW_NS)
    if name != "written in the future":  # two files a few days apart: whatever it is, it is no crash
        assert outlook.doubt == doubt, (outlook, trend)
    assert [point.at_ns for point in fine] == sorted(point.at_ns for point in fine)
    assert not fine or fine[-1].bytes == now.bytes
    if per_day is not None:
        assert trend.per_day == pytest.approx(per_day * MB, rel=0.15, abs=1)
    assert (outlook.at_ns is None) or outlook.doubt is None


def month(*sizes: float) -> list[Point]:
    return [Point(NOW_NS - (len(sizes) - 1 - at) * 30 * DAY_NS, int(size * MB)) for at, size in enumerate(sizes)]


@pytest.mark.parametrize(
    ("name", "points", "free", "doubt", "days"),
    [
        ("steady", month(*(100 * n for n in range(1, 10))), 1_000, None, 300),
        ("saw-tooth", series(*(100 + 10 * (day % 7) for day in range(-34, 1))), 1_000, None, None),
        ("saw-tooth of two weeks", series(*(3 * (1 + day % 7) for day in range(15))), 1_000, "short", None),
        ("saw-tooth whose peaks grow", series(*(100 + 10 * (day % 7) + day for day in range(-55, 1))), 1_000, None, 948),
        ("saw-tooth, nearly too large", series(*(100 + 10 * (day % 7) + day for day in range(-55, 1))), 70, None, 11),
        ("faster and faster", month(*(2.0**n for n in range(16))), 1_000_000, "burst", None),
        ("slower of late", month(*[100.0 * n for n in range(9)], *(850 + 50 * n for n in range(6))), 1_000, "not foretold", None),
        ("three points", month(100, 200, 300), 1_000, "few", None),
        ("still", month(*[100.0] * 9), 1_000, None, None),
        ("falling", month(*(900 - 50 * n for n in range(9))), 1_000, None, None),
        ("still, then a burst", [*month(*[100.0] * 9)[:-1], Point(NOW_NS, 24_100 * MB)], 50_000, "burst", None),
        ("a burst that is little beside the size", month(*[3e6] * 8, 3_024_000.0), 30_000, "burst", None),
        ("a burst that is little beside both", month(*[3e6] * 8, 3_000_900.0), 30_000, None, None),
        ("two points", month(100, 200), 1_000, "two points", None),
        ("up and down", series(*(100 + 4 * math.sin(day * 2.4) + 0.25 * day for day in range(-29, 1))), 100, "bad fit", None),
        ("falling for three days", series(103, 102, 101, 100), 1_000, "short", None),
        ("within hours", [Point(NOW_NS - hour * DAY_NS // 24, (9 - hour) * MB) for hour in range(9)][::-1], 9, "short", None),
        ("slow, and the disk nearly full", month(*(3e6 + 700 * n for n in range(13))), 1_000, None, 43),
    ],
)  # fmt: skip
def test_a_date_is_told_only_where_the_points_bear_it(
    name: str, points: list[Point], free: int, doubt: str | None, days: float | None
) -> None:
    trend = trend_of(points)
    outlook = outlook_of(trend, points, free * MB, NOW_NS)
    assert outlook.doubt == doubt, (name, outlook, trend)
    if days is None:
        assert outlook.at_ns is None
    else:
        assert outlook.at_ns is not None
        assert (outlook.at_ns - NOW_NS) / DAY_NS == pytest.approx(days, rel=0.02)


@given(st.lists(st.tuples(st.integers(0, 500), st.integers(0, 10**7)), max_size=15), st.integers(0, 10**8))
def test_a_told_date_has_an_interval_around_it_that_says_something(sizes: list[tuple[int, int]], free: int) -> None:
    points = sorted(Point(NOW_NS - day * DAY_NS, size * MB) for day, size in dict(sizes).items())
    outlook = outlook_of(trend_of(points), points, free * MB, NOW_NS)
    if outlook.at_ns is not None:
        assert outlook.doubt is None and outlook.burst is None
        assert outlook.earliest_ns is not None and outlook.latest_ns is not None
        assert NOW_NS <= outlook.earliest_ns < outlook.at_ns < outlook.latest_ns


@given(st.integers(4, 30), st.integers(1, 50), st.integers(0, 9), st.data())
def test_no_date_is_told_that_two_thirds_of_the_time_did_not_foretell(
    count: int, slope: int, unsteady: int, data: st.DataObject
) -> None:
    sizes, size = [], 1_000
    for _ in range(count):
        size += slope + data.draw(st.integers(0, unsteady))
        sizes.append(size)
    points = month(*sizes)
    outlook = outlook_of(trend_of(points), points, 10_000 * MB, NOW_NS)
    if outlook.at_ns is None:
        return
    known = points[: (2 * count + 2) // 3]
    then, later = trend_of(known), points[len(known) :]
    right = 0
    for one in later:
        _, earliest, latest = full_at_ns(then, one.bytes - known[-1].bytes, known[-1].at_ns)
        right += earliest is not None and latest is not None and earliest <= one.at_ns <= latest
    assert 2 * right > len(later)


def test_a_first_visit_says_what_cannot_be_told_and_what_would_tell_it(folder: Path, frugal: Frugal) -> None:
    for month in range(6):
        put(folder / f"Intake/{month}.log", b"x" * 1_000_000)
    said = frugal("forecast", "Intake").stdout
    assert "so it is a minimum" in said and "will be full" in said and "--save`" in said
    assert "100 years" not in said
    told = json.loads(frugal("forecast", "Intake", "--format", "json").stdout)
    assert told["full"] is None and told["cannot_tell"] == "short"


def test_saved_inventories_make_a_forecast_by_folder(folder: Path, frugal: Frugal) -> None:
    intake = folder / "Intake"
    (folder / "Intake/still").mkdir(parents=True)
    put(intake / "still/a", b"x" * 500_000)
    now_ns = look_now(str(intake), False, __import__("time").time_ns()).made_ns
    for week in range(5, 0, -1):
        put(intake / f"photos/{week}.jpg", b"x" * 700_000)
        save(look_now(str(intake), False, now_ns - week * 7 * DAY_NS), ready_state_folder() / f"inventories/{week}.inventory.gz")
    put(intake / "photos/now.jpg", b"x" * 700_000)
    found = json.loads(frugal("forecast", "Intake", "--format", "json").stdout)
    assert found["inventories"] == 5 and not found["lower_bound"] and "full" in found
    assert found["folders"]["photos"]["bytes_a_day"] == pytest.approx(100_000, rel=0.01)
    assert found["folders"]["still"]["flat"] and found["all"]["bytes_a_day"] == pytest.approx(100_000, rel=0.01)
    table = frugal("forecast", "Intake", "--chart", "grows.svg").stdout
    assert (folder / "grows.svg").read_bytes().startswith(b"<?xml")
    assert (
        "+3.0 MB" in table and "no growth" in table and ("the volume will be full on" in table or "up within 100 years" in table)
    )
    frugal("forecast", "nowhere", code=2)


def test_a_rule_file_saves_what_a_forecast_needs_and_no_more(folder: Path, frugal: Frugal) -> None:
    aged(folder / "Intake/a.log", 30)
    aged(folder / "Intake/b.log", 30)
    put(folder / "rules.toml", rules_text('where = "ext is pdf"\nmove = "P"', head='[inventory]\nsave = "weekly"\n'))
    assert "no warnings" in frugal("check", "rules.toml").stdout
    # Nothing is saved by what only looks.
    frugal("preview", "rules.toml")
    frugal("tidy", "rules.toml", "--dry-run")
    kept = ready_state_folder() / "inventories"
    assert not kept.exists()
    assert "saved an inventory: Intake 20" in frugal("tidy", "rules.toml", "--yes").stdout
    assert "saved an inventory" not in frugal("tidy", "rules.toml", "--yes").stdout and len(list(kept.iterdir())) == 1
    session, book = Session.begin(), load_rules(folder / "rules.toml")
    due = [save_due(replace(session, now_ns=session.now_ns + day * DAY_NS), book) != [] for day in range(1, 60)]
    # One a week, and nothing that grows for ever: they are forgotten like all others.
    assert [day for day, was_due in enumerate(due, 1) if was_due] == [7, 14, 21, 28, 35, 42, 49, 56]
    # What says that it is from a day to come does not put off the next one.
    assert save_due(replace(session, now_ns=session.now_ns - 100 * DAY_NS), book)
    # A file that is damaged is no reason not to save.
    (kept / "x.inventory.gz").write_bytes(b"no")
    assert save_due(replace(session, now_ns=session.now_ns + 90 * DAY_NS), book)


@pytest.mark.parametrize(
    ("head", "said"),
    [
        ("[inventory]\n", "rules.toml:2: the key `save` is missing"),
        ('[inventory]\nsave = "yearly"\n', 'rules.toml:3: "yearly" is not allowed here; choose from weekly, monthly'),
        ('[inventory]\nsave = "weekly"\nhow = 3\n', "rules.toml:4: unknown key `how`"),
        ('[inventory]\nsave = "weekly"\nin = 3\n', "rules.toml:4"),
        ("inventory = 3\n", "rules.toml:2"),
    ],
)
def test_what_is_wrong_about_saving_is_said_with_its_line(folder: Path, frugal: Frugal, head: str, said: str) -> None:
    put(folder / "rules.toml", rules_text('where = "ext is pdf"\nmove = "P"', head=head))
    assert said in frugal("check", "rules.toml", code=2).stderr


def test_a_rule_file_may_hold_an_inventory_alone(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", 'frugal = 1\n[inventory]\nsave = "monthly"\nin = ["Intake"]\n')
    assert "Intake: saved an inventory" in frugal("tidy", "rules.toml", "--yes").stdout
    put(folder / "rules.toml", 'frugal = 1\n[inventory]\nsave = "monthly"\n')
    assert "no folder is named" in frugal("check", "rules.toml", code=2).stderr


def test_the_sums_of_an_inventory_are_read_without_its_files(folder: Path, frugal: Frugal) -> None:
    for day, size in enumerate((1_000, 3_000, 5_000, 7_000)):
        put(folder / "Intake/logs/a.log", b"x" * size)
        put(folder / "Intake/b.log", b"x" * 100)
        saved = look_now(str(folder / "Intake"), True, NOW_NS + day * DAY_NS)
        save(saved, saved_path(f"day {day}"))
    whole, sums = (kept_of(str(folder / "Intake"), sums_alone=alone) for alone in (False, True))
    assert [one.by_folder for one in whole] == [one.by_folder for one in sums]
    assert [one.bytes for one in sums] == [1_100, 3_100, 5_100, 7_100] and not any(one.files for one in sums)
    assert trends_by_folder(whole) == trends_by_folder(sums)
    # One of before, or one whose sums are damaged, is read whole.
    path = saved_path("day 0")
    for change in ({}, {"sums": {"logs": "many"}}, {"sums": None}):
        with gzip.open(path, "rt") as file:
            lines = file.read().splitlines()
        head = {key: value for key, value in json.loads(lines[0]).items() if key != "sums"} | change
        with gzip.open(path, "wt") as file:
            file.write("\n".join([json.dumps(head), *lines[1:]]) + "\n")
        assert [one.bytes for one in kept_of(str(folder / "Intake"), sums_alone=True)] == [1_100, 3_100, 5_100, 7_100]


def test_very_many_subfolders_do_not_make_a_first_line_that_nobody_can_read(folder: Path) -> None:
    names = [f"{'f' * 60} {number}" for number in range(2_000)]
    saved = Saved(str(folder), machine_id(), NOW_NS, 1, 1, {f"{name}/a": SavedFile(f"{name}/a", 1, 1, 1, 1, 1) for name in names})
    save(saved, saved_path("wide"))
    assert [one.bytes for one in kept_of(str(folder), sums_alone=True)] == [2_000]
