"""What a person has switched off, taken back or not clearly answered is left alone."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Frugal
from tests.support import book_of, on_terminal, plan_of, put, rules_text, trash_of


def test_a_rule_that_is_switched_off_does_not_give_its_folders_up(folder: Path) -> None:
    put(folder / "Intake/Sound/kiln.mp3")
    put(folder / "Intake/new.mp3")
    rules = ('where = "ext is mp3"\nmove = "Sound"\noff = true', 'take = "items"\nwhere = "everything"\nmove = "Rest"')
    plan = plan_of(book_of(folder, *rules))
    assert [step.place.name for step in plan.asked] == ["new.mp3"]


@pytest.mark.parametrize("by", ["frugal trash", "the desktop"])
def test_what_was_brought_back_from_the_trash_stays(folder: Path, frugal: Frugal, own_home: Path, by: str) -> None:
    path = put(folder / "Intake/a.tmp")
    put(folder / "rules.toml", rules_text('where = "ext is tmp"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes")
    assert trash_of(own_home) and not path.exists()
    if by == "frugal trash":
        frugal("trash", "--restore", "a.tmp", "--yes")
    else:
        (own_home / ".local/share/Trash/files/a.tmp").rename(path)
        (own_home / ".local/share/Trash/info/a.tmp.trashinfo").unlink()
    said = frugal("tidy", "rules.toml", "--yes").stdout
    assert path.exists() and "1" in said
    frugal("tidy", "rules.toml", "--yes", "--again")
    assert not path.exists()
    frugal("undo", "--yes")
    path.write_text("edited")
    frugal("tidy", "rules.toml", "--yes")
    assert not path.exists()


@pytest.mark.parametrize(("typed", "done"), [("y\n", True), ("n\n", False), ("sure\n", False), ("\n", False), ("YES\n", True)])
def test_y_and_n_are_answers_and_anything_else_says_what_was_not_understood(folder: Path, typed: str, done: bool) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    said = on_terminal(folder, "tidy", "rules.toml", answers=typed)[1]
    assert (folder / "Intake/Logs/a.log").exists() is done
    assert ("`sure` is not an answer" in said) is ("sure" in typed) and ("No answer" in said) is (typed[0] == "\n")


def test_history_never_loses_the_number_of_a_run_nor_its_state(folder: Path, frugal: Frugal) -> None:
    deep = folder / ("a very long name of a folder " * 4)
    put(deep / "Intake/a.log")
    put(deep / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", deep / "rules.toml", "--yes")
    frugal("undo", "--yes")
    for columns in (60, 80, 120):
        lines = on_terminal(folder, "history", columns=columns)[1].splitlines()
        tidy, back = (next(line for line in lines if word in line) for word in ("tidy", "undo of run 1"))
        assert tidy.split()[0] == "1" and back.split()[0] == "2", (columns, lines)
        assert "undone by run 2" in tidy and (columns < 80 or len(tidy.rstrip()) <= columns), (columns, tidy)


PARTS = ("part", "crdownload", "partial", "download", "filepart", "opdownload")
JOBS = {
    "move": ("tidy", "rules.toml", "--yes"), "sort": ("sort", "Intake", "--into", "x", "--yes"),
    "purge": ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--yes"),
    "duplicates": ("duplicates", "Intake", "--empty", "--do", "trash", "--yes"), "watch": ("watch", "rules.toml", "--once"),
}  # fmt: skip


@pytest.mark.parametrize("job", JOBS)
@pytest.mark.parametrize("named", ["{}.{}", "{} (1).{}"])
def test_a_download_that_is_not_complete_is_left_with_its_placeholder(folder: Path, frugal: Frugal, job: str, named: str) -> None:
    held = set()
    for suffix in PARTS:
        held |= {f"{suffix}.pdf", named.format(f"{suffix}.pdf", suffix)}
    for name in (*held, "whole.pdf", "whole too.pdf"):
        put(folder / "Intake" / name, "", 40)
    put(folder / "rules.toml", rules_text('where = "everything"\nmove = "../Out"'))
    said = frugal(*JOBS[job], code=None).stdout
    left = {path.name for path in (folder / "Intake").iterdir()}
    assert left - {"x"} == held, job
    assert "a download that is not complete" in said and "its download is not complete" in said
    # A rule that means them takes them.
    put(folder / "rules.toml", rules_text('where = "type is partial"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes")
    assert not [path for path in (folder / "Intake").iterdir() if path.suffix[1:] in PARTS]


def test_what_comes_by_itself_leaves_what_is_open_for_writing(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/growing.log", "x", 40)
    put(folder / "Intake/whole.log", "x", 40)
    rules = put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "../Out"'))
    with (folder / "Intake/growing.log").open("a"):
        frugal("visit", "nightly", "--in", folder, "--", "tidy", rules, "--yes")
        assert [path.name for path in (folder / "Intake").iterdir()] == ["growing.log"]
        # A person has seen the list.
        frugal("tidy", rules, "--yes")
    assert (folder / "Out/growing.log").exists()


def test_what_a_person_moved_back_stays_and_is_told_of(folder: Path, frugal: Frugal) -> None:
    for name in ("a.log", "b.log"):
        put(folder / "Intake" / name, name)
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    (folder / "Intake/Logs/a.log").rename(folder / "Intake/a.log")
    said = frugal("preview", "rules.toml").stdout
    assert "1 file: moved back by hand since run 1; to include it: --again" in said and "a.log" in said
    # An exception for good is one option away, and a file that was changed since is another one.
    assert "move 1 file" in frugal("preview", "rules.toml", "--again").stdout
    (folder / "Intake/a.log").write_text("changed")
    assert "move 1 file" in frugal("preview", "rules.toml").stdout
    # What an undo put back, and what is done once more, is the word of the history, not of a hand.
    (folder / "Intake/Logs/b.log").rename(folder / "Intake/b.log")
    frugal("tidy", "rules.toml", "--yes", "--again")
    frugal("undo", "--yes")
    assert "undone by run 3" in frugal("preview", "rules.toml").stdout
