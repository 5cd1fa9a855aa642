from __future__ import annotations

import json
import os
import sqlite3
from pathlib import Path

import pytest

from frugal_sorter.errors import FrugalError, StateError, UsageError
from frugal_sorter.execution.earlier_runs import about
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import load_plan
from frugal_sorter.reasons import Outcome
from frugal_sorter.state import PARTS, Reserve, ready_state_folder
from tests.conftest import IS_ROOT, Frugal
from tests.support import book_of, carry_out, plan_of, put, rules_text, snapshot, trash_of, undo

RULES = rules_text(
    'where = "ext is log"\nmove = "Logs"',
    'where = "ext is tmp"\ntrash = true',
    'where = "ext is csv"\nmove = "T"\nclash = "replace"',
)


@pytest.fixture
def intake(folder: Path) -> Path:
    for name in ("a.log", "b.log", "x.tmp", "p.csv", "T/p.csv"):
        put(folder / "Intake" / name, name)
    put(folder / "rules.toml", RULES)
    return folder / "Intake"


def test_a_saved_plan_is_carried_out_without_the_lines_that_were_deleted(intake: Path, frugal: Frugal, own_home: Path) -> None:
    frugal("preview", "rules.toml", "--save", "later.plan")
    plan = intake.parent / "later.plan"
    assert plan.stat().st_mode & 0o777 == 0o600
    lines = plan.read_text().splitlines()
    # Without b.log, and without one half of a group, which takes the other half with it.
    plan.write_text("\n".join(line for line in lines if "b.log" not in line and '"trash"' not in line) + "\n")
    put(intake / "new.log")
    said = frugal("tidy", "--plan", "later.plan", "--yes").stdout
    assert "1 file moved." in said and sorted(os.listdir(intake)) == ["Logs", "T", "b.log", "new.log", "p.csv", "x.tmp"]
    assert not trash_of(own_home)
    frugal("undo", "--yes")
    assert (intake / "a.log").exists()


def test_steps_that_became_stale_are_skipped(intake: Path, frugal: Frugal) -> None:
    frugal("preview", "rules.toml", "--save", "later.plan")
    put(intake / "a.log", "written to since")
    said = frugal("tidy", "--plan", "later.plan", "--yes", code=1).stdout
    assert "skipped  a.log → Logs/a.log: changed since the plan was made" in said and (intake / "Logs/b.log").exists()


def test_steps_can_be_left_out_by_number_and_for_good(intake: Path, frugal: Frugal) -> None:
    steps = json.loads(frugal("preview", "rules.toml", "--format", "json").stdout)["steps"]
    (number,) = [step["number"] for step in steps if step["source"] and step["source"].endswith("a.log")]
    said = frugal("preview", "rules.toml", "--without", number, "--save", "later.plan").stdout
    pasted = said[said.index("[[rule]]") :]
    put(intake.parent / "rules.toml", "frugal = 1\n" + pasted.replace("\n  ", "\n") + RULES.removeprefix("frugal = 1"))
    assert "a.log" not in json.dumps(json.loads(frugal("preview", "rules.toml", "--format", "json").stdout)["steps"])
    frugal("tidy", "--plan", "later.plan", "--yes")
    assert (intake / "a.log").exists() and not (intake / "b.log").exists()
    frugal("preview", "rules.toml", "--without", "999", code=2)


@pytest.mark.parametrize(
    ("change", "where", "what"),
    [
        (lambda head, steps: ("not json", steps), ":1:", "not a frugal plan"),
        (lambda head, steps: ({**head, "frugal-plan": 9}, steps), ":1:", "format 9"),
        (lambda head, steps: ({**head, "machine": "another"}, steps), ":1:", "another machine"),
        (lambda head, steps: ({**head, "kind": "undo"}, steps), ":1:", "not kept in a file"),
        (lambda head, steps: (head, [{**steps[0], "verb": "burn"}, *steps[1:]]), ":2:", "unknown verb 'burn'"),
        (lambda head, steps: (head, [steps[0], {**steps[1], "source": "../x"}]), ":3:", "not an absolute path"),
        (lambda head, steps: (head, [steps[0], {**steps[1], "was": [1]}]), ":3:", "damaged"),
    ],
)
def test_a_damaged_plan_is_refused_with_its_line(intake: Path, frugal: Frugal, change: object, where: str, what: str) -> None:
    frugal("preview", "rules.toml", "--save", "later.plan")
    plan = intake.parent / "later.plan"
    head, *steps = map(json.loads, plan.read_text().splitlines())
    new_head, new_steps = change(head, steps)  # type: ignore[operator]
    plan.write_text("\n".join(json.dumps(one) if not isinstance(one, str) else one for one in (new_head, *new_steps)))
    before = snapshot(intake)
    error = frugal("tidy", "--plan", "later.plan", "--yes", code=2).stderr
    assert where in error and what in error and snapshot(intake) == before


VALUES: tuple[object, ...] = (
    None,
    True,
    -1,
    1 << 70,
    1.5,
    "",
    "x",
    "\ud800",
    "/",
    [],
    [[]],
    [None],
    {},
    {"a": []},
    {"/srv": 1 << 70},
    float("nan"),
)


def test_whatever_stands_in_a_line_it_is_read_or_refused_in_one_line(intake: Path, frugal: Frugal) -> None:
    frugal("preview", "rules.toml", "--save", "later.plan")
    plan = intake.parent / "later.plan"
    lines = [json.loads(line) for line in plan.read_text().splitlines()]
    refused = 0
    for number, line in enumerate(lines):
        for key in line:
            for value in VALUES:
                changed = [*lines[:number], {**line, key: value}, *lines[number + 1 :]]
                plan.write_text("\n".join(map(json.dumps, changed)))
                try:
                    load_plan(plan)
                except FrugalError as error:
                    assert str(plan) in error.message and error.hint
                    refused += 1
    assert refused > 100


@pytest.mark.parametrize(
    ("verb", "source", "target", "why"),
    [
        ("move", "/etc/hostname", None, "system folder"),
        ("delete", "/usr/bin/env", None, "system folder"),
        ("trash", None, "/tmp/no-trash/files/x", "not a trash folder of this account"),
        ("restore", None, None, 'cannot contain a "restore" step'),
    ],
)
def test_a_plan_is_guarded_again_when_it_is_carried_out(
    intake: Path, frugal: Frugal, verb: str, source: str | None, target: str | None, why: str
) -> None:
    frugal("preview", "rules.toml", "--save", "later.plan")
    plan = intake.parent / "later.plan"
    head, *steps = map(json.loads, plan.read_text().splitlines())
    step = next(step for step in steps if step["verb"] == "move")
    step |= {"verb": verb} | ({"source": source} if source else {}) | ({"target": target} if target else {})
    if verb == "delete":
        del step["target"]
    plan.write_text("\n".join(map(json.dumps, (head, step))))
    before = snapshot(intake)
    assert why in frugal("tidy", "--plan", "later.plan", "--yes", code=3).stdout and snapshot(intake) == before


def test_a_plan_that_others_can_write_is_refused_and_so_are_folders_of_the_system(intake: Path, frugal: Frugal) -> None:
    frugal("preview", "rules.toml", "--save", "later.plan")
    plan = intake.parent / "later.plan"
    plan.chmod(0o666)
    assert "other" in frugal("tidy", "--plan", "later.plan", "--yes", code=2).stderr
    plan.chmod(0o600)
    was = ["folder", 1, 1, 0, 0, None]
    more = [
        {"id": 98, "verb": "remove-folder", "source": "/usr/share/frugal-test-folder", "was": was},
        {"id": 99, "verb": "make-folder", "target": "/usr/share/frugal-test-folder"},
    ]
    plan.write_text(plan.read_text() + "".join(f"{json.dumps(one)}\n" for one in more))
    assert "system folder" in frugal("tidy", "--plan", "later.plan", "--yes", code=3).stdout
    assert not Path("/usr/share/frugal-test-folder").exists() and (intake / "Logs/a.log").exists()


def test_undo_takes_back_only_what_is_named(intake: Path, frugal: Frugal) -> None:
    frugal("tidy", "rules.toml", "--yes")
    frugal("undo", "--only", "Intake/a.log", "Intake/T", "--yes")
    assert (intake / "a.log").exists() and not (intake / "b.log").exists()
    assert (intake / "T/p.csv").read_text() == "T/p.csv" and (intake / "p.csv").read_text() == "p.csv"
    frugal("undo", "1", "--yes")
    assert sorted(path.name for path in intake.iterdir()) == ["T", "a.log", "b.log", "p.csv", "x.tmp"]


def test_history_says_where_a_file_went(intake: Path, frugal: Frugal) -> None:
    frugal("tidy", "rules.toml", "--yes")
    frugal("undo", "--only", "Intake/a.log", "--yes")
    said = frugal("history", "--file", "a.log").stdout.splitlines()
    assert len(said) == 2 and "moved" in said[0] and said[1].endswith("Logs/a.log → " + str(intake / "a.log"))
    steps = json.loads(frugal("history", "--file", "Intake/x.tmp", "--format", "json").stdout)["steps"]
    assert [(step["run"], step["verb"], step["outcome"]) for step in steps] == [(1, "trash", "done")]
    assert "No run changed" in frugal("history", "--file", "nothing").stdout


def test_the_trash_is_listed_and_gives_back(intake: Path, frugal: Frugal) -> None:
    assert frugal("trash").stdout == "The trash is empty.\n"
    frugal("tidy", "rules.toml", "--yes")
    said = frugal("trash").stdout
    assert "Intake/x.tmp" in said and "2 files" in said
    put(intake / "x.tmp", "not be undone yet. When the problems above are solved")
    assert "another file is now at" in frugal("trash", "--restore", "x.tmp", "--yes", code=1).stdout
    (intake / "x.tmp").unlink()
    assert "restored from the trash" in frugal("trash", "--restore", "Intake/x.tmp", "--yes").stdout
    assert (intake / "x.tmp").read_text() == "x.tmp"
    frugal("undo", "--yes")
    assert not (intake / "x.tmp").exists()
    frugal("trash", "--restore", "nothing", "--yes", code=2)
    assert {one["id"] for one in json.loads(frugal("trash", "--format", "json").stdout)["trash"]} == {"x.tmp", "p.csv"}


def test_settings_and_the_log(intake: Path, frugal: Frugal, own_home: Path) -> None:
    frugal("tidy", "rules.toml", "--yes")
    (log,) = own_home.glob(".local/state/frugal-sorter/*/frugal.log")
    assert "run 1 begins: tidy" in log.read_text() and log.stat().st_mode & 0o777 == 0o600
    settings = put(own_home / ".config/frugal-sorter/settings.toml", 'log = "off"')
    size = log.stat().st_size
    frugal("undo", "--yes")
    assert log.stat().st_size == size
    for text, why in (('log = "loud"', ": 'loud'"), ("colour = 1", "unknown setting `colour`"), ("log =", "cannot be read")):
        settings.write_text(text)
        assert why in frugal("tidy", "rules.toml", "--yes", "--again", code=2).stderr


@pytest.mark.parametrize(("version", "why"), [(3, "of an older form"), (99, "of a newer version")])
def test_a_journal_of_another_form_is_refused_with_its_remedy(folder: Path, version: int, why: str) -> None:
    put(folder / "Intake/a.log")
    carry_out(plan_of(book_of(folder, 'where = "everything"\nmove = "Logs"')))
    path = ready_state_folder() / "journal.sqlite"
    with sqlite3.connect(path) as db:
        db.execute(f"PRAGMA user_version = {version}")
    db.close()
    with pytest.raises(StateError, match=why) as refused:
        undo()
    assert refused.value.hint and (folder / "Intake/Logs/a.log").exists()
    # The numbers of runs go on where the journal is set aside as it is advised.
    path.rename(path.with_suffix(".old"))
    put(folder / "Intake/b.log")
    assert carry_out(plan_of(book_of(folder, 'where = "ext is log"\nmove = "Logs"'))).run == 2


def test_a_run_of_many_blocks_is_read_as_it_was_written(folder: Path) -> None:
    for number in range(2_345):
        put(folder / f"Intake/{number % 7}/piece {number} \udcff ü.log")
    result = carry_out(plan_of(book_of(folder, 'levels = "all"\nwhere = "ext is log"\nmove = "Logs"')))
    with Journal(ready_state_folder(), write=False) as journal:
        steps = list(journal.steps(result.run))
        assert [step.id for step, _ in steps] == list(range(1, len(steps) + 1)) and result.done.steps == 2_345
        assert {mark.outcome for _, mark in steps if mark} == {Outcome.DONE} and all(mark for _, mark in steps)
        name = "piece 1234 \udcff ü.log"
        assert [step.target and step.target.name for _, step, _ in about(journal, name)] == [name]
        assert about(journal, str(folder / "Elsewhere" / name)) == []
    assert undo().done.steps == 2_345


def test_old_runs_are_forgotten_but_not_those_with_something_in_the_trash(folder: Path) -> None:
    for name, rule in (("a.log", 'where = "everything"\nmove = "Logs"'), ("b.tmp", 'where = "ext is tmp"\ntrash = true')):
        put(folder / "Intake" / name)
        carry_out(plan_of(book_of(folder, rule)))
    with Journal(ready_state_folder(), write=True) as journal:
        now_ns, day_ns = journal._file.read("SELECT believed_ns FROM clock")[0][0], 86_400_000_000_000

        def forgets(day: int) -> list[int]:
            journal.believe(now_ns + day * day_ns, lambda: False)
            return journal.forget(400 * day_ns)

        # A clock that jumped forgets nothing, on however many days: nobody saw so much time pass.
        assert [forgets(day) for day in (0, 5_000, 5_001, 5_002, 2, 3)] == [[]] * 6
        assert {day: gone for day in range(4, 420) if (gone := forgets(day))} == {401: [1]}
        assert [run.id for run in journal.runs()] == [2]
        with pytest.raises(UsageError, match=r"run 1 was forgotten on 20"):
            journal.run(1)
        folders = [os.fsdecode(path) for (path,) in journal._file.read("SELECT path FROM folders")]
        assert str(folder / "Intake/Logs") not in folders and str(folder / "Intake") in folders


def test_the_reserve_is_kept_released_and_kept_again(folder: Path) -> None:
    reserve = Reserve(folder)
    reserve.keep()
    assert len(os.listdir(folder)) == PARTS and all(path.stat().st_size for path in folder.iterdir())
    assert reserve.release() and not os.listdir(folder) and not reserve.release()


@pytest.mark.skipif(not IS_ROOT, reason="only root can act as another account")
def test_root_can_act_as_another_account_and_then_can_do_no_more_than_it(folder: Path, frugal: Frugal) -> None:
    put(folder / "rules.toml", RULES)
    put(folder / "Intake/a.log")
    assert (
        "no account named 'nobody-of-that-name'"
        in frugal("tidy", "rules.toml", "--for", "nobody-of-that-name", "--yes", code=2).stderr
    )
    done = frugal("history", "--for", "nobody", code=2)
    assert "state folder cannot be made" in done.stderr or "cannot" in done.stderr
