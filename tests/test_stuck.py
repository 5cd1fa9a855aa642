"""Nothing gets stuck, torn or doubled; whatever lies in a folder costs bounded time; no traceback."""

from __future__ import annotations

import bz2
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tarfile
import time
from contextlib import suppress
from pathlib import Path

import pytest

from frugal_sorter.errors import FrugalError, StateError
from frugal_sorter.execution.executor import Result, changing
from frugal_sorter.execution.recovery import recover_interrupted, state_after_crash
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import load_plan, save_plan
from frugal_sorter.platforms import disk
from frugal_sorter.reasons import Outcome
from frugal_sorter.state import forget_all, ready_state_folder
from frugal_sorter.steps.kinds import KINDS, VerbName
from frugal_sorter.steps.step import RunContext, refuse_malformed, step_as_line, verbs_for
from tests.conftest import AS_ROOT, WITHOUT_RIGHTS, Frugal, Mount
from tests.served import Served
from tests.support import THOROUGH, book_of, carry_out, contents, done_by, plan_of, put, rules_text, snapshot, undo

EVERYTHING = 'where = "everything"\n'
SHM = Path("/dev/shm")


def tidy(folder: Path, *rules: str) -> Result:
    return carry_out(plan_of(book_of(folder, *rules)))


@pytest.fixture
def other() -> object:
    """A folder on another volume than that of the tests."""
    if not SHM.is_dir():
        pytest.skip("there is no second volume here")
    path = SHM / f"frugal-stuck-{os.getpid()}"
    path.mkdir()
    yield path
    subprocess.run(["chmod", "-R", "u+w", path], check=False)
    subprocess.run(["rm", "-rf", path], check=False)


# Volumes that are away


@AS_ROOT
@pytest.mark.parametrize("kind", ["file", "folder"])
def test_nothing_is_decided_about_a_volume_that_is_away(folder: Path, frugal: Frugal, mount: Mount, kind: str) -> None:
    usb = mount("ext4", "usb")
    (folder / "Intake").mkdir()
    put(usb / "in/proj/a.txt", "x") if kind == "folder" else put(usb / "in/a.txt", "x")
    take, where = ("folders", "name is proj") if kind == "folder" else ("files", "ext is txt")
    rule = f'in = "{usb}/in"\ntake = "{take}"\nwhere = "{where}"\nmove = "{folder}/Intake"'
    put(folder / "rules.toml", rules_text(rule))
    code = f"""
import os, sys
from frugal_sorter.cli.main import main
from frugal_sorter.platforms import disk
disk.{"unlink" if kind == "file" else "rmdir"} = lambda *_args, **_more: os._exit(9)
main(["tidy", "rules.toml", "--yes"])
"""
    assert subprocess.run([sys.executable, "-c", code], cwd=folder, capture_output=True).returncode == 9
    before = {**snapshot(usb), **snapshot(folder / "Intake")}
    subprocess.run(["umount", usb], check=True)
    forget_all()
    put(folder / "other.toml", rules_text('in = "Empty"\nwhere = "everything"\nmove = "x"'))
    (folder / "Empty").mkdir()
    for words in (["tidy", "other.toml", "--yes"], ["history"], ["inventory", "Empty"], ["preview", "other.toml"]):
        said = frugal(*words).stderr
        assert "run 1" in said and "interrupted" in said and str(usb) in said, (words, said)
    subprocess.run(["mount", "-o", "loop", folder / "usb.img", usb], check=True)
    forget_all()
    assert {**snapshot(usb), **snapshot(folder / "Intake")} == before
    assert "cleaned up" in frugal("tidy", "other.toml", "--yes").stderr
    assert "interrupted" not in frugal("history").stderr
    found = [*usb.rglob("a.txt"), *(folder / "Intake").rglob("a.txt")]
    assert len(found) == 1 and found[0].read_text() == "x"
    assert not [*usb.rglob(".frugal-*"), *(folder / "Intake").rglob(".frugal-*")]
    frugal("undo", "1", "--yes")
    assert [path.read_text() for path in usb.rglob("a.txt")] == ["x"]


# Names that are no letters, plans and journals that are damaged


def test_a_reason_may_hold_any_bytes(folder: Path) -> None:
    bad = folder / "Intake/bad\udcff"
    bad.mkdir(parents=True)
    os.mkfifo(bad / "pipe")
    result = tidy(folder, 'take = "folders"\nwhere = "everything"\npack = "P/z.zip"')
    assert not result.done
    with Journal(ready_state_folder(), write=False) as journal:
        assert any("bad\udcff" in mark.reason for _, mark in journal.steps(result.run) if mark)


def test_a_step_that_cannot_be_settled_is_set_apart_and_the_rest_goes_on(folder: Path) -> None:
    for name in ("a.txt", "b.txt", "c.txt"):
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, EVERYTHING + "delete = true"))
    plan.steps[1].was = None
    with Journal(ready_state_folder(), write=True) as journal:
        run = journal.begin(plan, plan.made_ns)
        (settled,) = recover_interrupted(journal)
        assert [mark.outcome for _, mark in journal.steps(run) if mark][:3] == [
            Outcome.SKIPPED, Outcome.OPEN, Outcome.SKIPPED,
        ]  # fmt: skip
        assert len(settled.apart) == 1 and "b.txt" in settled.apart[0] and journal.run(run).state == "interrupted"
    assert tidy(folder, EVERYTHING + "delete = true").done.steps == 3


def test_every_verb_has_a_shape_and_what_does_not_fit_it_is_refused() -> None:
    from frugal_sorter.changes.descriptors import Descriptors

    with Descriptors() as descriptors:
        assert set(verbs_for(RunContext(descriptors))) == set(KINDS) == set(VerbName.__args__)  # type: ignore[attr-defined]


def _mutated(line: dict[str, object], chance: random.Random) -> dict[str, object]:
    """Return a step as somebody could have damaged it."""
    line = json.loads(json.dumps(line))
    key = chance.choice([*line, "args", "group"])
    bad = [None, -1, 1 << 70, "", "x", [], {}, [1], {"a": 1}, True, "/", "/../x", "\0", 1.5, ["file", 1, 1, 1, 1], "/a/./b"]
    how = chance.random()
    if how < 0.3:
        line.pop(key, None)
    elif how < 0.7:
        line[key] = chance.choice(bad)
    elif isinstance(line.get(key), (dict, list)) and line[key]:
        inner = line[key]
        at = chance.choice(list(inner)) if isinstance(inner, dict) else chance.randrange(len(inner))  # type: ignore[arg-type]
        inner[at] = chance.choice(bad)  # type: ignore[index]
    else:
        line["more"] = chance.choice(bad)
    return line


def test_a_mutated_plan_is_refused_or_carried_out_as_it_says_and_bricks_nothing(folder: Path) -> None:
    chance = random.Random(14)
    rules = (
        'where = "ext is tmp"\ndelete = true', 'where = "ext is log"\nmove = "L"\ntag = "t"\nlink = "K"',
        'where = "ext is csv"\npack = "P/all.zip"', 'where = "ext is txt"\ncopy = "C"\nrun = ["/bin/true"]\ntrash = true',
    )  # fmt: skip
    for name in ("a.tmp", "b.log", "c.csv", "d.txt"):
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, *rules))
    save_plan(plan, folder / "good.plan")
    head, *lines = (folder / "good.plan").read_text().splitlines()
    refused = 0
    for number in range(300):
        at = chance.randrange(len(lines))
        changed = [*lines[:at], json.dumps(_mutated(json.loads(lines[at]), chance)), *lines[at + 1 :]]
        path = folder / f"{number}.plan"
        path.write_text("\n".join([head, *changed]))
        path.chmod(0o600)
        try:
            loaded = load_plan(path)
        except FrugalError:
            refused += 1
            continue
        for step in loaded.steps:
            refuse_malformed(step)
            step_as_line(step)
        # Nothing that was loaded can make the settling fail.
        with Journal(ready_state_folder(), write=True) as journal:
            run = journal.begin(loaded, loaded.made_ns)
            assert len(state_after_crash(journal, journal.run(run))) == len(loaded.steps)
            recover_interrupted(journal)
    assert 100 < refused < 300


def test_a_damaged_journal_is_named_with_its_remedy(folder: Path) -> None:
    for number in range(40):
        put(folder / f"Intake/{number}.txt")
    tidy(folder, EVERYTHING + 'move = "L"')
    path = ready_state_folder() / "journal.sqlite"
    good = path.read_bytes()
    chance = random.Random(3)

    def read_all() -> None:
        with changing(ready_state_folder(), "test") as journal:
            for run in journal.runs():
                assert len(list(journal.steps(run.id))) >= 0 and journal.counts(run.id) is not None
                state_after_crash(journal, run)

    def as_good(raw: bytes) -> None:
        for name in ("journal.sqlite-wal", "journal.sqlite-shm"):
            (path.parent / name).unlink(missing_ok=True)
        path.write_bytes(raw)

    def look_at(what: str) -> None:
        try:
            read_all()
        except StateError as refused:
            assert refused.hint, what

    for number in range(600 if THOROUGH else 40):
        raw = bytearray(good)
        for _ in range(chance.choice([1, 20, 300])):
            raw[chance.randrange(len(raw))] = chance.randrange(256)
        as_good(bytes(raw))
        look_at(f"random {number}")

    def changed(statement: str) -> None:
        as_good(good)
        with sqlite3.connect(path) as db, suppress(sqlite3.IntegrityError):
            db.execute(statement)  # what the tables themselves refuse cannot come about
        db.close()
        look_at(statement)

    for statement in ("delete from folders", "delete from rules", "drop table packs", "update marks set now = '[1]'"):
        changed(statement)
    values = ("NULL", "0", "1", "-1", "99", "1 << 60", "1.5", "'x'", "'{'", "'[[1]]'", "'open'", "x'00'", "x'ff'")
    with sqlite3.connect(path) as db:
        tables = [name for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        columns = [(table, row[1]) for table in tables for row in db.execute(f"PRAGMA table_info({table})")]
    db.close()
    assert ("runs", "undoes") in columns
    for table, column in columns:
        for value in values:
            changed(f"update or ignore {table} set {column} = {value}")


def test_a_long_chain_of_undos_is_read_without_recursion(folder: Path) -> None:
    put(folder / "Intake/a.txt")
    tidy(folder, EVERYTHING + 'move = "L"')
    undo()
    with sqlite3.connect(ready_state_folder() / "journal.sqlite") as db:
        for number in range(3, 1_500):
            db.execute(
                "INSERT INTO runs SELECT NULL, kind, origin, ?, backward, account, began_ns, ended_ns, state, counts,"
                " token, volumes, visit, passed_ns FROM runs WHERE id = 2", (number - 1,),
            )  # fmt: skip
            db.execute("INSERT INTO packs SELECT NULL, ?, first, steps FROM packs WHERE run = 2", (number,))
            db.execute(
                "INSERT INTO marks SELECT NULL, ?, first, last, outcome, reason, code, now, data FROM marks WHERE run = 2",
                (number,),
            )
    db.close()
    with changing(ready_state_folder(), "test") as journal:
        runs = {run.id: run for run in journal.runs()}
    assert len(runs) == 1_499 and runs[1_499].undone_by is None


# Groups


@pytest.mark.parametrize("more", ['run = ["/bin/true"]', 'link = "K"', 'comment = "hi"\ntag = "t"', 'copy = "C"\ntag = "t"'])
def test_a_move_to_another_volume_is_done_with_all_that_goes_with_it_and_undone(folder: Path, other: Path, more: str) -> None:
    put(folder / "Intake/a.txt", "x")
    before = snapshot(folder / "Intake")
    result = tidy(folder, f'where = "ext is txt"\nmove = "{other}"\n{more}')
    assert not result.not_done and (other / "a.txt").exists()
    undo()
    after = snapshot(folder / "Intake")
    # What a program did is not taken back, so that the folders are not as they were.
    root = os.fsencode(folder / "Intake")
    assert after.pop(root)._replace(mtime_ns=0) == before.pop(root)._replace(mtime_ns=0) and after == before
    assert not list(other.iterdir())


def test_a_tag_is_not_left_on_the_other_name_of_a_file_that_went_to_another_volume(folder: Path, other: Path) -> None:
    put(folder / "Intake/a.txt", "x")
    os.link(folder / "Intake/a.txt", folder / "kept.txt")
    tidy(folder, f'where = "ext is txt"\nmove = "{other}"\ntag = "t"')
    assert os.getxattr(other / "a.txt", "user.xdg.tags") == b"t" and not os.listxattr(folder / "kept.txt")
    undo()
    assert not os.listxattr(folder / "kept.txt") and not os.listxattr(folder / "Intake/a.txt")
    assert not list(other.iterdir())


@AS_ROOT
@pytest.mark.parametrize("ending", ["move", "delete"])
def test_a_folder_of_which_not_all_can_go_stays_whole(folder: Path, other: Path, ending: str) -> None:
    for name in "abcd":
        put(folder / f"Intake/c/{name}/f", name)
    rule = f'move = "{other}"' if ending == "move" else "delete = true"
    put(folder / "rules.toml", rules_text(f'take = "folders"\n{EVERYTHING}{rule}'))
    (folder / "Intake/c/b").chmod(0o555)
    words = [*WITHOUT_RIGHTS, sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"]
    before = contents(folder / "Intake")
    for _ in range(2):
        done = subprocess.run(words, cwd=folder, capture_output=True, text=True)
        assert done.returncode == 1 and "has no permission to remove files from b inside" in done.stdout, (
            done.stdout + done.stderr
        )
        assert contents(folder / "Intake") == before and not list(other.rglob("*"))


@AS_ROOT
def test_what_fails_in_the_middle_of_removing_a_folder_is_copied_back(
    folder: Path, other: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in "abcd":
        put(folder / f"Intake/c/{name}/f", name).chmod(0o640)
    before = {path: seen._replace(mtime_ns=0) for path, seen in snapshot(folder / "Intake").items()}
    plan = plan_of(book_of(folder, f'take = "folders"\n{EVERYTHING}move = "{other}"'))
    real, count = os.unlink, 0

    def fails_at_the_third(*args: object, **more: object) -> None:
        nonlocal count
        count += 1
        if count == 3:
            raise PermissionError(1, "Operation not permitted")
        real(*args, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(disk, "unlink", fails_at_the_third)
    result = carry_out(plan)
    assert not result.done
    assert {path: seen._replace(mtime_ns=0) for path, seen in snapshot(folder / "Intake").items()} == before
    assert not list(other.iterdir())


@AS_ROOT
def test_an_undo_that_fails_half_way_is_put_back_whole_and_can_be_finished(folder: Path) -> None:
    put(folder / "Intake/a/x.txt", "x")
    put(folder / "Intake/b/y.txt", "y")
    put(folder / "rules.toml", rules_text('levels = "all"\nwhere = "ext is txt"\npack = "P/z.zip"'))

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        command = [*WITHOUT_RIGHTS, sys.executable, "-m", "frugal_sorter", *words, "--yes"]
        return subprocess.run(command, cwd=folder, capture_output=True, text=True)

    assert run("tidy", "rules.toml").returncode == 0
    packed = contents(folder / "Intake")
    (folder / "Intake/a").chmod(0o555)
    assert run("undo", "1").returncode == 1 and contents(folder / "Intake") == packed
    (folder / "Intake/a").chmod(0o755)
    done = run("undo", "1")
    assert done.returncode == 0, done.stdout + done.stderr
    assert sorted(path.name for path in (folder / "Intake").rglob("*.*")) == ["x.txt", "y.txt"]


@AS_ROOT
def test_a_rename_in_case_alone_is_undone_where_case_is_ignored(folder: Path, frugal: Frugal, mount: Mount) -> None:
    volume = mount("exfat")
    put(volume / "in/Ab.txt", "x")
    put(folder / "rules.toml", rules_text(f'in = "{volume}/in"\nwhere = "ext is txt"\nrename = "{{stem}}.TXT"'))
    frugal("tidy", "rules.toml", "--yes")
    assert os.listdir(volume / "in") == ["Ab.TXT"]
    frugal("undo", "--yes")
    assert os.listdir(volume / "in") == ["Ab.txt"]


def test_a_new_folder_that_nothing_came_into_does_not_stay(folder: Path) -> None:
    for name in ("a.txt", "b.log"):
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, 'where = "ext is txt"\nmove = "T/{modified:%Y}"', 'where = "ext is log"\nmove = "L"'))
    (folder / "Intake/a.txt").write_text("changed since")
    result = carry_out(plan)
    assert result.done.steps == 1 and sorted(os.listdir(folder / "Intake")) == ["L", "a.txt"]
    undo()
    assert sorted(os.listdir(folder / "Intake")) == ["a.txt", "b.log"]


@pytest.mark.parametrize("ending", ["delete = true", "trash = true", 'move = "Out"', 'pack = "P/z.zip"'])
@pytest.mark.parametrize("place", ["proj/.git", "proj/deep/er/.hg"])
def test_a_tree_under_version_control_is_left_whole_also_as_an_entry(folder: Path, ending: str, place: str) -> None:
    put(folder / "Intake" / place / "HEAD", "ref")
    plan = plan_of(book_of(folder, f'take = "folders"\n{EVERYTHING}{ending}'))
    assert not plan.asked and "version-controlled" in plan.not_touched[0].reason
    put(folder / "New/proj/x.txt")
    plan = plan_of(book_of(folder, f'in = "New"\ntake = "folders"\n{EVERYTHING}move = "../Intake"\nclash = "replace"'))
    assert not plan.asked and "version-controlled" in plan.not_touched[0].reason


# Numbers of runs


def test_the_numbers_of_runs_never_come_again(folder: Path) -> None:
    for number in range(3):
        put(folder / f"Intake/{number}.txt")
        assert tidy(folder, 'where = "ext is txt"\nmove = "M"').run == number + 1
        with Journal(ready_state_folder(), write=True) as journal:
            journal._file.connection.execute("DELETE FROM runs")


# Bounds and signals


def test_a_program_that_leaves_something_in_the_background_is_not_waited_for(folder: Path) -> None:
    put(folder / "Intake/a")
    began = time.monotonic()
    result = tidy(folder, EVERYTHING + 'run = ["sh", "-c", "sleep 30 & echo started"]')
    assert done_by(result) == {"run": 1} and time.monotonic() - began < 20


@pytest.mark.parametrize("what", ["program", "archive"])
def test_a_run_hears_that_it_is_to_end_while_something_takes_long(folder: Path, what: str) -> None:
    rule = 'run = ["sleep", "50"]'
    put(folder / "Intake/a.txt")
    if what == "archive":
        rule = 'unpack = "U/{name}"'
        header = tarfile.TarInfo("big")
        header.size = 90_000_000
        raw = bz2.compress(header.tobuf(tarfile.GNU_FORMAT)) + bz2.compress(bytes(100_000_000)) * 300
        put(folder / "Intake/a.txt", b"").write_bytes(raw)
    put(folder / "rules.toml", rules_text(EVERYTHING + rule))
    program = subprocess.Popen(
        [sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"], cwd=folder,
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    until = time.monotonic() + 30
    journal = ready_state_folder() / "journal.sqlite"

    def is_at_it() -> bool:
        if not journal.exists():
            return False
        with sqlite3.connect(f"file:{journal}?mode=ro", uri=True) as db:
            found = db.execute("SELECT name FROM sqlite_master WHERE name = 'marks'").fetchall()
            began = bool(found and db.execute("SELECT 1 FROM marks").fetchall())
        db.close()
        return began

    while not is_at_it() and program.poll() is None and time.monotonic() < until:
        os.sched_yield()
    program.send_signal(signal.SIGTERM)
    out, err = program.communicate(timeout=20)
    assert program.returncode in (1, 143) and b"Traceback" not in err, out + err
    assert (folder / "Intake/a.txt").exists() and not list(folder.rglob(".frugal-*"))


@pytest.mark.parametrize("kind", ["link to nothing", "links in a circle", "link to itself", "pax of 3 GB", "says 40 GB", "bad time", "deep", "file as a folder"])  # fmt: skip
def test_an_archive_that_is_a_trap_is_refused_in_bounded_time(folder: Path, kind: str) -> None:
    path = folder / "Intake/a.tar"
    path.parent.mkdir()

    def add(tar: tarfile.TarFile, name: str, type_: bytes = tarfile.REGTYPE, link: str = "", **more: object) -> None:
        member = tarfile.TarInfo(name)
        member.type, member.linkname = type_, link
        for key, value in more.items():
            setattr(member, key, value)
        tar.addfile(member)

    if kind == "pax of 3 GB":
        header = tarfile.TarInfo("pax")
        header.type, header.size = tarfile.XHDTYPE, 3_000_000_000
        path = path.with_suffix(".tar.bz2")
        path.write_bytes(bz2.compress(header.tobuf(tarfile.GNU_FORMAT)) + bz2.compress(bytes(50_000_000)) * 60)
    elif kind == "says 40 GB":
        header = tarfile.TarInfo("big")
        header.size = 40_000_000_000
        path = path.with_suffix(".tar.bz2")
        path.write_bytes(bz2.compress(header.tobuf(tarfile.GNU_FORMAT)) + bz2.compress(bytes(50_000_000)) * 100)
    else:
        with tarfile.open(path, "w") as tar:
            if kind == "link to nothing":
                add(tar, "a", tarfile.LNKTYPE, "nothere")
            elif kind == "links in a circle":
                add(tar, "a", tarfile.LNKTYPE, "b")
                add(tar, "b", tarfile.LNKTYPE, "a")
            elif kind == "link to itself":
                add(tar, "a", tarfile.LNKTYPE, "a")
            elif kind == "bad time":
                add(tar, "a", mtime=10**17)
            elif kind == "deep":
                add(tar, "d/" * 3_000 + "f")
            else:
                add(tar, "a")
                add(tar, "a/b")
    before = path.read_bytes()
    result = tidy(folder, 'where = "type is archive"\nunpack = "U/{name}"')
    if kind == "bad time":
        assert result.done and (folder / "Intake/U/a.tar/a").exists()
        return
    assert not result.done and Outcome.FAILED in {mark.outcome for _, mark in result.not_done}
    assert path.read_bytes() == before and not (folder / "Intake/U").exists()


DATES = [-62_135_596_801, -62_135_596_800, -1, 0, 4_102_444_800, 10_413_792_000, 253_402_300_800, 10**15]


@AS_ROOT
def test_any_date_of_a_file_and_any_depth_of_a_folder_is_met_without_a_traceback(
    folder: Path, own_home: Path, served: Served, mount: Mount, request: pytest.FixtureRequest
) -> None:
    # Whatever happens: pytest itself cannot take away what is so deep, and says so at the end of a later run.
    request.addfinalizer(lambda: subprocess.run(["rm", "-rf", folder, own_home], check=False))
    volume = mount("tmpfs")
    for number, seconds in enumerate(DATES):
        put(volume / f"in/{number}.txt", "same" * 30_000)
        try:
            os.utime(volume / f"in/{number}.txt", ns=(seconds * 10**9, seconds * 10**9))
        except (OverflowError, OSError):
            subprocess.run(["touch", "-d", f"@{seconds}", volume / f"in/{number}.txt"], check=False)
    deep = volume / "in/deep"
    deep.mkdir()
    descriptor = os.open(deep, os.O_RDONLY)
    for _ in range(1_100):  # more than Python calls itself
        os.mkdir("d", dir_fd=descriptor)
        below = os.open("d", os.O_RDONLY, dir_fd=descriptor)
        os.close(descriptor)
        descriptor = below
    os.close(descriptor)
    put(folder / "rules.toml", rules_text(
        f'in = "{volume}/in"\nwhere = "modified before 1990 or modified after 2100"\nmove = "{{modified:%Y}}"'
    ))  # fmt: skip
    for words in (
        ["inventory", volume / "in"], ["inventory", volume / "in", "--by", "age"], ["inventory", volume / "in", "--listing"],
        ["inventory", volume / "in", "--format", "json"], ["duplicates", volume / "in"], ["forecast", volume / "in"],
        ["purge", volume / "in", "--older-than", "1 day"], ["preview", "rules.toml"], ["explain", volume / "in/0.txt", "--rules", "rules.toml"],
        ["inventory", volume / "in", "--save", folder / "kept"], ["compare", folder / "kept", volume / "in"],
    ):  # fmt: skip
        done = served.run(words, folder, os.environ)
        assert "Traceback" not in done.stderr and done.returncode in (0, 1, 2, 3), (words, done.stderr[-800:])
    for ending in (
        "trash = true",
        f'move = "{folder}/Out"',
        f'copy = "{folder}/C"',
        f'pack = "{folder}/P/z.zip"',
        "delete = true",
    ):
        rule = f'in = "{volume}/in"\ntake = "folders"\nwhere = "name is deep"\n{ending}'
        (folder / "rules.toml").write_text(rules_text(rule))
        done = served.run(["tidy", "rules.toml", "--yes"], folder, os.environ)
        assert "Traceback" not in done.stderr and done.returncode in (0, 1), (ending, done.stderr[-800:])
        if "delete" not in ending:
            served.run(["undo", "--yes"], folder, os.environ)
        assert deep.exists() or "delete" in ending, ending


@pytest.mark.parametrize("stream", ["closed", "full"])
@pytest.mark.parametrize(
    "words", [["preview", "rules.toml"], ["inventory", "Intake"], ["history"], ["tidy", "rules.toml", "--yes"], ["--help"]]
)
def test_an_output_that_takes_nothing_is_no_traceback_and_stops_no_run(folder: Path, stream: str, words: list[str]) -> None:
    for name in ("a.txt", "b.txt"):
        put(folder / "Intake" / name)
    put(folder / "rules.toml", rules_text('where = "ext is txt"\nmove = "T"'))
    program = f"{sys.executable} -m frugal_sorter {' '.join(words)} {'>&-' if stream == 'closed' else '>/dev/full'}"
    done = subprocess.run(["sh", "-c", program], cwd=folder, stdin=subprocess.DEVNULL, capture_output=True, text=True)
    assert "Traceback" not in done.stderr and "Exception ignored" not in done.stderr and done.returncode in (0, 1, 120), (
        done.stderr
    )
    if words[0] == "tidy":
        # A list that cannot be printed is nothing that anybody agreed to.
        moved = folder / "Intake" / ("T" if stream == "closed" else "")
        assert sorted(os.listdir(moved)) == ["a.txt", "b.txt"]
        with Journal(ready_state_folder(), write=False) as journal:
            assert not journal.interrupted_runs()


@AS_ROOT
@pytest.mark.parametrize(
    "what", ["full", "lock is a folder", "lock is a link to nowhere", "lock is empty", "journal is a folder"]
)
def test_a_state_folder_that_cannot_be_used_is_named(folder: Path, frugal: Frugal, mount: Mount, what: str) -> None:
    put(folder / "Intake/a.txt")
    put(folder / "rules.toml", rules_text('where = "ext is txt"\nmove = "T"'))
    if what == "full":
        state = mount("tmpfs", "state", size="1m")
        filler = os.open(state / "filler", os.O_WRONLY | os.O_CREAT)
        with pytest.raises(OSError, match="No space"):
            while True:
                os.write(filler, bytes(4_096))
        os.close(filler)
        said = frugal("tidy", "rules.toml", "--yes", code=2, XDG_STATE_HOME=str(state)).stderr
        assert str(state) in said and (folder / "Intake/a.txt").exists()
        return
    frugal("history")
    place = ready_state_folder()
    lock, journal = place / "writer.lock", place / "journal.sqlite"
    code = 2
    if what == "lock is a folder":
        lock.mkdir()
    elif what == "lock is a link to nowhere":
        lock.symlink_to("/nonexistent/x")
    elif what == "lock is empty":
        lock.write_bytes(b"")
        code = 0
    else:
        journal.mkdir()
    said = frugal("tidy", "rules.toml", "--yes", code=code).stderr
    assert code == 0 or ((str(place) in said and "rename" in said) or "rename it" in said), said


@pytest.mark.parametrize(
    "text",
    ["a." * 5_000 + "a = 1", "x = " + "9" * 6_000, "x = " + "[" * 3_000 + "]" * 3_000, "x = " + "{a = " * 2_000 + "1" + "}" * 2_000],
    ids=["dotted key", "digits", "lists", "tables"],
)  # fmt: skip
def test_a_rule_file_that_is_a_trap_is_a_mistake(folder: Path, frugal: Frugal, text: str) -> None:
    put(folder / "rules.toml", f"frugal = 1\n{text}\n")
    frugal("check", "rules.toml", code=2)


def test_thousands_of_rules_are_read_in_a_straight_line(folder: Path, frugal: Frugal) -> None:
    """Ten thousand took more than a minute: counted are the looks at pairs of rules, not seconds."""
    from frugal_sorter.rules import lint as check
    from frugal_sorter.rules.fields import World
    from frugal_sorter.rules.load import read_rules

    looks = 0
    real = check._sees

    def counted(*args: object) -> bool:
        nonlocal looks
        looks += 1
        return real(*args)  # type: ignore[arg-type]

    text = rules_text(*(f'where = "name is zz{number}"\nmove = "x"' for number in range(1_500)))
    book = read_rules(text.encode(), folder / "rules.toml")
    check._sees, before = counted, check._sees  # type: ignore[assignment]
    try:
        check.warnings_of(book, World(look_now(), "m", "u"))
    finally:
        check._sees = before
    assert looks < 10 * 1_500


def look_now() -> int:
    return 1_795_431_600_000_000_000


# What is set aside under a private name, and cannot be put back at once


@pytest.mark.skipif(not shutil.which("strace"), reason="strace is not installed")
@pytest.mark.parametrize("error", ["EEXIST", "EIO"])
@pytest.mark.parametrize("fails_from", [2, 3, 4])
@pytest.mark.parametrize(
    "ending",
    [
        "trash = true",
        "delete = true",
        'move = "Out"',
        'move = "OTHER/in"',
        'duplicates = {do = "hardlink"}',
        'pack = "P/all.zip"',
    ],
)
def test_what_cannot_be_put_back_at_once_is_named_and_put_back_by_the_next_command(
    folder: Path, other: Path, served: Served, ending: str, fails_from: int, error: str
) -> None:
    put(folder / "Intake/proj/a.txt", "clay")
    put(folder / "Intake/proj/b.txt", "clay")
    put(folder / "Intake/proj/c/d.txt", "glaze")
    take, levels = ("files", '"all"') if "duplicates" in ending else ("folders", "1")
    rule = f'where = "everything"\ntake = "{take}"\nlevels = {levels}\n{ending.replace("OTHER", str(other))}'
    put(folder / "rules.toml", rules_text(rule))
    held = contents(folder / "Intake")
    done = served.run(["tidy", "rules.toml", "--yes"], folder, os.environ, f"renameat2:error={error}:when={fails_from}+")
    assert done.returncode in (0, 1), done.stdout + done.stderr
    aside = list(folder.rglob(".frugal-*"))
    assert not aside or ".frugal-" in done.stdout
    if fails_from == 2 and ("trash" in ending or "Out" in ending):
        assert aside
    settled = served.run(["undo", "--yes"], folder, os.environ)
    assert settled.returncode in (0, 1, 2), settled.stdout + settled.stderr
    assert bool(aside) == ("was interrupted" in settled.stderr), settled.stderr
    assert not list(folder.rglob(".frugal-*")) and not list(other.rglob(".frugal-*"))
    if "delete" not in ending or aside:
        assert contents(folder / "Intake") == held and (folder / "Intake/proj/c/d.txt").exists()
