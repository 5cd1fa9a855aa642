from __future__ import annotations

import json
import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.reports.forecast import DAY_NS, Point, full_at_ns, points_from_dates, trend_of
from frugal_sorter.reports.saved import look_now, save
from frugal_sorter.state.folders import ready_state_folder
from tests.conftest import Frugal
from tests.support import NOW_NS, put

MB = 1_000_000


def series(*sizes: float) -> list[Point]:
    """Return a size in MB for each day."""
    return [Point(NOW_NS + day * DAY_NS, int(size * MB)) for day, size in enumerate(sizes)]


def test_linear_growth_is_found_with_its_date() -> None:
    trend = trend_of(series(*(100 + 10 * day for day in range(20))))
    assert trend.per_day == pytest.approx(10 * MB) and trend.low == pytest.approx(10 * MB) and not trend.is_bad_fit
    likely, earliest, latest = full_at_ns(trend, 1_000 * MB, NOW_NS)
    assert likely == earliest == latest == NOW_NS + 100 * DAY_NS


def test_weekly_clean_ups_are_no_trend_down() -> None:
    trend = trend_of(series(*(100 + 10 * (day % 7) for day in range(28))))
    assert trend.clean_ups == 3 and trend.per_day == pytest.approx(10 * MB) and not trend.is_bad_fit
    down = trend_of(series(*(500 - 20 * day for day in range(20))))
    assert down.clean_ups == 0 and down.per_day == pytest.approx(-20 * MB)
    assert full_at_ns(down, 1_000 * MB, NOW_NS) == (None, None, None)


def test_a_jump_does_not_bend_the_trend() -> None:
    jump = [100 + day + (400 if day == 9 else 0) for day in range(20)]
    assert trend_of(series(*jump)).per_day == pytest.approx(1 * MB, rel=0.1)


def test_flat_is_flat_and_noise_is_a_bad_fit() -> None:
    flat = trend_of(series(*([100.0] * 9 + [100.1])))
    assert flat.is_flat and full_at_ns(flat, 10 * MB, NOW_NS) == (None, None, None)
    noise = trend_of(series(*(100 + 8 * math.sin(day * 2.4) + 0.5 * day for day in range(30))))
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


def test_on_a_first_visit_dates_give_a_lower_bound(folder: Path, frugal: Frugal) -> None:
    for month in range(6):
        put(folder / f"Intake/{month}.log", b"x" * 1_000_000)
    now = look_now(str(folder / "Intake"), False, 1 << 62)
    # All were born just now, however old their contents are.
    assert [point.bytes for point in points_from_dates(now)][-2:] == [6_000_000, 6_000_000]
    said = frugal("forecast", "Intake").stdout
    assert "a lower bound" in said and "Growth: at least" in said


def test_saved_inventories_make_a_forecast_by_folder(folder: Path, frugal: Frugal) -> None:
    intake = folder / "Intake"
    (folder / "Intake/still").mkdir(parents=True)
    put(intake / "still/a", b"x" * 500_000)
    now_ns = look_now(str(intake), False, __import__("time").time_ns()).made_ns
    for week in range(5, 0, -1):
        put(intake / f"photos/{week}.jpg", b"x" * 700_000)
        save(
            look_now(str(intake), False, now_ns - week * 7 * DAY_NS),
            ready_state_folder() / f"inventories/{week}.inventory.gz",
        )
    put(intake / "photos/now.jpg", b"x" * 700_000)
    found = json.loads(frugal("forecast", "Intake", "--format", "json").stdout)
    assert found["inventories"] == 5 and not found["lower_bound"] and "full" in found
    assert found["folders"]["photos"]["bytes_a_day"] == pytest.approx(100_000, rel=0.01)
    assert found["folders"]["still"]["flat"] and found["all"]["bytes_a_day"] == pytest.approx(100_000, rel=0.01)
    table = frugal("forecast", "Intake", "--chart", "grows.svg").stdout
    assert (folder / "grows.svg").read_bytes().startswith(b"<?xml")
    assert (
        "+3.0 MB" in table
        and "no growth" in table
        and ("the volume is full on" in table or "within a hundred years" in table)
    )
    frugal("forecast", "nowhere", code=2)
