"""`frugal purge`, by the built program and by its planner."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from frugal_sorter.app.rules import plan_job
from frugal_sorter.app.session import Session
from frugal_sorter.cli.reading import book_named
from frugal_sorter.execution.executor import changing, execute
from frugal_sorter.planning.jobs import Purge, freed_by
from frugal_sorter.rules.units import parse_duration
from frugal_sorter.state import ready_state_folder
from tests.conftest import Frugal
from tests.support import aged, names, put, snapshot, trash_of, wait_until


@pytest.mark.parametrize(
    ("options", "gone"),
    [
        (("30d",), {"b.JPG", "c.pdf"}),
        (("1 month",), {"b.JPG", "c.pdf"}),
        (("36h",), {"b.JPG", "c.pdf", "README"}),
        (("2d", "--hidden"), {"b.JPG", "c.pdf", "README", ".hidden.jpg"}),
        (("30d", "--levels", "all"), {"b.JPG", "c.pdf", "sub/d.jpg"}),
        (("30d", "--where", "type is image"), {"b.JPG"}),
        (("2d", "--keep-newest", "2"), {"b.JPG", "c.pdf"}),
        (("2d", "--keep-newest", "3"), {"c.pdf"}),
        (("2d", "--keep-newest", "9"), set()),
        (("30d", "--take", "folders"), {"sub/d.jpg"}),
        (("30d", "--take", "items"), {"b.JPG", "c.pdf", "sub/d.jpg"}),
    ],
)
@pytest.mark.parametrize("permanent", [False, True])
def test_purge_takes_what_its_options_say(
    intake: Path, frugal: Frugal, own_home: Path, options: tuple[str, ...], gone: set[str], permanent: bool
) -> None:
    before, held = names(intake), snapshot(intake)
    (intake / "c.pdf").chmod(0o444)
    more = ("--permanent",) if permanent else ()
    said = frugal("purge", "Intake", "--older-than", *options, "--by", "modified", *more, "--yes").stdout
    assert before - names(intake) == gone
    assert not gone or f"in {intake}" in said or "Purge:" in said
    if permanent:
        assert not trash_of(own_home) and ("This run cannot be undone." in said or not gone)
        return
    assert {Path(path).name for path in trash_of(own_home).values()} == {
        name.split("/")[0 if "--take" in options else -1] for name in gone
    }
    if gone:
        frugal("undo", "--yes")
        (intake / "c.pdf").chmod(0o644)
        assert {path: seen.digest for path, seen in snapshot(intake).items()} == {
            path: seen.digest for path, seen in held.items()
        }


@pytest.mark.parametrize("by", ["latest", "created", "arrived", "opened"])
def test_the_date_that_decides_can_be_chosen(intake: Path, frugal: Frugal, by: str) -> None:
    # All files were made and came here just now, whatever their contents say.
    fresh = frugal("purge", "Intake", "--older-than", "2 days", "--by", by, "--yes").stdout
    assert ("3 files moved to the trash" in fresh) == (by == "opened")
    purge = Purge(str(intake), by, parse_duration("1s"))
    book = book_named({"name": "p", "where": purge.where, "trash": True, "hidden": True}, str(intake))
    in_a_moment = Session(time.time_ns() + 2_000_000_000, "front-desk", "maren")
    assert plan_job(in_a_moment, book, "purge", None, purge.narrow).asked


def test_the_list_before_the_question_says_what_a_person_must_know(folder: Path, frugal: Frugal) -> None:
    for number in range(40):
        aged(folder / f"Intake/scratch {number:02}.tmp", 31 + number, "x" * (number * 10))
    aged(folder / "Intake/new.tmp", 1)
    said = frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", code=3).stdout
    lines = said.splitlines()
    assert lines[0] == f"Purge: {folder / 'Intake'}" and "40 files, 7.8 kB, to the trash" in said
    assert "scratch 39.tmp" in next(line for line in lines if line.startswith("  oldest"))
    assert "scratch 00.tmp" in next(line for line in lines if line.startswith("  newest"))
    assert "1 file is newer or does not match the condition" in said
    short = frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--short", code=3).stdout
    assert "… 34 more" in short and short.count(".tmp") == 9
    everything = frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--list-all", code=3).stdout
    assert all(f"scratch {number:02}.tmp" in everything for number in range(40))
    assert len(names(folder / "Intake")) == 41


def test_the_catastrophic_is_refused(folder: Path, own_home: Path, frugal: Frugal) -> None:
    aged(own_home / "letter.txt", 100)
    assert "is a home folder, so frugal removes only" in frugal("purge", own_home, "--older-than", "1d", "--yes", code=3).stderr
    said = frugal("sort", own_home, "--into", "{type}", "--levels", "all", "--yes", code=3).stderr
    assert "is a home folder, so frugal sorts only its first level" in said
    assert "system folder" in frugal("purge", "/usr/share", "--older-than", "1d", "--yes", code=3).stderr
    for number in range(1_001):
        aged(folder / f"Intake/{number}.tmp", 100)
    said = frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--yes", code=3).stdout
    assert "it would remove 1,001 files, but the limit is 1,000; to allow this, use --at-most 1001" in said
    assert len(names(folder / "Intake")) == 1_001
    frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--at-most", "1001", "--yes")
    assert not names(folder / "Intake") and (own_home / "letter.txt").exists()
    for number, said in ((1, "1 file, but the limit is 0"), (2, "2 files, but the limit is 1")):
        aged(folder / f"Intake/{number}.tmp", 100)
        words = ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--at-most", f"{number - 1}", "--yes")
        assert f"it would remove {said}" in frugal(*words, code=3).stdout


def test_empty_subfolders_go_too_when_asked(intake: Path, frugal: Frugal) -> None:
    words = ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--levels", "all", "--prune")
    assert "Remove 1 folder that this leaves empty" in frugal(*words, code=3).stdout
    frugal(*words, "--yes")
    assert not (intake / "sub").exists()
    frugal("undo", "--yes")
    assert (intake / "sub/d.jpg").exists()


def test_a_file_that_a_program_has_open_is_kept_and_named(intake: Path, frugal: Frugal) -> None:
    held = [(intake / "b.JPG").open(), (intake / "sub/d.jpg").open()]
    try:
        said = frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--take", "items", "--yes").stdout
        assert (
            "1 file and 1 folder with 1 file: open in" in said
            and f"process {os.getpid()}" in said
            and "  b.JPG" in said
            and "  sub" in said
        )
        assert (intake / "b.JPG").exists() and (intake / "sub/d.jpg").exists() and not (intake / "c.pdf").exists()
    finally:
        for file in held:
            file.close()


def test_until_so_much_is_free_the_oldest_go_first(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(6):
        aged(folder / f"Intake/{number}.bak", 100 - number, "x" * 40_000)
    os.link(folder / "Intake/0.bak", folder / "extra hard link")
    each = freed_by(str(folder / "Intake/1.bak"))
    assert each >= 40_000 and freed_by(str(folder / "Intake/0.bak")) == 0 and freed_by(str(folder / "Intake")) >= 5 * each
    monkeypatch.setattr("frugal_sorter.planning.jobs.free_bytes", lambda _: 1_000_000)
    for wanted, going, problem in (
        (500_000, "", False),
        (1_000_001, "01", False),
        (1_000_000 + 2 * each, "012", False),
        (9_000_000, "012345", True),
    ):
        purge = Purge(str(folder / "Intake"), "modified", parse_duration("30d"), 0, wanted)
        plan = plan_job(
            Session.begin(),
            book_named({"name": "p", "where": purge.where, "delete": True}, str(folder / "Intake")),
            "purge", None, purge.narrow,
        )  # fmt: skip
        assert "".join(sorted(step.place.name[0] for step in plan.asked)) == going
        assert plan.has_problem == problem


def test_nothing_young_and_nothing_open_goes_while_a_program_writes(folder: Path) -> None:
    """A program writes young files and holds old ones open, a purge takes old ones away."""
    intake = folder / "Intake"
    intake.mkdir()
    writer = f"""
import os, sys
os.chdir({str(intake)!r})
held = [open(f"held {{number}}.tmp", "a") for number in range(3)]
for file in held:
    os.utime(file.name, (1, 1))
print("ready", flush=True)
for number in range(10 ** 9):
    with open(f"young {{number % 50}}.tmp", "w") as file:
        file.write(str(number))
    if number % 20 == 0:
        file = open("comes and goes.tmp", "a"); os.utime("comes and goes.tmp", (1, 1)); [*map(str, range(10_000))]; os.utime("comes and goes.tmp"); file.close()
"""
    lost = 0
    with subprocess.Popen([sys.executable, "-c", writer], stdout=subprocess.PIPE) as program:
        assert program.stdout is not None
        program.stdout.readline()
        try:
            wait_until(lambda: (intake / "young 49.tmp").exists() and (intake / "comes and goes.tmp").exists())
            purge = Purge(str(intake), "modified", parse_duration("1 day"))
            keys: dict[str, str | int | bool] = {"name": "p", "where": purge.where, "delete": True}
            for number in range(120):
                aged(intake / f"old {number}.tmp", 30)
                plan = plan_job(Session.begin(), book_named(keys, str(intake)), "purge", None, purge.narrow)
                with changing(ready_state_folder(), "test") as journal:
                    execute(plan, journal, lambda _step, _mark: None)
                there = set(os.listdir(intake))
                assert f"old {number}.tmp" not in there
                assert {f"held {one}.tmp" for one in range(3)} <= there and "comes and goes.tmp" in there
                lost += 50 - sum(name.startswith("young") for name in there)
        finally:
            program.kill()
    assert lost == 0


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("purge", "Intake"), "needs --older-than"),
        (("purge", "", "--older-than", "1d"), "(empty): no folder was named"),
        (("purge", "Intake/c.pdf", "--older-than", "1d"), "is not a folder"),
        (("purge", "Intake", "--older-than", "5m"), "use minutes or months"),
        (("purge", "Intake", "--older-than", "1d", "--until-free", "20GB"), "frees no space; add --permanent"),
        (("purge", "Intake", "--older-than", "1d", "--until-free", "20", "--permanent"), "has no unit"),
        (("purge", "Intake", "--older-than", "1d", "--keep-newest", "0"), "use 1, 2, ..."),
        (("purge", "Intake", "--older-than", "1d", "--keep-newest", "2", "--as-rule"), "cannot be combined with --keep-newest"),
        (("purge", "Intake", "--older-than", "1d", "--where", "colour is red"), "--where: "),
        (("purge", "Intake", "--older-than", "1d", "--take", "items", "--levels", "2"), "always works on the top level"),
    ],
)  # fmt: skip
def test_bad_input_gets_one_line_and_changes_nothing(intake: Path, frugal: Frugal, words: tuple[str, ...], why: str) -> None:
    before = snapshot(intake)
    said = frugal(*words, code=2).stderr
    assert why in said and said.count("\n") == 1 and snapshot(intake) == before


def test_a_condition_alone_chooses_and_what_lies_deeper_is_told(folder: Path, frugal: Frugal) -> None:
    for name in ("a.tmp", "b.log", "sub/c.tmp"):
        put(folder / "Intake" / name)
    said = frugal("purge", "Intake", "--where", "ext is tmp", "--yes").stdout
    assert "No age limit." in said and "1 file moved to the trash." in said and "1 file in subfolders not checked" in said
    assert sorted(path.name for path in (folder / "Intake").iterdir()) == ["b.log", "sub"]
    assert "needs --older-than, --where or --keep-newest" in frugal("purge", "Intake", code=2).stderr
    for number in range(4):
        put(folder / f"Backups/{number}.zip", age_days=number, now_ns=time.time_ns())
    frugal("purge", "Backups", "--keep-newest", "2", "--by", "modified", "--yes")
    assert sorted(path.name for path in (folder / "Backups").iterdir()) == ["0.zip", "1.zip"]
