from __future__ import annotations

import csv
import gzip
import io
import json
import os
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.reports.inventory import list_entries
from frugal_sorter.reports.saved import Change, Saved, SavedFile, compare, load, look_now, save
from frugal_sorter.reports.writers import holders_below, makers, pattern_of
from tests.conftest import Frugal
from tests.support import NOW_NS, put


def changed(folder: Path) -> Saved:
    """Lay out an intake, keep what it holds, and change it in every way."""
    intake = folder / "Intake"
    for name, size in {
        "same.log": 5,
        "grows.log": 5,
        "shrinks.log": 5,
        "new text.log": 5,
        "goes.jpg": 50,
        "a.csv": 7,
        "sub/b.csv": 8,
    }.items():
        put(intake / name, b"x" * size)
    first = look_now(str(intake), False, NOW_NS)
    put(intake / "grows.log", b"x" * 9)
    put(intake / "shrinks.log", b"x" * 2)
    put(intake / "new text.log", b"y" * 5, age_days=1)
    (intake / "goes.jpg").unlink()
    (intake / "a.csv").rename(intake / "renamed.csv")
    (intake / "sub/b.csv").rename(intake / "b.csv")
    put(intake / "comes.pdf", b"x" * 100)
    return first


def test_what_came_went_grew_shrank_and_moved(folder: Path) -> None:
    first = changed(folder)
    found = compare(first, look_now(str(folder / "Intake"), False, NOW_NS))
    assert {(change.how, change.before, change.after, change.difference) for change in found.changes} == {
        ("new", "", "comes.pdf", 100), ("gone", "goes.jpg", "", -50), ("grew", "grows.log", "grows.log", 4),
        ("shrank", "shrinks.log", "shrinks.log", -3), ("changed", "new text.log", "new text.log", 0),
        ("moved", "a.csv", "renamed.csv", 0), ("moved", "sub/b.csv", "b.csv", 0),
    }  # fmt: skip
    by_type = {row.key: (row.difference, {how: count for how, count in row.counts.items() if count}) for row in found.by("type")}
    assert by_type["log"] == (1, {"grew": 1, "shrank": 1, "changed": 1}) and by_type["spreadsheet"] == (0, {"moved": 2})
    assert sum(row.difference for row in found.by("folder")) == 51


def test_on_another_machine_only_looks_count(folder: Path) -> None:
    first = changed(folder)
    first.machine = "another"
    hows = Counter(change.how for change in compare(first, look_now(str(folder / "Intake"), False, NOW_NS)).changes)
    # The renamed one has another name, and there is nothing else to know it by.
    assert hows == {"new": 2, "gone": 2, "grew": 1, "shrank": 1, "moved": 1}


_files = st.dictionaries(
    st.sampled_from(["a", "b", "s/a", "s/b", "s/t/c"]), st.tuples(st.integers(0, 3), st.integers(0, 2), st.integers(1, 4)), max_size=5
)  # fmt: skip


@given(_files, _files)
def test_every_difference_is_told_once_and_adds_up(
    before: dict[str, tuple[int, int, int]], after: dict[str, tuple[int, int, int]]
) -> None:
    def saved(files: dict[str, tuple[int, int, int]]) -> Saved:
        return Saved(
            "/x", "m", 0, 0, 0, {path: SavedFile(path, size, 0, time, ino, 1) for path, (size, time, ino) in files.items()}
        )

    first, second = saved(before), saved(after)
    changes: list[Change] = compare(first, second).changes
    assert sum(change.difference for change in changes) == second.bytes - first.bytes
    befores, afters = Counter(c.before for c in changes if c.before), Counter(c.after for c in changes if c.after)
    assert max([*befores.values(), *afters.values()], default=1) == 1
    untouched = set(before) - set(befores)
    assert all(before[path][:2] == after[path][:2] for path in untouched)
    assert set(after) - set(afters) == untouched


def test_an_inventory_is_kept_and_read_again(folder: Path) -> None:
    put(folder / "Intake/raw\udcff\n.log", b"x" * 5)
    saved = look_now(str(folder / "Intake"), False, NOW_NS)
    save(saved, folder / "kept.inventory.gz")
    assert load(folder / "kept.inventory.gz") == saved
    assert (folder / "kept.inventory.gz").stat().st_mode & 0o777 == 0o600


def test_the_commands(folder: Path, frugal: Frugal) -> None:
    changed(folder)
    frugal("inventory", "Intake", "--save", "monday")
    assert "the inventory already exists" in frugal("inventory", "Intake", "--save", "monday", code=2).stderr
    assert "No differences." in frugal("compare", "monday", "Intake").stdout
    put(folder / "Intake/=late.csv", b"x" * 1500)
    table = frugal("compare", "monday", "Intake").stdout
    assert "New: 1 file" in table and "+1.5 kB" in table
    (row,) = csv.DictReader(io.StringIO(frugal("compare", "monday", "Intake", "--format", "csv").stdout))
    assert (row["how"], row["after"], row["bytes_after"]) == ("new", "'=late.csv", "1500")
    found = json.loads(frugal("compare", "Intake", "monday", "--format", "json").stdout)
    assert found["changes"][0]["how"] == "gone" and found["first"]["files"] == found["second"]["files"] + 1


def test_a_saved_inventory_is_replaced_when_told_and_names_differ_within_a_minute(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    frugal("inventory", "Intake", "--save", "monday")
    put(folder / "Intake/b.log")
    assert "add --replace" in frugal("inventory", "Intake", "--save", "monday", code=2).stderr
    frugal("inventory", "Intake", "--save", "monday", "--replace")
    assert "No differences." in frugal("compare", "monday", "now").stdout
    names = {frugal("inventory", "Intake", "--save").stderr.split("\n")[0] for _ in range(3)}
    assert len(names) == 3


def test_now_is_the_folder_as_it_is_now(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    frugal("inventory", "Intake", "--save", "monday")
    put(folder / "Intake/b.log")
    assert "New: 1 file" in frugal("compare", "monday", "now").stdout


@pytest.mark.parametrize(
    "damage", [b"not gzip", gzip.compress(b"[]", mtime=0), gzip.compress(b'{"frugal-inventory": 9}', mtime=0), b""]
)
def test_what_is_no_inventory_is_refused(folder: Path, frugal: Frugal, damage: bytes) -> None:
    (folder / "bad.inventory.gz").write_bytes(damage)
    done = frugal("compare", "bad.inventory.gz", ".", code=2)
    assert "bad.inventory.gz" in done.stderr and done.stderr.count("\n") == 1
    assert "no saved inventory is called 'nothing'" in frugal("compare", "nothing", ".", code=2).stderr
    frugal("compare", "", ".", code=2)


def test_who_has_files_open_is_named_with_what_is_deleted_but_held(folder: Path) -> None:
    intake = folder / "Intake"
    put(intake / "read.log", b"x" * 10)
    put(intake / "write.log", b"x" * 20)
    put(intake / "gone.log", b"x" * 5_000)
    code = (
        f"import sys, os; os.chdir({str(intake)!r})\n"
        "held = [open('read.log'), open('write.log', 'a'), open('gone.log')]; os.unlink('gone.log'); print(1, flush=True); sys.stdin.read()"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as program:
        assert program.stdout is not None and program.stdin is not None
        program.stdout.readline()
        waits: list[float] = []
        found = holders_below([str(intake)], 1.0, waits.append)
        program.stdin.close()
    holder = found.programs[program.pid]
    assert waits == [0.5, 0.5] and set(found.programs) == {program.pid}
    assert {os.path.basename(path) for path in holder.files} == {"read.log", "write.log", "gone.log"}
    assert {os.path.basename(path) for path in holder.writing} == {"write.log"}
    assert [os.path.basename(path) for path in holder.deleted] == ["gone.log"] and sum(holder.deleted.values()) >= 5_000


def test_looking_for_a_while_tells_who_came_and_who_went(folder: Path) -> None:
    put(folder / "Intake/a.log", b"x")
    code = f"held = open({str(folder / 'Intake/a.log')!r}); print(1, flush=True); import sys; sys.stdin.read()"
    programs: list[subprocess.Popen[bytes]] = []

    def wait(_: float) -> None:
        # Nobody at the first look, one program at the second and third, nobody after that.
        if len(programs) == 2:
            programs[0].communicate()
        if not programs:
            programs.append(subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE))
            assert programs[0].stdout is not None
            programs[0].stdout.readline()
        else:
            programs.append(programs[0])

    found = holders_below([str(folder / "Intake")], 2.0, wait)
    (holder,) = found.programs.values()
    assert found.looks == 5 and (holder.first, holder.last) == (1, 2)
    assert (found.came_after(holder), found.went_after(holder)) == (0.5, 1.5)


@pytest.mark.parametrize(
    ("name", "pattern"),
    [
        ("IMG_2104.jpg", "IMG_#.jpg"),
        ("KILN 2 2026-10-04.log", "KILN # #-#-#.log"),
        ("deadbeef12345678.tmp", "#.tmp"),
        ("facade.txt", "facade.txt"),
        ("calc-3f2504e0-4f89-41d3.tmp", "calc-#-#f#-#d#.tmp"),
    ],
)
def test_names_of_a_series_have_one_pattern(name: str, pattern: str) -> None:
    assert pattern_of(name) == pattern


def test_the_commonest_patterns_say_how_many_came_an_hour(folder: Path, frugal: Frugal) -> None:
    for number in range(6):
        put(folder / f"Intake/scratch {number}.tmp", b"x" * 10, age_days=number / 24)
    put(folder / "Intake/alone.txt")
    (maker,) = makers(list_entries([str(folder / "Intake")], None, False, lambda _: None), 8)
    assert (maker.pattern, maker.files, maker.bytes) == ("scratch #.tmp", 6, 60) and maker.an_hour == pytest.approx(1.0)
    said = frugal("inventory", "Intake", "--open").stdout
    assert "scratch #.tmp" in said and "1.0" in said and "alone" not in said.split("Most")[1]
    frugal("inventory", "Intake", "--open", "--format", "json", code=2)
