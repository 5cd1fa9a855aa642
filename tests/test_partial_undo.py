"""Undo is by step: history and the disk agree after any subset is taken back, in any order, with other runs between."""

from __future__ import annotations

import errno
import json
import os
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from frugal_sorter.errors import UsageError
from frugal_sorter.execution.executor import changing, execute
from frugal_sorter.execution.undo import _UndoPlanner, plan_undo, run_to_undo
from frugal_sorter.journal.journal import Journal
from frugal_sorter.reasons import Outcome
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.kinds import ATTENDING, LASTING, VerbName
from frugal_sorter.steps.step import Step
from tests.conftest import Frugal
from tests.support import NOW_NS, Seen, book_of, carry_out, plan_of, put, rules_text, snapshot, undo

NAMES = ("a.log", "b.log", "c.log", "d.log")
MOVE = 'where = "ext is log"\nmove = "Logs"'


def undo_only(run: int, *paths: Path) -> int:
    with changing(ready_state_folder(), "test") as journal:
        plan = plan_undo(journal, journal.run(run), NOW_NS, list(map(str, paths)))
        return execute(plan, journal, lambda _step, _mark: None).done.steps


def what_is_left() -> list[tuple[int, int | None, int, int]]:
    with Journal(ready_state_folder(), write=False) as journal:
        return [(run.id, run.undone_by, run.taken_back, journal.left_to_undo(run)) for run in journal.runs()]


def test_a_part_that_was_taken_back_is_no_whole(folder: Path, frugal: Frugal) -> None:
    for name in NAMES[:3]:
        put(folder / "Intake" / name)
    put(folder / "rules.toml", rules_text(MOVE))
    frugal("tidy", "rules.toml", "--yes")
    frugal("undo", "1", "--only", "Intake/a.log", "--yes")
    assert "1 of 3 undone" in frugal("history").stdout
    row = json.loads(frugal("history", "--format", "json").stdout)["runs"][0]
    assert (row["taken_back"], row["undoable"], row["undone_by"]) == (1, 3, None) and "token" not in row
    # Bare undo takes back the rest, and then there is nothing left.
    assert "2 files moved" in frugal("undo", "--yes").stdout
    assert sorted(os.listdir(folder / "Intake")) == [*NAMES[:3]] and "undone by run 3" in frugal("history").stdout
    assert "run 1 (tidy of" in (said := frugal("undo", "--yes", code=1).stderr) and "has already been undone by run 3" in said
    # An undo that is itself taken back takes nothing back.
    frugal("undo", "3", "--yes")
    assert "1 of 3 undone" in frugal("history").stdout


def test_bare_undo_goes_back_to_the_rest_rather_than_to_an_older_run(folder: Path, frugal: Frugal) -> None:
    put(folder / "Old/x.log")
    for name in NAMES[:2]:
        put(folder / "Intake" / name)
    put(folder / "old.toml", rules_text(f'in = "Old"\n{MOVE}'))
    put(folder / "rules.toml", rules_text(MOVE))
    frugal("tidy", "old.toml", "--yes")
    frugal("tidy", "rules.toml", "--yes")
    frugal("undo", "--only", "Intake/a.log", "--yes")
    frugal("undo", "--yes")
    assert (folder / "Intake/b.log").exists() and (folder / "Old/Logs/x.log").exists()


def test_a_bare_undo_means_the_last_run_and_no_other(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "Intake/b.tmp")
    put(folder / "rules.toml", rules_text(MOVE))
    put(folder / "delete.toml", rules_text('where = "ext is tmp"\ndelete = true'))
    frugal("tidy", "rules.toml", "--yes")
    frugal("tidy", "delete.toml", "--yes")
    before = snapshot(folder)
    for why in ("run 2 (tidy of", "cannot be undone", f"run 1 (tidy in {folder}/Intake", "today): `frugal undo 1`"):
        assert why in frugal("undo", "--yes", code=1).stderr
    assert snapshot(folder) == before
    frugal("undo", "1", "--yes")
    assert (folder / "Intake/a.log").exists()
    # What is back already is no reason to go on to an older run, nor is one that changed nothing.
    frugal("tidy", "rules.toml", "--yes", "--again")
    frugal("undo", "--yes")
    assert "has already been undone by run 5" in frugal("undo", "--yes", code=1).stderr


def test_the_rest_of_a_run_that_tags_comes_back_after_a_part_of_it(folder: Path, frugal: Frugal) -> None:
    for name in NAMES:
        put(folder / "Intake" / name)
    put(folder / "rules.toml", rules_text(f'{MOVE}\ntag = "x"\ncomment = "y"'))

    def files() -> dict[bytes, Seen]:
        # A folder of which a part came back keeps the time of that.
        return {path: seen for path, seen in snapshot(folder / "Intake").items() if seen.kind != "d"}

    before = files()
    frugal("tidy", "rules.toml", "--yes")
    frugal("undo", "1", "--only", f"Intake/{NAMES[0]}", "--yes")
    said = frugal("undo", "1", "--yes").stdout
    assert files() == before and "Left alone" not in said


def test_that_a_program_ran_is_said_beside_what_comes_back(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text(f'{MOVE}\nrun = ["true"]'))
    frugal("tidy", "rules.toml", "--yes")
    said = frugal("undo", "--yes").stdout
    assert (folder / "Intake/a.log").exists() and "Left alone" not in said
    assert "Note: a program was run, and frugal cannot undo what it did" in said


@pytest.mark.parametrize("how", ["delete = true", 'move = "N"'])
def test_an_undo_is_offered_only_for_what_can_come_back(folder: Path, frugal: Frugal, how: str) -> None:
    for name in NAMES:
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, f'where = "ext is log"\n{how}'))
    with Journal(ready_state_folder(), write=True) as journal:
        journal.begin(plan, plan.made_ns)
    said = [frugal(*words).stderr for words in (("history",), ("inventory", "Intake"))]
    said.append(frugal("tidy", put(folder / "none.toml", rules_text('where = "ext is pdf"\nmove = "N"')), "--yes").stderr)
    for one in said[:2]:
        assert "was interrupted" in one and ("frugal undo" in one) is ("move" in how)
    assert "was interrupted after 0 of" in said[2] and "frugal undo" not in said[2]


def test_only_with_what_is_no_part_of_the_run_says_so(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text(MOVE))
    frugal("tidy", "rules.toml", "--yes")
    said = frugal("undo", "1", "--only", "Intake/other.log", "--yes", code=2).stderr
    assert "Intake/other.log: run 1 did not change it" in said and "history 1" in said
    assert (folder / "Intake/Logs/a.log").exists()


@settings(max_examples=30)
@given(st.lists(st.sampled_from([*NAMES, "another run", "bare", "redo"]), min_size=1, max_size=7))
def test_history_and_the_disk_agree_whatever_is_taken_back_in_any_order(
    tmp_path_factory: pytest.TempPathFactory, moves: list[str]
) -> None:
    folder = tmp_path_factory.mktemp("tree").resolve()
    os.environ["XDG_STATE_HOME"] = str(folder / "state")
    try:
        for name in NAMES:
            put(folder / "Intake" / name)
        run = carry_out(plan_of(book_of(folder, MOVE))).run
        for number, move in enumerate(moves):
            if move == "another run":
                put(folder / f"Other/{number}.txt")
                carry_out(plan_of(book_of(folder, f'in = "Other"\nwhere = "name is {number}.txt"\nmove = "T"')))
            elif move in ("bare", "redo"):
                with changing(ready_state_folder(), "test") as journal:
                    undos = [one.id for one in journal.runs() if one.undoes == run and one.undone_by is None]
                    if move == "redo" and not undos:
                        continue
                    try:
                        chosen = run_to_undo(journal, undos[-1] if move == "redo" else None)
                    except UsageError:
                        continue
                    execute(plan_undo(journal, chosen, NOW_NS), journal, lambda _step, _mark: None)
            elif (folder / "Intake/Logs" / move).exists():
                assert undo_only(run, folder / "Intake" / move) == 1
            back = [name for name in NAMES if (folder / "Intake" / name).exists()]
            with Journal(ready_state_folder(), write=False) as journal:
                said = journal.run(run)
            assert said.taken_back == len(back) and (said.undone_by is not None) is (len(back) == len(NAMES)), moves
        # What the runs wrote down of themselves says the same as their steps, which are read where nothing was written down.
        said_of = what_is_left()
        with closing(sqlite3.connect(ready_state_folder() / "journal.sqlite")) as db, db:
            db.execute("UPDATE runs SET counts = json_remove(counts, '$.undoable', '$.took')")
        assert what_is_left() == said_of, moves
    finally:
        del os.environ["XDG_STATE_HOME"]


def test_what_lists_of_runs_say_is_what_their_steps_say(folder: Path) -> None:
    for name in (*NAMES, "x.tmp", "y.bak"):
        put(folder / "Intake" / name)
    rules = (
        'where = "ext is log"\ncopy = "Copies"\nmove = "Logs"',
        'where = "ext is tmp"\ndelete = true',
        'where = "ext is bak"\ntrash = true',
    )
    carry_out(plan_of(book_of(folder, *rules)))
    undo_only(1, folder / "Intake/a.log", folder / "Intake/y.bak")
    with Journal(ready_state_folder(), write=False) as journal:
        for run in journal.numbers():
            steps = [step for step, mark in journal.steps(run) if mark and mark.outcome == Outcome.DONE]
            lasting = {step.id for step in steps if step.verb in ATTENDING or step.verb in LASTING}
            back = {step.of for undo, undone in journal.undos().items() if undone == run for step, _ in journal.steps(undo)}
            left = {step.id for step in steps} - lasting - back
            assert journal.left_to_undo(journal.run(run)) == len(left) and journal.can_be_undone(run)
            assert run == 2 or (lasting and back and left)


@pytest.mark.parametrize("mode", [0o755, 0o1777, 0o2770, 0o700])
@pytest.mark.parametrize("rule", ['move = "../Logs"\nprune = true', 'move = "deep/er"'])
def test_folders_come_back_as_they_were_however_often_a_run_is_undone_and_done_again(folder: Path, mode: int, rule: str) -> None:
    put(folder / "Intake/sub/deeper/a.log")
    for below in ("Intake/sub/deeper", "Intake/sub"):
        (folder / below).chmod(mode)
        os.setxattr(folder / below, "user.note", b"glaze")
    before = snapshot(folder / "Intake")
    carry_out(plan_of(book_of(folder, f'where = "ext is log"\nlevels = "all"\n{rule}')))
    made = [path for path in folder.rglob("*") if path.is_dir() and os.fsencode(path) not in before]
    for path in made:
        path.chmod(mode)  # somebody gives it other rights meanwhile
    after = snapshot(folder)
    for run in (1, 3):
        undo(run)
        assert snapshot(folder / "Intake") == before
        undo(run + 1)
        now = snapshot(folder)
        assert {path: one.mode for path, one in now.items()} == {path: one.mode for path, one in after.items()}


def test_a_part_is_named_by_wildcards_too(folder: Path, frugal: Frugal) -> None:
    for name in ("a.log", "b.log", "c.csv"):
        put(folder / "Intake" / name, name)
    put(folder / "rules.toml", rules_text('where = "everything"\nmove = "{ext}"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "2 files moved." in frugal("undo", "1", "--only", "Intake/*.log", "--yes").stdout
    assert sorted(path.name for path in (folder / "Intake").iterdir()) == ["a.log", "b.log", "csv", "log"]
    assert "did not change it" in frugal("undo", "1", "--only", "Intake/*.pdf", "--yes", code=2).stderr


def test_what_is_gone_is_explained_without_a_rule_file(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "everything"\nmove = "{ext}"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "no longer exists" in frugal("explain", "Intake/a.log").stdout
    assert "cannot be read" in frugal("explain", "Intake/never.log", code=2).stderr


def test_the_contents_are_verified_where_digests_were_taken(folder: Path, frugal: Frugal) -> None:
    for name in ("a.log", "b.log", "t.tmp"):
        put(folder / "Intake" / name, name * 1_000)
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "L"', 'where = "ext is tmp"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes", "--digests")
    assert "3 files read, and every byte is as before the run" in " ".join(frugal("verify").stdout.split())
    # Same size, same date: only the contents tell.
    path = folder / "Intake/L/a.log"
    status = path.stat()
    with open(path, "r+") as file:
        file.write("X")
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
    assert f"other contents than before the run: {path}" in frugal("verify", code=1).stdout
    told = json.loads(frugal("verify", "--format", "json", code=1).stdout)
    assert told["read"] == 2 and told["differences"][0]["how"] == "other contents than before the run"
    (ready_state_folder() / "digests/run-1.json").write_text("{")
    assert "digests/run-1.json: cannot be read" in frugal("verify", "1", code=2).stderr


def test_a_run_is_verified_against_the_disk(folder: Path, frugal: Frugal) -> None:
    for name in ("a.log", "b.log", "c.log", "d.log", "t.tmp", "x.del"):
        put(folder / "Intake" / name, name)
    put(folder / "rules.toml", rules_text(
        'where = "ext is log"\nmove = "L"', 'where = "ext is tmp"\ntrash = true', 'where = "ext is del"\ndelete = true'
    ))  # fmt: skip
    frugal("tidy", "rules.toml", "--yes")
    assert "checked 6 changes" in frugal("verify").stdout and "everything is where it was put" in frugal("verify", "1").stdout
    logs = folder / "Intake/L"
    (logs / "a.log").write_text("changed")
    (logs / "b.log").unlink()
    (logs / "c.log").rename(logs / "c2.log")
    put(logs / "c.log", "another")
    said = frugal("verify", code=1).stdout
    assert f"changed since: {logs}/a.log\nmissing: {logs}/b.log\nanother file is in its place: {logs}/c.log\n" in said
    assert "3 are not as the run left them" in said
    # What a later run moved on is no difference.
    put(folder / "rules.toml", rules_text('in = "Intake/L"\nwhere = "stem is d"\nmove = "D"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "1 of them were moved on by later runs" in frugal("verify", "1", code=1).stdout.replace(
        "1 of them was", "1 of them were"
    )
    frugal("undo", "2", "--yes")
    assert "was undone by run 3" in frugal("verify", "2", code=2).stderr


def test_an_error_about_one_entry_leaves_the_rest_of_an_undo(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in "abc":
        put(folder / f"Intake/{name}.log", name)
    carry_out(plan_of(book_of(folder, 'where = "ext is log"\nmove = "Logs"')))

    def fail(planner: _UndoPlanner, step: Step) -> VerbName:
        if step.place.name == "b.log":
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        return kind_of_move(planner, step)

    kind_of_move = _UndoPlanner._kind_of_move
    monkeypatch.setattr(_UndoPlanner, "_kind_of_move", fail)
    with changing(ready_state_folder(), "test") as journal:
        plan = plan_undo(journal, run_to_undo(journal, None), NOW_NS)
    assert [left.place.name for left in plan.not_touched] == ["b.log"] and plan.has_problem
    assert {step.place.name for step in plan.asked} == {"a.log", "c.log"}
