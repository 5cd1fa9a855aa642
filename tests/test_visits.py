"""The record of visits: who came, what came of it, and why; by the built program."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import sqlite3
import subprocess
import zlib
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.cli.commands.history import _folded, _Line, _numbers, _unsolved
from frugal_sorter.journal.database import SCHEMA, Amount, Visit
from frugal_sorter.journal.journal import Journal
from frugal_sorter.state import settings_file
from tests.conftest import Frugal
from tests.served import Served
from tests.support import aged, contents, put, rules_text

RULE = 'where = "ext is log"\nmove = "Logs"'


@pytest.fixture
def rules(folder: Path) -> Path:
    for number in range(3):
        put(folder / f"Intake/{number}.log", "clay")
    (folder / "rules.toml").write_text(rules_text(RULE))
    return folder / "rules.toml"


def visits(frugal: Frugal, *words: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(frugal("history", *words, "--format", "json").stdout)["visits"]
    return found


def by_itself(frugal: Frugal, *words: str, **more: Any) -> None:
    """Run a command as a schedule does."""
    frugal("visit", "nightly", "--in", os.getcwd(), "--", *words, **more)


# What is done, and what the record says of it: outcome, a part of the reason, files by verb.
COMMANDS = [
    (("tidy", "rules.toml", "--yes"), 0, "done", "", {"move": 3}),
    (("tidy", "rules.toml"), 3, "refused", "without a terminal", {}),
    (("sort", "Intake", "--into", "{ext}", "--where", "ext is zip", "--yes"), 0, "nothing to do", "", {}),
    (("sort", "Intake", "--into", "{ext}", "--yes"), 0, "done", "", {"move": 5}),
    (("purge", "Intake", "--older-than", "1d", "--by", "modified", "--yes"), 0, "done", "", {"trash": 5}),
    (("purge", "Intake", "--older-than", "1d", "--by", "modified", "--permanent", "--yes"), 0, "done", "", {"delete": 5}),
    (("purge", "Intake", "--older-than", "1d", "--by", "modified", "--at-most", "1", "--yes"), 3, "refused", "remove 5 files", {}),
    (("purge", "/usr", "--older-than", "1d", "--yes"), 3, None, "", {}),
    (("tidy", "none.toml", "--yes"), 2, None, "", {}), (("tidy", "broken.toml", "--yes"), 2, None, "", {}),
    (("tidy", "missing.toml", "--yes"), 1, "failed", "Gone is missing", {}),
    (("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--yes"), 0, "done", "", {"copy": 1}),
    (("duplicates", "Intake", "--do", "trash", "--yes"), 0, "done", "", {"trash": 2}),
    (("duplicates", "Intake"), 0, None, "", {}), (("trash",), 0, None, "", {}), (("undo", "--yes"), 2, None, "", {}),
    (("preview", "rules.toml"), 0, None, "", {}), (("inventory", "Intake"), 0, None, "", {}),
]  # fmt: skip


@pytest.mark.parametrize("unattended", [False, True])
@pytest.mark.parametrize(("words", "code", "outcome", "reason", "done"), COMMANDS)
def test_each_call_of_a_command_that_changes_files_leaves_its_line(
    rules: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch, words: tuple[str, ...], code: int, outcome: str | None,
    reason: str, done: dict[str, int], unattended: bool,
) -> None:  # fmt: skip
    folder = rules.parent
    monkeypatch.chdir(folder)
    for name, days in (("old", 5), ("older", 9)):
        aged(folder / f"Intake/{name}.tmp", days, name)
    (folder / "missing.toml").write_text(rules_text(RULE).replace("Intake", "Gone"))
    (folder / "broken.toml").write_text("x = [")
    (folder / "list.txt").write_text("1.log\n")
    if unattended:
        by_itself(frugal, *words, code=int(outcome in ("failed", "refused") or (outcome is None and code != 0)))
    else:
        frugal(*words, code=code)
    found = visits(frugal)
    if outcome is None and not unattended:
        assert found == []
        return
    (one,) = found
    assert (one["driver"], one["name"]) == (("schedule", "nightly") if unattended else ("person", ""))
    if outcome is None:
        # By itself even a mistake is a visit: nobody was there to read it.
        assert one["outcome"] == {0: "done", 2: "failed", 3: "refused"}[code] and (code == 0 or one["reason"])
        return
    assert one["outcome"] == outcome and reason in one["reason"] and words[0] in one["command"]
    assert {verb: amount["files"] for verb, amount in one["done"].items()} == done
    assert bool(one["runs"]) == bool(done) and (one["freed"] > 0) == ("delete" in done)
    assert not done or (one["free_before"] > 0 and one["free_after"] > 0)
    assert bool(one["environment"]) == unattended


def test_visits_that_found_nothing_follow_each_other_as_one_line(
    rules: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(rules.parent)
    for _ in range(4):
        by_itself(frugal, "tidy", "rules.toml", "--yes")
    put(rules.parent / "Intake/new.log")
    by_itself(frugal, "tidy", "rules.toml", "--yes")
    by_itself(frugal, "tidy", "rules.toml", "--yes")
    frugal("tidy", "rules.toml", "--yes")
    frugal("tidy", "rules.toml", "--yes")
    found = [(one["driver"], one["outcome"], one["times"]) for one in visits(frugal)]
    assert found == [
        ("schedule", "done", 1), ("schedule", "nothing to do", 3), ("schedule", "done", 1), ("schedule", "nothing to do", 1),
        ("person", "nothing to do", 1), ("person", "nothing to do", 1),
    ]  # fmt: skip
    said = frugal("history").stdout
    assert "nothing to do ×3" in said and said.count("nightly") == 4
    assert [one["times"] for one in visits(frugal, "--by", "nightly")] == [1, 3, 1, 1]
    assert visits(frugal, "--since", "1 hour") == visits(frugal, "--since", "today")
    rows = list(csv.DictReader(io.StringIO(frugal("history", "--format", "csv").stdout)))
    assert [row["outcome"] for row in rows] == [one[1] for one in found] and rows[0]["files"] == "3"


def test_the_nights_of_a_schedule_are_one_line_a_week_and_only_problems_not_yet_solved_are_named() -> None:
    day = 24 * 3600 * 10**9
    monday = int(datetime(2026, 9, 7, 2).timestamp()) * 10**9

    def night(number: int, by: str, state: str = "done", trouble: str = "", run: bool = True) -> _Line:
        runs = [2 * number + (by == "hourly")] if run else []
        return _Line(runs, monday + number * day, by, "schedule", "tidy", 5 if run else 0, 10, state, "rules.toml", trouble)

    lines = [night(number, by) for number in range(28) for by in ("nightly", "hourly")]
    lines[9] = night(4, "hourly", "refused", "too many", run=False)
    lines[-1] = night(27, "hourly", "refused", "too many again", run=False)
    found = _folded(lines, monday + 28 * day)
    told = [(one.by, one.state, one.done) for one in found]
    assert told[:4] == [
        ("hourly", "refused", 0), ("nightly", "done ×7", 35), ("hourly", "done ×6", 30), ("nightly", "done ×7", 35),
    ]  # fmt: skip
    assert set(told[-2:]) == {("nightly", "done", 5), ("hourly", "refused", 0)}, "this week is told night by night"
    assert sum(one.times for one in found) == len(lines) and sum(one.done for one in found) == 54 * 5
    assert [one.trouble for one in _unsolved(found)] == ["too many again"]
    assert {_numbers(one.runs) for one in found[:3]} == {"–", "0…12", "1…13"} and _numbers([4, 5, 6]) == "4-6"


@pytest.mark.skipif(not shutil.which("strace"), reason="strace is not installed")
def test_a_kill_is_an_interrupted_visit(rules: Path, frugal: Frugal, served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(rules.parent)
    served.run(
        ["visit", "nightly", "--in", ".", "--", "tidy", "rules.toml", "--yes"], rules.parent, dict(os.environ),
        "renameat2:signal=SIGKILL:when=2",
    )  # fmt: skip
    assert [one["outcome"] for one in visits(frugal)] == ["interrupted"] and visits(frugal)[0]["runs"] == [1]
    frugal("tidy", "rules.toml", "--yes")
    assert [one["outcome"] for one in visits(frugal)] == ["interrupted", "done"]


def test_undo_since_a_moment_takes_back_all_of_it_the_last_first(rules: Path, frugal: Frugal) -> None:
    folder = rules.parent
    before = {path.name for path in (folder / "Intake").iterdir()}
    frugal("tidy", "rules.toml", "--yes")
    frugal("sort", "Intake/Logs", "--into", "{stem}", "--yes")
    aged(folder / "Intake/old.tmp", 5)
    frugal("purge", "Intake", "--older-than", "1d", "--by", "modified", "--permanent", "--yes")
    assert "add --yes" in frugal("undo", "--since", "1 hour", code=3).stderr
    said = frugal("undo", "--since", "1 hour", "--yes").stdout
    assert said.index("run 2 ") < said.index("run 1 ") and "Run 3 (purge" in said and "skipped" in said
    assert {path.name for path in (folder / "Intake").iterdir()} == before
    assert "Nothing to undo since" in frugal("undo", "--since", "1 hour", "--yes").stdout
    assert (
        "selects the runs, so it cannot be combined with RUN or --only" in frugal("undo", "1", "--since", "1 hour", code=2).stderr
    )
    for text in ("tomorrow", "2099-01-01", "soonish", "in 2 days", ""):
        assert "--since: " in frugal("undo", "--since", text, code=2).stderr


@pytest.mark.parametrize("option", [True, False])
def test_the_owner_reads_each_thing_done(rules: Path, frugal: Frugal, option: bool) -> None:
    folder, log = rules.parent, rules.parent / "owner.log"
    put(folder / "Intake/new\nline.log", "clay")
    if not option:
        rules.write_text('log = "owner.log"\n' + rules_text(RULE).replace('where = "ext is log"', 'where = "everything"'))
        rules.write_text(rules_text('where = "ext is log"\nmove = "Logs"').replace("frugal = 1", 'frugal = 1\nlog = "owner.log"'))
    more = ("--log", str(log)) if option else ()
    frugal("tidy", "rules.toml", "--yes", *more)
    frugal("tidy", "rules.toml", "--yes", *more)
    lines = log.read_text().splitlines()
    assert (
        len(lines) == 7 and lines[0].endswith(" begins") and lines[5].endswith(": done") and lines[6].endswith(": nothing to do")
    )
    assert sum("  moved  " in line and " → " in line for line in lines) == 4 and any("new\\nline.log" in line for line in lines)
    assert log.stat().st_mode & 0o777 == 0o644
    # Where it cannot be written nothing is done, and a link is not followed.
    log.unlink()
    log.symlink_to(folder / "elsewhere")
    put(folder / "Intake/9.log")
    assert "the log" in frugal("tidy", "rules.toml", "--yes", *more, code=2).stderr
    assert (folder / "Intake/9.log").exists() and not (folder / "elsewhere").exists()


def test_a_rule_never_takes_the_log_itself(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    (folder / "rules.toml").write_text(rules_text(RULE).replace("frugal = 1", 'frugal = 1\nlog = "Intake/owner.log"'))
    frugal("tidy", "rules.toml", "--yes")
    frugal("tidy", "rules.toml", "--yes")
    assert sorted(path.name for path in (folder / "Intake").iterdir()) == ["Logs", "owner.log"]


def test_somebody_is_told_of_what_went_wrong_by_itself(
    rules: Path, frugal: Frugal, own_home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(rules.parent)
    settings = put(own_home / ".config/frugal-sorter/settings.toml", f'[on-problem]\nrun = ["tee", "-a", "{own_home}/told"]\n')
    by_itself(frugal, "tidy", "rules.toml", "--yes")
    frugal("tidy", "none.toml", "--yes", code=2)
    assert not (own_home / "told").exists()
    by_itself(frugal, "tidy", "none.toml", "--yes", code=1)
    told = (own_home / "told").read_text()
    assert "nightly: failed: " in told and "none.toml" in told and "command: frugal tidy none.toml --yes" in told
    settings.write_text('[on-problem]\nrun = ["/nowhere/mail"]\n')
    done = frugal("visit", "nightly", "--in", ".", "--", "tidy", "none.toml", "--yes", code=1)
    assert "/nowhere/mail could not report it" in done.stderr
    for broken in ('on-problem = "mail"', "[on-problem]\nrun = []", "[on-problem]\nrun = [1]", '[on-problem]\nmail = "x"'):
        settings.write_text(broken)
        put(rules.parent / "Intake/more.log")
        assert "invalid value for `on-problem`" in frugal("tidy", "rules.toml", "--yes", code=2).stderr


@pytest.mark.parametrize("form", [5, 6, 7])
def test_a_journal_of_a_form_before_is_read_and_taken_on(form: int, rules: Path, frugal: Frugal, own_home: Path) -> None:
    frugal("tidy", "rules.toml", "--yes")
    (file,) = own_home.rglob("journal.sqlite")
    with sqlite3.connect(file) as db:
        no_clock = "DROP TABLE clock; DROP TABLE forgotten; DROP TABLE waiting; ALTER TABLE runs DROP COLUMN passed_ns;"
        lacking = {
            5: f"{no_clock} DROP TABLE visits; ALTER TABLE runs DROP COLUMN visit;",
            6: f"{no_clock} ALTER TABLE visits DROP COLUMN passed_ns;",
        }
        db.executescript(f"{lacking.get(form, '')} ALTER TABLE marks DROP COLUMN code; PRAGMA user_version = {form};")
    db.close()
    assert "done" in frugal("history").stdout  # a reader changes nothing
    assert sqlite3.connect(file).execute("PRAGMA user_version").fetchone() == (form,)
    frugal("undo", "--yes")
    assert sqlite3.connect(file).execute("PRAGMA user_version").fetchone() == (SCHEMA,)
    assert [one["outcome"] for one in visits(frugal)] == ["done"] * min(form - 4, 2) and (rules.parent / "Intake/1.log").exists()


def test_the_history_shows_the_last_month_and_how_to_see_more(rules: Path, frugal: Frugal, own_home: Path) -> None:
    for _ in range(24):
        frugal("tidy", str(rules), "--yes")
    (file,) = own_home.rglob("journal.sqlite")
    assert "earlier" not in frugal("history").stdout
    for old, earlier in ((3, "3 earlier lines"), (24, "4 earlier lines")):
        with sqlite3.connect(file) as db:
            for table in ("visits", "runs"):
                db.execute(f"UPDATE {table} SET began_ns = began_ns - 3000000000000000 WHERE id <= {old}")
        said = frugal("history").stdout
        assert earlier in said
        (more,) = [line for line in said.splitlines() if "earlier" in line]
        since = more.partition("--since ")[2].split()[0]
        assert frugal("history", "--since", since).stdout.count("tidy ") == 24 > said.count("tidy ")
    assert len(visits(frugal)) == 24


@pytest.mark.parametrize("words", [("undo", "--yes"), ("undo", "1", "--dry-run"), ("history", "1"), ("history", "--file", "*")])
def test_steps_of_a_newer_version_are_named_and_nothing_is_done(
    rules: Path, frugal: Frugal, own_home: Path, words: tuple[str, ...]
) -> None:
    put(rules.parent / "Intake/1.log")
    frugal("tidy", str(rules), "--yes")
    (file,) = own_home.rglob("journal.sqlite")
    with sqlite3.connect(file) as db:
        for number, blob in db.execute("SELECT id, steps FROM packs").fetchall():
            columns = json.loads(zlib.decompress(blob))
            columns[0] = ["engrave" if verb == "move" else verb for verb in columns[0]]
            db.execute("UPDATE packs SET steps = ? WHERE id = ?", (zlib.compress(json.dumps(columns).encode()), number))
    before = contents(rules.parent)
    said = frugal(*words, code=2).stderr
    assert "does not know: 'engrave'; use the version" in said and said.count("\n") == 1
    assert contents(rules.parent) == before and "tidy" in frugal("history", code=2).stdout


def test_what_is_written_down_is_read_back(folder: Path) -> None:
    visit = Visit(
        "schedule", "n\udcff", "frugal 'x\udcff'", "/srv/r.toml", "maren", 5, 7, 5, 1, "done", "a \udcff", {"move": Amount(1, 2, 3, 4)}, 9,
        10, 11, {"PATH": "/bin"}, amount=Amount(1, 2, 0, 5),
    )  # fmt: skip
    with Journal(folder, write=True) as journal:
        assert journal.record(visit) == 1
        (found,) = journal.visits()
        assert found == Visit(**{name: getattr(visit, name) for name in visit.__match_args__ if name not in ("id",)}, id=1)
        assert journal.visits("n\udcff", 7) == [found] and journal.visits("other") == journal.visits(None, 8) == []
        # Runs and visits that ended long ago are forgotten together.
        journal.believe(10**9, lambda: True)
        journal.believe(10**18, lambda: True, is_confirmed=True)
        journal.forget(0)
        assert journal.visits() == []


def test_the_way_to_have_it_done_by_itself_is_offered_once(rules: Path, frugal: Frugal) -> None:
    first = frugal("tidy", "rules.toml", "--yes").stdout
    assert first.splitlines()[-1] == f"To run this every day: frugal schedule add tidy --at 'daily 18:00' -- tidy {rules}"
    put(rules.parent / "Intake/9.log")
    assert "schedule add" not in frugal("tidy", "rules.toml", "--yes").stdout
    line = frugal("sort", "Intake", "--into", "{type}", "--levels", "all", "--yes").stdout.splitlines()[-1]
    assert "schedule add sort" in line and line.endswith("-- sort Intake --into '{type}' --levels all")


# What is in the way of a job, and whether a person must hear of it.
IN_THE_WAY = {
    "the volume of the target is away": ('[places]\nstore = {{ path = "{F}/usb", mounted = true }}\n', 'move = "{store}/N"', "not mounted"),
    "folder is missing": ("", 'in = "Gone"\nmove = "N"', "missing"), "it must be asked": ("", 'move = "N"\nask = true', "has `ask = true`"),
    "a value is missing": ("", 'move = "N/{artist}"', "no value"), "a step fails": ("", 'move = "N"', "a.log"),
    "it is outside its hours": ("", 'move = "N"\nduring = "{ELSE}"', ""), "nothing matches": ("", 'move = "N"\nlevels = 1', ""),
}  # fmt: skip


@pytest.mark.skipif(not shutil.which("chattr") or os.geteuid() != 0, reason="a step fails for root only on an immutable file")
@pytest.mark.parametrize("what", IN_THE_WAY)
@pytest.mark.parametrize("driver", ["person", "schedule"])
def test_what_became_of_a_visit_is_told_everywhere_alike(folder: Path, frugal: Frugal, what: str, driver: str) -> None:
    head, rule, told = IN_THE_WAY[what]
    if what == "it must be asked" and driver == "person":
        told = ""  # it was said at once, to somebody who is there
    (folder / "tell.sh").write_text(f"#!/bin/sh\ncat > {folder}/told\n")
    (folder / "tell.sh").chmod(0o755)
    put(Path(str(settings_file())), f'[on-problem]\nrun = ["{folder}/tell.sh"]\n')
    put(folder / f"Intake/a.{'txt' if what == 'nothing matches' else 'log'}", "x", 40)
    weekday = "mon tue wed thu fri sat sun".split()[(datetime.now().weekday() + 3) % 7]
    text = rules_text(
        f'where = "ext is log"\n{rule}'.replace("{ELSE}", weekday),
        head=head.replace("{F}", str(folder)).replace("{{", "{").replace("}}", "}"),
    )
    rules = put(folder / "rules.toml", text)
    if what == "a step fails":
        subprocess.run(["chattr", "+i", folder / "Intake/a.log"], check=True)
    try:
        words = ("tidy", rules, "--yes", "--log", folder / "owner.log")
        done = frugal(*(("visit", "nightly", "--in", folder, "--", *words) if driver == "schedule" else words), code=None)
    finally:
        subprocess.run(["chattr", "-i", folder / "Intake/a.log"], check=False, capture_output=True)
    (visit,) = json.loads(frugal("history", "--format", "json").stdout)["visits"]
    assert done.returncode == (1 if told else 0), done.stdout
    assert (visit["outcome"], bool(visit["reason"])) == (
        "failed" if told and what != "a step fails" else "done" if told else "nothing to do",
        bool(told),
    )
    assert told in visit["reason"] and told in (folder / "owner.log").read_text()
    assert (folder / "told").exists() is bool(told and driver == "schedule")
    if driver == "schedule":
        assert (told in frugal("history").stdout) and ("No problems" in frugal("report", "--format", "text").stdout) is not bool(
            told
        )
