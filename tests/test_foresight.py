"""`frugal preview --until`: what it says day by day is what happens when the program is run on each of these days."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.filesystem.record import place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.tree import View, isdir, lexists, listdir, seeing
from frugal_sorter.filesystem.walk import read_folder
from tests.conftest import Frugal
from tests.support import DAY_NS, on_terminal, put, rules_text, snapshot

DAYS = 9
RULES = {
    "two stages": (
        'take = "items"\nwhere = \'modified older than 3 days and not (name starts "KEEP")\'\nmove = "../Holding"',
        'in = "Holding"\ntake = "items"\nwhere = "arrived older than 84 hours"\ntrash = true',
    ),
    "clashes and folders of months": (
        'where = "modified older than 2 days"\nmove = "Old/{modified:%Y-%m}"', 'where = "ext is tmp"\nrename = "x-{name}"',
        'in = "Intake/Old"\nlevels = "all"\nwhere = "arrived older than 60 hours and ext is log"\nmove = "../../Flat"\nprune = true',
        'in = "Flat"\nwhere = "modified older than 9 days"\ndelete = true',
    ),
    "three stages and an exception": (
        'where = "name is KEEP.log"\nleave = true', 'where = "modified older than 1 day"\nmove = "../A"\nclash = "skip"',
        'in = "A"\nwhere = "arrived older than 36 hours"\nmove = "../B"\nclash = "replace"', 'in = "B"\nwhere = "arrived older than 36 hours"\nmove = "../C/{initial}"',
    ),
    "tags and comments that later tests read": (
        'where = "modified older than 2 days and not (tag is seen)"\ntag = "seen"\ncomment = "from {modified:%Y}"\nmove = "../Holding"',
        'in = "Holding"\nwhere = "tag is seen and comment has from and arrived older than 3 days"\nretag = ["kept"]\nmove = "../A"',
        'in = "A"\nwhere = "tag is kept and arrived older than 2 days"\ntrash = true',
    ),
}  # fmt: skip


@pytest.fixture
def desk(folder: Path) -> Path:
    now_ns = time.time_ns()
    for name, days in (
        ("a.log", 0.5), ("b.log", 2.5), ("KEEP.log", 30), ("c.tmp", 8.2), ("set/in/d.log", 4), ("e.log", 6), ("set/f.tmp", 1),
    ):  # fmt: skip
        put(folder / "Intake" / name, name, days, now_ns)
    put(folder / "Holding/old.log", "old", 90, now_ns)
    put(folder / "B/b.log", "another", 1, now_ns)
    for name in ("A", "C", "Flat", "Intake/Old"):
        (folder / name).mkdir()
    return folder


def told(folder: Path, steps: list[dict[str, Any]]) -> set[tuple[str, str, str]]:
    """Return what some steps do, names in a trash and the moment aside."""
    found = set()
    for step in steps:
        if step["verb"] not in ("note-times", "restore-times"):
            target = "" if step["verb"] == "trash" else step["target"] or ""
            found.add((step["verb"], os.path.relpath(step["source"] or "/", folder), os.path.relpath(target or "/", folder)))
    return found


@pytest.mark.skipif(not shutil.which("faketime"), reason="faketime is not installed")
@pytest.mark.parametrize("rules", RULES)
def test_what_is_foreseen_is_what_happens_day_by_day(desk: Path, frugal: Frugal, rules: str) -> None:
    put(desk / "rules.toml", rules_text(*RULES[rules]))
    before = snapshot(desk)
    foreseen = json.loads(frugal("preview", "rules.toml", "--until", f"in {DAYS} days", "--format", "json").stdout)
    assert snapshot(desk) == before
    by_day = {round((_ns(day["moment"]) - _ns(foreseen["from"])) / DAY_NS): told(desk, day["steps"]) for day in foreseen["days"]}
    for number in range(DAYS + 1):
        command = ["faketime", "-f", f"+{number}d", sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"]
        done = subprocess.run(command, cwd=desk, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr
        steps = []
        if "Nothing to do" not in done.stdout:
            last = json.loads(frugal("history", "--format", "json").stdout)["runs"][-1]["id"]
            steps = json.loads(frugal("history", str(last), "--format", "json").stdout)["steps"]
        assert told(desk, steps) == by_day.get(number, set()), number
    assert len(by_day) > 1, "nothing of a second stage was seen"


def _ns(text: str) -> int:
    from datetime import datetime

    return int(datetime.fromisoformat(text).timestamp() * 10**9)


def test_the_days_are_told_in_words_with_what_is_not_in_them(desk: Path, frugal: Frugal) -> None:
    put(desk / "rules.toml", rules_text(*RULES["two stages"]))
    said = frugal("preview", "rules.toml", "--until", "in 9 days").stdout
    assert (
        "today" in said
        and "in 4 days" in said
        and "This does not include files that arrive or change before then" in said
        and "rule 1" in said
    )
    assert "Nothing to do before then" in frugal("preview", "rules.toml", "--until", "in 1 day", "--rule", "rule 1").stdout
    frugal("preview", "rules.toml", "--until", "in 9 days", "--exit-code", code=1)


@pytest.mark.parametrize(("words", "rule", "told"), [
    (["--until", "yesterday"], 'move = "x"', "is in the past"), (["--until", "soon"], 'move = "x"', "--until"), (["--until", "in 20 years"], 'move = "x"', "ten years"),
    (["--until", "in 2 days", "--tree"], 'move = "x"', "only shows what would happen"), (["--until", "in 2 days"], 'pack = "a.zip"', "cannot be foreseen"),
    (["--until", "in 2 days"], 'copy = "C"', "cannot be foreseen"), (["--until", "in 2 days"], 'run = ["true"]', "cannot be foreseen"),
])  # fmt: skip
def test_what_cannot_be_foreseen_is_refused_by_name(desk: Path, frugal: Frugal, words: list[str], rule: str, told: str) -> None:
    put(desk / "rules.toml", rules_text(f'where = "everything"\n{rule}'))
    done = frugal("preview", "rules.toml", *words, code=2)
    assert told in done.stderr and len(done.stderr.splitlines()) == 1


def test_a_view_shows_what_was_moved_in_memory(desk: Path) -> None:
    intake, holding = desk / "Intake", desk / "Holding"
    before = snapshot(desk)
    with seeing(View()) as view:
        view.move(f"{intake}/a.log", f"{holding}/a.log")
        view.move(f"{intake}/set", f"{holding}/set")
        view.make(f"{holding}/new")
        view.move(f"{holding}/set/f.tmp", f"{holding}/new/f.tmp")
        view.remove(f"{intake}/b.log")
        assert sorted(listdir(str(holding))) == ["a.log", "new", "old.log", "set"]
        assert "a.log" not in listdir(str(intake)) and not lexists(f"{intake}/b.log") and isdir(f"{holding}/new")
        assert look(place_of(f"{holding}/set/in/d.log")).place.path == f"{holding}/set/in/d.log"
        assert listdir(f"{holding}/set") == ["in"] and listdir(f"{holding}/new") == ["f.tmp"]
        listing = read_folder(f"{holding}/new", True)
        assert (listing.names, listing.folders) == (["f.tmp"], []) and listing.status[0].st_size == 9
        assert read_folder(str(holding), True).folders == ["new", "set"]
        with pytest.raises(FileNotFoundError):
            look(place_of(f"{intake}/a.log"))
        with pytest.raises(FileNotFoundError):
            read_folder(f"{intake}/set", True)
    assert lexists(f"{intake}/a.log") and snapshot(desk) == before


# A rule about time, tried at once


def test_another_moment_is_tried_on_chosen_files_and_always_asked(desk: Path, frugal: Frugal) -> None:
    put(desk / "rules.toml", rules_text('where = "modified older than 20 days"\nmove = "../Old"'))
    words = ["tidy", "rules.toml", "--as-of", "in 40 days"]
    assert "--only" in frugal(*words, "--yes", code=2).stderr
    assert "always asks for confirmation" in frugal(*words, "--only", "Intake/e.log", "--yes", code=2).stderr
    assert "without a terminal" in frugal(*words, "--only", "Intake/e.log", code=3).stderr
    code, said = on_terminal(desk, *words, "--only", "Intake/e.log", answers="yes")
    assert code == 0 and (desk / "Old/e.log").exists() and (desk / "Intake/a.log").exists() and "outside --rule or --only" in said
    frugal("undo", "--yes")
    assert (desk / "Intake/e.log").exists()


def test_only_what_is_named_is_done(desk: Path, frugal: Frugal) -> None:
    put(desk / "rules.toml", rules_text('where = "ext is log"\nmove = "../Old"'))
    assert "--only" in frugal("tidy", "rules.toml", "--only", "Intake/nothing", "--yes", code=2).stderr
    frugal("tidy", "rules.toml", "--only", "Intake/a.log", "--yes")
    assert sorted(os.listdir(desk / "Old")) == ["a.log"]
