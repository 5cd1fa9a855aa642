"""Steps are taken out of a plan by what a person sees: numbers, paths, folders, wildcards, or in an editor."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from frugal_sorter.errors import UsageError
from frugal_sorter.planning.plan import struck_lines
from tests.conftest import Frugal
from tests.support import aged, on_terminal, put, rules_text, snapshot

NAMES = ("a.log", "b.log", "c.csv", "d.csv", "sub/e.log", "sub/f.csv", "3.log", "g[1].log")
RULES = rules_text(
    'where = "ext is log"\nmove = "{F}/Logs"\nlevels = "all"', 'where = "ext is csv"\ntrash = true\nlevels = "all"'
)
# Each way in, and the verb of its steps.
JOBS = {
    "preview": ["preview", "rules.toml"],
    "tidy": ["tidy", "rules.toml"],
    "sort": ["sort", "Intake", "--into", "{ext}", "--levels", "all"],
    "purge": ["purge", "Intake", "--older-than", "1d", "--by", "modified", "--levels", "all"],
    "gather": ["gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--move"],
    "duplicates": ["duplicates", "Intake", "--do", "trash", "--keep", "shortest-path"],
}


@pytest.fixture
def intake(folder: Path) -> Path:
    for name in NAMES:
        put(folder / "Intake" / name, "clay" if name in ("a.log", "b.log", "sub/e.log") else name)
    put(folder / "rules.toml", RULES.replace("{F}", str(folder)))
    put(folder / "list.txt", "\n".join(NAMES))
    return folder / "Intake"


def left(intake: Path) -> set[str]:
    return {name for name in NAMES if (intake / name).exists()}


@pytest.mark.parametrize("job", [job for job in JOBS if job != "preview"])
@pytest.mark.parametrize(("words", "stays"), [
    (["Intake/b.log"], {"b.log"}), (["b.log"], {"b.log"}), (["Intake/sub"], {"sub/e.log", "sub/f.csv"}), (["sub"], {"sub/e.log", "sub/f.csv"}),
    (["*.LOG"], {"a.log", "b.log", "sub/e.log", "3.log", "g[1].log"}), (["Intake/*.log"], {"a.log", "b.log", "3.log", "g[1].log"}),
    (["./Intake/3.log", "b.log"], {"3.log", "b.log"}), (["g[1].log"], {"g[1].log"}),
])  # fmt: skip
def test_what_is_named_stays_and_nothing_else_does(
    intake: Path, frugal: Frugal, job: str, words: list[str], stays: set[str]
) -> None:
    known = left(intake)
    if job == "duplicates":
        # Of the three that hold the same only two go.
        stays = stays & {"b.log", "sub/e.log"}
        known = {"b.log", "sub/e.log"}
        if not stays or "3.log" in " ".join(words) or words == ["g[1].log"]:
            assert "matches nothing in the list" in frugal(*JOBS[job], "--without", *words, "--yes", code=2).stderr
            return
    assert stays <= known
    frugal(*JOBS[job], "--without", *words, "--yes")
    others = set(NAMES) - known
    assert left(intake) == stays | others


LISTED = re.compile(r"^ +(\d+)  (?:\d{4}-\d\d-\d\d .* B  )?(\S+)", re.MULTILINE)


def listed(said: str) -> dict[int, str]:
    """Return what a list on a terminal calls by a number."""
    return {int(number): name for number, name in LISTED.findall(re.sub(r"\x1b\[[\d;]*m", "", said))}


@pytest.mark.parametrize("job", JOBS)
def test_numbers_are_those_of_the_list_on_a_terminal(intake: Path, frugal: Frugal, job: str) -> None:
    words = [*JOBS[job], "--list-all"]
    before = listed(on_terminal(intake.parent, *words, answers="no")[1])
    assert list(before) == list(range(1, len(before) + 1)) and len(before) == (2 if job == "duplicates" else len(NAMES))
    _, said = on_terminal(intake.parent, *words, "--without", "2", answers="no")
    assert "left out by --without" in said
    # What stays in the list is called as before.
    assert listed(said) == {number: name for number, name in before.items() if number != 2}


@pytest.mark.parametrize("word", ["0", "9", "3-99", "3-2", "nothing.log", "", "*.xyz", "Intake/nothing/*"])
def test_what_the_list_does_not_show_is_refused(intake: Path, frugal: Frugal, word: str) -> None:
    before = snapshot(intake)
    assert "frugal: --without" in frugal("preview", "rules.toml", "--without", word, code=2).stderr
    assert snapshot(intake) == before


def test_a_number_needs_a_list_that_a_person_sees(intake: Path, frugal: Frugal) -> None:
    before = snapshot(intake)
    assert "because nobody sees the list" in frugal("tidy", "rules.toml", "--without", "1", "--yes", code=2).stderr
    assert snapshot(intake) == before


@pytest.mark.parametrize("job", [job for job in JOBS if job != "preview"])
def test_a_saved_plan_of_each_kind_does_later_what_it_would_have_done(
    intake: Path, frugal: Frugal, job: str, own_home: Path
) -> None:
    before = snapshot(intake)
    said = frugal(*JOBS[job], "--save", "later.plan", "--without", "b.log").stdout
    assert "nothing else was changed" in said and snapshot(intake) == before
    frugal("tidy", "--plan", "later.plan", "--yes")
    assert "b.log" in left(intake) and len(left(intake)) < len(NAMES)
    kind = json.loads(frugal("history", "--format", "json").stdout)["runs"][-1]["kind"]
    assert kind == job
    frugal("undo", "--yes")
    assert {path: seen._replace(mtime_ns=0) for path, seen in snapshot(intake).items()} == {
        path: seen._replace(mtime_ns=0) for path, seen in before.items()
    }


def test_rules_that_leave_for_good_what_was_left_out_do(intake: Path, frugal: Frugal) -> None:
    for words in (["1-3,5"], ["Intake/sub"], ["*.log"], ["g[1].log", "sub/f.csv"]):
        said = frugal("preview", "rules.toml", "--without", *words).stdout
        pasted = said[said.index("  [[rule]]") : said.rindex("leave = true") + 12].replace("\n  ", "\n")
        rules = put(
            intake.parent / "more.toml", RULES.replace("{F}", str(intake.parent)).replace("[[rule]]", pasted + "\n[[rule]]", 1)
        )
        frugal("check", rules)
        chosen, ruled = (
            {
                step["source"]
                for step in json.loads(frugal("preview", *with_, "--format", "json").stdout)["steps"]
                if step["source"]
            }
            for with_ in (["rules.toml", "--without", *words], [rules])
        )
        assert chosen == ruled, words


# In an editor


def with_editor(folder: Path, script: str) -> dict[str, str]:
    editor = put(folder / "editor.sh", f"#!/bin/sh\n{script}\n")
    editor.chmod(0o755)
    return {"EDITOR": str(editor), "VISUAL": ""}


@pytest.mark.parametrize("job", [job for job in JOBS if job != "preview"])
def test_what_is_struck_in_the_editor_stays(intake: Path, frugal: Frugal, job: str, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in with_editor(intake.parent, 'sed -i "/b.log/d" "$1"').items():
        monkeypatch.setenv(name, value)
    frugal(*JOBS[job], "--edit", "--yes")
    assert "b.log" in left(intake) and len(left(intake)) < len(NAMES)


@pytest.mark.parametrize(("script", "code", "told"), [
    ('sed -i "s/b.log/z.log/" "$1"', 2, "was edited"), ("exit 7", 2, "exited with 7"), ('echo "9  move x" >> "$1"', 2, "was edited"),
    ('rm "$1"', 2, "cannot read the edited plan"), (': > "$1"', 3, "Nothing was changed"), ('cat "$1" "$1" > x; cp x "$1"', 2, "appears twice"),
])  # fmt: skip
def test_anything_else_in_the_editor_is_refused(
    intake: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch, script: str, code: int, told: str
) -> None:
    for name, value in with_editor(intake.parent, script).items():
        monkeypatch.setenv(name, value)
    before = snapshot(intake)
    done = frugal("tidy", "rules.toml", "--edit", "--yes", code=code)
    assert told in done.stdout + done.stderr and snapshot(intake) == before


def test_a_person_edits_at_the_question_as_often_as_they_like(intake: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in with_editor(intake.parent, 'sed -i "0,/^ *[0-9]/{/^ *[0-9]/d}" "$1"').items():
        monkeypatch.setenv(name, value)
    code, said = on_terminal(intake.parent, "tidy", "rules.toml", answers="edit\nedit\nyes")
    assert code == 0 and said.count("Left out 1 change") == 2 and len(left(intake)) == 2


LINES = [f"{number:>2}  move        glaze {number}.log → Logs" for number in range(1, 6)]


@given(st.lists(st.sampled_from([*LINES, "# a note", "", "  ", "#" + LINES[0], LINES[1] + "  "]), max_size=8), st.booleans())
def test_lines_that_are_there_are_the_plan_without_the_others(chosen: list[str], dos: bool) -> None:
    text = ("\r\n" if dos else "\n").join(chosen)
    there = [line.rstrip() for line in chosen if line.rstrip() in LINES]
    if len(set(there)) < len(there):
        with pytest.raises(UsageError, match="appears twice"):
            struck_lines(LINES, text)
    else:
        assert struck_lines(LINES, text) == {at for at, line in enumerate(LINES) if line not in there}


@given(st.text(max_size=80))
@example("\ufeff" + LINES[0])
@example(LINES[0].lstrip())
def test_any_other_text_is_refused_or_says_nothing(text: str) -> None:
    try:
        struck = struck_lines(LINES, text)
    except UsageError as wrong:
        assert wrong.message.startswith("line ") and wrong.hint
    else:
        lines = [line.rstrip() for line in text.removeprefix("\ufeff").replace("\r\n", "\n").split("\n")]
        assert {LINES[at] for at in struck} == {line for line in LINES if line not in lines}


def test_numbers_of_many_steps_take_a_straight_line(folder: Path, frugal: Frugal) -> None:
    for number in range(3_000):
        os.close(os.open(put(folder / "Intake/x", "").parent / f"{number}.log", os.O_CREAT))
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    said = json.loads(frugal("preview", "rules.toml", "--without", "2-2999", "--format", "json").stdout)
    assert len([step for step in said["steps"] if step["verb"] == "move"]) == 2


@pytest.mark.parametrize(
    "words",
    [
        ("tidy", "rules.toml"), ("purge", "Intake", "--older-than", "30d", "--by", "modified"), ("sort", "Intake", "--into", "{ext}"),
        ("duplicates", "Intake", "--do", "trash"), ("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out"),
        ("undo",), ("trash", "--older-than", "0 seconds"), ("trash", "--restore", "Intake/gone.txt"),
        ("leftovers", "glaze-calculator", "--do", "trash"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("option", ["--dry-run", "-n"])
def test_a_dry_run_of_any_job_lists_and_changes_nothing(
    folder: Path, own_home: Path, frugal: Frugal, words: tuple[str, ...], option: str
) -> None:
    for name in ("a.log", "b.log", "gone.txt"):
        aged(folder / "Intake" / name, 100)
    put(own_home / ".config/glaze-calculator/settings")
    put(folder / "list.txt", "a.log\n")
    frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--where", "ext is txt", "--yes")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"\nask = true'))
    before, runs = (snapshot(folder), snapshot(own_home / ".config")), frugal("history").stdout
    said = frugal(*words, option).stdout
    assert "This would" in said and "Nothing was changed (--dry-run)." in said
    # Nor is it a run.
    assert (snapshot(folder), snapshot(own_home / ".config")) == before and frugal("history").stdout == runs
