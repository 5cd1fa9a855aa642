"""Where a file went and how it comes back, and which run put one where it is."""

from __future__ import annotations

import os
import re
import shlex
import shutil
from pathlib import Path

import pytest

from tests.conftest import Frugal
from tests.support import put, rules_text


@pytest.fixture
def intake(folder: Path) -> Path:
    for name in ("a.log", "b.log", "set/in/deep.txt", "[odd].log"):
        put(folder / "Intake" / name, name)
    return folder / "Intake"


@pytest.mark.parametrize(("rule", "gone", "told", "comes_back"), [
    ('where = "ext is log"\nmove = "Logs"', "a.log", "moved to", True), ('where = "ext is log"\ntrash = true', "a.log", "to the trash", True),
    ('where = "ext is log"\ndelete = true', "a.log", "cannot be undone", False), ('where = "ext is log"\nrename = "x-{name}"', "[odd].log", "moved to", True),
    ('take = "folders"\nwhere = "name is set"\nmove = "Sets"', "set/in/deep.txt", "with", True),
    ('take = "folders"\nwhere = "name is set"\ntrash = true', "set/in", "with", True), ('where = "ext is log"\npack = "all.zip"', "b.log", "to the trash", True),
])  # fmt: skip
def test_what_is_gone_is_explained_and_comes_back_as_it_says(
    intake: Path, frugal: Frugal, rule: str, gone: str, told: str, comes_back: bool
) -> None:
    put(intake.parent / "rules.toml", rules_text(rule))
    frugal("tidy", "rules.toml", "--yes")
    said = frugal("explain", f"Intake/{gone}", "--rules", "rules.toml").stdout
    assert "no longer exists" in said and "Run 1 (tidy" in said and told in said
    found = re.search(r"To restore it: frugal (undo .*)", said)
    assert bool(found) is comes_back
    if found:
        frugal(*shlex.split(found[1]), "--yes")
        assert (intake / gone).exists()


def test_two_moves_in_a_row_are_followed(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "one.toml", rules_text('where = "name is a.log"\nmove = "First"'))
    put(intake.parent / "two.toml", rules_text('in = "Intake/First"\nwhere = "ext is log"\nmove = "../Second"'))
    frugal("tidy", "one.toml", "--yes")
    frugal("tidy", "two.toml", "--yes")
    said = frugal("explain", "Intake/a.log", "--rules", "one.toml").stdout
    assert "Run 1 (tidy" in said and "Run 2 (tidy" in said and f"Now at: {intake}/Second/a.log" in said
    (intake / "Second/a.log").unlink()
    assert "No longer at" in frugal("explain", "Intake/a.log", "--rules", "one.toml").stdout


def test_what_is_there_says_who_put_it_there(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "Moved here by run 1 (tidy, 20" in frugal("explain", "Intake/Logs/[odd].log", "--rules", "rules.toml").stdout
    shutil.copy(intake / "Logs/a.log", intake / "Logs/new")
    os.replace(intake / "Logs/new", intake / "Logs/a.log")
    assert "Moved here" not in frugal("explain", "Intake/Logs/a.log", "--rules", "rules.toml").stdout
    frugal("undo", "--only", "Intake/b.log", "--yes")
    assert "Moved here by run 2 (undo" in frugal("explain", "Intake/b.log", "--rules", "rules.toml").stdout
    assert "found" in frugal("explain", "Intake/nothing", "--rules", "rules.toml", code=2).stderr


@pytest.mark.parametrize(("named", "found"), [
    ("*.log", 3), ("A.*", 1), ("*", 3), ("[ab].log", 2), ("a.log", 1), ("*.txt", 0), ("Intake/*.log", 3), ("[odd].log", 0), ("*odd*", 1),
])  # fmt: skip
def test_the_history_of_files_takes_wildcards(intake: Path, frugal: Frugal, named: str, found: int) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    assert frugal("history", "--file", named).stdout.count("moved ") == found
