from __future__ import annotations

import csv
import io
import json
import os
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.files.walk import read_folder, walk
from frugal_sorter.reports.inventory import take_inventory
from tests.conftest import Frugal
from tests.support import file_names, put


def some_files(folder: Path) -> Path:
    root = folder / "Intake"
    put(root / "a.log", b"x" * 10, age_days=3)
    put(root / "b.LOG", b"x" * 20, age_days=1)
    put(root / "sub/c.jpg", b"x" * 300, age_days=2)
    put(root / "sub/deep/d", b"", age_days=9)
    put(root / ".hidden/e.jpg", b"x" * 5)
    put(root / ".f", b"x" * 7)
    (root / "link.jpg").symlink_to("a.log")
    (root / "linked").symlink_to("sub")
    os.mkfifo(root / "pipe")
    return root


def test_counts_by_type_and_suffix(folder: Path) -> None:
    inventory = take_inventory([str(some_files(folder))], None, hidden=False)
    assert [(row.key, row.files, row.bytes) for row in inventory.counts("type")] == [
        ("image", 1, 300), ("log", 2, 30), ("other", 1, 0),
    ]  # fmt: skip
    assert {row.key: row.files for row in inventory.counts("ext")} == {"jpg": 1, "log": 2, "": 1}
    assert (inventory.files, inventory.bytes, inventory.folders) == (4, 330, 2)
    assert (inventory.links, inventory.others, inventory.hidden) == (2, 1, 2)
    assert inventory.oldest is not None and inventory.oldest.path.endswith("sub/deep/d")
    assert inventory.newest is not None and inventory.newest.path.endswith("b.LOG")
    assert inventory.space[0].total >= inventory.space[0].free > 0


@pytest.mark.parametrize(("levels", "hidden", "files"), [(1, False, 2), (2, False, 3), (None, True, 6), (1, True, 3)])
def test_levels_and_hidden(folder: Path, levels: int | None, hidden: bool, files: int) -> None:
    assert take_inventory([str(some_files(folder))], levels, hidden).files == files


def test_a_folder_inside_another_is_counted_once(folder: Path) -> None:
    root = some_files(folder)
    both = take_inventory([str(root), str(root / "sub")], None, hidden=False)
    assert both.files == 4


@given(st.lists(st.tuples(st.lists(file_names, min_size=1, max_size=3), st.integers(0, 2_000)), max_size=15))
def test_totals_are_those_of_find(
    tmp_path_factory: pytest.TempPathFactory, entries: list[tuple[list[str], int]]
) -> None:
    root = tmp_path_factory.mktemp("tree").resolve()
    for parts, size in entries:
        try:
            put(root.joinpath(*parts), b"x" * size)
        except OSError:
            continue  # a file where this one needs a folder
    inventory = take_inventory([str(root)], None, hidden=True)
    found = subprocess.run(["find", root, "-type", "f", "-printf", "%s\n"], capture_output=True, check=True)
    sizes = [int(line) for line in found.stdout.split()]
    assert (inventory.files, inventory.bytes) == (len(sizes), sum(sizes))
    folders = subprocess.run(
        ["find", root, "-mindepth", "1", "-type", "d", "-printf", "."], capture_output=True, check=True
    )
    assert inventory.folders == len(folders.stdout)


def test_the_walk_never_follows_a_link_and_names_what_it_cannot_read(folder: Path) -> None:
    root = some_files(folder)
    with pytest.raises(OSError, match="linked"):
        read_folder(str(root / "linked"), status=True)
    unread: list[str] = []
    seen = []
    for listing, _ in walk(str(root), 0, False, lambda *_: 0, lambda one: unread.append(one.reason)):
        seen.append(os.path.basename(listing.folder))
        if listing.folder == str(root):
            (root / "sub/deep/d").unlink()
            (root / "sub/deep").rmdir()
            (root / "sub/c.jpg").unlink()
            (root / "sub").rmdir()
            (root / "sub").symlink_to(".hidden")
    assert seen == ["Intake", ".hidden"]
    assert unread == ["no longer a folder"] or unread == ["replaced by a link"]


def test_the_command_in_every_format(folder: Path, frugal: Frugal) -> None:
    some_files(folder)
    put(folder / "Intake/bad\n=cmd().=1+1", b"x")
    table = frugal("inventory", "Intake").stdout
    assert "all        5" in table and "331 B" in table and "of which" in table
    assert "2 symbolic links" in table and "2 hidden entries" in table
    result = json.loads(frugal("inventory", "Intake", "--format", "json", "--by", "ext", "--hidden").stdout)
    assert (result["files"], result["bytes"]) == (7, 343)
    assert result["rows"][0]["ext"] == "jpg"
    rows = list(csv.DictReader(io.StringIO(frugal("inventory", "Intake", "--by", "ext", "--format", "csv").stdout)))
    assert {row["ext"]: row["bytes"] for row in rows} == {"jpg": "300", "log": "30", "": "0", "'=1+1": "1"}


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["nowhere"], "there is no such folder"),
        ([""], "there is no such folder"),
        (["a.log"], "not a folder"),
        ([".", "--levels", "0"], "no number of levels"),
        ([".", "--format", "xml"], "invalid choice"),
        ([], "FOLDER"),
    ],
)
def test_bad_arguments(folder: Path, frugal: Frugal, words: list[str], said: str) -> None:
    put(folder / "a.log")
    done = frugal("inventory", *words, code=2)
    assert said in done.stderr and done.stderr.count("\n") == 1 and not done.stdout
