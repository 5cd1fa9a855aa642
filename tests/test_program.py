"""The built program on the demo machine, and on trees made for a fault."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import tempfile
from datetime import datetime
from importlib.util import find_spec
from pathlib import Path
from typing import IO

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from frugal_sorter.demo import lay_out
from frugal_sorter.platforms import slashed
from tests.conftest import Frugal
from tests.support import THOROUGH, contents, on_terminal, put, rules_text, snapshot

MOVED = re.compile(r"^moved +(.+) → (.+)$", re.MULTILINE)


@pytest.fixture
def desk(folder: Path, frugal: Frugal) -> Path:
    frugal("demo", "desk")
    return folder / "desk"


def files_below(folder: Path) -> dict[bytes, object]:
    return {path: seen for path, seen in snapshot(folder).items() if seen.kind == "-"}


def test_the_demo_machine_is_what_it_says(desk: Path, folder: Path, frugal: Frugal) -> None:
    files = [path for path in desk.rglob("*") if path.is_file() and not path.is_symlink()]
    folders = [path for path in desk.rglob("*") if path.is_dir() and not path.is_symlink()]
    assert 250 <= len(files) <= 350 and 12 <= len(folders) <= 24
    (desk / "rules.toml").unlink()
    assert "not empty" in frugal("demo", "desk", code=2).stderr and not (desk / "rules.toml").exists()


def test_the_same_seed_and_moment_lay_out_the_same_machine(folder: Path) -> None:
    now = datetime(2026, 11, 23, 12, 0)

    def laid_out(name: str, seed: int) -> dict[bytes, object]:
        lay_out(folder / name, now, seed)
        strip = len(os.fsencode(folder / name))
        # A link has the time of its making; everything else has a made-up one.
        return {path[strip:]: seen for path, seen in snapshot(folder / name).items() if seen.kind != "l"}

    one, two, other = laid_out("one", 7), laid_out("two", 7), laid_out("other", 8)
    assert one == two != other


MOMENTS = [datetime(2028, 2, 29, 0, 1), datetime(2026, 12, 31, 23, 59), datetime(2027, 1, 1, 12), datetime(2026, 11, 30, 18, 40), datetime(2026, 3, 29, 2, 30), datetime(2026, 10, 25, 2, 30), datetime(2100, 3, 1)]  # fmt: skip


@given(st.lists(st.datetimes(datetime(2000, 1, 1), datetime(2150, 1, 1)), min_size=1, max_size=3))
@settings(max_examples=5 if THOROUGH else 1)
@example(MOMENTS)
def test_the_machine_has_the_same_files_at_any_moment(moments: list[datetime]) -> None:
    laid_out = []
    for now in [datetime(2026, 11, 23, 12), *moments]:
        with tempfile.TemporaryDirectory() as name:
            lay_out(slashed.Path(name), now)
            files = [path for path in Path(name).rglob("*") if path.is_file()]
            # Only the days in names are of their time.
            undated = [re.sub(r"\d{4}-\d\d(-\d\d)?|(?<=Invoices/)\d{4}", "DAY", str(path.relative_to(name))) for path in files]
            laid_out.append(sorted(zip(undated, [path.stat().st_size for path in files], strict=True)))
            assert all(path.stat().st_mtime <= now.timestamp() for path in files)
    assert all(one == laid_out[0] for one in laid_out)


def test_demo_photos_and_scans_are_real(desk: Path) -> None:
    image = pytest.importorskip("PIL.Image", reason="Pillow comes with the extra `media`")
    photos = sorted(desk.glob("Glaze Photos/*/*.jpg"))
    for path in [*photos, *desk.glob("Intake/scan*")]:
        with image.open(path) as opened:
            opened.load()
            assert opened.size[0] > 100
    with image.open(photos[0]) as opened:
        assert re.fullmatch(r"\d{4}:\d\d:\d\d \d\d:\d\d:\d\d", opened.getexif().get_ifd(0x8769)[0x9003])


def test_preview_names_every_file_that_tidy_then_moves(desk: Path, frugal: Frugal) -> None:
    before = snapshot(desk)
    plan = json.loads(frugal("preview", "desk/rules.toml", "--format", "json").stdout)
    text = frugal("preview", "desk/rules.toml").stdout
    assert snapshot(desk) == before
    planned = {(step["source"], step["target"]) for step in plan["steps"] if step["verb"] == "move"}
    assert len(planned) == plan["totals"]["entries"]["files"] > 100
    assert all(os.path.basename(source) in text for source, _ in planned)
    done = frugal("tidy", "desk/rules.toml", "--yes").stdout
    assert {(f"{desk}/{source}", f"{desk}/{target}") for source, target in MOVED.findall(done)} == planned
    assert {path for path in before if path not in snapshot(desk)} == {os.fsencode(source) for source, _ in planned}

    again = frugal("tidy", "desk/rules.toml").stdout
    assert "Nothing to do" in again and "moved" not in again
    assert f"{len(planned)} " in frugal("history").stdout
    frugal("undo", "--yes")
    assert snapshot(desk) == before
    assert "undone by run 2; to include it: --again" in frugal("tidy", "desk/rules.toml", "--yes").stdout
    assert snapshot(desk) == before
    assert len(MOVED.findall(frugal("tidy", "desk/rules.toml", "--yes", "--again").stdout)) == len(planned)


def test_without_a_terminal_and_without_yes_nothing_changes(desk: Path, frugal: Frugal) -> None:
    before = snapshot(desk)
    done = frugal("tidy", "desk/rules.toml", code=3)
    assert "add --yes" in done.stderr and snapshot(desk) == before
    frugal("tidy", "desk/rules.toml", "--yes")
    after = snapshot(desk)
    assert "add --yes" in frugal("undo", code=3).stderr and snapshot(desk) == after


@pytest.mark.parametrize(("answer", "code"), [("yes", 0), ("Y", 0), ("no", 3), ("", 3), ("sure", 3)])
def test_only_a_clear_yes_is_a_yes(folder: Path, answer: str, code: int) -> None:
    put(folder / "Intake/a.log")
    (folder / "rules.toml").write_text(rules_text('where = "everything"\nmove = "{type}"'))
    ended, said = on_terminal(folder, "tidy", "rules.toml", answers=answer)
    assert ended == code
    assert (folder / "Intake/log/a.log").exists() is (code == 0)
    assert str(folder / "Intake") in said and str(folder / "rules.toml") in said and "other files stay" in said


def test_what_is_typed_before_the_question_is_no_answer(folder: Path) -> None:
    put(folder / "Intake/a.log")
    (folder / "rules.toml").write_text(rules_text('where = "everything"\nmove = "{type}"'))
    # The editor stands for the time in which nothing is asked.
    keys = put(
        folder / "editor.sh",
        f"#!{sys.executable}\nimport os, fcntl, termios\nfor key in b'yes\\n':\n    fcntl.ioctl(0, termios.TIOCSTI, bytes([key]))\n",
    )
    keys.chmod(0o755)
    code, said = on_terminal(folder, "tidy", "rules.toml", answers="edit\nno", VISUAL=str(keys))
    assert code == 3 and said.count("[yes/no") == 2 and (folder / "Intake/a.log").exists()


def test_a_file_changed_while_a_person_thinks_is_skipped_and_named(folder: Path) -> None:
    put(folder / "Intake/a.log")
    put(folder / "Intake/b.log")
    (folder / "rules.toml").write_text(rules_text('where = "everything"\nmove = "{type}"'))
    code, said = on_terminal(folder, "tidy", "rules.toml", answers="yes", before=lambda: put(folder / "Intake/a.log", "new"))
    assert code == 1
    assert "skipped  a.log → log/a.log: changed since the plan was made" in said and "1 file moved, 1 skipped" in said
    assert (folder / "Intake/a.log").read_text() == "new" and (folder / "Intake/log/b.log").exists()


def two_thousand(folder: Path) -> Path:
    for number in range(2_000):
        put(folder / f"Intake/{number % 7}/file {number}.log", str(number))
    path = folder / "rules.toml"
    path.write_text(
        rules_text('where = "everything"\nmove = "/{F}/Sorted/{initial}/{folder}"\nlevels = "all"'.replace("/{F}", str(folder)))
    )
    return path


def read_moved(output: IO[bytes], lines: int = 1) -> None:
    """Read until so many files were moved; a program that ends before is a fault."""
    for line in output:
        lines -= line.startswith(b"moved")
        if not lines:
            return
    pytest.fail("the program ended before it moved so many files")


@pytest.mark.parametrize("after_lines", [1, 400, 1_500])
def test_a_kill_in_the_middle_loses_nothing(folder: Path, frugal: Frugal, after_lines: int) -> None:
    two_thousand(folder)
    before, inside = files_below(folder), contents(folder)
    command = [sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"]
    with subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stdin=subprocess.DEVNULL) as program:
        assert program.stdout is not None
        read_moved(program.stdout, after_lines)
        program.kill()
    assert program.returncode == -signal.SIGKILL
    assert contents(folder) == inside
    moved = sum(1 for path in (folder / "Sorted").rglob("*") if path.is_file())
    assert after_lines <= moved <= 2_000
    history = frugal("history").stdout
    assert f"interrupted after {moved:,} of 2,000" in history
    assert frugal("history", "1").stdout.count("moved  ") == moved
    assert len(MOVED.findall(frugal("undo", "--yes").stdout)) == moved
    assert files_below(folder) == before and not (folder / "Sorted").exists()
    assert "undone by run 2" in frugal("history").stdout


@pytest.mark.parametrize(("number", "code"), [(signal.SIGINT, 130), (signal.SIGTERM, 143)])
def test_a_request_to_stop_is_heeded_between_two_steps(folder: Path, frugal: Frugal, number: int, code: int) -> None:
    two_thousand(folder)
    before = files_below(folder)
    command = [sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"]
    with subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stdin=subprocess.DEVNULL) as program:
        assert program.stdout is not None
        read_moved(program.stdout)
        program.send_signal(number)
        rest = program.stdout.read()
    assert program.returncode == code
    assert b"left to do" in rest
    moved = sum(1 for path in (folder / "Sorted").rglob("*") if path.is_file())
    assert f"stopped after {moved:,} of 2,000" in frugal("history").stdout
    frugal("undo", "--yes")
    assert files_below(folder) == before


def test_two_writers_do_not_meet(folder: Path, frugal: Frugal) -> None:
    two_thousand(folder)
    command = [sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"]
    with subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, stdin=subprocess.DEVNULL) as program:
        assert program.stdout is not None
        read_moved(program.stdout)
        program.send_signal(signal.SIGSTOP)
        said = frugal("tidy", "rules.toml", "--yes", code=3).stderr
        assert "running now" in frugal("history").stdout
        program.send_signal(signal.SIGCONT)
        program.stdout.read()
    assert f"frugal tidy (process {program.pid})" in said and program.returncode == 0


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["check", "none.toml"], 2, "cannot be read"),
        (["check", "."], 2, "is a folder, not a rule file"),
        (["preview", "bad.toml"], 2, 'bad.toml:7: rule "rule 0": unknown field or flag "nmae" (column 1); did you mean `name`?'),
        (["tidy", "bad.toml", "--yes"], 2, "1 error; fix them first"),
        (["tidy", "away.toml", "--yes"], 1, ""),
        (["undo"], 2, "nothing to undo"),
        (["undo", "7"], 2, "run 7 does not exist"),
        (["undo", "last"], 2, "not a run number"),
        (["history", "7"], 2, "run 7 does not exist"),
        (["tidi"], 2, "did you mean `tidy`"),
        (["tidy", "--yess"], 2, "did you mean `--yes`?"),
        (["preview", "etc.toml"], 3, ""),
    ],
)  # fmt: skip
def test_bad_input_gets_one_clear_line(folder: Path, frugal: Frugal, words: list[str], code: int, said: str) -> None:
    put(folder / "Intake/a.log")
    (folder / "bad.toml").write_text(rules_text("where = 'nmae is x'\nleave = true").replace("frugal = 1\n", "frugal = 1\n\n"))
    (folder / "away.toml").write_text(rules_text("in = 'Away'\nwhere = 'everything'\nmove = 'x'"))
    (folder / "etc.toml").write_text(rules_text("in = '/etc'\nwhere = 'everything'\nmove = 'x'"))
    before = snapshot(folder)
    done = frugal(*words, code=code)
    assert said in done.stderr
    assert snapshot(folder) == before


def test_y_is_yes_and_words_too_many_are_named(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    assert "in quotes" in frugal("sort", "Intake", "b.log", "c.log", "--into", "{type}", code=2).stderr
    frugal("sort", "Intake", "--into", "{ext}", "-y")
    assert (folder / "Intake/log/a.log").is_file()


def test_a_tree_that_is_missing_or_refused_says_so(folder: Path, frugal: Frugal) -> None:
    (folder / "rules.toml").write_text(
        rules_text("in = 'Away'\nwhere = 'everything'\nmove = 'x'", "in = '/etc'\nwhere = 'everything'\nmove = 'x'")
    )
    said = frugal("preview", "rules.toml", code=3).stdout
    assert f"Note: {folder}/Away is missing; skipped for rule 0" in said
    assert "Refused: rule 1: /etc is inside a system folder" in said
    assert f"{folder}/Away does not exist now" in frugal("check", "rules.toml", code=3).stdout


def test_what_may_not_be_read_or_written_is_named_and_the_rest_is_done(folder: Path, frugal: Frugal) -> None:
    for name in ("a.log", "shut/b.log", "c.csv", "csv/there.csv"):
        put(folder / "Intake" / name)
    (folder / "rules.toml").write_text(rules_text('where = "everything"\nmove = "{ext}"\nlevels = 2'))
    (folder / "Intake/shut").chmod(0)
    (folder / "Intake/csv").chmod(0o555)
    try:
        counted = frugal("inventory", "Intake", code=1, without_rights=True).stdout
        assert f"Not read: {folder}/Intake/shut (no permission)" in counted and "3  " in counted
        preview = frugal("preview", "rules.toml", code=1, without_rights=True).stdout
        assert f"Note: {folder}/Intake/shut: no permission" in preview
        done = frugal("tidy", "rules.toml", "--yes", code=1, without_rights=True).stdout
        for said in (preview, done):
            assert f"1 file: no permission ({folder}/Intake/csv)\n    c.csv\n" in said
        assert "moved    a.log → log/a.log" in done and "1 file moved." in done
        # Jobs without a rule file say the same, with the same exit code.
        os.utime(folder / "Intake/csv/there.csv", (0, 0))
        for words in (
            ["sort", "Intake/csv", "--into", "{type}"], ["purge", "Intake/csv", "--older-than", "30d", "--by", "modified"],
        ):  # fmt: skip
            said = frugal(*words, "--dry-run", code=1, without_rights=True).stdout
            assert f"1 file: no permission ({folder}/Intake/csv)" in said
    finally:
        (folder / "Intake/shut").chmod(0o755)
        (folder / "Intake/csv").chmod(0o755)
    assert (folder / "Intake/shut/b.log").exists() and (folder / "Intake/c.csv").exists()


def test_names_are_shown_so_that_they_cannot_harm(folder: Path, frugal: Frugal) -> None:
    put(folder / os.fsdecode(b"Intake/raw\xff\n\x1b[2J.log"))
    (folder / "rules.toml").write_text(rules_text('where = "everything"\nmove = "{type}"'))
    for words in (["preview", "rules.toml"], ["tidy", "rules.toml", "--yes"], ["history", "1"]):
        out = frugal(*words).stdout
        assert "raw\\xff\\n\\x1b[2J.log" in out and "\x1b" not in out
    moved = json.loads(frugal("history", "1", "--format", "json").stdout)["steps"][1]["target"]
    assert os.fsencode(moved) == os.fsencode(folder) + b"/Intake/log/raw\xff\n\x1b[2J.log"


def test_piped_output_that_nobody_reads_on_ends_quietly(desk: Path, folder: Path) -> None:
    script = f"{sys.executable} -m frugal_sorter preview desk/rules.toml | head -1"
    done = subprocess.run(["bash", "-c", script], cwd=folder, capture_output=True, text=True, check=False)
    assert done.stdout.startswith("Paths relative to") and not done.stderr


def test_the_default_rule_file(desk: Path, folder: Path, frugal: Frugal, own_home: Path) -> None:
    assert "cannot be read" in frugal("check", code=2).stderr
    assert "9 rules" in frugal("check", FRUGAL_RULES=str(desk / "rules.toml")).stdout
    put(own_home / ".config/frugal-sorter/rules.toml", (desk / "rules.toml").read_bytes())
    assert f"{own_home}/.config" in frugal("check").stdout


def test_the_demo_tells_the_whole_story(frugal: Frugal, own_home: Path) -> None:
    out = frugal("demo").stdout
    assert [line for line in out.splitlines() if line.startswith("$ frugal")] == [
        "$ frugal inventory Intake --top 4",
        "$ frugal preview rules.toml --rule Moulds --rule 'Supplier invoices by year' --short",
        "$ frugal tidy rules.toml --yes --short", "$ frugal history", "$ frugal undo 1 --yes --short",
        "$ frugal preview ageing.toml --until 'in 5 days' --short",
    ]  # fmt: skip
    assert "132 files moved." in out and "Undo within 400 days: frugal undo 1" in out and "Redo: frugal undo 2" in out
    assert not list(own_home.rglob("journal*"))


LIGHT = {"argparse", "rich", "sqlite3", "platformdirs", "tomllib", "json", "re", "ctypes", "regex", "pathlib"}


# Long in loading, and for what few commands do.
LATER = {
    "dataclasses",
    "inspect",
    "platformdirs",
    "shutil",
    "tempfile",
    "_hashlib",
    "random",
    "secrets",
    "decimal",
    "zipfile",
    "logging",
    "subprocess",
    "pickle",
}
NOT_FOR_THE_LIST = ("execution.recovery", "steps.moving", "rules.load", "rules.fields", "planning.endings", "reports.inventory",
                    "duplicates", "execution.earlier_runs")  # fmt: skip
NOT_FOR_A_PREVIEW = ("duplicates", "planning.duplicates", "execution.executor", "planning.foresight", "reports.inventory")  # fmt: skip


@pytest.mark.parametrize(
    ("words", "not_imported"),
    [
        ("['--version']", LIGHT),
        ("['--help']", LIGHT),
        ("['inventory', '.', '--format', 'csv']", {"rich", "sqlite3", "regex", "ctypes"}),
        ("['history']", {"regex", "rich", "ctypes", "base64", *LATER, *(f"frugal_sorter.{one}" for one in NOT_FOR_THE_LIST)}),
        ("['preview', 'rules.toml']", {*LATER, *(f"frugal_sorter.{one}" for one in NOT_FOR_A_PREVIEW)}),
        ("['tidy', 'rules.toml', '--yes']", {"regex", "rich", *LATER}),
        ("['check', 'rules.toml']", {"sqlite3", "pandas", "numpy", "psutil", *LATER}),
    ],
)
def test_a_command_imports_only_what_it_needs(folder: Path, words: str, not_imported: set[str]) -> None:
    (folder / "Intake").mkdir()
    (folder / "rules.toml").write_text(rules_text('where = "everything"\nmove = "{type}"'))
    script = (
        "import sys; before = set(sys.modules); from frugal_sorter.cli.main import main\n"
        f"main({words}); print(sorted(set(sys.modules) - before), file=sys.stderr)"
    )
    # Twice: what a condition is made of is kept after the first time.
    for _ in range(2):
        done = subprocess.run([sys.executable, "-c", script], cwd=folder, capture_output=True, text=True, check=True)
    imported = set(eval(done.stderr))
    assert "frugal_sorter.cli.main" in imported
    # What is not there any more would never be imported.
    assert all(find_spec(name) for name in not_imported if name.startswith("frugal_sorter."))
    assert not imported & not_imported


@pytest.mark.parametrize("name", ["inventory", "check", "preview", "tidy", "history", "undo", "demo"])
def test_every_command_has_help_with_examples(frugal: Frugal, name: str) -> None:
    out = frugal(name, "--help").stdout
    assert out.count(f"\n  frugal {name}") >= 2
    assert name in frugal("--help").stdout
