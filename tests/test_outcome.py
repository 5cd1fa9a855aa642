"""`frugal preview --tree`: what the folders hold, and what they will: equal to what the disk holds after the run."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pytest

from frugal_sorter.app.rules import look_ahead
from frugal_sorter.app.session import Session
from frugal_sorter.planning.foresight import outcome_of
from frugal_sorter.rules.load import load_rules
from tests.conftest import Frugal
from tests.support import on_terminal, put, rules_text

RULES = {
    "move": 'where = "ext is log"\nmove = "Logs/{stem}"', "rename": 'where = "ext is log"\nrename = "x-{name}"',
    "replace": 'where = "ext is log"\nmove = "Old"\nclash = "replace"', "trash": 'where = "ext is log"\ntrash = true',
    "copy": 'where = "ext is log"\ncopy = "Copies"', "pack": 'where = "ext is log"\npack = "logs.zip"',
    "prune": 'where = "everything"\nlevels = "all"\nmove = "Flat"\nprune = true', "folders": 'take = "folders"\nwhere = "name is sub"\nmove = "In"',
    "delete": 'where = "ext is log"\ndelete = true', "link": 'where = "ext is log"\nlink = "Links"\nmove = "L"',
}  # fmt: skip


@pytest.fixture
def intake(folder: Path) -> Path:
    for name in ("a.log", "b.log", "c.txt", "sub/d.log", "sub/e.txt", "Old/a.log"):
        put(folder / "Intake" / name, name)
    return folder / "Intake"


def files_below(folder: str) -> int:
    return sum(len(names) for _, _, names in os.walk(folder))


@pytest.mark.parametrize("rule", RULES)
def test_the_counts_are_those_of_the_disk_before_and_after(intake: Path, frugal: Frugal, rule: str) -> None:
    rules = put(intake.parent / "rules.toml", rules_text(RULES[rule]))
    found = outcome_of(look_ahead(Session.begin(), load_rules(rules)))
    assert found
    for one in found:
        assert one.before == files_below(one.path), one.path
    frugal("tidy", "rules.toml", "--yes")
    for one in found:
        assert os.path.isdir(one.path) is (one.fate != "goes"), one.path
        assert one.fate == "goes" or one.after == files_below(one.path), one.path
        assert all(os.path.lexists(f"{one.path}/{comer.name}") for comer in one.coming), one.path


def test_a_page_and_a_piped_list_name_every_newcomer_with_where_it_comes_from(intake: Path, frugal: Frugal) -> None:
    put(intake / "<b>.log", "odd")
    put(intake.parent / "rules.toml", rules_text(RULES["move"].replace("{stem}", "May")))
    said = frugal("preview", "rules.toml", "--tree").stdout
    now, then = said.split("Then\n")
    for name in ("a.log", "b.log"):
        assert f"- {name}" in now and f"+ {name}  from Intake" in then
    assert "Logs/May/  3  new" in then or re.search(r"May/ +3  new", then)
    page = frugal("preview", "rules.toml", "--format", "html").stdout
    assert "+ a.log  from Intake" in page and "&lt;b&gt;.log" in page and "<b>.log" not in page
    assert "frugal tidy rules.toml" in page and "Nothing has been changed" in page


def test_the_two_stand_side_by_side_where_there_is_room(intake: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(intake.parent / "rules.toml", rules_text(RULES["move"]))
    for columns, beside in (("120", True), ("80", False)):
        monkeypatch.setenv("COLUMNS", columns)
        _, said = on_terminal(intake.parent, "preview", "rules.toml", "--tree")
        lines = re.sub(r"\x1b\[[\d;]*m", "", said).splitlines()
        assert any(re.fullmatch(r"Now +Then", line) for line in lines) is beside
        assert max(map(len, lines)) <= int(columns) or not beside


@pytest.mark.parametrize(("name", "code"), [("a.log", 1), ("c.txt", 0)])
def test_a_script_can_ask_whether_there_is_something_to_do(folder: Path, frugal: Frugal, name: str, code: int) -> None:
    put(folder / "Intake" / name)
    put(folder / "rules.toml", rules_text(RULES["trash"]))
    for more in ([], ["--format", "json"], ["--format", "html"], ["--tree"]):
        frugal("preview", "rules.toml", "--exit-code", *more, code=code)
        frugal("preview", "rules.toml", *more)
