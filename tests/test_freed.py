"""What a run freed is said after it, with what is free now; what is in the trash is not freed yet."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest

from frugal_sorter.app.report import full_at_ns
from frugal_sorter.planning.plan import Plan
from frugal_sorter.reports.saved import look_now, save
from frugal_sorter.state import ready_state_folder
from tests.conftest import AS_ROOT, Frugal, Mount
from tests.support import DAY_NS, NOW_NS, put, rules_text

KILO = b"x" * 1_000


@pytest.mark.parametrize(("rule", "freed", "trashed"), [
    ("delete = true", "3.0 kB from IN", ""), ("trash = true", "", "3.0 kB moved to the trash"), ('move = "Logs"', "", ""), ('tag = "seen"', "", ""),
    ('move = "OTHER"', "3.0 kB from IN", ""), ('copy = "C"', "", ""), ('duplicates = {keep = "oldest", do = "hardlink"}', "2.0 kB from IN", ""),
])  # fmt: skip
def test_a_run_says_what_it_freed_and_what_it_did_not(
    folder: Path, frugal: Frugal, mount: Mount, rule: str, freed: str, trashed: str
) -> None:
    other = mount("tmpfs") if "OTHER" in rule else folder
    for number in range(3):
        put(folder / f"Intake/{number}.log", KILO)
    put(folder / "rules.toml", rules_text(f'where = "ext is log"\n{rule.replace("OTHER", str(other))}'))
    said = frugal("tidy", "rules.toml", "--yes").stdout
    assert (f"Freed {freed.replace('IN', str(folder / 'Intake'))}; " in said) is bool(freed)
    assert ("are free now" in said) is bool(freed)
    assert (trashed in said) is bool(trashed) or not trashed
    assert ("the space is freed when the trash is emptied. To see or empty it" in said) is bool(trashed)
    if "delete" in rule:
        assert "It freed 3.0 kB" in frugal("history", "1").stdout
        visit = json.loads(frugal("history", "--format", "json").stdout)["visits"][0]
        assert visit["freed"] == 3_000 and visit["free_after"]


@AS_ROOT
def test_it_says_why_less_was_freed_than_was_removed(folder: Path, frugal: Frugal, mount: Mount) -> None:
    volume = mount("tmpfs")
    put(volume / "Intake/a.log", b"x" * 3_000_000, age_days=90)
    os.link(volume / "Intake/a.log", volume / "another name")
    put(volume / "Intake/b.log", b"x" * 2_000_000, age_days=90)
    words = ("purge", volume / "Intake", "--older-than", "30d", "--by", "modified", "--permanent", "--yes")
    said = frugal(*words).stdout
    assert f"Removed 5.0 MB from {volume}/Intake, but the volume has only 2.0 MB more room so far: files with other names" in said


def test_what_leaves_the_trash_is_freed_and_the_free_room_is_that_of_the_volume(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log", KILO)
    put(folder / "rules.toml", rules_text('where = "ext is log"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes")
    said = frugal("trash", "--older-than", "0 days", "--yes").stdout
    assert "Freed 1.0 kB from the trash" in said
    total = os.statvfs(folder).f_blocks * os.statvfs(folder).f_frsize
    named = re.search(r"of ([\d.]+) (GB|TB|MB)", said)
    unit = {"MB": 10**6, "GB": 10**9, "TB": 10**12}
    assert named and float(named[1]) * unit[named[2]] == pytest.approx(total, rel=0.05)


def test_only_what_was_done_counts(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log", KILO)
    put(folder / "Desk/b.log", KILO)
    put(folder / "rules.toml", rules_text('in = ["Intake", "Desk"]\nwhere = "ext is log"\ndelete = true'))
    frugal("preview", "rules.toml", "--save", "later.plan")
    put(folder / "Desk/b.log", "newer", age_days=0)
    said = frugal("tidy", "--plan", "later.plan", "--yes", code=1).stdout
    assert f"Freed 1.0 kB from {folder}/Intake" in said


def test_the_pace_is_told_where_inventories_are_kept(folder: Path) -> None:
    plan = Plan("purge", NOW_NS, "x", levels={str(folder): 1})
    assert full_at_ns(plan.roots, NOW_NS) is None
    (ready_state_folder() / "inventories").mkdir()
    room = os.statvfs(folder)
    step = room.f_bavail * room.f_frsize // 100
    for day in range(5):
        (folder / "grows").touch()
        os.truncate(folder / "grows", step * (day + 1))  # holes: nothing is written
        save(look_now(str(folder), False, NOW_NS - (4 - day) * DAY_NS), ready_state_folder() / f"inventories/{day}.inventory.gz")
    at_ns = full_at_ns(plan.roots, NOW_NS)
    assert at_ns is not None and 80 < (at_ns - NOW_NS) / DAY_NS < 120
