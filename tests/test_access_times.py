"""Rules about `opened`, on volumes that keep when files were opened, once a day, or not at all."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.rules.fields import FIELDS, Between, Facts, World
from frugal_sorter.rules.operators import compare
from frugal_sorter.rules.tree import Leaf, Negation
from frugal_sorter.values import replace
from tests.conftest import AS_ROOT, Frugal, Mount

HOUR_NS = 3_600_000_000_000
NOW_NS = 1_790_000_000_000_000_000
LIMIT = 16
TURNED = {True: False, False: True, None: None}


@AS_ROOT
@pytest.mark.parametrize(
    ("option", "code", "taken", "told"),
    [
        ("strictatime", 0, {"in 20 hours": True, "in 3 days": True}, "no warnings"),
        # What was opened after it was written may have been opened again within a day of that.
        ("relatime", 0, {"in 20 hours": False, "in 3 days": True}, "up to a day late, but never early"),
        ("noatime", 1, {"in 20 hours": False, "in 3 days": False}, "does not record when files are opened"),
    ],
)
def test_a_rule_about_opened_knows_what_the_volume_keeps(
    option: str, code: int, taken: dict[str, bool], told: str, mount: Mount, frugal: Frugal, folder: Path
) -> None:
    volume = mount("ext4", option, **{option: ""})
    scan = volume / "scan.tif"
    scan.write_text("glaze")
    # The time of a change cannot be set back, so the file is opened in an hour.
    os.utime(scan, ns=(time.time_ns() + HOUR_NS, time.time_ns()))
    rules = folder / "r.toml"
    where = f'where = "opened older than {LIMIT} hours"'
    rules.write_text(f'frugal = 1\n[[rule]]\nname = "Unused"\nin = "{volume}"\n{where}\ntrash = true\n')
    assert told in " ".join(frugal("check", rules).stdout.split())
    for when, goes in taken.items():
        assert ("→ the trash" in frugal("preview", rules, "--as-of", when, code=code).stdout) is goes
        explained = frugal("explain", scan, "--rules", rules, "--as-of", when).stdout
        assert ("decides" in explained) is goes
        assert ("records it only once a day" in explained) is (option == "relatime")
        assert ("does not record when files are opened" in explained) is (option == "noatime")


@AS_ROOT
def test_a_purge_leaves_what_it_cannot_date(mount: Mount, frugal: Frugal) -> None:
    volume = mount("ext4", noatime="")
    for name in ("a", "b", "c"):
        (volume / name).write_text("glaze")
        os.utime(volume / name, (0, 0))
    words = ("purge", volume, "--older-than", "12h", "--by", "opened", "--yes")
    assert "`opened` is unknown: this volume does not record" in " ".join(frugal(*words, code=1).stdout.split())
    assert "3 files: `opened` is unknown" in frugal(*words, "--keep-newest", "1", code=1).stdout
    assert {"a", "b", "c"} <= {path.name for path in volume.iterdir()}


@pytest.mark.parametrize(("hours", "is_old"), [(10, False), (15, False), (30, None), (39, None), (41, True), (200, True)])
def test_a_date_between_two_ends_decides_only_where_both_agree(hours: int, is_old: bool | None, folder: Path) -> None:
    (folder / "f").write_text("glaze")
    facts = Facts(look(Place(str(folder), "f")), str(folder), {}, World(NOW_NS))
    first = NOW_NS - hours * HOUR_NS
    until = min(first + 24 * HOUR_NS, NOW_NS)
    facts._known["opened"] = Between(first, until)
    older, within = (
        Leaf(FIELDS["opened"], compare("opened", "date", operator, f"{LIMIT} hours", False))
        for operator in ("older than", "within")
    )
    assert older.test(facts) is is_old
    assert within.test(facts) is Negation(older).test(facts) is TURNED[is_old]
    if is_old is not True:
        assert older.changes_at(facts) == min(
            at for at in (first + LIMIT * HOUR_NS + 1, until + LIMIT * HOUR_NS + 1) if at > NOW_NS
        )
        later = replace(facts, world=replace(facts.world, now_ns=until + LIMIT * HOUR_NS + 1))
        assert older.test(later) is True
