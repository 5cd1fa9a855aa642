"""Which rule has an entry, now and later: `explain`, `preview` and `tidy` give one answer."""

from __future__ import annotations

import os
import shutil
import time
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.misses import nearest_misses
from frugal_sorter.planning.sight import Explainer, Sight
from frugal_sorter.rules.templates import parse_reading, parts_of_like, where_stopped
from frugal_sorter.rules.units import parse_hours
from frugal_sorter.values import replace
from tests.conftest import Frugal
from tests.support import DAY_NS, NO_PAST, NOW_NS, WORLD, book_of, carry_out, plan_of, put, rules_text
from tests.test_conditions import conditions

NAMES = (
    ("KILN 2 2026-10-04.log", 50), ("photo.JPG", 400), ("a.csv", 0.2), ("later.pdf", -2), ("sub/a.csv", 20),
    ("sub/.draft.log", 9), ("Sound/tone.wav", 12), ("Fold/in.log", 15), ("Repo/.git/HEAD", 90), ("Repo/code.py", 90),
)  # fmt: skip
endings = st.sampled_from([
    'move = "to A"', 'move = "to {ext}"', 'rename = "one{n}.{ext}"', "leave = true", "trash = true", 'pack = "all.zip"',
    'move = "Sound"\noff = true', 'tag = "seen"', 'take = "folders"\nmove = "F"', 'take = "items"\nmove = "I"',
    'move = "to A"\nlevels = "all"', 'move = "H"\nhidden = true\nlevels = 2', "at_most = 0\ntrash = true",
    'move = "to A"\nclash = "skip"', 'duplicates = {keep = "oldest", do = "trash"}',
])  # fmt: skip
hours = st.sampled_from(["", "", 'during = "mon-fri 08:00-18:00"', 'during = "sat-sun"', 'during = "22:00-06:00"'])
written = st.tuples(conditions, endings, hours)


def texts(rules: list[tuple[str, str, str]]) -> list[str]:
    return [f"where = '''{where}'''\n{ending}\n{during}" for where, ending, during in rules]


def laid_out(root: Path) -> Path:
    shutil.rmtree(root, ignore_errors=True)
    for name, age in NAMES:
        put(root / "Intake" / name, name.encode(), age)
    return root / "Intake"


@settings(max_examples=60)
@given(st.lists(written, min_size=1, max_size=4))
def test_explain_preview_and_tidy_name_the_same_rule_and_target(
    tmp_path_factory: pytest.TempPathFactory, rules: list[tuple[str, str, str]]
) -> None:
    root = tmp_path_factory.getbasetemp().resolve() / f"explained-{os.getpid()}"
    intake = laid_out(root)
    book = book_of(root, *texts(rules))
    plan = plan_of(book)
    about: dict[str, list[tuple[str, str]]] = {}
    for step in plan.asked:
        paths = [member["path"] for member in step.details["members"]] if step.verb == "pack" else []
        paths += [step.source.path] if step.source else []
        for path in paths:
            about.setdefault(path, []).append((step.rule, step.target.path if step.target else ""))
    left = {one.place.path: (one.rule, one.reason) for one in plan.not_touched}
    explainer = Explainer(book, WORLD, plan)
    for path in map(str, [*intake.rglob("*")]):
        explained, fate = explainer.explain(path)
        deciding = [one.rule for one in explained if one.decides]
        assert len(deciding) <= 1
        if path in about:
            assert [(step.rule, step.target.path if step.target else "") for step in fate.steps] == about[path]
            if fate.steps[-1].verb not in ("set-attribute",):
                assert deciding == [rule for rule in book.rules if rule.name == fate.rule]
        elif path in left:
            assert (fate.rule, fate.reason) == left[path]
        else:
            along = {parent for parent in map(str, Path(path).parents) if parent in about or parent in left}
            assert bool(fate.steps) <= bool(along) and (along or fate.reason or not fate.rule)
    carry_out(plan)
    for path, steps in about.items():
        last = next((target for _, target in reversed(steps) if target), "")
        if last and steps[-1][1] and not last.endswith(".zip"):
            assert os.path.lexists(last) and not os.path.lexists(path)


@settings(max_examples=60)
@given(st.lists(written, min_size=1, max_size=3))
def test_what_is_promised_for_later_comes_true_then_and_not_before(
    tmp_path_factory: pytest.TempPathFactory, rules: list[tuple[str, str, str]]
) -> None:
    root = tmp_path_factory.getbasetemp().resolve() / f"later-{os.getpid()}"
    intake = laid_out(root)
    book = book_of(root, *texts(rules))
    explainer = Explainer(book, WORLD, plan_by_rules(book, WORLD, NO_PAST))
    for path in [intake / "a.csv", intake / "photo.JPG", intake / "later.pdf"]:
        for one in explainer.explain(str(path))[0]:
            if one.when_ns is None or one.rule.ending is None:
                continue
            assert one.when_ns > NOW_NS
            deciding = Sight(book, WORLD).of(look(Place(str(intake), path.name)))
            assert deciding.has_it(one.rule, one.when_ns)
            then = plan_by_rules(book, replace(WORLD, now_ns=one.when_ns), NO_PAST)
            about = [step.rule for step in then.asked if step.source is not None and step.source.path == str(path)]
            held = [left.rule for left in then.not_touched if left.place.path == str(path) and "hours" in left.reason]
            refused = {refusal.rule for refusal in then.refused}
            other = {left.rule for left in then.not_touched if left.place.path == str(path)} - set(held)
            assert one.rule.name not in held
            at_rest = one.rule.ending == "leave" or one.rule.duplicates is not None or not about
            assert one.rule.name in {*about, *refused, *other} or at_rest


def at(text: str) -> int:
    return int(datetime.fromisoformat(text).timestamp()) * 1_000_000_000


@pytest.mark.parametrize(
    ("rules", "when"),
    [
        (['where = "modified older than 12 days"'], NOW_NS + 2 * DAY_NS),
        (['where = "modified older than 1 month"'], "2026-12-13T12:00:00"),
        (['where = "not modified within 11 days"'], NOW_NS + 1 * DAY_NS),
        (['where = "modified older than 12 days and modified within 13 days"'], NOW_NS + 2 * DAY_NS),
        (['where = "modified on yesterday"'], None),
        (['where = "modified older than 12 days and ext is csv"'], None),
        (['where = "ext is csv"'], None),
        # A rule above has it by then, or for good.
        (['where = "ext is log"', 'where = "modified older than 12 days"'], None),
        (['where = "modified older than 11 days"', 'where = "modified older than 12 days"'], None),
        # Until a rule above lets go.
        (['where = "modified within 12 days"', 'where = "ext is log"'], NOW_NS + 2 * DAY_NS),
        # NOW_NS is a Monday at noon; the hours come after the age.
        (['where = "modified older than 12 days"\nduring = "sat 08:00-10:00"'], "2026-11-28T08:00:00"),
        (['where = "ext is log"\nduring = "22:00-06:00"'], "2026-11-23T22:00:00"),
        (['where = "ext is log"\nduring = "mon 08:00-18:00"'], NOW_NS),
    ],
)  # fmt: skip
def test_when_a_rule_will_act(rules: list[str], when: int | str | None, folder: Path) -> None:
    path = put(folder / "Intake/a.log", age_days=10)
    book = book_of(folder, *(f'{rule}\nmove = "to {at}"' for at, rule in enumerate(rules)))
    found = Sight(book, WORLD).of(look(Place(str(path.parent), path.name))).will_act_at(book.rules[-1])
    when = at(when) if isinstance(when, str) else when
    assert (found is None) is (when is None), found
    if found is not None and when is not None:
        assert 0 <= found - when <= 1_000_000_000


@given(st.sampled_from(["mon", "sat-sun", "22:00-06:00", "fri 23:30-00:30", "08:00-18:00"]), st.integers(0, 14 * 24 * 60))
def test_hours_begin_when_they_hold_and_did_not_before(text: str, minutes: int) -> None:
    now_ns = NOW_NS + minutes * 60_000_000_000
    one = parse_hours(text)
    begin_ns = one.begin_after(now_ns)
    assert begin_ns > now_ns and one.hold(begin_ns)
    assert begin_ns - now_ns <= 8 * DAY_NS


@pytest.mark.parametrize(
    ("pattern", "name", "said"),
    [
        ("Kiln {k} {d:%Y-%m-%d}.log", "Kiln 2 soon.log",
         "read `Kiln 2 `, then expected a date like 2026-03-14, but found `soon.log`"),
        ("Kiln {k:1} {d:%Y-%m-%d}.log", "Kiln 2 2026-13-40.log",
         "read `Kiln 2 `, then expected a date that the calendar knows, but found `2026-13-40`"),
        ("Kiln {k:1} {d:%Y-%m-%d}.log", "Kiln 2 2026-03-04.log.bak",
         "read `Kiln 2 2026-03-04.log`, then expected the end of the name, but found `.bak`"),
        ("Kiln {k} {d:%d %B}", "Kiln_2", "read `Kiln`, then expected ` `, but found `_2`"),
        ("scan{page:3}", "SCAN12", "read `SCAN`, then expected a number of 3 digits or more, but found `12`"),
        ("scan{page:1}", "scan", "read `scan`, then expected a number, but found the end of the name"),
        ("{a} - {b}.log", "x - y.txt", "read `x - `, then expected `.log` further on, but found `y.txt`"),
        ("{a} - {b}", "x-y", "expected ` - ` further on, but found `x-y`"),
        ("Kiln {k}", "Kiln 2", None),
    ],
)  # fmt: skip
def test_where_a_name_stops_fitting_is_said(pattern: str, name: str, said: str | None) -> None:
    stopped = parse_reading(pattern, False).stops(name)
    assert (stopped and stopped.text) == said


@given(
    st.lists(st.sampled_from(["{a}", "{b:3}", "{c:%Y-%m-%d}", " ", "kiln", "-", "."]), min_size=1, max_size=5, unique=True),
    st.text("kiln 0123-.Q", max_size=16),
)
def test_a_name_stops_exactly_where_it_does_not_fit(parts: list[str], name: str) -> None:
    reading = parse_reading("".join(parts), False)
    stopped = reading.stops(name)
    assert (stopped is None) is (reading.fits(name) is True)
    if stopped is not None:
        assert name.startswith(stopped.read + stopped.found)


@given(st.text("ab*?[]!.x", max_size=8), st.text("ab.x]", max_size=8))
def test_wildcards_stop_exactly_where_they_do_not_fit(pattern: str, name: str) -> None:
    import fnmatch

    stopped = where_stopped(parts_of_like(pattern), name, True)
    assert (stopped is None) is fnmatch.fnmatchcase(name, pattern)


@pytest.mark.parametrize(
    ("where", "name", "told"),
    [
        ('name is "kiln-2.log"', "Kiln 2.log", "does not match: check spaces, punctuation and upper/lower case"),
        ('name is "kiln 2"', "Kiln_2 b.log", ""),
        ('name starts "kiln 2"', "Kiln_2.log", "does not match: check spaces, punctuation and upper/lower case"),
        ('name fits "Kiln {k} {d:%Y-%m-%d}.log"', "Kiln 2 soon.log", "expected a date like 2026-03-14, but found `soon.log`"),
        ('name fits "Kiln {k:1}.log"', "Kiln two.log", "expected a number, but found `two.log`"),
        ('name fits "Kiln {k:1}.log"', "photo.jpg", ""),
        ('name like "IMG_*.jpg"', "IMG_12.png", "expected `.jpg` further on"),
    ],
)  # fmt: skip
def test_the_nearest_misses_say_what_did_not_fit(where: str, name: str, told: str, folder: Path) -> None:
    put(folder / "Intake" / name)
    book = book_of(folder, f"where = '{where}'\nmove = 'x'")
    misses = nearest_misses(book, book.rules, WORLD).get("rule 0", [])
    assert [told in miss.why for miss in misses] == ([True] if told else [])


@pytest.mark.parametrize(
    ("above", "promised"),
    [
        ("", True), ('where = "ext is log"\nmove = "y"', False), ('where = "ext is log"\nleave = true', False),
        ('where = "ext is log"\nmove = "y"\noff = true', True), ('where = "ext is log"\ntag = "t"', True),
        ('where = "ext is log"\nmove = "y"\nduring = "sun"', False),
        ('where = "modified older than 6 days"\nmove = "y"', False),
    ],
)  # fmt: skip
def test_no_date_is_promised_for_what_a_rule_above_has(above: str, promised: bool, folder: Path) -> None:
    put(folder / "Intake/a.log", age_days=5)
    book = book_of(folder, *([above] if above else []), 'where = "modified older than 7 days"\nmove = "x"')
    (rule,) = [rule for rule in book.rules if rule.where_text == "modified older than 7 days"]
    assert bool(nearest_misses(book, [rule], WORLD)) is promised


def test_explain_says_what_a_preview_does_and_what_comes_next(folder: Path, frugal: Frugal) -> None:
    now_ns = time.time_ns()
    put(folder / "Intake/a.log", "1", 5, now_ns)
    put(folder / "Intake/Kiln 2 soon.log", "2", 5, now_ns)
    put(folder / "Intake/scan.tif", "3", 30, now_ns)
    tomorrow = datetime.fromtimestamp(now_ns / 1e9 + 86_400).strftime("%a").lower()
    text = rules_text(
        "where = 'name fits \"Kiln {kiln} {fired:%Y-%m-%d}.log\"'\nmove = 'K'",
        f'where = "ext is tif"\nmove = "T"\nduring = "{tomorrow} 08:00-18:00"',
        'where = "modified older than 7 days"\ntrash = true',
    )
    (folder / "rules.toml").write_text(text)
    said = frugal("explain", "Intake/Kiln 2 soon.log", "--rules", "rules.toml").stdout
    assert "read `Kiln 2 `, then expected a date like 2026-03-14, but found `soon.log`" in said
    assert "→ left alone: no rule matches it" in said and 'Next: rule "rule 2" will act on it on' in said
    said = frugal("explain", "Intake/scan.tif", "--rules", "rules.toml").stdout
    assert "rule 1: yes  ← this rule decides" in said and 'rule 2: yes  (has no effect: rule "rule 1" above decides)' in said
    assert "left alone: outside the rule's `during` hours; the rule will act on" in said and "08:00" in said
