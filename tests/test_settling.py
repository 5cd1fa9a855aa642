"""What a walk settles by columns, and targets that are asked about once for files that are alike: as one by one."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from itertools import product
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.filesystem import parallel
from frugal_sorter.planning.endings import PlainMoves, Settling
from frugal_sorter.planning.plan import Plan
from frugal_sorter.rules import placing
from tests.support import THOROUGH, book_of, moves_of, plan_of, put

# A minute into a day this zone once went back to the day before.
ZONES = ["UTC", "Asia/Kolkata", "America/St_Johns"]
MIDNIGHTS = [
    int(datetime(year, month, day, hour, tzinfo=UTC).timestamp())
    for year, month, day, hour in [(2010, 11, 7, 2), (2025, 12, 31, 18), (2026, 1, 1, 0), (2026, 3, 14, 9), (1905, 6, 1, 3)]
]
NAMES = ["a.txt", "b.TXT", "c.jpg", "a_2.txt", "pot.tar.gz", "no suffix", ".hidden.txt", "élan.csv", "_.txt", ".git"]
FOLDERS = ["", "txt", "image", "Images", "A", "2025", "2026-01-01", "sub", "sub/txt", "sub/2025", ".hid", "E", "empty"]
MOVES = [
    "A", "{ext}", "{type}/{modified:%Y}", "{modified:%Y}", "{modified:%Y-%m-%d}", "{modified:%H}", "{initial}", "{typefolder}",
    "{sizeband}", "{size}", "{folder}", "{subpath}/x", "{depth}", ".", "{modified:%Y}/{initial}", "{stem}", "{n}/{ext}",
    '{artist|"A"}', "{ext|initial}", "{ext}/{user}", "{created:%Y}", "../txt",
]  # fmt: skip
WHERES = ["everything", "ext is txt", "not empty", "name has a", "size > 4 B", "modified older than 30 days", "tag is x"]
MORE = ["", "", "", "", 'rename = "{stem} x.{ext}"', 'tag = "x"', 'other = "A"', 'clash = "skip"', "hidden = true"]

files = st.dictionaries(
    st.tuples(st.sampled_from(FOLDERS), st.sampled_from(NAMES)),
    st.tuples(st.sampled_from(["", "clay", "glaze and kiln"]), st.sampled_from(MIDNIGHTS), st.integers(-3_700, 3_700)),
    max_size=14,
)
rules = st.builds(
    lambda where, ending, levels, more, where_from: (
        f'in = {where_from}\nwhere = "{where}"\nlevels = {levels}\n{ending}' + (f"\n{more}" if "move" in ending else "")
    ),
    st.sampled_from(WHERES),
    st.one_of(st.sampled_from([f"move = '{move}'" for move in MOVES]), st.sampled_from(["leave = true", 'tag = "x"'])),
    st.sampled_from(['"all"', "1", "2"]),
    st.sampled_from(MORE),
    st.sampled_from(['"Intake"', '"Intake"', '["Intake", "Intake/sub"]', '"Intake/sub"']),
)


@pytest.fixture
def zone() -> Iterator[None]:
    """Give the time zone back that was there before."""
    before = os.environ.get("TZ")
    yield
    os.environ.pop("TZ", None)
    if before is not None:
        os.environ["TZ"] = before
    time.tzset()


def one_by_one(make: pytest.MonkeyPatch) -> None:
    """Have every file planned by itself, as if no two were alike."""
    make.setattr(placing, "_alike", lambda _rule: None)
    make.setattr(PlainMoves, "add", lambda _self, _index, _facts: False)
    make.setattr(Settling, "unsettled", lambda _self, _listing, hits, _here, _settled: hits)


def said(plan: Plan) -> tuple[object, ...]:
    return (
        plan.steps, plan.not_touched, plan.notes, plan.refused, plan.at_home, plan.kept, plan.seen, plan.matched, plan.levels,
        plan.unclaimed,
    )  # fmt: skip


def both_ways(root: Path, *rules: str) -> tuple[tuple[object, ...], tuple[object, ...]]:
    """Return the plan of some rules, and that of the same rules where every file is planned by itself."""
    by_the_folder = said(plan_of(book_of(root, *rules)))
    with pytest.MonkeyPatch.context() as patched:
        one_by_one(patched)
        return by_the_folder, said(plan_of(book_of(root, *rules)))


@pytest.mark.parametrize("move", MOVES)
def test_each_target_of_many_files_that_are_nearly_alike(zone: None, own_home: Path, folder: Path, move: str) -> None:
    os.environ["TZ"] = "America/St_Johns"
    time.tzset()
    for number, (below, name) in enumerate(product(FOLDERS, [name for name in NAMES if name != ".git"])):
        path = put(folder / "Intake" / below / name, ["", "clay", "glaze and kiln"][number % 3])
        os.utime(path, (MIDNIGHTS[number % 5] + 1_800 + [0, 59, 61, 3_600, 86_399, -90, 1][number % 7],) * 2)
    put(folder / "Intake/sub/.git", "gitdir: elsewhere")
    others = (), ('in = "Intake"\nwhere = "name has b"\nleave = true\nlevels = "all"',)
    for number, more in enumerate(dict.fromkeys(MORE)):
        for above in others if THOROUGH else others[number % 2 :][:1]:
            rule = f'in = ["Intake", "Intake/sub"]\nwhere = "everything"\nlevels = "all"\nmove = \'{move}\'\n{more}'
            by_the_folder, one_by_one = both_ways(folder, *above, rule)
            assert by_the_folder == one_by_one, more


@given(files, st.lists(rules, min_size=1, max_size=4), st.sampled_from(ZONES), st.booleans())
def test_what_is_planned_by_the_folder_is_what_is_planned_one_by_one(
    zone: None, own_home: Path, files: dict[tuple[str, str], tuple[str, int, int]], rules: list[str], zone_name: str, fork: bool
) -> None:  # fmt: skip
    os.environ["TZ"] = zone_name
    time.tzset()
    with tempfile.TemporaryDirectory() as made, pytest.MonkeyPatch.context() as patched:
        root = Path(os.path.realpath(made))
        (root / "Intake/sub").mkdir(parents=True)
        for (folder, name), (body, midnight, beside) in files.items():
            path = put(root / "Intake" / folder / name, body)
            os.utime(path, (midnight + beside,) * 2)
        if fork:
            patched.setattr(parallel, "SPLIT_AFTER", 0)
            patched.setattr(parallel, "_FEWEST_LEFT", 1)
        by_the_folder, one_by_one = both_ways(root, *rules)
        assert by_the_folder == one_by_one


def test_a_counter_does_not_number_what_goes_where_there_is_none(own_home: Path, folder: Path) -> None:
    for below in ("A", "one", "two"):
        put(folder / "Intake" / below / "no suffix", below)
    rule = 'where = "everything"\nlevels = "all"\nmove = "{n}/{ext}"\nother = "A"'
    plan = plan_of(book_of(folder, rule))
    assert moves_of(plan, folder / "Intake") == {"one/no suffix": "A/no suffix_2", "two/no suffix": "A/no suffix_3"}
    assert plan.at_home.files == 1
