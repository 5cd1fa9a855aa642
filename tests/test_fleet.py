"""The reports of many machines: who stands first, whose rules differ, and what damaged or hostile files can do: nothing."""

from __future__ import annotations

import json
import os
import random
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.filesystem.record import Unread
from frugal_sorter.reasons import Why
from frugal_sorter.reports.fleet import Machine, idle_everywhere, read_machines
from tests.conftest import Frugal
from tests.support import THOROUGH, put, rules_text

NOW = datetime.now(UTC)


def report_of(name: str, **more: Any) -> dict[str, Any]:
    """Return a report of a machine as it is printed, with some of it replaced."""
    rules = [{"path": "/home/maren/front-desk.toml", "digest": "aa", "rules": ["Moulds", "Old scans"]}]
    plain = {
        "format": 2, "machine": name, "to": NOW.isoformat(), "freed": 1_000, "free": 50, "total": 100, "full": None,
        "rules": [{"rule": "Moulds"}], "troubles": [], "rule_files": rules,
    }  # fmt: skip
    return {**plain, **more}


def lay_out(folder: Path, *reports: dict[str, Any]) -> Path:
    for report in reports:
        put(folder / f"reports/{report['machine']}.json", json.dumps(report))
    return folder / "reports"


def read(folder: Path) -> tuple[list[Machine], list[Unread]]:
    unread: list[Unread] = []
    return read_machines(str(folder), unread.append), unread


def test_who_needs_a_person_stands_first(folder: Path, frugal: Frugal) -> None:
    trouble = {"began": NOW.isoformat(), "by": "nightly", "outcome": "failed", "reason": "Intake is missing"}
    others = [{"path": "/srv/front-desk.toml", "digest": "bb", "rules": ["Moulds"]}]
    lay_out(
        folder, report_of("desk-1"), report_of("desk-2", free=5), report_of("desk-3", troubles=[trouble]),
        report_of("desk-4", to=(NOW - timedelta(days=8)).isoformat()), report_of("desk-5", rule_files=others),
        report_of("desk-6", full=(NOW + timedelta(days=9)).isoformat()),
    )  # fmt: skip
    said = frugal("report", "--from", "reports").stdout
    rows = [line.split()[0] for line in said.splitlines() if line.startswith("desk-")]
    assert rows == ["desk-4", "desk-3", "desk-2", "desk-6", "desk-1", "desk-5"]
    assert "6 machines, 6.0 kB freed. 1 has not reported for a week; 1 had problems; 1 is nearly full; 1 has other rules." in said
    assert "nightly: Intake is missing" in said and "front-desk.toml differs" in said
    assert "Rules that did nothing on any machine: front-desk.toml: Old scans." not in said
    found = json.loads(frugal("report", "--from", "reports", "--format", "json").stdout)
    assert [one["name"] for one in found["machines"]] == rows and found["machines"][0]["silent"]
    page = frugal("report", "--from", "reports", "--format", "html").stdout
    assert "<h1>Machines in reports</h1>" in page and page.count("<tr>") == 7 and "http" not in page


def test_a_rule_that_acts_nowhere_is_named_and_the_rules_of_most_are_the_usual_ones(folder: Path) -> None:
    other = [{"path": "/x/front-desk.toml", "digest": "bb", "rules": ["Old scans"]}]
    machines, unread = read(
        lay_out(folder, *(report_of(f"desk-{number}") for number in range(3)), report_of("odd", rule_files=other))
    )
    assert not unread and {one.name: one.differs for one in machines if one.differs} == {"odd": ("front-desk.toml",)}
    assert idle_everywhere(machines) == ["front-desk.toml: Old scans"]
    # Where nobody can say which is the usual one, both are named.
    machines, _ = read(lay_out(folder / "two", report_of("one"), report_of("other", rule_files=other)))
    assert all(one.differs for one in machines)


def test_what_this_version_prints_it_reads_and_reports_of_a_version_before_too(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/kiln.log", "x")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"', 'where = "ext is csv"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes")
    put(folder / "reports/ours.json", frugal("report", "--format", "json").stdout)
    old = {key: value for key, value in report_of("old").items() if key not in ("machine", "rule_files")}
    put(folder / "reports/desk-old.json", json.dumps({**old, "format": 1}))
    machines, unread = read(folder / "reports")
    assert not unread and {one.name for one in machines} == {os.uname().nodename, "desk-old"}
    (ours,) = (one for one in machines if one.name != "desk-old")
    assert ours.idle == ("rules.toml: rule 1",) and ours.digests.keys() == {"rules.toml"}
    # The last report of a machine counts.
    put(folder / "reports/later.json", json.dumps(report_of("desk-old", free=7, to=(NOW + timedelta(hours=1)).isoformat())))
    assert {one.name: one.free for one in read(folder / "reports")[0]}["desk-old"] == 7


ODD: tuple[object, ...] = (None, True, -1, 1 << 70, "x", "", [], {}, [[]], {"a": 1}, "9999-99-99", "\0", 1.5, "<b>")


def test_damaged_and_hostile_reports_cost_one_line_each_and_hide_no_other(folder: Path, frugal: Frugal) -> None:
    chance = random.Random(5)
    good = [report_of(f"desk-{number:03}") for number in range(20)]
    reports = lay_out(folder, *good)
    for number in range(2_000 if THOROUGH else 200):
        bad = report_of(f"desk-{number % 20:03}")
        for _ in range(chance.randint(1, 2)):
            bad[chance.choice(list(bad))] = chance.choice(ODD)
        put(reports / f"odd-{number}.json", json.dumps(bad))
    put(reports / "cut.json", json.dumps(good[0])[:50])
    put(reports / "deep.json", "[" * 100_000)
    put(reports / "not text.json", b"\xff\xfe\x00\xff" * 50)
    os.mkfifo(reports / "pipe.json")
    (reports / "folder.json").mkdir()
    (reports / "zero.json").symlink_to("/dev/zero")
    machines, unread = read(reports)
    assert {one.name for one in machines} >= {one["machine"] for one in good}
    assert {Why.NO_REPORT.code, "system"} <= {one.reason.code for one in unread} and len(unread) > 50
    done = frugal("report", "--from", "reports", code=1)
    assert "more files were not read" in done.stdout and not done.stderr
    assert (
        "<b>"
        not in frugal("report", "--from", "reports", "--format", "html", code=1).stdout.split("</h1>")[1].split("<script>")[0]
    )


@pytest.mark.parametrize(("words", "said"), [
    (["--from", "nowhere"], "nowhere: not found; name a folder of reports"),
    (["--from", "reports", "--since", "yesterday"], "remove --since and --runs"),
])  # fmt: skip
def test_what_cannot_be_shown_is_refused(folder: Path, frugal: Frugal, words: list[str], said: str) -> None:
    (folder / "reports").mkdir()
    assert said in frugal("report", *words, code=2).stderr
    assert "0 machines" in frugal("report", "--from", "reports").stdout


def test_a_thousand_machines_are_not_a_thousand_lines(folder: Path, frugal: Frugal) -> None:
    lay_out(folder, *(report_of(f"desk-{number:04}") for number in range(1_000)))
    said = frugal("report", "--from", "reports").stdout
    assert len(said.splitlines()) < 60 and "and 960 more with nothing to look at" in said


def test_what_machines_hold_alike_and_alone_is_told(folder: Path, frugal: Frugal) -> None:
    (folder / "kept").mkdir()
    for number in range(3):
        put(folder / f"desk-{number}/Downloads/installer.bin", bytes(3_000_000))
        put(folder / f"desk-{number}/small.txt", b"x")
        put(folder / f"desk-{number}/own {number}.bin", bytes(1_000_000 + number))
        if number:
            put(folder / f"desk-{number}/Downloads/again/installer.bin", bytes(3_000_000))
            put(folder / f"desk-{number}/film.bin", bytes(2_000_000))
        frugal(
            "inventory", f"desk-{number}", "--save", f"./kept/desk-{number}.inventory.gz", *(["--full"] if number == 1 else [])
        )
    (folder / "kept/damaged.inventory.gz").write_bytes(b"x")
    found = json.loads(frugal("compare", "--from", "kept", "--format", "json", code=1).stdout)
    assert found["machines"] == ["desk-0", "desk-1", "desk-2"] and len(found["not_read"]) == 1
    assert [(one["name"], one["machines"], one["copies"], one["all_bytes"]) for one in found["alike"]] == [
        ("installer.bin", 3, 5, 15_000_000), ("film.bin", 2, 2, 4_000_000),
    ]  # fmt: skip
    assert [(one["machine"], one["files"], one["largest"]) for one in found["alone"]] == [
        (f"desk-{number}", 1, f"own {number}.bin") for number in (2, 1, 0)
    ]
    said = frugal("compare", "--from", "kept", code=1).stdout
    assert "2 files of at least 1.0 MB on several of them by name and size, 1 on all." in said and "small.txt" not in said
    assert "<h2>Alone</h2>" in frugal("compare", "--from", "kept", "--format", "html", code=1).stdout
    assert "name what to compare" in frugal("compare", code=2).stderr
    assert "remove A, B" in frugal("compare", "monday", "--from", "kept", code=2).stderr
