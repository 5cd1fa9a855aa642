"""What rules can say of tags, types, programs, numbers and dates, by the built program."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from frugal_sorter.rules.templates import parse_reading
from tests.conftest import Frugal
from tests.support import put, rules_text, snapshot


@pytest.fixture
def intake(folder: Path) -> Path:
    for name in ("a.txt", "b.pdf", "c.jpg", "KILN 3 October 2026 p7.log", "KILN 14 mArCh 2026 p12.log"):
        put(folder / "Intake" / name, name)
    return folder / "Intake"


def tags(path: Path) -> str:
    try:
        return os.getxattr(path, "user.xdg.tags").decode()
    except OSError:
        return ""


@pytest.mark.parametrize(("before", "retag", "after"), [
    ("draft,kiln", '["done"]', "done"), ("", '"done"', "done"), ("done", '["done"]', "done"), ("x", '["new", "{ext}"]', "new,txt"),
])  # fmt: skip
def test_retag_leaves_the_tags_that_it_names_and_undo_the_old_ones(
    intake: Path, frugal: Frugal, before: str, retag: str, after: str
) -> None:
    if before:
        os.setxattr(intake / "a.txt", "user.xdg.tags", before.encode())
    put(intake.parent / "rules.toml", rules_text(f'where = "name is a.txt"\nretag = {retag}'))
    frugal("tidy", "rules.toml", "--yes")
    assert tags(intake / "a.txt") == after
    assert "Nothing to do" in frugal("tidy", "rules.toml").stdout
    if before != after:
        frugal("undo", "--yes")
    assert tags(intake / "a.txt") == before


def test_retag_goes_with_no_other_tags(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "everything"\nretag = ["a"]\ntag = "b"'))
    assert "`retag` cannot be combined with `tag`" in frugal("check", "rules.toml", code=2).stderr


def test_types_together_are_one_type_and_the_parts_are_none(intake: Path, frugal: Frugal) -> None:
    head = '[types]\npapers = "text + document"\n[type-folders]\npapers = "Office/Papers"\nimage = "Media/Pictures"\n'
    put(intake.parent / "rules.toml", rules_text('where = "type in (papers, image)"\nmove = "{typefolder}"', head=head))
    frugal("tidy", "rules.toml", "--yes")
    assert {"Office/Papers/a.txt", "Office/Papers/b.pdf", "Media/Pictures/c.jpg"} <= {
        str(path.relative_to(intake)) for path in intake.rglob("*")
    }
    assert "Nothing to do" in frugal("tidy", "rules.toml").stdout
    put(intake.parent / "rules.toml", rules_text('where = "type is text"\nmove = "x"', head=head))
    assert "text" in frugal("check", "rules.toml", code=2).stderr


@pytest.mark.parametrize(("types", "folders"), [
    ("papers = text + document", {"papers", "image", "log"}), ("notes = .txt, log; pics = jpg", {"notes", "pics", "document"}),
])  # fmt: skip
def test_a_job_in_one_line_has_types_of_its_own(intake: Path, frugal: Frugal, types: str, folders: set[str]) -> None:
    frugal("sort", "Intake", "--into", "{type}", "--types", types, "--yes")
    assert {path.name for path in intake.iterdir()} == folders
    said = frugal("sort", "Intake", "--into", "{type}", "--types", types, "--as-rule").stdout
    put(intake.parent / "rules.toml", said)
    frugal("check", "rules.toml")
    frugal("undo", "--yes")
    frugal("tidy", "rules.toml", "--yes")
    assert {path.name for path in intake.iterdir()} == folders
    frugal("undo", "--yes")
    frugal("sort", "Intake", "--into", "{type}", "--types", "rules.toml", "--yes")
    assert {path.name for path in intake.iterdir()} == folders


def test_a_condition_can_ask_for_such_a_type(intake: Path, frugal: Frugal) -> None:
    words = ["--types", "papers = text + document", "--where", "type is papers", "--yes"]
    frugal("purge", "Intake", "--older-than", "1d", "--by", "modified", *words)
    assert {path.name for path in intake.iterdir()} >= {"c.jpg"} and not (intake / "a.txt").exists()


@pytest.mark.parametrize("types", ["nothing", "x = ", "papers = text + nothing", "Papers = txt", "missing.toml", "= txt"])
def test_types_that_cannot_be_read_are_one_line(intake: Path, frugal: Frugal, types: str) -> None:
    before = snapshot(intake)
    done = frugal("sort", "Intake", "--into", "{type}", "--types", types, "--yes", code=2)
    assert done.stderr.startswith("frugal: --types") and len(done.stderr.splitlines()) == 1 and snapshot(intake) == before


# A program that makes a file


MAKE = "[{python}, \"-c\", \"import os, shutil; shutil.copy(os.environ['FRUGAL_FILE'], os.environ['FRUGAL_FILE'] + '.made')\"]"


def making(folder: Path, makes: str = "{name}.made", program: str = MAKE, more: str = "") -> None:
    command = program.replace("{python}", f'"{sys.executable}"')
    put(folder / "rules.toml", rules_text(f'where = "ext is txt"\nrun = {command}\nmakes = "{makes}"\n{more}')).chmod(0o600)


def test_what_a_program_makes_belongs_to_the_run(intake: Path, frugal: Frugal) -> None:
    making(intake.parent)
    before = snapshot(intake)
    said = frugal("tidy", "rules.toml", "--yes").stdout
    assert (intake / "a.txt.made").read_text() == "a.txt" and "1 file created by a program" in said
    assert "Nothing to do" in frugal("tidy", "rules.toml").stdout
    frugal("undo", "--yes")
    assert {path: seen._replace(mtime_ns=0) for path, seen in snapshot(intake).items()} == {
        path: seen._replace(mtime_ns=0) for path, seen in before.items()
    }
    assert "Nothing to do" in frugal("tidy", "rules.toml").stdout, "what was taken back is not made again"
    frugal("undo", "2", "--yes")
    assert (intake / "a.txt.made").exists()
    (intake / "a.txt.made").unlink()
    assert "Nothing to do" in frugal("tidy", "rules.toml").stdout, "what its owner removed is not made again"


def test_what_was_edited_since_stays(intake: Path, frugal: Frugal) -> None:
    making(intake.parent)
    frugal("tidy", "rules.toml", "--yes")
    put(intake / "a.txt.made", "edited", age_days=0)
    assert "edited since it was created, so it stays" in frugal("undo", "--yes", code=1).stdout
    assert (intake / "a.txt.made").read_text() == "edited"


@pytest.mark.parametrize(("makes", "program", "told"), [
    ("other.jpg", MAKE, "did not create other.jpg"), ("{name}.made", '["/bin/false"]', "exited with 1"), ("../x", MAKE, "not a path below"), ("/tmp/x", MAKE, "not a path below"),
])  # fmt: skip
def test_a_program_that_makes_something_else_is_said(intake: Path, frugal: Frugal, makes: str, program: str, told: str) -> None:
    making(intake.parent, makes, program)
    assert told in frugal("tidy", "rules.toml", "--yes", code=1).stdout


def test_it_is_made_beside_where_the_entry_went(intake: Path, frugal: Frugal) -> None:
    making(intake.parent, more='move = "Notes"')
    frugal("tidy", "rules.toml", "--yes")
    assert (intake / "Notes/a.txt.made").exists() and (intake / "Notes/a.txt").exists()
    frugal("undo", "--yes")
    assert (intake / "a.txt").exists() and not (intake / "Notes").exists()


def test_what_is_there_already_is_left(intake: Path, frugal: Frugal) -> None:
    making(intake.parent)
    put(intake / "a.txt.made", "mine")
    assert "Nothing to do" in frugal("tidy", "rules.toml").stdout and (intake / "a.txt.made").read_text() == "mine"


def test_makes_goes_with_run_only(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "everything"\nmakes = "x"\ntag = "y"'))
    assert "`makes` needs `run`" in frugal("check", "rules.toml", code=2).stderr


# Numbers and dates


def test_a_captured_number_takes_digits_and_months_any_case(intake: Path, frugal: Frugal) -> None:
    rule = 'where = \'name fits "KILN {fired:%d %B %Y} p{page}.log"\'\nmove = "{fired:%Y-%m-%d}"\nrename = "{page:03}.log"'
    put(intake.parent / "rules.toml", rules_text(rule))
    frugal("tidy", "rules.toml", "--yes")
    assert {"2026-10-03/007.log", "2026-03-14/012.log"} <= {str(path.relative_to(intake)) for path in intake.rglob("*.log")}


def test_what_is_captured_and_is_no_number_leaves_its_entry(intake: Path, frugal: Frugal) -> None:
    put(intake / "scan x.tif")
    put(intake.parent / "rules.toml", rules_text('where = \'name fits "scan {page}.tif"\'\nrename = "{page:03}.tif"'))
    assert "is not a number" in frugal("tidy", "rules.toml", "--yes", code=1).stdout
    assert "scan x.tif" in {path.name for path in intake.iterdir()}


@pytest.mark.parametrize(("pattern", "name", "fits"), [
    ("{d:%d %B %Y}", "3 October 2026", True), ("{d:%d %B %Y}", "03 OCTOBER 2026", True), ("{d:%d %b %Y}", "3 oct 2026", True),
    ("{d:%d.%m.%Y}", "3.7.2026", True), ("{d:%Y-%m-%d}", "2026-7-3", True), ("{d:%d%m%Y}", "03102026", True), ("{d:%d%m%Y}", "3102026", False),
    ("{d:%Y%m%d}", "2026103", False), ("{d:%Y-%m-%d}", "2026-007-03", False), ("{d:%d %B %Y}", "33 October 2026", False), ("{d:%d %B %Y}", "3 Octember 2026", False),
    ("a{d:%d}b", "a3b", True), ("1{d:%d}b", "13b", False), ("1{d:%d}b", "103b", True),
])  # fmt: skip
def test_a_day_needs_no_zero_where_it_cannot_be_misread(pattern: str, name: str, fits: bool) -> None:
    assert parse_reading(pattern, False).fits(name) is fits
