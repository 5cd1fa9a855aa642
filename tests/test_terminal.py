"""How much is printed: short on a terminal, whole where it is piped; and what is answered to a question."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from frugal_sorter.cli.output import screen as progress
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import _PIECE, columns, wrapped
from frugal_sorter.platforms import console
from frugal_sorter.reasons import NotDone, Why
from frugal_sorter.steps.archives import Pack
from tests.conftest import Frugal, in_this_process
from tests.support import aged, on_terminal, put, rules_text

FILES = 60
DAY = 86_400


@pytest.fixture
def full(folder: Path) -> Path:
    for number in range(FILES):
        path = put(folder / f"Intake/kiln {number:03}.log", f"glaze {number % 5}")
        os.utime(path, (time.time() - 90 * DAY,) * 2)
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    return folder


def named(text: str) -> int:
    return len({name for name in text.split() if name.endswith(".log")})


LISTING = [
    ["preview", "rules.toml"],
    ["tidy", "rules.toml"],
    ["purge", "Intake", "--older-than", "30d", "--by", "modified"],
    ["duplicates", "Intake", "--do", "trash", "--keep", "oldest"],
]


@pytest.mark.parametrize("words", LISTING, ids=lambda words: words[0])
def test_a_long_list_is_short_on_a_terminal_and_whole_elsewhere(words: list[str], full: Path, frugal: Frugal) -> None:
    code = 0 if words[0] == "preview" else 3
    going = FILES - 5 if words[0] == "duplicates" else FILES
    _, shown = on_terminal(full, *words, answers="n\n")
    assert "more (--list-all shows all)" in shown
    assert len(shown.splitlines()) < 35 and named(shown) < 15
    piped = frugal(*words, code=code).stdout
    assert named(piped) >= going and "between these" not in piped
    assert named(on_terminal(full, *words, "--list-all", answers="n\n")[1]) >= going
    assert "more (--list-all shows all)" in frugal(*words, "--short", code=code).stdout
    assert "not allowed with" in frugal(*words, "--short", "--list-all", code=2).stderr


def test_what_is_done_and_taken_back_is_short_on_a_terminal_too(full: Path, frugal: Frugal) -> None:
    code, shown = on_terminal(full, "tidy", "rules.toml", "--yes")
    assert code == 0 and f"{FILES} files moved." in shown and "moved    60 files  . → Logs" in shown and not named(shown)
    assert len(shown.splitlines()) < 25
    assert named(frugal("history", "1").stdout) == FILES
    code, shown = on_terminal(full, "undo", answers="y\n")
    assert code == 0 and len(shown.splitlines()) < 45 and f"{FILES} files moved." in shown


def test_where_output_is_piped_every_step_is_named_and_nothing_is_said_to_be_left_out(full: Path, frugal: Frugal) -> None:
    for words in (["tidy", "rules.toml", "--yes"], ["undo", "--yes"], ["tidy", "rules.toml", "--yes", "--again", "--list-all"]):
        said = frugal(*words).stdout
        assert named(said) >= FILES and "--list-all shows all" not in said


def test_a_line_that_is_printed_does_not_run_into_the_one_that_tells_how_far_it_has_got(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Problems are named at once, amid thousands of steps that are only counted."""
    written = io.StringIO()
    monkeypatch.setattr(written, "isatty", lambda: True)
    monkeypatch.setattr(progress, "raw", lambda _: written)
    monkeypatch.setattr(progress, "_AFTER_SECONDS", 0.0)
    screen = Screen(short=True)
    with progress.Progress("steps done") as screen.progress:
        screen.progress.update(12)
        assert written.getvalue() == "\r12 steps done"
        screen.line("failed   a.log: no permission")
        assert written.getvalue() == "\r12 steps done\r" + " " * 13 + "\r"
        screen.line("failed   b.log: no permission")
    assert written.getvalue().count("\r") == 3
    assert capsys.readouterr().out.count("no permission") == 2


def test_it_says_how_much_of_how_much_is_done_and_how_long_the_rest_will_take(monkeypatch: pytest.MonkeyPatch) -> None:
    written = io.StringIO()
    monkeypatch.setattr(written, "isatty", lambda: True)
    monkeypatch.setattr(progress, "raw", lambda _: written)
    clock = iter([0.0, 0.5, 20.0, 30.0, 30.1, 500.0, 501.0])
    monkeypatch.setattr(time, "monotonic", lambda: next(clock))
    line = progress.Progress("checked")
    for count, of in ((1, 100), (6_342, 100_000), (12_684, 100_000), (12_700, 100_000), (50_000, 100_000), (60_000, 0)):
        line.update(count, of)
    assert [part.strip() for part in written.getvalue().split("\r") if part.strip()] == [
        "6,342 of 100,000 checked (6%)",
        "12,684 of 100,000 checked (13%, about 69 s left)",
        "50,000 of 100,000 checked (50%, about 8 min left)",
        "60,000 checked",
    ]


def test_what_is_left_alone_is_short_where_nothing_is_to_be_done(full: Path, frugal: Frugal) -> None:
    frugal("tidy", "rules.toml", "--yes")
    frugal("undo", "--yes")
    _, shown = on_terminal(full, "preview", "rules.toml", columns=100)
    assert "60 files: undone by run 2" in shown and named(shown) == 6


def test_a_person_who_agreed_rule_by_rule_is_not_asked_again(full: Path) -> None:
    put(full / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"\nask = true'))
    code, shown = on_terminal(full, "tidy", "rules.toml", answers="y\n")
    assert code == 0 and f"{FILES} files moved." in shown and shown.count("[yes/no") == 1
    assert named(shown) == 6, "listed once, and short"


def test_a_chart_of_a_name_that_none_can_have_is_refused_before_anything_is_counted(full: Path, frugal: Frugal) -> None:
    for command in ("inventory", "forecast"):
        refused = frugal(command, "Intake", "--chart", "x.gif", code=2)
        assert not refused.stdout and "must end in .png, .svg, .pdf" in refused.stderr


def test_what_a_question_does_not_list_is_shown_in_the_pager(full: Path) -> None:
    words = ["purge", "Intake", "--older-than", "30d", "--by", "modified", "--permanent"]
    _, shown = on_terminal(full, *words, answers="n\n")
    assert "54 entries are not listed above; l lists all." in shown
    code, shown = on_terminal(full, *words, answers="l\nn\n", PAGER="cat")
    assert code == 3 and named(shown) == FILES and shown.count("[yes/no/edit/list]") == 2
    assert "  33  " in shown, "with its number, to leave it out"
    _, shown = on_terminal(full, *words, "--list-all", answers="n\n")
    assert "not listed" not in shown and "[yes/no/edit]" in shown


def test_many_groups_are_short_too(folder: Path) -> None:
    for number in range(40):
        for name in "abcde":
            put(folder / f"Intake/{number:02}/{name}.log", "x")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nlevels = 2\nmove = "{folder} logs"'))
    _, shown = on_terminal(folder, "preview", "rules.toml")
    assert "36 more folders" in shown and len(shown.splitlines()) < 35


def test_what_was_not_done_for_one_reason_is_shown_a_few_times_and_counted(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object) -> None:
        raise NotDone(Why.ZIP_NOT_AS_WRITTEN())

    for number in range(40):
        put(folder / f"Intake/{number:02}.log", "x")
    put(folder / "rules.toml", rules_text('where = "ext is log"\npack = "all.zip"'))
    monkeypatch.setattr(Pack, "_read_back", refuse)
    said = in_this_process(["tidy", "rules.toml", "--yes", "--short"], folder, {}, 1).stdout
    assert said.count("a related change was not made") == 7 and "… 34 more: not done, because" in said
    assert "41 failed" in said and len(list((folder / "Intake").iterdir())) == 40
    said = in_this_process(["tidy", "rules.toml", "--yes"], folder, {}, 1).stdout
    assert said.count("a related change was not made") == 40
    monkeypatch.setattr(console, "is_terminal", lambda stream: stream is sys.stdout)
    said = in_this_process(["tidy", "rules.toml", "--yes"], folder, {}, 1).stdout
    assert said.count("a related change was not made") == 7, "on a terminal, since not all would fit"


def test_a_short_list_is_whole_on_a_terminal(folder: Path) -> None:
    for name in "abcdefg":
        put(folder / f"Intake/{name}.log", "x")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    _, shown = on_terminal(folder, "preview", "rules.toml")
    assert named(shown) == 7 and "between these" not in shown


def test_with_a_way_to_choose_duplicates_ask_once(full: Path) -> None:
    code, shown = on_terminal(full, "duplicates", "Intake", "--do", "trash", "--keep", "oldest", answers="y\n")
    assert code == 0 and shown.count("[yes/no/edit/list]") == 1 and "Keep which one?" not in shown
    assert len(list((full / "Intake").iterdir())) == 5
    assert shown.count("the same as") < 15  # listed once, and short


def test_without_one_each_group_is_asked_for(full: Path) -> None:
    _, shown = on_terminal(full, "duplicates", "Intake", "--do", "trash", answers="q\n")
    assert "Keep which one?" in shown and "Group 1 of 5" in shown and len(list((full / "Intake").iterdir())) == FILES


@pytest.mark.parametrize(("answer", "goes", "told"), [
    ("y", True, ""), ("YES", True, ""), ("n", False, ""), ("no", False, ""), ("", False, "No answer"),
    ("ja", False, "`ja` is not an answer"), ("yess", False, "`yess` is not an answer"),
])  # fmt: skip
def test_what_is_no_answer_is_named(answer: str, goes: bool, told: str, full: Path) -> None:
    code, shown = on_terminal(full, "tidy", "rules.toml", answers=f"{answer}\n")
    assert (code == 0) is goes and (full / "Intake/Logs").exists() is goes
    assert told in shown and ("not understood" in shown) is ("understood" in told)


def test_the_story_fits_a_few_screens(frugal: Frugal) -> None:
    said = frugal("demo").stdout
    assert len(said.splitlines()) <= 120 and said.count("\n$ frugal ") == 6


@pytest.mark.parametrize("words", [
    ["inventory"], ["inventory", "--listing"], ["forecast"], ["duplicates"], ["explain", "--rules", "../rules.toml"],
])  # fmt: skip
def test_commands_that_only_read_look_at_the_current_folder(words: list[str], full: Path) -> None:
    run = [sys.executable, "-m", "frugal_sorter", *words]
    here = subprocess.run(run, cwd=full / "Intake", capture_output=True, text=True, check=False)
    named_ = subprocess.run([*run[:4], ".", *run[4:]], cwd=full / "Intake", capture_output=True, text=True, check=False)
    # How much is free may change from one look to the next, and a command is told as it was typed.
    told = [[line for line in done.stdout.splitlines() if not line.startswith(("Free: ", "To move "))] for done in (here, named_)]
    assert here.returncode == 0 and told[0] == told[1] != []


@pytest.mark.parametrize("words", [["duplicates", "--do", "trash"], ["duplicates", "--unmark"]])
def test_commands_that_change_something_want_their_folder_named(words: list[str], full: Path, frugal: Frugal) -> None:
    assert "name the folder to change" in frugal(*words, code=2).stderr


def test_sort_leaves_what_a_program_writes_and_says_so(full: Path, frugal: Frugal) -> None:
    with open(full / "Intake/kiln 003.log", "a"), open(full / "Intake/kiln 004.log"):
        said = frugal("sort", "Intake", "--into", "{ext}", "--yes").stdout
    assert f"1 file: being written by python (process {os.getpid()})" in said.replace("python3", "python").replace(
        "pytest", "python"
    )
    assert sorted(path.name for path in (full / "Intake").iterdir()) == ["kiln 003.log", "log"]


@pytest.mark.parametrize(("settle", "taken"), [("0", True), ("0 seconds", True), ("1 hour", False)])
def test_a_settling_time_of_nothing_means_none(settle: str, taken: bool, folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    (folder / "Intake/a.log").write_text("glaze")
    frugal("sort", "Intake", "--into", "{ext}", "--settle", settle, "--yes")
    assert (folder / "Intake/log/a.log").exists() is taken


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["purge", "Intake", "--older-than", "30d"],
         ["Measured by `modified`, 3 files are old enough; the most recent arrived here on", "To use that date: --by modified",
          "2 files in subfolders not checked; to include subfolders: `--levels all`", "1 hidden file not checked; to include hidden files: `--hidden`"]),
        (["sort", "Intake", "--into", "{ext}", "--where", "ext is qq"],
         ["Nothing to sort: checked 3 files.", "2 files in subfolders not checked", "1 hidden file not checked"]),
        (["tidy", "rules.toml"], ['`levels = "all"`', "`hidden = true`", "rule 0 matches nothing. Closest:", "expected `.txt`"]),
        (["preview", "rules.toml"], ['`levels = "all"`', "rule 0 matches nothing. Closest:"]),
        (["trash", "--older-than", "30d"], ["Nothing to delete from the trash: checked 1 file.", "The oldest entry was trashed on"]),
        (["trash", "--shrink-to", "1GB"], ["which is within the limit of 1.0 GB"]),
        (["trash", "--where", "ext is qq"], ["Nothing within"]),
    ],
    ids=lambda value: " ".join(value) if isinstance(value, list) and len(value) < 7 else "",
)  # fmt: skip
def test_nothing_to_do_says_why(words: list[str], told: list[str], folder: Path, frugal: Frugal) -> None:
    for name in ("kiln a.log", "kiln b.log", "kiln c.log", "sub/d.log", "sub/deep/e.log", ".f.log"):
        os.utime(put(folder / "Intake" / name, name), (time.time() - 90 * DAY,) * 2)
    put(folder / "Elsewhere/g.log", "g")
    frugal("purge", "Elsewhere", "--older-than", "0 seconds", "--yes", "--where", "ext is log")
    put(folder / "rules.toml", rules_text("where = 'name like \"kiln *.txt\"'\nmove = 'x'"))
    said = " ".join(frugal(*words).stdout.split())
    for one in told:
        assert one in said, said


def test_two_stages_are_no_problem_before_the_first_has_run(folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    first = 'where = "modified older than 30 days"\nmove = "../Holding/{ext}"'
    second = 'in = "Holding"\nlevels = 2\nwhere = "modified older than 60 days"\ntrash = true'
    put(folder / "rules.toml", rules_text(first, second))
    said = frugal("tidy", "rules.toml", "--yes").stdout
    assert 'Holding does not exist yet; rule "rule 0" will create it; skipped for rule rule 1' in said
    put(folder / "rules.toml", rules_text(first.replace("Holding", "Elsewhere"), second))
    assert "Holding is missing" in frugal("tidy", "rules.toml", "--yes", code=1).stdout


def test_an_undo_names_the_run_that_moved_a_folder_on(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log", "x")
    put(folder / "one.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    put(folder / "two.toml", rules_text('where = "name is Logs"\ntake = "folders"\nmove = "../Archive"'))
    frugal("tidy", "one.toml", "--yes")
    frugal("tidy", "two.toml", "--yes")
    said = frugal("undo", "1", "--yes", code=1).stdout
    assert f"run 2 moved it again with {folder}/Intake/Logs; undo that run first" in said
    put(folder / "three.toml", rules_text('in = "Archive"\nwhere = "everything"\ntake = "folders"\ndelete = true'))
    frugal("tidy", "three.toml", "--yes")
    said = frugal("undo", "2", "--yes", code=1).stdout
    assert "1 folder" in said and "permanently deleted by run 3" in said


def test_undoing_a_run_again_that_was_taken_back_asks_the_journal_once(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each step asked for all runs: 7,000 files took minutes."""
    from frugal_sorter.execution.executor import changing
    from frugal_sorter.execution.undo import plan_undo
    from frugal_sorter.journal.journal import Journal
    from frugal_sorter.state import ready_state_folder
    from tests.support import NOW_NS, book_of, carry_out, plan_of, undo

    for number in range(30):
        put(folder / f"Intake/{number}.log", "x")
    carry_out(plan_of(book_of(folder, 'where = "ext is log"\nmove = "Logs"')))
    undo(1)
    looks = 0
    real = Journal.runs

    def counted(journal: Journal) -> list[object]:
        nonlocal looks
        looks += 1
        return real(journal)  # type: ignore[return-value]

    with changing(ready_state_folder(), "test") as journal:
        run = journal.run(1)
        monkeypatch.setattr(Journal, "runs", counted)
        assert not plan_undo(journal, run, NOW_NS).asked
    assert looks <= 2


@pytest.mark.parametrize("text", ["in 2 weeks", "2 weeks", "tomorrow", "2026-12-24", "2026-12-24 08:00", "2026-12-24T08:00"])
def test_moments_are_read_as_people_write_them(text: str, full: Path, frugal: Frugal) -> None:
    assert json.loads(frugal("preview", "rules.toml", "--as-of", text, "--format", "json").stdout)["made"]


@pytest.mark.parametrize("text", ["soon", "2026-13-24", "2026-12-24 25:00", "24.12.2026", ""])
def test_what_is_no_moment_is_one_line(text: str, full: Path, frugal: Frugal) -> None:
    said = frugal("preview", "rules.toml", "--as-of", text, code=2).stderr
    assert said.count("\n") == 1 and ("is not a date or time" in said or "not a valid date" in said)


@given(st.text(alphabet="ab `:;/é漢 ", max_size=120), st.integers(10, 60))
@example("To do it: frugal tidy rules.toml", 20)
@example("Left out: `a command that is long`; and more words than fit a line", 20)
def test_lines_are_broken_between_words_alone(text: str, width: int) -> None:
    lines = wrapped(text, width).split("\n")
    assert [word for line in lines for word in line.split()] == text.split()
    pieces = {piece[0].strip() for piece in _PIECE.finditer(text)}
    for line in lines:
        # What is longer than a line gets a line of its own.
        assert columns(line.rstrip()) <= width or line.strip() in pieces


@pytest.mark.parametrize(("count", "more"), [(8, False), (9, False), (10, True), (40, True)])
def test_a_list_that_fits_on_the_terminal_is_shown_whole(folder: Path, frugal: Frugal, count: int, more: bool) -> None:
    for number in range(count):
        aged(folder / f"Intake/{number}.log", 40)
    words = ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--permanent", "--dry-run")
    assert ("--list-all" in on_terminal(folder, *words)[1]) == more
    assert "--list-all" in on_terminal(folder, *words, "--short")[1]
    assert "--list-all" not in frugal(*words).stdout
