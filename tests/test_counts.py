"""Every count that is printed, held against `find`: files, folders, and the files inside those folders."""

from __future__ import annotations

import json
import os
import re
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import AS_ROOT, Frugal, Mount
from tests.support import put, rules_text

DAY = 86_400


@pytest.fixture
def intake(folder: Path) -> Path:
    """Old and young files and folders, hidden ones and links among them."""
    root = folder / "Intake"
    for name, days in (
        ("a.log", 90), ("b.log", 90), ("c.csv", 1), ("d.csv", 1), (".e.log", 90), ("old/f.log", 90), ("old/sub/g.csv", 90),
        ("old/.h", 90), ("young/i.log", 1), ("young/j.log", 90), (".cache/k", 90), ("none/sub/l.log", 1),
    ):  # fmt: skip
        path = put(root / name, "glaze")
        os.utime(path, (time.time() - days * DAY,) * 2)
    (root / "link").symlink_to("a.log")
    (root / "empty").mkdir()
    return root


def find(root: Path, *tests: str) -> int:
    out = subprocess.run(
        ["find", root, "-mindepth", "1", *tests, "-printf", "x"], capture_output=True, text=True, check=True
    )
    return len(out.stdout)


def counted(text: str) -> tuple[int, int, int]:
    """Read a count as it is printed: files, folders, files inside."""
    files = re.search(r"(\d+) (?:other )?files?\b(?! inside)", re.sub(r"folders? with \d+ files?", "folder", text))
    folders = re.search(r"(\d+) (?:other )?folders?", text)
    inside = re.search(r"folders? with (\d+) file", text)
    return tuple(int(found[1]) if found else 0 for found in (files, folders, inside))  # type: ignore[return-value]


def shallow(root: Path, hidden: bool, *tests: str) -> tuple[int, int]:
    visible = () if hidden else ("!", "-name", ".*")
    return (
        find(root, "-maxdepth", "1", "-type", "f", *visible, *tests),
        find(root, "-maxdepth", "1", "-type", "d", *visible, *tests),
    )


@pytest.mark.parametrize("hidden", [False, True])
@pytest.mark.parametrize("take", ["files", "folders", "items"])
def test_a_purge_counts_what_goes_what_stays_and_what_is_inside(
    take: str, hidden: bool, intake: Path, frugal: Frugal
) -> None:
    words = [
        "purge",
        "Intake",
        "--older-than",
        "30d",
        "--by",
        "modified",
        "--take",
        take,
        *(["--hidden"] if hidden else []),
    ]
    files, folders = shallow(intake, hidden)
    inside = sum(
        find(path, "-type", "f") for path in intake.iterdir() if path.is_dir() and (hidden or path.name[0] != ".")
    )
    before = find(intake, "-type", "f")
    said = frugal(*words, code=3).stdout
    going = counted(re.search(r"^(.*), to the trash$", said, re.MULTILINE)[1])  # type: ignore[index]
    asked = frugal(*words, "--yes").stdout
    done = counted(re.search(r"^(.*) moved to the trash\.", asked, re.MULTILINE)[1])  # type: ignore[index]
    assert done == going
    stays = re.search(r"([^\n]*) (?:is|are) younger, or do", said)
    left = counted(stays[1]) if stays else (0, 0, 0)
    wanted_files = files if take != "folders" else 0
    wanted_folders = folders if take != "files" else 0
    assert (going[0] + left[0], going[1] + left[1]) == (wanted_files, wanted_folders)
    assert going[2] + left[2] == (inside if take != "files" else 0)
    assert find(intake, "-type", "f") == before - going[0] - going[2]
    totals = re.search(r"held (\d+) files? of .* before it and (\d+) files?", frugal("history", "1").stdout)
    assert totals is not None
    if take != "files":
        assert (int(totals[1]), int(totals[2])) == (before, before - going[0] - going[2])


@pytest.mark.parametrize("take", ["files", "folders", "items"])
@pytest.mark.parametrize("ending", ['move = "../Out"', "trash = true", "delete = true", "leave = true"])
def test_a_preview_and_its_tidy_count_every_entry_once(take: str, ending: str, intake: Path, frugal: Frugal) -> None:
    put(
        intake.parent / "rules.toml",
        rules_text(f'where = "modified older than 30 days"\ntake = "{take}"\n{ending}'),
    )
    files, folders = shallow(intake, False)
    told = json.loads(frugal("preview", "rules.toml", "--format", "json").stdout)["totals"]
    seen = told["looked_at"]
    assert (seen["files"], seen["folders"]) == (files if take != "folders" else 0, folders if take != "files" else 0)
    kept = told["kept"] if ending == "leave = true" else told["entries"]
    old = {"files": (2, 0), "folders": (0, 1), "items": (2, 1)}[take]
    assert (kept["files"], kept["folders"]) == old
    assert kept["inside"] == (find(intake / "old", "-type", "f") if old[1] else 0)
    said = frugal("tidy", "rules.toml", "--yes").stdout
    if ending != "leave = true":
        verb = {"m": " moved", "t": " moved to the trash", "d": " deleted for good"}[ending[0]]
        assert counted(re.search(rf"^(\d.*){verb}", said, re.MULTILINE)[1]) == (*old, kept["inside"])  # type: ignore[index]


def test_no_count_is_ever_negative_and_a_question_adds_up(intake: Path, frugal: Frugal) -> None:
    for words in (
        ["sort", "Intake", "--into", "{ext}"], ["sort", "Intake", "--into", "{ext}", "--levels", "all"],
        ["purge", "Intake", "--older-than", "1h", "--take", "items", "--hidden", "--by", "modified"],
    ):  # fmt: skip
        said = frugal(*words, code=3).stdout
        assert "-" not in re.findall(r"(-?)\d+ other", said) and "0 files looked at" not in said


@pytest.mark.parametrize("hidden", [False, True])
def test_a_listing_names_every_entry_and_adds_up(hidden: bool, intake: Path, frugal: Frugal) -> None:
    words = ["inventory", "Intake", "--listing", *(["--hidden"] if hidden else [])]
    visible = () if hidden else ("!", "-path", "*/.*")
    wanted = {
        kind: find(intake, "-type", letter, *visible)
        for kind, letter in (("file", "f"), ("folder", "d"), ("link", "l"))
    }
    rows = json.loads(frugal(*words, "--format", "json").stdout)["entries"]
    assert {kind: sum(row["kind"] == kind for row in rows) for kind in wanted} == wanted
    lines = frugal(*words).stdout.splitlines()
    assert lines[-1] == (
        f"{wanted['file']} files, {sum(row['bytes'] for row in rows if row['kind'] == 'file')} B; "
        f"{wanted['folder']} folders, 1 symbolic link."
    )
    assert len(lines) - 2 == sum(wanted.values()) == len(frugal(*words, "--format", "csv").stdout.splitlines()) - 1


def test_hidden_files_and_folders_are_told_apart(intake: Path, frugal: Frugal) -> None:
    said = frugal("inventory", "Intake").stdout
    assert "2 hidden files and 1 hidden folder with all inside are not counted" in said
    told = json.loads(frugal("inventory", "Intake", "--format", "json").stdout)
    assert told["hidden_not_counted"] == {"files": 2, "folders": 1}


@pytest.mark.parametrize(
    ("order", "wanted"), [("name", ["csv", "log"]), ("size", ["log", "csv"]), ("modified", ["csv", "log"])]
)
def test_rows_are_sorted_as_asked(order: str, wanted: list[str], folder: Path, frugal: Frugal) -> None:
    for name, size, days in (("a.csv", 10, 1), ("b.log", 500, 90)):
        os.utime(put(folder / "Intake" / name, b"x" * size), (time.time() - days * DAY,) * 2)
    rows = json.loads(frugal("inventory", "Intake", "--by", "ext", "--sort", order, "--format", "json").stdout)["rows"]
    assert [row["ext"] for row in rows] == wanted


def test_what_a_person_leaves_out_is_no_file_that_no_rule_asks_for(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "ext is log"\nmove = "x"'))
    assert "there is no such step" in frugal("preview", "rules.toml", "--without", "9", code=2).stderr
    steps = json.loads(frugal("preview", "rules.toml", "--format", "json").stdout)["steps"]
    number = next(step["number"] for step in steps if step["verb"] == "move")
    said = frugal("preview", "rules.toml", "--without", str(number)).stdout
    assert "1 file: left out by --without" in said and "2 files match no rule" in said


def test_a_trash_counts_folders_as_folders(intake: Path, frugal: Frugal) -> None:
    frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--take", "items", "--yes")
    said = frugal("trash", "--where", "name is old", code=3).stdout
    assert "1 folder with 3 files, 15 B, removed from the trash for good" in said
    assert (
        "1 folder with 3 files removed from the trash for good."
        in frugal("trash", "--where", "name is old", "--yes").stdout
    )


def test_hints_name_the_right_run(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "ext is log"\nmove = "../Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "Do it again after all with: frugal undo 2" in frugal("undo", "--yes").stdout
    assert "Run 1 is done again after all; take it back with: frugal undo 1" in frugal("undo", "2", "--yes").stdout
    assert "Do it again after all with: frugal undo 4" in frugal("undo", "1", "--yes").stdout
    frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--permanent", "--yes")
    assert "frugal undo 5" not in frugal("history").stdout
    skipped = frugal("undo", "5", code=1).stdout
    assert "Nothing to take back of run 5" in skipped and "cannot be taken back." not in skipped


@AS_ROOT
@pytest.mark.parametrize(
    "ending", ["trash = true", 'move = "Out"', 'move = "OTHER"', 'copy = "Copies"', 'pack = "P/all.zip"']
)
def test_what_is_taken_back_is_counted_as_it_was_when_it_was_done(
    folder: Path, frugal: Frugal, mount: Mount, ending: str
) -> None:
    other = mount("tmpfs")
    for name in ("a", "b", "in/c", "in/deep/d"):
        put(folder / "Intake/moulds" / name, "x" * 100)
    rule = f'where = "name is moulds"\ntake = "folders"\n{ending.replace("OTHER", str(other / "Out"))}'
    put(folder / "rules.toml", rules_text(rule))
    done = frugal("tidy", "rules.toml", "--yes").stdout
    back = frugal("undo", "--yes").stdout
    again = frugal("undo", "2", "--yes").stdout
    inside = "1 folder with 4 files"
    assert inside in done or "pack" in ending
    assert (inside in back and inside in again) or "pack" in ending, back + again
    if "copy" not in ending and "pack" not in ending:
        assert all(", 400 B" in said for said in (done, back, again))


@pytest.mark.parametrize("job", ["purge", "tidy"])
def test_an_empty_folder_holds_no_file(folder: Path, frugal: Frugal, job: str) -> None:
    for name in "abc":
        (folder / "Intake" / name).mkdir(parents=True)
        os.utime(folder / "Intake" / name, (1, 1))
    put(folder / "rules.toml", rules_text('take = "folders"\nwhere = "everything"\ntrash = true'))
    words = {
        "purge": ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--take", "items"),
        "tidy": ("tidy", "rules.toml"),
    }[job]
    said = frugal(*words, "--yes").stdout + frugal("history", "1").stdout + frugal("undo", "--yes").stdout
    assert "3 folders" in said and not re.search(r"[1-9]\d* files?\b", said), said
