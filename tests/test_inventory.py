from __future__ import annotations

import csv
import io
import json
import os
import subprocess
from collections import Counter
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter import reports
from frugal_sorter.filesystem.walk import read_folder, read_parts, walk
from frugal_sorter.reports.inventory import WAYS, By, InventoryCounter, take_inventory
from frugal_sorter.reports.saved import take_totals
from tests.conftest import Frugal
from tests.support import NOW_NS, file_names, put


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
    assert (inventory.links, inventory.others, inventory.hidden, inventory.hidden_folders) == (2, 1, 1, 1)
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
def test_totals_are_those_of_find(tmp_path_factory: pytest.TempPathFactory, entries: list[tuple[list[str], int]]) -> None:
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
    folders = subprocess.run(["find", root, "-mindepth", "1", "-type", "d", "-printf", "."], capture_output=True, check=True)
    assert inventory.folders == len(folders.stdout)


@given(st.lists(st.lists(file_names, min_size=1, max_size=3), max_size=15), st.integers(1, 4), st.sampled_from(WAYS))
def test_a_folder_that_is_read_in_parts_is_the_same_as_in_one(
    tmp_path_factory: pytest.TempPathFactory, paths: list[list[str]], most: int, way: By
) -> None:
    root = tmp_path_factory.mktemp("tree").resolve()
    for number, parts in enumerate(paths):
        with suppress(OSError):  # a file where this one needs a folder
            put(root.joinpath(*parts), b"x" * number)
            os.link(root.joinpath(*parts), root / f"{number}.again")
    whole, parts_of_it = read_folder(str(root), True), list(read_parts(str(root), True, most=most))
    assert [one.further for one in parts_of_it] == [False] + [True] * (len(parts_of_it) - 1)
    for column in ("names", "folders", "links", "others", "size"):
        assert Counter(getattr(whole, column)) == Counter(name for one in parts_of_it for name in getattr(one, column))
    assert all(len(one.names) + len(one.folders) <= most for one in parts_of_it)

    def counted() -> tuple[object, ...]:
        # A folder that lies in two is counted once, part by part too.
        below = sorted(str(path) for path in root.iterdir() if path.is_dir())[:1]
        found = InventoryCounter(hidden=True, by=(way,)).take([*below, str(root)])
        return (
            found.counts(),
            found.folders,
            found.further_names,
            found.oldest,
            found.newest,
            take_totals({str(root): None}, 0).types,
        )

    plain = counted()
    with pytest.MonkeyPatch.context() as patch:
        for module in (reports.inventory, reports.saved):
            patch.setattr(module, "COUNTED_AT_ONCE", most)
        assert counted() == plain


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
    assert "all        5" in table and "331 B" in table and "extensions" in table
    assert "2 symbolic links" in table and "Not counted: 1 hidden file and 1 hidden folder and everything in them" in table
    result = json.loads(frugal("inventory", "Intake", "--format", "json", "--by", "ext", "--hidden").stdout)
    assert (result["files"], result["bytes"]) == (7, 343)
    assert result["rows"][0]["ext"] == "jpg"
    rows = list(csv.DictReader(io.StringIO(frugal("inventory", "Intake", "--by", "ext", "--format", "csv").stdout)))
    assert {row["ext"]: row["bytes"] for row in rows} == {"jpg": "300", "log": "30", "": "0", "'=1+1": "1"}


def _du(*words: str | Path) -> int:
    return int(subprocess.run(["du", "-s", *words], capture_output=True, check=True, text=True).stdout.split()[0])


def test_hard_links_holes_and_blocks_are_counted_as_du_does(folder: Path) -> None:
    root = some_files(folder)
    os.link(root / "a.log", root / "sub/again.log")
    os.link(root / "a.log", root / "sub/once more")
    with open(root / "sparse.img", "wb") as file:
        file.truncate(3_000_000)
        file.seek(1_000_000)
        file.write(b"x" * 9_000)
    os.sync()
    for by in WAYS:
        inventory = InventoryCounter(None, True, (by,), now_ns=NOW_NS).take([str(root)])
        assert (inventory.files, inventory.further_names) == (7, 2)
        # du counts folders and links themselves, too.
        apparent = sum(path.lstat().st_size for path in [root, *root.rglob("*")] if path.is_dir() or path.is_symlink())
        assert _du("--apparent-size", "-B1", root) == inventory.bytes + apparent
        blocks = sum(path.lstat().st_blocks for path in [root, *root.rglob("*")] if path.is_dir() or path.is_symlink())
        assert _du("-B1", root) == inventory.disk + blocks * 512


def test_every_way_adds_up_to_the_same_and_two_ways_cross(folder: Path) -> None:
    root = some_files(folder)
    plain = InventoryCounter(None, True).take([str(root)])
    for by in [(way,) for way in WAYS] + [(one, other) for one in WAYS for other in WAYS if one != other]:
        inventory = InventoryCounter(None, True, by, show_levels=9, largest=2, now_ns=NOW_NS).take([str(root)])
        assert (inventory.files, inventory.bytes, inventory.disk) == (plain.files, plain.bytes, plain.disk)
        assert [one.bytes for one in inventory.largest] == [300, 20]
        assert (inventory.oldest, inventory.newest) == (plain.oldest, plain.newest)
    crossed = InventoryCounter(None, True, ("type", "age"), now_ns=NOW_NS).take([str(root)])
    assert {row.keys: row.files for row in crossed.counts()} == {
        ("image", "up to 1 week"): 1, ("log", "up to 1 week"): 1, ("log", "up to 1 day"): 1, ("other", "up to 30 days"): 2, ("image", "up to 30 days"): 1,
    }  # fmt: skip


def test_folders_say_what_lies_in_and_below_them(folder: Path) -> None:
    root = some_files(folder)
    rows = {row.key: row for row in InventoryCounter(None, False, ("folder",)).take([str(root)]).counts()}
    assert {key: (row.files, row.bytes, row.direct_files) for key, row in rows.items()} == {
        f"{root}/sub": (2, 300, 1), str(root): (2, 30, 2),
    }  # fmt: skip
    deep = InventoryCounter(None, False, ("folder",), show_levels=2).take([str(root)]).counts()
    assert {row.key for row in deep} == {str(root), f"{root}/sub", f"{root}/sub/deep"}


def test_a_large_tree_read_by_two_processes_is_counted_as_by_one(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(200):
        put(folder / f"Intake/{number % 20}/{number}/a.{number % 7}", b"x" * number)
    os.link(folder / "Intake/1/1/a.1", folder / "Intake/19/199/b.1")
    two = InventoryCounter(None, True, ("ext", "folder"), largest=5).take([str(folder)])
    monkeypatch.setattr(os, "cpu_count", lambda: 1)
    one = InventoryCounter(None, True, ("ext", "folder"), largest=5).take([str(folder)])
    assert (two.counts(), two.largest, two.folders, two.further_names) == (one.counts(), one.largest, one.folders, 1)


def test_the_listing_names_everything(folder: Path, frugal: Frugal) -> None:
    root = some_files(folder)
    put(root / "=odd,\n.csv", b"x")
    rows = list(csv.DictReader(io.StringIO(frugal("inventory", "Intake", "--listing", "--hidden", "--format", "csv").stdout)))
    found = set(map(str, root.rglob("*")))
    assert {row["path"].replace("\\n", "\n") for row in rows} == found
    entries = json.loads(frugal("inventory", "Intake", "--listing", "--format", "json", "--sort", "size").stdout)["entries"]
    sizes = [one["bytes"] for one in entries]
    assert sizes == sorted(sizes, reverse=True) and sizes[0] == 300
    assert "sub/deep/d" in frugal("inventory", "Intake", "--listing", "--sort", "name").stdout
    frugal("inventory", "Intake", "--listing", "--where", "ext is log", code=2)


def test_long_tables_are_folded_and_add_up(folder: Path, frugal: Frugal) -> None:
    for number in range(40):
        put(folder / f"Intake/{number}.k{number:02}", b"x" * (number + 1))
    said = frugal("inventory", "Intake", "--by", "ext", "--top", "3").stdout
    assert "and 37 more" in said and "703 B" in said and said.index("k39") < said.index("k37")
    crossed = frugal("inventory", "Intake", "--by", "ext,age", "--top", "3").stdout
    assert "and 37 more" in crossed and "703 B" in crossed
    frugal("inventory", "Intake", "--by", "ext,ext", code=2)
    assert "cannot count" in frugal("inventory", "Intake", "--by", "colour", code=2).stderr


def test_a_cross_table_is_not_sorted_otherwise_in_silence(folder: Path, frugal: Frugal) -> None:
    put(folder / "a.log")
    said = frugal("inventory", ".", "--by", "type,age", "--sort", "name", code=2).stderr
    assert "a cross table" in said and said.count("\n") == 1
    frugal("inventory", ".", "--by", "type,age", "--listing", "--sort", "name")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["nowhere"], "folder not found"),
        ([""], "no folder was named"),
        (["a.log"], "not a folder"),
        ([".", "--levels", "0"], "not a number of levels"),
        ([".", "--format", "xml"], "unknown --format `xml`; choose from"),
    ],
)
def test_bad_arguments(folder: Path, frugal: Frugal, words: list[str], said: str) -> None:
    put(folder / "a.log")
    done = frugal("inventory", *words, code=2)
    assert said in done.stderr and done.stderr.count("\n") == 1 and not done.stdout


@pytest.mark.parametrize(
    ("where", "instead"),
    [
        ('name has ".log"', "ext is log"), ('name is "*.log"', 'name like "*.log"'), ('name fits "a*"', 'name like "a*"'),
        ("name matches /log/", "name matches 'log'"), ("name is 'a b.log'", ""),
    ],
)  # fmt: skip
def test_what_is_unwise_about_a_condition_is_told(folder: Path, frugal: Frugal, where: str, instead: str) -> None:
    put(folder / "a.log")
    told = frugal("inventory", ".", "--where", where).stderr
    assert f"did you mean `{instead}`?" in told if instead else not told
