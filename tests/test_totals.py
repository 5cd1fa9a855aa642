from __future__ import annotations

import json
import os
import shutil
import tempfile
import time
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem import parallel, walk
from frugal_sorter.filesystem.record import TYPES
from frugal_sorter.reports.saved import FolderSums, Totals, compare_totals, forget_totals, keep_totals, kept_totals, take_totals
from frugal_sorter.state import ready_state_folder
from tests.conftest import Frugal
from tests.support import put, rules_text

SCHEMA = json.loads((Path(__file__).parent.parent / "docs/output.schema.json").read_text("utf-8"))


@pytest.fixture
def intake(folder: Path) -> Path:
    for name, size in (("a.log", 10), ("b.log", 20), ("c.pdf", 300), (".hidden.log", 1), ("sub/d.jpg", 4_000)):
        put(folder / "Intake" / name, b"x" * size)
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "/tmp/{name}"').replace("/tmp", f"{folder}/Out"))
    return folder / "Intake"


def test_totals_count_as_deep_as_they_are_told_and_nothing_twice(intake: Path) -> None:
    assert take_totals({str(intake): 1}, 0).types == {"log": (3, 31), "document": (1, 300)}
    whole = take_totals({str(intake): None, str(intake / "sub"): 1}, 5)
    assert (whole.files, whole.bytes, list(whole.levels), whole.made_ns) == (5, 4_331, [str(intake)], 5)
    assert take_totals({str(intake / "missing"): None}, 0).types == {}


def test_totals_differ_by_type_the_largest_first() -> None:
    first = Totals(0, {}, {"log": (3, 30), "image": (1, 500), "text": (2, 2)})
    second = Totals(1, {}, {"image": (2, 400), "model": (1, 70), "text": (2, 2)})
    rows = compare_totals(first, second)
    assert [(row.type, row.difference) for row in rows] == [("image", -100), ("model", 70), ("log", -30), ("text", 0)]
    assert {row.type for row in rows} <= set(TYPES)


def test_each_tidy_keeps_the_sums_of_its_folders_and_an_undo_keeps_none(intake: Path, frugal: Frugal) -> None:
    frugal("tidy", "rules.toml", "--yes")
    before, after = kept_totals(ready_state_folder(), 1) or (None, None)
    assert before and after and (before.types["log"], after.types) == ((3, 31), {"log": (1, 1), "document": (1, 300)})
    table = frugal("compare", "before-run-1", "after-run-1").stdout
    assert "-30 B" in table and "4 files, 331 B" in table and "2 files, 301 B" in table
    assert "its folders held 4 files of 331 B before and 2 files of 301 B after" in frugal("history", "1").stdout
    put(intake / "new.pdf", b"x" * 1_000)
    rows = json.loads(frugal("compare", "after-run-1", "Intake", "--format", "json").stdout)["types"]
    assert [row["bytes_after"] - row["bytes_before"] for row in rows] == [1_000, 0]
    lines = frugal("compare", "after-run-1", "Intake", "--format", "csv").stdout.splitlines()
    assert lines[1] == "document,1,2,300,1300"
    frugal("undo", "--yes")
    assert "run 2 saved no totals" in frugal("compare", "before-run-2", "after-run-2", code=2).stderr


def test_sums_of_a_moment_can_be_compared_with_an_inventory_kept_whole(intake: Path, frugal: Frugal) -> None:
    frugal("inventory", "Intake", "--save", "monday")
    frugal("tidy", "rules.toml", "--yes")
    types = json.loads(frugal("compare", "monday", "after-run-1", "--format", "json").stdout)["types"]
    assert {row["type"]: row["files_before"] for row in types} == {"log": 2, "image": 1, "document": 1}


def test_kept_totals_are_forgotten_with_their_run_and_a_damaged_file_is_named(tmp_path: Path) -> None:
    totals = Totals(1, {"/x": None}, {"log": (1, 2)})
    keep_totals(tmp_path, 7, totals, totals)
    assert kept_totals(tmp_path, 7) == (totals, totals) and kept_totals(tmp_path, 8) is None
    forget_totals(tmp_path, 8)
    assert kept_totals(tmp_path, 7) is not None
    (tmp_path / "totals/run-7.json").write_text('{"before": 3}')
    with pytest.raises(UsageError, match=r"run-7\.json: cannot be read"):
        kept_totals(tmp_path, 7)
    forget_totals(tmp_path, 7)
    assert kept_totals(tmp_path, 7) is None


def test_what_is_printed_as_json_is_as_the_schema_says(intake: Path, frugal: Frugal, own_home: Path) -> None:
    jsonschema.Draft202012Validator.check_schema(SCHEMA)
    known = set(SCHEMA["$defs"])
    frugal("inventory", "Intake", "--save", "one")
    put(own_home / ".cache/glaze-calculator/cache", b"x")
    put(intake.parent / "reports/desk-1.json", frugal("report", "--format", "json").stdout)
    (intake.parent / "machines").mkdir()
    frugal("inventory", "Intake", "--save", "./machines/desk-1.inventory.gz", "--full")
    put(intake.parent / "wrong.toml", "frugal = 1\n[[rule]]\nname = 'a'\nnix = 1\n")
    frugal("tidy", "rules.toml", "--yes")
    for definition, arguments in (
        ("inventory", ("inventory", "Intake", "--by", "type,age", "--largest", "3", "--hidden")),
        ("inventory", ("inventory", "Intake", "--by", "folder")),
        ("tree", ("inventory", "Intake", "--tree")),
        ("listing", ("inventory", "Intake", "--listing")),
        ("compare", ("compare", "one", "Intake")),
        ("compare_sums", ("compare", "before-run-1", "after-run-1")),
        ("compare_machines", ("compare", "--from", "machines")),
        ("forecast", ("forecast", "Intake")),
        ("duplicates", ("duplicates", "Intake")),
        ("plan", ("preview", "rules.toml", "--again")),
        ("check", ("check", "rules.toml")),
        ("check", ("check", "wrong.toml")),
        ("explain", ("explain", "Intake", "rules.toml", "--rules", "rules.toml")),
        ("days", ("preview", "rules.toml", "--until", "in 40 days")),
        ("there", ("preview", "rules.toml", "--on", "machines")),
        ("rules", ("rules", "rules.toml")),
        ("history", ("history",)),
        ("run", ("history", "1")),
        ("trace", ("history", "--file", "*.log")),
        ("verify", ("verify", "1")),
        ("schedules", ("schedule", "list")),
        ("schedule_check", ("schedule", "check")),
        ("trash", ("trash",)),
        ("leftovers", ("leftovers", "glaze-calculator")),
        ("unclaimed", ("leftovers",)),
        ("report", ("report",)),
        ("machines", ("report", "--from", "reports")),
    ):
        known.discard(definition)
        printed = json.loads(frugal(*arguments, "--format", "json", code=None).stdout)
        validator = jsonschema.Draft202012Validator({**SCHEMA, "$ref": f"#/$defs/{definition}"})
        validator.validate(printed)
        assert not validator.is_valid({**printed, "more": 1})
    assert known == {"step"}, "each definition is held against a command"


def test_comparisons_as_pages_name_what_changed_and_escape_it(intake: Path, frugal: Frugal) -> None:
    frugal("inventory", "Intake", "--save", "one")
    put(intake / "<b>new</b>.log", b"x" * 50)
    page = frugal("compare", "one", "Intake", "--format", "html").stdout
    assert "&lt;b&gt;new&lt;/b&gt;.log" in page and "<b>new" not in page and "+50 B" in page
    frugal("tidy", "rules.toml", "--yes")
    assert "-30 B" in frugal("compare", "before-run-1", "after-run-1", "--format", "html").stdout


def _change(root: Path, what: str, one: str, other: str) -> None:
    """Do one thing to a tree, as far as it can be done."""
    source, target = root / one, root / other
    try:
        if what == "write":
            put(source, b"x" * len(other))
        elif what == "remove":
            shutil.rmtree(source) if source.is_dir() else source.unlink()
        elif what == "move" and target.name != source.name:
            target.parent.mkdir(parents=True, exist_ok=True)
            source.rename(target)
        elif what == "link":
            os.link(source, target)
        elif what == "replace":
            put(root / "new", b"replaced by more").replace(source)
    except OSError:
        pass  # there is no such thing, or it is of another kind


PLACES = ["a.log", "b.pdf", "sub", "sub/a.log", "sub/deep", "sub/deep/c.jpg", "other/a.log", "other", "other/b.pdf"]
changes = st.tuples(
    st.sampled_from(["write", "write", "remove", "move", "link", "replace"]), st.sampled_from(PLACES), st.sampled_from(PLACES)
)


@given(st.lists(changes, max_size=8), st.lists(changes, max_size=5), st.sampled_from([None, 1, 2]), st.booleans())
def test_sums_that_are_taken_again_are_those_of_a_whole_count(
    before: list[tuple[str, str, str]], between: list[tuple[str, str, str]], deep: int | None, fork: bool
) -> None:
    with tempfile.TemporaryDirectory() as made, pytest.MonkeyPatch.context() as patched:
        root = Path(os.path.realpath(made))
        for change in before:
            _change(root, *change)
        long_ago = time.time() - 3_600
        for folder, _, _ in os.walk(root):
            os.utime(folder, (long_ago, long_ago))
        if fork:
            patched.setattr(parallel, "SPLIT_AFTER", 0)
            patched.setattr(parallel, "_FEWEST_LEFT", 1)
        sums = FolderSums({str(root): deep})
        assert sums.take(1).types == take_totals({str(root): deep}, 1).types
        for what, one, other in between:
            # What grows where it is shows in no folder.
            if what != "write" or not (root / one).exists():
                _change(root, what, one, other)
        assert sums.take(2).types == take_totals({str(root): deep}, 2).types


def test_what_was_counted_is_not_read_again_unless_it_was_written_to_a_moment_ago(
    intake: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[str] = []
    plain = walk.read_parts
    monkeypatch.setattr(walk, "read_parts", lambda path, *more: read.append(path) or plain(path, *more))  # type: ignore[func-returns-value]
    os.utime(intake, (1_000, 1_000))
    sums = FolderSums({str(intake): None})
    sums.take(1)
    sums.take(2)
    assert read == [str(intake), str(intake / "sub"), str(intake / "sub")]


def test_a_folder_that_took_the_place_of_another_is_counted_anew(folder: Path) -> None:
    put(folder / "Intake/one/a.log", b"x" * 10)
    put(folder / "Intake/two/b.pdf", b"x" * 300)
    for path in (folder / "Intake/one", folder / "Intake/two", folder / "Intake"):
        os.utime(path, (1_000, 1_000))
    sums = FolderSums({str(folder / "Intake"): None})
    sums.take(1)
    (folder / "Intake/one").rename(folder / "one")
    (folder / "Intake/two").rename(folder / "Intake/one")
    assert sums.take(2).types == {"document": (1, 300)}
