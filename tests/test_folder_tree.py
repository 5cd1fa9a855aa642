"""The tree of an inventory: its sums are those of `du`, and it is opened where most of it is."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.reports.inventory import Count, Inventory
from frugal_sorter.reports.writers import ORDERS, opened_lines, parts_of, tree_of
from tests.conftest import Frugal
from tests.support import put

PATHS = st.lists(st.tuples(st.lists(st.sampled_from("abc"), max_size=5), st.integers(0, 10**6)), min_size=1, max_size=40)


def tree(paths: list[tuple[list[str], int]]) -> Any:
    inventory = Inventory(["/r"], ("folder",))
    for parts, size in paths:
        key = "/".join(["/r", *parts])
        inventory.cells.setdefault((key,), Count((key,))).add(Count((key,), 1, size, size, 1, 1))
    return tree_of(inventory, "/r")


@given(PATHS, st.sampled_from(ORDERS), st.one_of(st.none(), st.integers(3, 30)))
def test_the_lines_in_a_folder_are_all_of_it(paths: list[tuple[list[str], int]], order: Any, most: int | None) -> None:
    lines = opened_lines(tree(paths), order, most)
    assert (lines[0].files, lines[0].bytes) == (len(paths), sum(size for _, size in paths))
    for at, line in enumerate(lines):
        inner = []
        for below in lines[at + 1 :]:
            if below.depth <= line.depth:
                break
            inner += [below] if below.depth == line.depth + 1 else []
        if inner:
            assert sum(one.files for one in inner) == line.files and sum(one.bytes for one in inner) == line.bytes
    assert most is None or len(lines) <= max(most, 13)
    if most is None:
        assert not [line for line in lines if line.kind == "rest"]


@given(PATHS, st.integers(1, 12))
def test_the_bars_of_a_figure_hold_all_there_is(paths: list[tuple[list[str], int]], most: int) -> None:
    root = tree(paths)
    parts = {part.path for part in parts_of(root, most)}
    assert len(parts) <= most
    for parts_of_path, _ in paths:
        at = "/".join(["/r", *parts_of_path])
        while at not in parts:
            assert at != "/r"
            at = os.path.dirname(at)


def test_what_fills_the_disk_is_found_in_one_screen(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a/only/b/deep/video.mov", b"x" * 90_000)
    for number in range(300):
        put(folder / f"Intake/small {number}/note.txt", b"y" * 10)
    said = frugal("inventory", "Intake", "--tree").stdout.splitlines()
    assert len(said) < 20 and any("a/only/b/deep/" in line and "90.0 kB" in line for line in said)
    assert any("and 300 more folders" in line and "300" in line for line in said)
    opened = frugal("inventory", "Intake", "--tree", "--open-to", "Intake/small 7").stdout
    assert "small 7/" in opened
    assert frugal("inventory", "Intake", "--tree", "--top", "all").stdout.count("small ") == 300
    lines = json.loads(frugal("inventory", "Intake", "--tree", "--top", "all", "--format", "json").stdout)["tree"]
    assert sum("/small " in line["path"] for line in lines) == 300
    assert frugal("inventory", "Intake", "--by", "folder").stdout == frugal("inventory", "Intake", "--tree").stdout
    rows = json.loads(frugal("inventory", "Intake", "--tree", "--format", "json").stdout)["tree"]
    du = subprocess.run(["du", "-sb", "--apparent-size", folder / "Intake/a"], capture_output=True, text=True).stdout
    assert next(row["bytes"] for row in rows if row["path"].endswith("deep")) == 90_000 <= int(du.split()[0])


@pytest.mark.parametrize(("order", "first"), [("size", "big"), ("files", "many"), ("newest", "new"), ("name", "big")])
def test_folders_come_in_the_order_that_is_asked_for(folder: Path, frugal: Frugal, order: str, first: str) -> None:
    put(folder / "Intake/big/a", b"x" * 1_000)
    for number in range(5):
        put(folder / f"Intake/many/{number}", b"x" * 100)
    put(folder / "Intake/new/a", b"x" * 100, age_days=0)
    lines = frugal("inventory", "Intake", "--tree", "--sort", order).stdout.splitlines()
    assert lines[lines.index(next(line for line in lines if line.startswith("/"))) + 1].split()[0] == f"{first}/"


@pytest.mark.parametrize("words", [
    ["--tree", "--by", "age"], ["--tree", "--listing"], ["--tree", "--show-levels", "2"], ["--open-to", "."], ["--tree", "--format", "html"],
    ["--tree", "--open-to", "nowhere"], ["--listing", "--sort", "files"], ["--top", "few"],
])  # fmt: skip
def test_what_does_not_go_together_is_one_line(folder: Path, frugal: Frugal, words: list[str]) -> None:
    assert len(frugal("inventory", *words, code=2).stderr.splitlines()) == 1


def test_tags_are_counted_and_listed(folder: Path, frugal: Frugal) -> None:
    os.setxattr(put(folder / "Intake/a.log"), "user.xdg.tags", b"kiln,seen")
    put(folder / "Intake/b.log")
    rows = json.loads(frugal("inventory", "Intake", "--by", "tag", "--format", "json").stdout)["rows"]
    assert {row["tag"]: row["files"] for row in rows} == {"kiln, seen": 1, "": 1}
    assert "[kiln, seen]" in frugal("inventory", "Intake", "--listing").stdout
    entries = json.loads(frugal("inventory", "Intake", "--listing", "--format", "json").stdout)["entries"]
    assert {os.path.basename(one["path"]): one["tags"] for one in entries} == {"a.log": "kiln, seen", "b.log": ""}
