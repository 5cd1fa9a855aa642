"""Retention: what rules with `keep` keep, against a slow and obvious model, and by the built program."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.planning.foresight import foresee
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.units import InvalidValue, Promise, kept_of, parse_promise
from tests.conftest import Frugal
from tests.support import DAY_NS, NOW_NS, book_of, plan_of, put, rules_text, undo

ZONES = ["UTC", "Europe/Berlin", "America/St_Johns", "Pacific/Apia", "Australia/Lord_Howe"]
PROMISES = ["newest 1", "newest 5", "all for 10 days", "one a day for 2 weeks", "one a week for 3 months", "one a month for 2 years",
            "one a year", "one a month"]  # fmt: skip
SECOND = 1_000_000_000


@pytest.fixture(params=ZONES)
def zone(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[ZoneInfo]:
    monkeypatch.setenv("TZ", request.param)
    time.tzset()
    yield ZoneInfo(request.param)
    monkeypatch.undo()
    time.tzset()


def model(moments: list[int], promises: list[Promise], now_ns: int, zone: ZoneInfo) -> dict[int, float]:
    """Return which entries stay and until when, by asking of each and each promise in the plainest way.

    That is -1 for what stays only while it is among the newest, and infinity for what stays for good.
    """

    def period(unit: str, moment: int) -> str:
        form = {"day": "%Y-%m-%d", "week": "%G-%V", "month": "%Y-%m", "year": "%Y"}[unit]
        return datetime.fromtimestamp(moment // SECOND, zone).strftime(form)

    stay: dict[int, float] = {}
    for at, moment in enumerate(moments):
        for promise in promises:
            lasts = promise.lasting is None or now_ns < promise.lasting.from_now(moment)
            if promise.unit == "newest":
                newer = sum(other > moment or (other == moment and beside > at) for beside, other in enumerate(moments))
                kept = newer < promise.number
            elif promise.unit == "all":
                kept = lasts
            else:
                same = [
                    (other, beside)
                    for beside, other in enumerate(moments)
                    if period(promise.unit, other) == period(promise.unit, moment)
                ]
                kept = lasts and min(same) == (moment, at)
            if kept:
                until = -1 if promise.unit == "newest" else promise.lasting.from_now(moment) if promise.lasting else math.inf
                stay[at] = max(until, stay.get(at, until))
    return stay


@given(st.data())
def test_what_stays_is_what_the_model_says(zone: ZoneInfo, data: st.DataObject) -> None:
    # Years with both changes of the clock, to the second.
    moments = data.draw(st.lists(st.integers(-900 * 86_400, 5 * 86_400), max_size=30))
    moments_ns = [NOW_NS + seconds * SECOND for seconds in moments]
    promises = [
        parse_promise(text) for text in data.draw(st.lists(st.sampled_from(PROMISES), min_size=1, max_size=4, unique=True))
    ]
    found = kept_of(moments_ns, promises, NOW_NS)
    told = {
        at: -1 if one.promise.unit == "newest" else math.inf if one.until_ns is None else one.until_ns
        for at, one in enumerate(found)
        if one is not None
    }
    assert told == model(moments_ns, promises, NOW_NS, zone)


def test_what_was_kept_once_stays_until_its_time_is_over_whatever_comes_later(zone: ZoneInfo) -> None:
    """Two years of nights: the first of each week and month that there ever was is there for as long as was promised."""
    promises = [parse_promise(text) for text in ("newest 3", "one a week for 3 months", "one a month for 1 year")]
    first, there = datetime(2025, 1, 1, 2, 30, tzinfo=zone), list[int]()
    firsts: dict[tuple[str, str], int] = {}
    for night in range(730):
        now = first + timedelta(days=night)
        now_ns = int(now.timestamp()) * SECOND
        there.append(now_ns)
        firsts.setdefault(("week", now.strftime("%G-%V")), now_ns)
        firsts.setdefault(("month", now.strftime("%Y-%m")), now_ns)
        there = [moment for moment, one in zip(there, kept_of(there, promises, now_ns), strict=True) if one is not None]
        lasting = {one.unit: one.lasting for one in promises if one.lasting is not None}
        due = {moment for (unit, _), moment in firsts.items() if now_ns < lasting[unit].from_now(moment)}  # type: ignore[index]
        assert due <= set(there) and len(there) <= len(due) + 3


@pytest.mark.parametrize(
    "text", ["newest", "newest 0", "newest five", "one a fortnight", "one a week for", "a week", "one a week for soon", ""]
)
def test_what_keeps_nothing_is_refused(text: str) -> None:
    with pytest.raises(InvalidValue):
        parse_promise(text)


RULE = """where = 'name fits "{host} {day:%Y-%m-%d}.tgz"'
keep = ["newest 2", "one a month for 2 years"]
each = "{host}"
dated = "day"
trash = true"""


def backups(folder: Path) -> None:
    for host in ("desk", "kiln"):
        for number in range(70):
            day = datetime.fromtimestamp(NOW_NS // SECOND).date() - timedelta(days=number)
            put(folder / f"Intake/{host} {day}.tgz", host)


def test_a_rule_keeps_what_it_promises_in_each_group_and_undo_brings_the_rest(folder: Path, frugal: Frugal) -> None:
    backups(folder)
    book = book_of(folder, RULE)
    plan = plan_of(book)
    stay = {one.place.name for one in plan.not_touched}
    assert len(plan.asked) == 2 * 70 - len(stay) and len(stay) % 2 == 0
    assert {name.split()[1] for name in stay if name.startswith("desk")} == {
        name.split()[1] for name in stay if name.startswith("kiln")
    }
    assert not any(one.reason.problem for one in plan.not_touched)
    put(folder / "rules.toml", rules_text(RULE))
    said = frugal("preview", "rules.toml").stdout
    assert 'kept by "newest 2"' in said and 'kept by "one a month for 2 years"' in said and ", until 20" in said
    before = sorted(path.name for path in (folder / "Intake").iterdir())
    frugal("tidy", "rules.toml", "--yes")
    assert "Nothing to do" in frugal("tidy", "rules.toml", "--yes").stdout
    undo()
    assert sorted(path.name for path in (folder / "Intake").iterdir()) == before


def test_each_folder_is_a_group_of_its_own_and_an_unknown_date_stays(folder: Path) -> None:
    for name, age in (("a/1.log", 1), ("a/2.log", 2), ("b/3.log", 3), ("b/4.log", 4)):
        put(folder / "Intake" / name, age_days=age)
    book = book_of(folder, "where = 'ext is log'\nlevels = 2\nkeep = 'newest 1'\ndelete = true")
    assert {step.place.name for step in plan_of(book).asked} == {"2.log", "4.log"}
    book = book_of(folder, "where = 'ext is log'\nlevels = 2\nkeep = 'newest 1'\ndated = 'taken'\ndelete = true")
    plan = plan_of(book)
    assert not plan.asked and len(plan.not_touched) == 4 and all("`taken` is unknown" in one.reason for one in plan.not_touched)


def test_what_is_kept_gets_what_rules_above_give(folder: Path) -> None:
    for number in range(3):
        put(folder / f"Intake/{number}.log", age_days=number)
    plan = plan_of(book_of(folder, "where = 'ext is log'\ntag = 'seen'", "where = 'ext is log'\nkeep = 'newest 1'\ntrash = true"))
    done = [(step.place.name, step.verb) for step in plan.asked]
    assert sorted(done) == [(name, verb) for name in ("0.log",) for verb in ("set-attribute",)] + [
        (name, verb) for name in ("1.log", "2.log") for verb in ("set-attribute", "trash")
    ]


@pytest.mark.parametrize(("rule", "told"), [
    ("where = 'everything'\nkeep = 'newest 2'\nleave = true", "needs an action"), ("where = 'everything'\neach = '{ext}'\ntrash = true", "needs `keep`"),
    ("where = 'everything'\nkeep = 'newest 2'\ndated = 'size'\ntrash = true", "`size` is not a date"),
    ("where = 'everything'\nkeep = 'some'\ntrash = true", "does not say what to keep"),
])  # fmt: skip
def test_what_makes_no_sense_is_one_line(folder: Path, rule: str, told: str) -> None:
    with pytest.raises(Exception, match=told):
        book_of(folder, rule)


def test_what_will_be_thinned_out_is_foreseen(folder: Path) -> None:
    for number in range(3):
        put(folder / f"Intake/{number}.log", age_days=number)
    book = book_of(folder, "where = 'ext is log'\nkeep = 'all for 5 days'\ntrash = true")
    days = foresee(book, World, EarlierRuns(), NOW_NS, NOW_NS + 9 * DAY_NS)
    assert [[step.place.name for step in day.plan.asked] for day in days] == [["2.log"], ["1.log"], ["0.log"]]
