"""`frugal sort`, by the built program."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from frugal_sorter.rules.load import read_rules
from tests.conftest import Frugal
from tests.support import aged, contents, names, put, snapshot


@pytest.mark.parametrize(
    ("options", "expected"),
    [
        (("{type}",), {"image/a.jpg", "image/b.JPG", "document/c.pdf", "other/README", ".hidden.jpg", "sub/d.jpg"}),
        (("{ext} files", "--other", "Rest"), {"jpg files/a.jpg", "jpg files/b.JPG", "pdf files/c.pdf", "Rest/README", ".hidden.jpg", "sub/d.jpg"}),
        (("{type}", "--where", "ext is jpg"), {"image/a.jpg", "image/b.JPG", "c.pdf", "README", ".hidden.jpg", "sub/d.jpg"}),
        (("{type}", "--levels", "all", "--prune"), {"image/a.jpg", "image/b.JPG", "image/d.jpg", "document/c.pdf", "other/README", ".hidden.jpg"}),
        (("{type}", "--hidden", "--where", "type is image"), {"image/a.jpg", "image/b.JPG", "image/.hidden.jpg", "c.pdf", "README", "sub/d.jpg"}),
        (("{initial}", "--settle", "10 days"), {"a.jpg", "B/b.JPG", "C/c.pdf", "README", ".hidden.jpg", "sub/d.jpg"}),
        (("{sizeband}",), {"up to 100 KB/a.jpg", "up to 100 KB/b.JPG", "up to 100 KB/c.pdf", "up to 100 KB/README", ".hidden.jpg", "sub/d.jpg"}),
    ],
)  # fmt: skip
def test_sort_does_what_its_options_say_and_undo_takes_it_back(
    intake: Path, frugal: Frugal, options: tuple[str, ...], expected: set[str]
) -> None:
    before = snapshot(intake)
    said = frugal("sort", "Intake", "--into", *options, "--yes").stdout
    assert names(intake) == expected and "frugal undo 1" in said
    assert (intake / "sub").exists() == ("sub/d.jpg" in expected)
    frugal("undo", "--yes")
    assert snapshot(intake) == before


def test_a_name_that_is_taken_is_numbered_or_skipped_as_asked(intake: Path, frugal: Frugal) -> None:
    put(intake / "image/a.jpg", "another")
    assert "1 file: " in frugal("sort", "Intake", "--into", "{type}", "--where", "name is 'a.jpg'", "--clash", "skip").stdout
    frugal("sort", "Intake", "--into", "{type}", "--yes")
    assert (intake / "image/a_2.jpg").read_text() == "a.jpg" and (intake / "image/a.jpg").read_text() == "another"


def test_a_folder_that_was_sorted_is_sorted_anew_by_another_template(intake: Path, frugal: Frugal) -> None:
    held = contents(intake)
    frugal("sort", "Intake", "--into", "{type}", "--yes")
    frugal("sort", "Intake", "--into", "{ext}", "--other", "none", "--levels", "all", "--prune", "--yes")
    assert names(intake) == {"jpg/a.jpg", "jpg/b.JPG", "jpg/d.jpg", "pdf/c.pdf", "none/README", ".hidden.jpg"}
    assert contents(intake) == held and not (intake / "image").exists()
    again = frugal("sort", "Intake", "--into", "{ext}", "--other", "none", "--levels", "all", "--prune").stdout
    assert "Nothing to sort" in again
    # What was taken back is done again when a person asks for it.
    frugal("undo", "--yes")
    assert "jpg/a.jpg" in frugal("sort", "Intake", "--into", "{ext}", "--levels", "all", "--yes", code=1).stdout


def test_a_sort_lists_how_much_goes_where_and_all_of_it_when_asked(intake: Path, frugal: Frugal) -> None:
    short = frugal("sort", "Intake", "--into", "{type}", code=3)
    assert "image (new)" in short.stdout and "add --yes" in short.stderr and (intake / "a.jpg").exists()
    assert "4 files" in frugal("sort", "Intake", "--into", "{type}", "--list-all", code=3).stdout


@pytest.mark.parametrize("folder_name", ["Intake", "Glaze 'quoted' \"tests\"", "back\\slash"])
def test_as_rule_prints_a_rule_that_does_the_same(folder: Path, frugal: Frugal, folder_name: str) -> None:
    aged(folder / folder_name / "kiln's.log", 50)
    into = "Kiln's {modified:%Y}"
    printed = frugal("sort", folder_name, "--into", into, "--where", "name has 'kiln''s'", "--levels", "2", "--clash", "same",
                     "--settle", "1h", "--other", "x", "--prune", "--hidden", "--as-rule").stdout  # fmt: skip
    (rule,) = read_rules(printed.encode(), folder / "rules.toml").rules
    assert rule.folders == (str(folder / folder_name),) and (rule.levels, rule.clash, rule.prune, rule.hidden) == (
        2,
        "same",
        True,
        True,
    )
    (folder / "rules.toml").write_text(printed)
    frugal("tidy", "rules.toml", "--yes")
    by_rule = names(folder / folder_name)
    frugal("undo", "--yes")
    frugal("sort", folder_name, "--into", into, "--yes")
    assert names(folder / folder_name) == by_rule == {next(iter(by_rule))} and "Kiln's" in next(iter(by_rule))


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("sort", "Intake", "--into", "{typo}"), "--into: unknown placeholder {typo}; did you mean `type`?"),
        (("sort", "Intake", "--into", "{type}", "--where", "size >"), "--where: the condition is incomplete"),
        (("sort", "Intake", "--into", "{type}", "--settle", "soon"), '--settle: "soon" is not a duration'),
        (("sort", "", "--into", "{type}"), "(empty): no folder was named; name one"),
        (("sort", "Missing", "--into", "{type}"), "folder not found: Missing"),
        (("sort", "Intake"), "needs --into"),
    ],
)  # fmt: skip
def test_bad_input_gets_one_line_and_changes_nothing(intake: Path, frugal: Frugal, words: tuple[str, ...], why: str) -> None:
    before = snapshot(intake)
    said = frugal(*words, code=2).stderr
    assert why in said and said.count("\n") == 1 and snapshot(intake) == before


def test_a_condition_that_matches_nothing_is_told_what_it_only_just_misses(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.pdf", age_days=29, now_ns=time.time_ns())
    said = frugal("sort", "Intake", "--into", "{ext}", "--where", "ext is pdf and modified older than 30 days", "--yes").stdout
    assert "matches nothing. Closest:" in said and "a.pdf" in said
