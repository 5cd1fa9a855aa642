"""`frugal report`: its numbers are those of the history, of the sums that runs keep, and of the disk."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Frugal
from tests.support import put, rules_text


@pytest.fixture
def desk(folder: Path) -> Path:
    for number in range(9):
        put(folder / f"Intake/kiln {number}.log", "x" * (100 + number))
    for number in range(4):
        put(folder / f"Intake/old {number}.tmp", "y" * 1_000)
    put(folder / "Intake/<b>note.txt", "z")
    put(
        folder / "rules.toml",
        rules_text('where = "ext is log"\nmove = "../Logs/{modified:%Y-%m}"', 'where = "ext is txt"\ntrash = true'),
    )
    return folder


def told(frugal: Frugal, *words: str) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(frugal("report", "--format", "json", *words).stdout)
    return found


def work(frugal: Frugal) -> None:
    frugal("tidy", "rules.toml", "--yes")
    frugal("purge", "Intake", "--older-than", "1d", "--by", "modified", "--permanent", "--yes")
    frugal("sort", "Logs", "--into", "{type}", "--levels", "all", "--yes")
    frugal("undo", "--yes")
    frugal("tidy", "missing.toml", "--yes", code=2)


def test_its_numbers_are_those_of_history_compare_and_find(desk: Path, frugal: Frugal) -> None:
    work(frugal)
    found = told(frugal)
    history = json.loads(frugal("history", "--format", "json").stdout)
    done = {run["id"]: run["done"] for run in history["runs"] if run["kind"] != "undo" and run["undone_by"] is None}
    assert found["runs"] == sorted(done) == [1, 2] and found["taken_back"] == 1
    assert sum(count["files"] for rule in found["rules"] for count in rule["done"].values()) == sum(done.values()) == 14
    assert found["freed"] == sum(visit["freed"] for visit in history["visits"]) == 4_000
    sums = json.loads(frugal("compare", "before-run-1", "after-run-1", "--format", "json").stdout)
    assert (found["before"]["files"], found["before"]["bytes"]) == (sums["first"]["files"], sums["first"]["bytes"])
    for one in found["folders"]:
        files = subprocess.run(
            ["find", one["path"], "-maxdepth", "1", "-type", "f"], capture_output=True, text=True, check=True
        ).stdout
        assert one["there"] == len(files.splitlines())
    assert sum(one["there"] for one in found["folders"]) == 9
    assert found["trash"]["files"] == 1 and found["trash"]["until"] > found["to"]
    text = frugal("report").stdout
    assert "9 files moved, 1 file moved to the trash, 4 files permanently deleted" in text and "Freed 4.0 kB" in text
    assert max(len(line) for line in text.splitlines() if "/" not in line) <= 72 and "1 run was undone" in text


def test_only_some_runs_and_only_some_time(desk: Path, frugal: Frugal) -> None:
    work(frugal)
    assert told(frugal, "--runs", "2")["runs"] == [2] and told(frugal, "--runs", "1,2-4")["runs"] == [1, 2]
    assert told(frugal, "--runs", "77")["runs"] == [] and told(frugal, "--since", "1 hour")["runs"] == [1, 2]
    if shutil.which("faketime"):
        command = ["faketime", "-f", "+40d", sys.executable, "-m", "frugal_sorter", "report"]
        later = subprocess.run(command, cwd=desk, capture_output=True, text=True, check=True).stdout
        assert "No files were moved or removed in this period." in later


class Page(HTMLParser):
    """Sees that every element is closed in its turn, and what a reader reads in which order."""

    VOID = frozenset({"meta", "br", "img", "link", "hr", "input"})

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.read: list[str] = []
        self.feed(text)
        self.close()
        assert not self.open, self.open

    def handle_starttag(self, tag: str, attrs: object) -> None:
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open and self.open.pop() == tag, tag

    def handle_data(self, data: str) -> None:
        if data.strip() and not {"style", "script"} & set(self.open):
            self.read.append(data.strip())


def test_the_page_is_whole_escaped_and_read_from_the_top(desk: Path, frugal: Frugal) -> None:
    put(
        desk / "rules.toml",
        rules_text('where = "ext is log"\nmove = "../Logs <i>/{modified:%Y-%m}"').replace("rule 0", "<b>Kiln</b> logs"),
    )
    frugal("tidy", "rules.toml", "--yes")
    text = frugal("report", "--format", "html").stdout
    page = Page(text)
    assert (
        "<b>Kiln" not in text
        and "&lt;b&gt;Kiln&lt;/b&gt; logs" in text
        and text.startswith("<!doctype html>")
        and 'lang="en"' in text
    )
    wanted = ["What was done", "Where the files are now", "Runs by person and schedule"]
    places = [next(at for at, said in enumerate(page.read) if said.startswith(one)) for one in wanted]
    assert places == sorted(places) and any("9 files moved" in said for said in page.read[: places[0]])
    assert "http" not in text.replace("http-equiv", "")


def test_a_machine_where_nothing_was_done_says_so(folder: Path, frugal: Frugal) -> None:
    assert "No files were moved or removed in this period." in frugal("report").stdout
    assert told(frugal)["runs"] == [] and Page(frugal("report", "--format", "html").stdout)


@pytest.mark.parametrize(
    "words", [["--runs", "x"], ["--runs", "1-9999999"], ["--since", "soon"], ["--since", "1 day", "--runs", "1"]]
)
def test_what_names_no_time_is_one_line(folder: Path, frugal: Frugal, words: list[str]) -> None:
    assert len(frugal("report", *words, code=2).stderr.splitlines()) == 1


def test_many_rows_are_cut_to_what_fits_on_two_sheets(desk: Path, frugal: Frugal) -> None:
    for number in range(40):
        os.rename(put(desk / f"Intake/m{number}", "x"), desk / f"Intake/kiln of {number}.log")
    put(desk / "rules.toml", rules_text('where = "ext is log"\nmove = "../Logs/{stem}"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "and 37 more" in frugal("report").stdout and "and 37 more" in frugal("report", "--format", "html").stdout
    assert len(told(frugal)["folders"]) == 49
