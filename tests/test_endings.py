from __future__ import annotations

import os
import shutil
import tarfile
import tempfile
import zipfile
from pathlib import Path

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from frugal_sorter.execution.executor import Result
from frugal_sorter.filesystem.record import place_of
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import system
from frugal_sorter.steps import archives
from tests.conftest import Frugal
from tests.support import (
    DAY_NS,
    NOW_NS,
    THOROUGH,
    Seen,
    book_of,
    carry_out,
    contents,
    done_by,
    file_names,
    moves_of,
    plan_of,
    put,
    rules_text,
    snapshot,
    trash_of,
    undo,
)  # fmt: skip

MANY = "at_most = 100000\n"


def tidy(folder: Path, *rules: str) -> Result:
    return carry_out(plan_of(book_of(folder, *rules)))


def names(folder: Path) -> list[str]:
    return sorted(str(path.relative_to(folder)) for path in folder.rglob("*") if not path.is_dir())


def same_files(one: dict[bytes, Seen], other: dict[bytes, Seen]) -> bool:
    """Compare all but the times of folders, links and packs, which are new where they were made anew."""

    def plain(found: dict[bytes, Seen]) -> dict[bytes, Seen]:
        return {path: seen._replace(mtime_ns=0) if seen.kind in "dl" or b"/P/" in path else seen for path, seen in found.items()}

    return plain(one) == plain(other)


# Clashes


@pytest.mark.parametrize(
    ("clash", "there", "age", "after", "trashed"),
    [
        ("replace", "old", 20, {"log/a.log": "new"}, {"old"}),
        ("replace", "old", 1, {"log/a.log": "new"}, {"old"}),
        ("newer", "old", 20, {"log/a.log": "new"}, {"old"}),
        ("newer", "old", 1, {"log/a.log": "old"}, {"new"}),
        ("newer", "old", 10, {"log/a.log": "old", "log/a_2.log": "new"}, set()),
        ("same", "new", 1, {"log/a.log": "new"}, {"new"}),
        ("same", "neq", 1, {"log/a.log": "neq", "log/a_2.log": "new"}, set()),
        ("number", "old", 1, {"log/a.log": "old", "log/a_2.log": "new"}, set()),
        ("skip", "old", 1, {"log/a.log": "old", "a.log": "new"}, set()),
    ],
)
def test_clashes(
    folder: Path, own_home: Path, clash: str, there: str, age: int, after: dict[str, str], trashed: set[str]
) -> None:
    put(folder / "Intake/a.log", "new")
    put(folder / "Intake/log/a.log", there, age_days=age)
    before = snapshot(folder / "Intake")
    rule = f'where = "everything"\nmove = "{{ext}}"\nclash = "{clash}"'
    tidy(folder, rule)
    assert {name: (folder / "Intake" / name).read_text() for name in names(folder / "Intake")} == after
    files = own_home / ".local/share/Trash/files"
    assert {path.read_text() for path in files.iterdir()} == trashed if trashed else not files.exists()
    assert not plan_of(book_of(folder, rule)).asked
    if clash != "skip":
        undo()
    assert snapshot(folder / "Intake") == before and not trash_of(own_home)


def test_newcomers_of_one_run_are_numbered_and_only_the_first_replaces(folder: Path, own_home: Path) -> None:
    put(folder / "Intake/X/a.log", "old")
    for number in range(3):
        put(folder / f"Intake/{number}/a.log", str(number))
    rule = 'where = "name is \'a.log\' and not folder is X"\nmove = "X"\nlevels = "all"\nclash = "replace"'
    assert done_by(tidy(folder, rule)) == {"move": 3, "trash": 1}
    assert {path.name: path.read_text() for path in (folder / "Intake/X").iterdir()} == {
        "a.log": "0",
        "a_2.log": "1",
        "a_3.log": "2",
    }
    assert list(trash_of(own_home).values()) == [str(folder / "Intake/X/a.log")]


def test_a_group_is_put_back_whole_when_its_second_half_fails(folder: Path, own_home: Path) -> None:
    put(folder / "Intake/a.log", "new")
    put(folder / "Intake/log/a.log", "old")
    plan = plan_of(book_of(folder, 'where = "everything"\nmove = "{ext}"\nclash = "replace"'))
    (folder / "Intake/a.log").write_text("written to meanwhile")
    result = carry_out(plan)
    assert not result.done and result.has_problem
    assert (folder / "Intake/log/a.log").read_text() == "old" and not trash_of(own_home)


def test_what_makes_room_but_is_taken_by_another_rule_stays_out_of_it(folder: Path) -> None:
    put(folder / "Intake/a.log", "new")
    put(folder / "Intake/log/a.log", "old")
    plan = plan_of(
        book_of(
            folder,
            'where = "everything"\nmove = "log"\nclash = "replace"',
            'in = "Intake/log"\nwhere = "everything"\nmove = "../elsewhere"',
        )
    )
    assert moves_of(plan, folder) == {"Intake/log/a.log": "Intake/elsewhere/a.log"}
    assert plan.not_touched[0].reason == "another rule acts on the file that is already at its target"


# Endings


def test_trash_has_an_info_file_and_comes_back(folder: Path, own_home: Path) -> None:
    odd = "ä %x\n\udcff.log"
    for name in ("a.log", "sub/a.log", odd):
        put(folder / "Intake" / name)
    before = snapshot(folder)
    rule = 'where = "ext is log"\ntrash = true\nlevels = "all"'
    assert done_by(tidy(folder, rule)) == {"trash": 3}
    assert not names(folder / "Intake")
    assert trash_of(own_home) == {
        "a.log": f"{folder}/Intake/a.log",
        "a.2.log": f"{folder}/Intake/sub/a.log",
        odd: f"{folder}/Intake/{odd}",
    }
    trash = own_home / ".local/share/Trash"
    info = (trash / "info/a.log.trashinfo").read_text().splitlines()
    assert info[0] == "[Trash Info]" and info[2].startswith("DeletionDate=20") and len(info) == 3
    assert (trash / "info/a.log.trashinfo").stat().st_mode & 0o777 == 0o600 and trash.stat().st_mode & 0o777 == 0o700
    undo()
    assert snapshot(folder) == before and not trash_of(own_home)
    undo(2)
    assert len(trash_of(own_home)) == 3


def test_a_trashed_folder_notes_its_size(folder: Path, own_home: Path) -> None:
    put(folder / "Intake/glaze tests/a.csv", b"x" * 700)
    put(folder / "Intake/glaze tests/deep/b.csv", b"x" * 300)
    before = snapshot(folder)
    tidy(folder, 'where = "everything"\ntake = "folders"\ntrash = true')
    trash = own_home / ".local/share/Trash"
    size, stamp, name = (trash / "directorysizes").read_text().split()
    assert (int(size), name) == (1000, "glaze%20tests")
    assert int(stamp) == int((trash / "info/glaze tests.trashinfo").stat().st_mtime)
    undo()
    assert snapshot(folder) == before


def test_deleting_is_for_good_and_said(folder: Path, own_home: Path) -> None:
    put(folder / "Intake/a.tmp")
    put(folder / "Intake/old/b.tmp")
    put(folder / "Intake/old/c/d.tmp")
    assert done_by(tidy(folder, 'where = "everything"\ntake = "items"\ndelete = true')) == {"delete": 2}
    assert not list((folder / "Intake").iterdir()) and not trash_of(own_home)
    from frugal_sorter.execution.executor import changing
    from frugal_sorter.execution.undo import plan_undo, run_to_undo
    from frugal_sorter.state import ready_state_folder

    with changing(ready_state_folder(), "test") as journal:
        plan = plan_undo(journal, run_to_undo(journal, None), NOW_NS)
    assert {left.reason for left in plan.not_touched} == {"deleted permanently"} and not plan.asked and plan.has_problem


def test_pack_keeps_every_original_until_the_zip_was_read_back(folder: Path, own_home: Path) -> None:
    for name, age in (("a.log", 10), ("b.log", 40), ("sub/a.log", 10)):
        put(folder / "Intake" / name, name * 1000, age_days=age)
    (folder / "Intake/a.log").chmod(0o640)
    before = snapshot(folder)
    rule = 'where = "ext is log"\npack = "Logs/{modified:%Y-%m}.zip"\nlevels = "all"'
    assert done_by(tidy(folder, rule)) == {"pack": 2, "trash": 3}
    with zipfile.ZipFile(folder / "Intake/Logs/2026-11.zip") as archive:
        assert sorted(archive.namelist()) == ["a.log", "sub/a.log"] and archive.testzip() is None
        assert archive.read("sub/a.log") == b"sub/a.log" * 1000
        assert archive.getinfo("a.log").external_attr >> 16 & 0o777 == 0o640
        assert archive.getinfo("a.log").date_time[:3] == (2026, 11, 13)
    after = snapshot(folder)
    assert not plan_of(book_of(folder, rule)).asked
    undo()
    assert snapshot(folder) == before and not trash_of(own_home)
    undo(2)
    assert {path for path, seen in snapshot(folder).items() if seen.kind == "-"} == {
        path for path, seen in after.items() if seen.kind == "-"
    }


def test_a_pack_of_which_one_entry_changed_is_not_made(folder: Path) -> None:
    for name in "abc":
        put(folder / f"Intake/{name}.log", name)
    plan = plan_of(book_of(folder, 'where = "ext is log"\npack = "all.zip"'))
    (folder / "Intake/b.log").write_text("changed")
    result = carry_out(plan)
    assert not result.done and "b.log: changed since" in result.not_done[0][1].reason
    assert names(folder / "Intake") == ["a.log", "b.log", "c.log"]


def test_an_edited_zip_stays_when_its_pack_is_taken_back(folder: Path) -> None:
    put(folder / "Intake/a.log")
    tidy(folder, 'where = "ext is log"\npack = "all.zip"')
    with zipfile.ZipFile(folder / "Intake/all.zip", "a") as archive:
        archive.writestr("mine.txt", "mine")
    undo()
    assert names(folder / "Intake") == ["a.log", "all.zip"]


def _zip(path: Path, members: dict[str, str]) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    with zipfile.ZipFile(path, "w") as archive:
        for name, text in members.items():
            archive.writestr(name, text)
    os.utime(path, ns=(NOW_NS - 10 * DAY_NS,) * 2)
    return path


def test_unpack_brings_everything_out_and_undo_takes_it_in(folder: Path, own_home: Path) -> None:
    _zip(folder / "Intake/glazes.zip", {"a.csv": "a", "deep/b.csv": "b", "empty/": ""})
    with tarfile.open(folder / "Intake/moulds.tar.gz", "w:gz") as tar:
        tar.add(put(folder / "cup.stl", "cup"), "in/cup.stl")
    before = snapshot(folder)
    rule = 'where = "ext in (zip, tar.gz)"\nunpack = "{stem}"'
    assert done_by(tidy(folder, rule)) == {"unpack": 2, "trash": 2}
    assert names(folder / "Intake") == ["glazes/a.csv", "glazes/deep/b.csv", "moulds/in/cup.stl"]
    assert (folder / "Intake/glazes/empty").is_dir()
    undo()
    assert snapshot(folder) == before and not trash_of(own_home)
    undo(2)
    (folder / "Intake/glazes/a.csv").write_text("edited")
    undo(3)
    assert "glazes/a.csv" in names(folder / "Intake") and "glazes.zip" in names(folder / "Intake")


def _hostile(path: Path, kind: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    if kind in ("link out", "device", "below a link", "hard link out"):
        with tarfile.open(path, "w:gz") as tar:
            info = tarfile.TarInfo("door")
            info.type = {"device": tarfile.CHRTYPE, "hard link out": tarfile.LNKTYPE}.get(kind, tarfile.SYMTYPE)
            info.linkname = "../../outside" if kind != "below a link" else "in"
            tar.addfile(info)
            if kind == "below a link":
                tar.addfile(tarfile.TarInfo("door/through.txt"))
        return
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        if kind == "bomb":
            archive.writestr("zeros", bytes(120_000_000))
        elif kind == "entries":
            for number in range(1_000):
                archive.writestr(f"{number}", b"")
        elif kind == "twice":
            archive.writestr("a", "1")
            archive.writestr("./a", "2")
        else:
            archive.writestr(
                {"absolute": "/tmp/outside", "up": "../outside", "backslash": "..\\outside", "drive": "C:/x"}[kind], "x"
            )


@pytest.mark.parametrize(
    "kind",
    ["absolute", "up", "backslash", "drive", "link out", "hard link out", "below a link", "device", "bomb", "entries", "twice", "torn"],
)  # fmt: skip
def test_a_hostile_archive_is_refused_without_a_file_outside(
    folder: Path, own_home: Path, kind: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(archives, "MOST_ENTRIES", 500)
    name = "bad.tar.gz" if kind in ("link out", "device", "below a link", "hard link out") else "bad.zip"
    path = folder / "Intake" / name
    if kind == "torn":
        _zip(path, {"a": "a" * 1000})
        path.write_bytes(path.read_bytes()[:-30])
    else:
        _hostile(path, kind)
    before = snapshot(folder)
    result = tidy(folder, 'where = "ext in (zip, tar.gz)"\nunpack = "{stem}"')
    assert not result.done and result.has_problem and not trash_of(own_home)
    assert same_files(snapshot(folder), before)


def test_names_that_are_one_name_on_a_volume_are_told_before_anything_comes_out(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    _zip(folder / "Intake/both.zip", {"A.txt": "one", "sub/x": "x", "a.TXT": "other"})
    before = snapshot(folder)
    with monkeypatch.context() as there:
        there.setattr(system, "IGNORES_CASE", True)
        result = tidy(folder, 'where = "ext is zip"\nunpack = "{stem}"')
    assert "'A.txt' and 'a.TXT' are one name" in result.not_done[0][1].reason
    assert same_files(snapshot(folder), before)
    assert done_by(tidy(folder, 'where = "ext is zip"\nunpack = "{stem}"')) == {"unpack": 1, "trash": 1}


# Extras


def test_extras_go_with_the_ending_and_come_back(folder: Path) -> None:
    put(folder / "Intake/a.jpg", "photo").chmod(0o600)
    os.setxattr(folder / "Intake/a.jpg", "user.xdg.tags", b"old,kept")
    before = snapshot(folder)
    rules = (
        'where = "type is image"\ntag = ["new", "{modified:%Y}"]\nuntag = "OLD"',
        'where = "ext is jpg"\nmove = "Photos"\ncopy = "Backup"\nlink = "Newest"\ncomment = "was {name}"',
    )
    assert done_by(tidy(folder, *rules)) == {"set-attribute": 1, "copy": 1, "move": 1, "link": 1}
    photo, copy = folder / "Intake/Photos/a.jpg", folder / "Intake/Backup/a.jpg"
    assert os.getxattr(photo, "user.xdg.tags") == b"kept,new,2026" and os.getxattr(photo, "user.xdg.comment") == b"was a.jpg"
    assert copy.read_text() == "photo" and copy.stat().st_mode == photo.stat().st_mode
    assert copy.stat().st_mtime_ns == photo.stat().st_mtime_ns
    assert os.readlink(folder / "Intake/Newest/a.jpg") == str(photo)
    assert not plan_of(book_of(folder, *rules)).asked
    undo()
    assert snapshot(folder) == before
    assert not plan_of(book_of(folder, *rules)).asked


def test_extras_below_the_deciding_rule_do_not_run(folder: Path) -> None:
    put(folder / "Intake/a.jpg")
    put(folder / "Intake/b.csv")
    tidy(folder, 'where = "ext is jpg"\nleave = true', 'where = "everything"\ntag = "seen"')
    assert not os.listxattr(folder / "Intake/a.jpg") and os.getxattr(folder / "Intake/b.csv", "user.xdg.tags") == b"seen"


def test_a_copy_that_cannot_be_made_keeps_its_original(folder: Path) -> None:
    put(folder / "Intake/a.log")
    put(folder / "Intake/Backup", "a file where the folder should be")
    plan = plan_of(book_of(folder, 'where = "ext is log"\ncopy = "Backup"\ndelete = true'))
    assert not plan.asked and "is a file, but must be a folder" in plan.not_touched[0].reason
    (folder / "Intake/Backup").unlink()
    plan = plan_of(book_of(folder, 'where = "ext is log"\ncopy = "Backup"\ndelete = true'))
    put(folder / "Intake/Backup/a.log", "not be undone yet. When the problems above are solved")
    assert not carry_out(plan).done and (folder / "Intake/a.log").exists()


def test_an_edited_copy_is_never_removed(folder: Path) -> None:
    put(folder / "Intake/a.log")
    tidy(folder, 'where = "ext is log"\ncopy = "Backup"\nmove = "Logs"')
    (folder / "Intake/Backup/a.log").write_text("edited")
    undo()
    assert names(folder / "Intake") == ["Backup/a.log", "a.log"]


def test_a_changed_file_is_copied_again_and_an_unchanged_one_is_not(folder: Path) -> None:
    put(folder / "Intake/a.log", "1")
    rule = 'where = "ext is log"\ncopy = "../Backup"'
    assert tidy(folder, rule).done.steps == 1
    assert not plan_of(book_of(folder, rule)).asked
    put(folder / "Intake/a.log", "22", age_days=5)
    assert tidy(folder, rule).done.steps == 1
    assert not plan_of(book_of(folder, rule)).asked
    assert sorted(path.name for path in (folder / "Backup").iterdir()) == ["a.log", "a_2.log"]


def test_prune_removes_what_the_rule_left_empty_and_nothing_else(folder: Path) -> None:
    for name in ("a/b/x.log", "a/y.log", "c/z.log", "c/keep.txt"):
        put(folder / "Intake" / name)
    (folder / "Intake/was empty").mkdir()
    (folder / "Intake/a/b").chmod(0o750)
    os.utime(folder / "Intake/a/b", ns=(5, NOW_NS - 99 * DAY_NS))
    before = snapshot(folder)
    rule = 'where = "ext is log"\nmove = "../Logs"\nlevels = "all"\nprune = true'
    tidy(folder, rule)
    assert sorted(os.listdir(folder / "Intake")) == ["c", "was empty"]
    undo()
    assert snapshot(folder) == before


def test_run_gets_arguments_and_the_path_and_no_shell(folder: Path) -> None:
    out = folder / "out.txt"
    script = put(
        folder / "note.py", "import os, sys; print(sys.argv[1:], os.environ['FRUGAL_FILE'], file=open(sys.argv[1], 'a'))"
    )
    put(folder / "Intake/a $(x); b.log")
    rule = f'where = "ext is log"\nmove = "Logs"\nrun = ["python3", "{script}", "{out}", "{{name}}", "{{path}}"]'
    assert done_by(tidy(folder, rule)) == {"move": 1, "run": 1}
    moved = f"{folder}/Intake/Logs/a $(x); b.log"
    assert out.read_text() == f"{[str(out), 'a $(x); b.log', moved]} {moved}\n"
    assert not plan_of(book_of(folder, rule)).asked


@pytest.mark.parametrize(
    ("command", "why"),
    [
        ('["false"]', "false exited with 1"),
        ('["sh", "-c", "echo no paper; exit 3"]', "sh exited with 3: no paper"),
        ('["no-such-program"]', "no-such-program: no such file"),
    ],
)
def test_a_program_that_fails_keeps_the_file(folder: Path, command: str, why: str) -> None:
    put(folder / "Intake/a.log")
    result = tidy(folder, f'where = "ext is log"\ntrash = true\nrun = {command}')
    assert not result.done and why in result.not_done[0][1].reason and (folder / "Intake/a.log").exists()


def test_a_program_that_takes_too_long_is_ended_with_all_it_started(folder: Path) -> None:
    from frugal_sorter.changes.descriptors import Descriptors
    from frugal_sorter.filesystem.status import look
    from frugal_sorter.reasons import Outcome
    from frugal_sorter.steps.extras import RunProgram
    from frugal_sorter.steps.step import RunContext, Step, attempt

    place = place_of(str(put(folder / "a")))
    step = Step(1, "run", "r", "k", place, None, look(place).identity, {"command": ["sh", "-c", "sleep 60 & wait"]})
    with Descriptors() as descriptors:
        mark = attempt(RunProgram(RunContext(descriptors), longest_seconds=0.3), step)
    assert mark.outcome == Outcome.FAILED and "longer than 0.3 seconds" in mark.reason


def test_programs_are_not_run_from_a_file_that_others_can_write(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    rules = put(folder / "rules.toml", rules_text('where = "ext is log"\nrun = ["true"]'))
    assert "run a program for 1 file" in frugal("preview", rules).stdout
    rules.chmod(0o666)
    assert "rules.toml" in frugal("tidy", rules, "--yes", code=2).stderr


# Ceilings


def test_removals_have_a_ceiling_that_counts_what_is_inside_folders(folder: Path) -> None:
    for number in range(12):
        put(folder / f"Intake/old/{number}.tmp")
    put(folder / "Intake/a.log")
    rules = ('where = "ext is none"\ntake = "folders"\ntrash = true\nat_most = 11', 'where = "ext is log"\nmove = "Logs"')
    plan = plan_of(book_of(folder, *rules))
    assert [step.verb for step in plan.asked] == ["move"]
    assert "12 files, but the limit is 11" in plan.refused[0].reason and "--at-most 12" in plan.refused[0].reason
    assert len(plan_of(book_of(folder, *rules), at_most=12).asked) == 2


def test_without_a_word_a_rule_removes_no_more_than_a_thousand(folder: Path) -> None:
    (folder / "Intake").mkdir()
    for number in range(1001):
        (folder / f"Intake/{number}.tmp").touch()
    for ending in ("trash = true", "delete = true", 'pack = "a.zip"'):
        plan = plan_of(book_of(folder, f'where = "everything"\n{ending}'))
        assert not plan.asked and plan.refused
    assert len(plan_of(book_of(folder, 'where = "everything"\nmove = "x"')).asked) == 1001


def test_home_and_mounted_folders_are_no_entries(folder: Path, own_home: Path) -> None:
    put(own_home / "a.log")
    plan = plan_of(book_of(folder, f'in = "{own_home.parent}"\nwhere = "everything"\ntake = "folders"\ntrash = true'))
    assert own_home.name not in {step.place.name for step in plan.asked}


# Everything together

_endings = st.sampled_from([
    'move = "{ext|initial}"', 'move = "X/{modified:%Y}"', 'rename = "n {name}"', "trash = true", 'pack = "P/{modified:%Y}.zip"',
    'unpack = "U {stem}"', "leave = true", "",
])  # fmt: skip
_extras = st.sampled_from(["", 'tag = ["seen", "{type}"]', 'comment = "c {name}"', 'copy = "../Copies"', 'untag = "a"'])
_rule = st.tuples(
    st.sampled_from(["everything", "ext is log", "size > 1 B", "name has a", "type is image", "ext is zip"]),
    _endings, _extras,
    st.sampled_from(["", 'clash = "skip"', 'clash = "replace"', 'clash = "newer"', 'clash = "same"']),
    st.sampled_from(["", "prune = true"]),
    st.sampled_from(["", 'take = "items"', 'levels = "all"', 'hidden = true\nlevels = "all"', 'take = "folders"']),
).filter(lambda one: bool(one[1] or one[2]) and not (one[2] and "leave" in one[1]) and not ("unpack" in one[1] and "take" in one[5]))  # fmt: skip
_rules = st.lists(_rule.map(lambda one: f"where = '{one[0]}'\n" + "\n".join(one[1:])), min_size=1, max_size=4)
_tree = st.lists(
    st.tuples(
        st.sampled_from(["", "", "s", "s/t", ".h", "image", "X/2026", "log"]),
        st.sampled_from(["a.log", "a", "kiln.jpg", "z.zip", "b.tar.gz"]) | file_names,
        st.binary(max_size=3), st.integers(-2, 900), st.sampled_from([0o644, 0o400, 0o755]),
    ),
    min_size=1, max_size=10,
)  # fmt: skip


def _lay(root: Path, tree: list[tuple[str, str, bytes, int, int]]) -> None:
    (root / "Intake").mkdir()
    for parent, name, body, age, mode in tree:
        try:
            path = root / "Intake" / parent / name
            if name == "z.zip":
                _zip(path, {"a": body.hex(), "d/b": "b"})
            else:
                put(path, body, age).chmod(mode)
            if body:
                os.setxattr(path, "user.xdg.tags", b"a,b")
                os.utime(path, ns=(NOW_NS, NOW_NS - age * DAY_NS))
        except OSError:
            continue  # a file where this one needs a folder, or the other way round


def test_a_folder_that_was_tagged_and_then_removed_as_empty_comes_back_as_it_was(folder: Path) -> None:
    put(folder / "Intake/s/a.log")
    os.utime(folder / "Intake/s", ns=(1, 1_700_000_000_000_000_000))
    before = snapshot(folder / "Intake")
    tags = 'where = "everything"\ntake = "folders"\ntag = "seen"'
    move = 'where = "ext is log"\nlevels = "all"\nmove = "../Logs"\nprune = true'
    assert done_by(carry_out(plan_of(book_of(folder, tags, move)))) == {"set-attribute": 1, "move": 1}
    assert not (folder / "Intake/s").exists()
    assert undo().done.steps == 1 and snapshot(folder / "Intake") == before


# Shrinking would take longer than it helps: each example is small already.
@settings(max_examples=100 if THOROUGH else 20, phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(tree=_tree, rules=_rules)
def test_no_content_disappears_and_undo_and_redo_are_exact(
    tmp_path_factory: pytest.TempPathFactory, tree: list[tuple[str, str, bytes, int, int]], rules: list[str]
) -> None:
    root = tmp_path_factory.mktemp("tree").resolve()
    _lay(root, tree)
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_STATE_HOME", str(root / "state"))
        patch.setenv("XDG_DATA_HOME", str(root / "data"))

        def everything() -> dict[bytes, Seen]:
            return {path: seen for path, seen in snapshot(root).items() if not path.startswith(os.fsencode(root / "state"))}

        def kept() -> dict[bytes, Seen]:
            return {path: seen for path, seen in snapshot(root).items() if path.startswith(os.fsencode(root / "Intake"))}

        before, held = kept(), contents(root / "Intake")
        plan: Plan = plan_of(book_of(root, *rules))
        result = carry_out(plan)
        assert not held - contents(root)
        broken = [mark.reason for step, mark in result.not_done if not (step.verb in ("unpack", "trash") and "zip" in str(rules))]
        assert not broken or any("unpack" in rule for rule in rules), broken
        after = kept()
        if not result.done:
            # What was tried and taken back leaves no trace but the time of its folder.
            assert same_files(after, before)
            return
        undo()
        assert kept() == before and not held - contents(root)
        assert not [path for path in everything() if b".frugal-" in path]
        undo(2)
        assert same_files(kept(), after)


# What is not done


@pytest.mark.parametrize(
    ("name", "body", "rule"),
    [
        ("torn.zip", b"PK\x03\x04 and no more", 'where = "type is archive"\nunpack = "{stem}"'),
        ("moulds/cup.stl", b"clay", 'where = "name is moulds"\ntake = "folders"\ntrash = true'),
        ("moulds/cup.stl", b"clay", 'where = "name is moulds"\ntake = "folders"\nmove = "Out"'),
        ("a.log", b"clay", 'where = "ext is log"\npack = "P/all.zip"'),
    ],
)
def test_what_fails_half_way_leaves_the_times_of_folders_as_they_were(folder: Path, name: str, body: bytes, rule: str) -> None:
    for there in ("Out", "P"):
        (folder / "Intake" / there).mkdir(parents=True)
    path = put(folder / "Intake" / name, body)
    plan = plan_of(book_of(folder, rule))
    if not name.endswith("zip"):
        put(path, "changed since")
    for there in ("", "Out", "P"):
        os.utime(folder / "Intake" / there, ns=(10**18, 10**18))
    before = snapshot(folder / "Intake")
    result = carry_out(plan)
    assert not result.done and result.not_done
    assert snapshot(folder / "Intake") == before


@pytest.mark.skipif(not os.access("/dev/shm", os.W_OK), reason="a second volume")
@pytest.mark.parametrize(
    "extras", ["", 'copy = "../Copies"', 'tag = "new"', 'copy = "../Copies"\ntag = "new"', 'link = "../Links"']
)
@pytest.mark.parametrize("take", ["files", "folders"])
def test_what_crosses_volumes_goes_there_and_back_as_often_as_asked_for(folder: Path, take: str, extras: str) -> None:
    """Each time it is another entry by its numbers, and so is everything that was made of it."""
    far = Path(tempfile.mkdtemp(dir="/dev/shm"))
    try:
        put(folder / ("Intake/a.log" if take == "files" else "Intake/a/b.log"), "clay")
        put(folder / "Intake/c.txt" if take == "files" else folder / "Intake/c/d.txt", "glaze")
        start = (snapshot(folder), snapshot(far))
        result = tidy(folder, f'where = "everything"\ntake = "{take}"\nmove = "{far}/there"\n{extras}')
        assert not result.has_problem
        done = (same(folder), same(far))
        for turn in range(1, 6):
            back = undo(turn)
            assert not back.has_problem, (turn, back.not_done)
            assert (same(folder), same(far)) == (done if turn % 2 == 0 else tuple(map(bare, start))), turn
    finally:
        shutil.rmtree(far)


def bare(found: dict[bytes, Seen]) -> dict[bytes, tuple[str, str, object]]:
    """Return what must be the same of each entry each time."""
    return {path: (one.kind, one.digest, one.attributes) for path, one in found.items()}


def same(where: Path) -> dict[bytes, tuple[str, str, object]]:
    return bare(snapshot(where))
