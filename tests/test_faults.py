"""Faults made for real: file systems that the tests make as root, rights taken away, files that change."""

from __future__ import annotations

import errno
import os
import shutil
import subprocess
import sys
import time
import zipfile
from collections.abc import Callable
from itertools import count
from pathlib import Path

import pytest

from frugal_sorter.changes import copier
from frugal_sorter.cli.output.text import stray_texts
from frugal_sorter.execution import executor
from frugal_sorter.execution.executor import Result, changing
from frugal_sorter.execution.recovery import Recovered
from frugal_sorter.filesystem.record import Identity, place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.volumes import Volume
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.trash_plans import add_emptying, all_trashed, weigh
from frugal_sorter.platforms import disk
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps import trashing
from tests.conftest import AS_ROOT, Frugal, Mount
from tests.support import book_of, carry_out, contents, done_by, plan_of, put, rules_text, snapshot, trash_of, undo


def tidy(folder: Path, *rules: str) -> Result:
    return carry_out(plan_of(book_of(folder, *rules)))


def to(target: Path, *more: str) -> str:
    return f'where = "everything"\ntake = "items"\nmove = "{target}"\n' + "\n".join(more)


@AS_ROOT
def test_across_volumes_everything_goes_along_and_comes_back(folder: Path, mount: Mount) -> None:
    other = mount("ext4")
    intake = folder / "Intake"
    put(intake / "a.log", "a").chmod(0o640)
    os.setxattr(intake / "a.log", "user.xdg.tags", b"kept")
    if shutil.which("setfacl"):
        subprocess.run(["setfacl", "-m", "u:daemon:r", intake / "a.log"], check=True)
    os.chown(intake / "a.log", 1, 1)
    put(intake / "glazes/deep/b.csv", "b")
    os.symlink("nowhere", intake / "glazes/link")
    with open(intake / "sparse.img", "wb") as file:
        file.truncate(5_000_000)
        file.seek(3_000_000)
        file.write(b"x" * 10_000)
    os.utime(intake / "sparse.img", ns=(7, 1_700_000_000_123_456_789))
    before = snapshot(intake)
    target = other / "in"
    assert done_by(tidy(folder, to(target))) == {"move-across": 3}
    moved = {path.replace(os.fsencode(target), os.fsencode(intake)): seen for path, seen in snapshot(target).items()}
    root = os.fsencode(intake)
    assert {path: seen for path, seen in moved.items() if path != root} == {
        path: seen for path, seen in before.items() if path != root
    }
    assert (target / "a.log").stat().st_uid == 1 and os.stat(target / "sparse.img").st_blocks * 512 < 200_000
    assert not os.listdir(intake)
    undo()
    assert snapshot(intake) == before


@AS_ROOT
def test_what_a_volume_does_not_keep_is_said_once_and_given_back(folder: Path, mount: Mount, frugal: Frugal) -> None:
    stick = mount("exfat")
    for name in "ab":
        path = put(folder / f"Intake/{name}.log", name, now_ns=time.time_ns())
        path.chmod(0o640)
        os.setxattr(path, "user.xdg.tags", b"kept")
    put(folder / 'Intake/a "b": c?.log', "odd", now_ns=time.time_ns())
    before = snapshot(folder / "Intake")
    rules = put(folder / "rules.toml", rules_text(to(stick / "in")))
    said = frugal("tidy", rules, "--yes", code=1).stdout
    assert said.count("does not store modes, fine times") == 1 and "extended attributes" in said
    assert "does not allow that name" in said and "2 files moved to another volume" in said
    # Mounted anew, its inode numbers are others.
    subprocess.run(["umount", str(stick)], check=True)
    mount("exfat")
    frugal("undo", "--yes")
    assert snapshot(folder / "Intake") == before


@AS_ROOT
def test_a_volume_without_lasting_inodes_is_sorted_and_taken_back_after_a_remount(
    folder: Path, mount: Mount, frugal: Frugal
) -> None:
    stick = mount("exfat")
    for name in ("a.log", "b.csv", "A2.LOG"):
        put(stick / "Intake" / name, name)
    rules = put(folder / "rules.toml", rules_text('in = "volume/Intake"\nwhere = "ext is log"\nmove = "Logs"'))
    assert "2 files moved" in frugal("tidy", rules, "--yes").stdout
    subprocess.run(["umount", str(stick)], check=True)
    mount("exfat")
    assert "2 files moved" in frugal("undo", "--yes").stdout
    assert sorted(os.listdir(stick / "Intake")) == ["A2.LOG", "a.log", "b.csv"]
    frugal("tidy", rules, "--yes", "--again")
    (stick / "Intake/Logs/a.log").write_text("another")
    said = frugal("undo", "--yes", code=1).stdout
    assert "another file is there now" in said and (stick / "Intake/Logs/a.log").read_text() == "another"


@AS_ROOT
def test_names_that_differ_in_case_alone_are_one_on_some_volumes(folder: Path, mount: Mount) -> None:
    stick = mount("exfat")
    put(stick / "Intake/a/x.log", "1")
    put(stick / "Intake/b/X.LOG", "2")
    put(stick / "Intake/up.txt", "3")
    held = contents(stick)
    rules = (
        'in = "volume/Intake"\nwhere = "ext is log"\nmove = "Logs"\nlevels = "all"',
        'in = "volume/Intake"\nwhere = "ext is txt"\nrename = "UP.txt"',
    )
    result = tidy(folder, *rules)
    assert not result.not_done and contents(stick) == held
    assert sorted(os.listdir(stick / "Intake/Logs")) == ["X_2.LOG", "x.log"] and "UP.txt" in os.listdir(stick / "Intake")


@AS_ROOT
def test_a_remount_under_another_device_number_is_no_other_file(folder: Path, mount: Mount, frugal: Frugal) -> None:
    volume = mount("ext4")
    put(volume / "Intake/a.log")
    rules = put(folder / "rules.toml", rules_text('in = "volume/Intake"\nwhere = "ext is log"\nmove = "Logs"\ntag = "x"'))
    frugal("preview", rules, "--save", "later.plan")
    dev = volume.stat().st_dev
    subprocess.run(["umount", str(volume)], check=True)
    if not shutil.which("losetup"):
        pytest.skip("losetup is not installed")
    # Something else takes the device that was free.
    spare = folder / "spare.img"
    with open(spare, "wb") as file:
        file.truncate(1_000_000)
    taken = subprocess.run(["losetup", "-f", "--show", spare], capture_output=True, text=True).stdout.strip()
    try:
        mount("ext4")
        if volume.stat().st_dev == dev:
            pytest.skip("the system gave the same device number again")
        assert "1 file moved" in frugal("tidy", "--plan", "later.plan", "--yes").stdout
        frugal("undo", "--yes")
        assert os.listdir(volume / "Intake") == ["a.log"]
    finally:
        subprocess.run(["losetup", "-d", taken])


@AS_ROOT
@pytest.mark.parametrize("options", [{"size": "200k"}, {"size": "64m", "nr_inodes": "3"}])
def test_a_full_target_loses_nothing(folder: Path, mount: Mount, options: dict[str, str]) -> None:
    small = mount("tmpfs", **options)
    for name in ("a", "b", "c"):
        put(folder / f"Intake/{name}.log", name * 150_000)
    held = contents(folder / "Intake")
    plan = plan_of(book_of(folder, to(small)))
    if plan.refused:
        assert "bytes on the volume" in plan.refused[0].reason and not plan.asked
    else:
        result = carry_out(plan)
        assert result.has_problem and {mark.reason for _, mark in result.not_done} == {"no space left on device"}
    assert contents(folder / "Intake") + contents(small) == held
    assert not [name for name in os.listdir(small) if name.startswith(".frugal")]


@AS_ROOT
@pytest.mark.parametrize("full", ["bytes", "inodes"])
def test_a_full_state_disk_still_writes_a_clean_up_down(folder: Path, mount: Mount, frugal: Frugal, full: str) -> None:
    state = mount("tmpfs", "state", size="12m", nr_inodes="60")
    for number in range(200):
        put(folder / f"Intake/{number}.tmp", age_days=100)
    rules = put(folder / "rules.toml", rules_text('where = "ext is tmp"\ndelete = true'))
    frugal("tidy", rules, "--yes", code=0, XDG_STATE_HOME=str(state))
    for number in range(200):
        put(folder / f"Intake/{number}.tmp", age_days=100)
    if full == "bytes":
        with open(state / "filler", "wb", buffering=0) as file, pytest.raises(OSError):
            while True:
                file.write(bytes(4096))
    else:
        with pytest.raises(OSError):
            for number in range(100):
                (state / f"filler {number}").touch()
    said = frugal("tidy", rules, "--yes", code=0, XDG_STATE_HOME=str(state)).stdout
    assert "200 files permanently deleted" in said
    assert "200" in frugal("history", "2", code=0, XDG_STATE_HOME=str(state)).stdout


@AS_ROOT
@pytest.mark.parametrize("full", ["bytes", "inodes"])
def test_a_purge_works_where_nothing_is_free_with_its_own_state_there(
    folder: Path, mount: Mount, frugal: Frugal, full: str
) -> None:
    volume = mount("tmpfs", "full", size="16m", nr_inodes="400")
    state = {"XDG_STATE_HOME": str(volume / "state")}
    for number in range(100):
        put(volume / f"Intake/scratch {number}.tmp", age_days=100)
    put(volume / "Intake/young.tmp", now_ns=time.time_ns(), age_days=1)
    frugal("purge", volume / "Intake", "--older-than", "99 years", **state)
    if full == "bytes":
        with open(volume / "filler", "wb", buffering=0) as file, pytest.raises(OSError):
            while True:
                file.write(bytes(4096))
    else:
        with pytest.raises(OSError):
            for number in range(1_000):
                (volume / f"filler {number}").touch()
    words = ("purge", volume / "Intake", "--older-than", "30d", "--by", "modified", "--permanent", "--yes")
    assert "100 files permanently deleted" in frugal(*words, **state).stdout
    assert os.listdir(volume / "Intake") == ["young.tmp"]
    assert "100" in frugal("history", "1", **state).stdout


@AS_ROOT
def test_a_target_that_may_only_be_read_is_named(folder: Path, mount: Mount) -> None:
    volume = mount("tmpfs", size="1m")
    put(folder / "Intake/a.log")
    subprocess.run(["mount", "-o", "remount,ro", str(volume)], check=True)
    plan = plan_of(book_of(folder, to(volume)))
    assert not plan.steps and [one.reason for one in plan.not_touched] == [f"read-only file system ({volume})"]


@AS_ROOT
def test_a_volume_has_a_trash_of_its_own(folder: Path, mount: Mount, own_home: Path) -> None:
    volume = mount("ext4")
    put(volume / "Intake/ä.log")
    assert done_by(tidy(folder, 'in = "volume/Intake"\nwhere = "everything"\ntrash = true')) == {"trash": 1}
    trash = volume / f".Trash-{os.geteuid()}"
    assert "Path=Intake/%C3%A4.log\n" in (trash / "info/ä.log.trashinfo").read_text() and not trash_of(own_home)
    undo()
    assert (volume / "Intake/ä.log").exists()
    (volume / ".Trash").mkdir()
    (volume / ".Trash").chmod(0o1777)
    shutil.rmtree(trash)
    tidy(folder, 'in = "volume/Intake"\nwhere = "everything"\ntrash = true\nhidden = true')
    assert (volume / ".Trash" / str(os.geteuid()) / "files/ä.log").exists()


@AS_ROOT
def test_without_a_trash_on_the_volume_it_is_copied_to_the_one_at_home(folder: Path, mount: Mount, own_home: Path) -> None:
    volume = mount("ext4")
    put(volume / "Intake/a.log", "a")
    put(volume / f".Trash-{os.geteuid()}", "a file that is in the way")
    assert done_by(tidy(folder, 'in = "volume/Intake"\nwhere = "everything"\ntrash = true')) == {"trash": 1}
    assert trash_of(own_home) == {"a.log": f"{volume}/Intake/a.log"}
    undo()
    assert (volume / "Intake/a.log").read_text() == "a" and not trash_of(own_home)


@pytest.mark.skipif(not shutil.which("strace"), reason="strace is not installed")
@pytest.mark.parametrize(
    ("inject", "why"),
    [("copy_file_range:error=EIO", "input/output error"), ("fsync:error=EIO", ""), ("renameat2:error=EIO", "input/output error")],
)
def test_an_error_of_the_disk_is_named_and_loses_nothing(folder: Path, inject: str, why: str) -> None:
    other = Path("/dev/shm") / f"frugal-{os.getpid()}"
    if not other.parent.is_dir() or other.parent.stat().st_dev == folder.stat().st_dev:
        pytest.skip("no second file system at /dev/shm")
    put(folder / "Intake/a.log", "x" * 10_000)
    put(folder / "rules.toml", rules_text(to(other)))
    try:
        done = subprocess.run(
            ["strace", "-f", "-qq", "-o", "/dev/null", "-e", f"inject={inject}", sys.executable, "-m", "frugal_sorter", "tidy", "rules.toml", "--yes"],
            cwd=folder, capture_output=True, text=True,
        )  # fmt: skip
        assert done.returncode in (1, 2) and why in done.stdout + done.stderr and "Traceback" not in done.stderr
        assert contents(folder / "Intake") + contents(other) == contents(folder / "Intake") and os.listdir(folder / "Intake") == [
            "a.log"
        ]
    finally:
        shutil.rmtree(other, ignore_errors=True)


def test_without_rights_nothing_is_taken_and_the_rest_is_done(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/locked/a.tmp")
    put(folder / "Intake/b.tmp")
    (folder / "Intake/locked").chmod(0o555)
    rules = put(folder / "rules.toml", rules_text('where = "ext is tmp"\nlevels = "all"\ndelete = true'))
    for words in (["preview", rules], ["tidy", rules, "--yes"]):
        said = frugal(*words, code=1, without_rights=True).stdout
        assert f"1 file: no permission ({folder}/Intake/locked)\n    locked/a.tmp\n" in said
    assert "1 file permanently deleted." in said
    assert (folder / "Intake/locked/a.tmp").exists()


def test_a_file_that_grows_while_it_is_copied_stays(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:

    path = put(folder / "Intake/a.log", "clay")
    plan = plan_of(book_of(folder, 'where = "everything"\ncopy = "Backup"\ndelete = true'))
    copy_bytes = copier.copy_bytes

    def grow(source: int, target: int, size: int, heed: Callable[[], None]) -> None:
        copy_bytes(source, target, size, heed)
        path.write_text("clay and more")

    monkeypatch.setattr(copier, "copy_bytes", grow)
    result = carry_out(plan)
    assert not result.done and "while it was copied" in result.not_done[-2][1].reason + result.not_done[0][1].reason
    assert path.read_text() == "clay and more" and not (folder / "Intake/Backup").exists()


@pytest.mark.parametrize("what", ["taken away", "replaced", "edited"])
def test_what_happens_to_the_source_after_it_was_copied_loses_no_content(
    folder: Path, monkeypatch: pytest.MonkeyPatch, what: str
) -> None:
    from frugal_sorter.changes.descriptors import Descriptors
    from frugal_sorter.reasons import Outcome
    from frugal_sorter.steps import moving as move_across
    from frugal_sorter.steps import parts
    from frugal_sorter.steps.step import RunContext, Step, attempt

    source, target = put(folder / "a.log", "planned"), folder / "b.log"
    step = Step(1, "move-across", "r", "k", place_of(str(source)), place_of(str(target)), look(place_of(str(source))).identity)
    finish_part = parts.finish_part
    # With a lease nobody could write; a volume that knows none is the harder case.
    monkeypatch.setattr(disk, "CAN_LEASE", False)

    def meddle(*args: object) -> object:
        made = finish_part(*args)  # type: ignore[arg-type]
        if what == "edited":
            source.write_text("edited since")
        else:
            source.unlink()
            if what == "replaced":
                put(folder / "keeps the inode", "x")
                put(source, "another")
        return made

    monkeypatch.setattr(move_across, "finish_part", meddle)
    with Descriptors() as descriptors:
        mark = attempt(move_across.MoveAcross(RunContext(descriptors)), step)
    assert mark.outcome in (Outcome.SKIPPED, Outcome.FAILED)
    left = {path.name: path.read_text() for path in folder.glob("*.log")}
    assert (
        left
        == {
            "taken away": {"b.log": "planned"},
            "replaced": {"a.log": "another", "b.log": "planned"},
            "edited": {"a.log": "edited since", "b.log": "planned"},
        }[what]
    )


@pytest.mark.parametrize("ending", ["trash = true", "delete = true"])
@pytest.mark.parametrize("inside", [False, True])
def test_what_somebody_is_writing_to_is_left_and_the_program_is_named(folder: Path, ending: str, inside: bool) -> None:
    put(folder / "Intake/old/a.log")
    put(folder / "Intake/b.log")
    held = (folder / "Intake/old/a.log") if inside else folder / "Intake/b.log"
    code = f"import sys; file = open({str(held)!r}, 'a'); print('open', flush=True); sys.stdin.read()"
    with subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as writer:
        assert writer.stdout is not None and writer.stdin is not None
        writer.stdout.readline()
        result = tidy(folder, f'where = "everything"\ntake = "items"\n{ending}')
        (reason,) = {mark.reason for _, mark in result.not_done}
        assert "open for writing in python" in reason and f"process {writer.pid}" in reason
        assert held.exists() and result.done.steps == 1 and not result.has_problem
        writer.stdin.close()


@pytest.mark.parametrize("ending", ["trash = true", "delete = true"])
@pytest.mark.parametrize("inside", [False, True])
def test_what_was_written_to_and_closed_between_two_looks_is_left(
    folder: Path, monkeypatch: pytest.MonkeyPatch, ending: str, inside: bool
) -> None:
    file = put(folder / ("Intake/old/a.log" if inside else "Intake/a.log"))

    lease = disk.lease

    def written_just_before(descriptor: int) -> None:
        path = Path(os.readlink(f"/proc/self/fd/{descriptor}"))
        # Only once: whoever holds a lease would wait for itself.
        if path.read_text() != "written a moment ago":
            path.write_text("written a moment ago")
        lease(descriptor)

    monkeypatch.setattr(disk, "lease", written_just_before)
    result = tidy(folder, f'where = "everything"\ntake = "items"\n{ending}')
    assert [mark.reason for _, mark in result.not_done] == ["changed since the plan was made"]
    assert file.read_text() == "written a moment ago"


def test_who_opens_a_file_while_it_is_leased_waits_and_does_no_harm(folder: Path) -> None:
    """By default the holder of a lease is ended by a signal."""
    put(folder / "a.log")
    code = f"""
import os, subprocess, sys, time
from frugal_sorter.changes.removal import Lease
with Lease(os.open({str(folder)!r}, os.O_RDONLY), "a.log") as lease:
    opening = "import os; os.open({str(folder / "a.log")!r}, os.O_WRONLY | os.O_NONBLOCK)"
    opened = subprocess.run([sys.executable, "-c", opening], capture_output=True, text=True)
    while not lease.is_broken:  # the signal is on its way
        time.sleep(0)
    print(lease.is_broken, "BlockingIOError" in opened.stderr)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout) == (0, "True True\n"), done.stderr


def test_a_folder_changed_two_levels_down_after_the_preview_is_put_back(folder: Path) -> None:
    put(folder / "Intake/old/in/deep.txt", "old")
    put(folder / "Intake/b/in/deep.txt", "old")
    for ending in ('move = "../Out"', "trash = true", "delete = true"):
        plan = plan_of(book_of(folder, f'where = "name is old"\ntake = "folders"\n{ending}'))
        (folder / "Intake/old/in/deep.txt").write_text(f"changed {ending}")
        result = carry_out(plan)
        assert [mark.reason for step, mark in result.not_done if step.verb != "make-folder"] == [
            "changed since the plan was made"
        ]
        assert (folder / "Intake/old/in/deep.txt").read_text() == f"changed {ending}" and sorted(
            os.listdir(folder / "Intake")
        ) == ["b", "old"]


def test_a_parent_that_was_swapped_for_a_link_is_not_followed(folder: Path) -> None:
    put(folder / "Intake/sub/a.tmp", "mine")
    put(folder / "elsewhere/a.tmp", "theirs")
    plan = plan_of(book_of(folder, 'where = "ext is tmp"\nlevels = "all"\ndelete = true'))
    (folder / "Intake/sub").rename(folder / "aside")
    (folder / "Intake/sub").symlink_to(folder / "elsewhere")
    assert not carry_out(plan).done
    assert (folder / "elsewhere/a.tmp").read_text() == "theirs" and (folder / "aside/a.tmp").exists()


# Other implementations


def _desktop(home: Path, *words: str) -> str:
    """Run gio on the trash of a home, in a session of its own."""
    env = {**os.environ, "HOME": str(home), "XDG_DATA_HOME": str(home / ".local/share"), "XDG_RUNTIME_DIR": str(home)}
    script = 'gio trash --list >/dev/null 2>&1; sleep 1.5; "$@"'
    done = subprocess.run(
        ["dbus-run-session", "--", "sh", "-c", script, "-", *words], env=env, capture_output=True, text=True, timeout=60
    )
    return done.stdout + done.stderr


@pytest.mark.skipif(not (shutil.which("gio") and shutil.which("dbus-run-session")), reason="gio or dbus is not installed")
def test_the_desktop_restores_what_we_trashed_and_the_other_way_round(folder: Path, own_home: Path, frugal: Frugal) -> None:
    own_home.chmod(0o700)
    put(own_home / "Intake/kiln 1.log", "kiln")
    put(own_home / "Intake/old glazes/a.csv", "a")
    tidy(folder, f'in = "{own_home}/Intake"\nwhere = "everything"\ntake = "items"\ntrash = true')
    listed = _desktop(own_home, "gio", "trash", "--list")
    if "trash:///" not in listed:
        pytest.skip(f"gio shows no trash here: {listed[:200]}")
    assert f"{own_home}/Intake/kiln 1.log" in listed and f"{own_home}/Intake/old glazes" in listed
    _desktop(own_home, "gio", "trash", "--restore", "trash:///kiln 1.log")
    assert (own_home / "Intake/kiln 1.log").read_text() == "kiln"
    _desktop(own_home, "gio", "trash", str(own_home / "Intake/kiln 1.log"))
    assert not (own_home / "Intake/kiln 1.log").exists()
    assert "Intake/kiln 1.log" in frugal("trash").stdout
    frugal("trash", "--restore", own_home / "Intake/kiln 1.log", own_home / "Intake/old glazes", "--yes")
    assert (own_home / "Intake/kiln 1.log").exists() and (own_home / "Intake/old glazes/a.csv").exists()
    assert not trash_of(own_home)


@pytest.mark.skipif(not shutil.which("unzip"), reason="unzip is not installed")
def test_unzip_accepts_our_packs(folder: Path) -> None:
    put(folder / "Intake/glaze ä.csv", "glaze" * 1000)
    put(folder / "Intake/kiln/log.txt", b"\0" * 5000)
    os.symlink("log.txt", folder / "Intake/kiln/link")
    tidy(folder, 'where = "everything"\ntake = "items"\npack = "all.zip"')
    done = subprocess.run(["unzip", "-t", folder / "Intake/all.zip"], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout
    subprocess.run(["unzip", "-q", folder / "Intake/all.zip", "-d", folder / "out"], check=True)
    assert (folder / "out/glaze ä.csv").read_text() == "glaze" * 1000 and os.readlink(folder / "out/kiln/link") == "log.txt"
    with zipfile.ZipFile(folder / "Intake/all.zip") as archive:
        assert archive.testzip() is None


def test_who_an_entry_is_where_inode_numbers_do_not_last() -> None:
    one = Identity("file", 1, 5, 100, 10_000_000_000, None, None, "digest")
    assert one.same_who(one._replace(ino=99, mtime_ns=11_900_000_000)) and one.same_state(one._replace(ino=99))
    assert not one.same_who(one._replace(sample="other")) and not one.same_who(one._replace(mtime_ns=13_000_000_000))
    assert not Volume("/", "vfat").inodes_last and not Volume("/", "fuse.exfat").inodes_last and Volume("/", "ext4").inodes_last
    assert (
        Volume("/", "vfat").illegal("a", 5_000_000_000)
        and Volume("/", "exfat").illegal("a.")
        and not Volume("/", "ext4").illegal("a:")
    )


def _undo_of_trash(folder: Path) -> Callable[[], Result]:
    put(folder / "Intake/a.log")
    tidy(folder, 'where = "everything"\ntrash = true')
    return undo


def _trash_of_what_changed(folder: Path) -> Callable[[], Result]:
    path = put(folder / "Intake/a.log")
    plan = plan_of(book_of(folder, 'where = "everything"\ntrash = true'))
    put(path, "changed since")
    return lambda: carry_out(plan)


def _group_of_which_the_last_fails(folder: Path) -> Callable[[], Result]:
    with zipfile.ZipFile(folder / "glazes.zip", "w") as archive:
        archive.writestr("celadon.csv", "1")
    (folder / "Intake").mkdir()
    path = (folder / "glazes.zip").rename(folder / "Intake/glazes.zip")
    plan = plan_of(book_of(folder, 'where = "type is archive"\nunpack = "{stem}"'))
    assert [step.verb for step in plan.steps] == ["unpack", "trash"]
    plan.steps[1].was = plan.steps[1].was and plan.steps[1].was._replace(mtime_ns=1)
    assert path.exists()
    return lambda: carry_out(plan)


def _emptied(folder: Path) -> Callable[[], Result]:
    put(folder / "Intake/a.log")
    tidy(folder, 'where = "everything"\ntrash = true')
    found, _ = all_trashed()
    plan = Plan("empty", time.time_ns(), "trash")
    add_emptying(plan, [weigh(one) for one in found])
    return lambda: carry_out(plan)


@pytest.mark.parametrize("lasting", [False, True], ids=["once", "always"])
@pytest.mark.parametrize(
    "begin", [_undo_of_trash, _trash_of_what_changed, _group_of_which_the_last_fails, _emptied], ids=lambda one: one.__name__
)  # fmt: skip
def test_a_note_of_the_trash_goes_with_its_file_or_is_named(
    folder: Path, own_home: Path, monkeypatch: pytest.MonkeyPatch, begin: Callable[[Path], Callable[[], Result]], lasting: bool
) -> None:  # fmt: skip
    go_on = begin(folder)
    unlink = os.unlink
    failed: list[str] = []

    def fail(name: str, *, dir_fd: int | None = None) -> None:
        if str(name).endswith(".trashinfo") and (lasting or not failed):
            failed.append(name)
            raise OSError(errno.EIO, "input/output error")
        unlink(name, dir_fd=dir_fd)

    monkeypatch.setattr(disk, "unlink", fail)
    result = go_on()
    assert failed
    info = own_home / ".local/share/Trash/info"
    assert [os.path.join(info, name) for name in os.listdir(info)] == result.stray
    assert bool(result.stray) == lasting


def test_a_note_of_the_trash_that_recovery_cannot_remove_is_named(
    folder: Path, own_home: Path, monkeypatch: pytest.MonkeyPatch, frugal: Frugal
) -> None:  # fmt: skip
    go_on = _undo_of_trash(folder)

    def end(*_: object) -> None:
        raise SystemExit("killed before anything is written down")

    with monkeypatch.context() as killed:
        killed.setattr(executor._Ends, "write_down", end)
        killed.setattr(trashing, "remove_note", end)
        with pytest.raises(SystemExit):
            go_on()
    info = own_home / ".local/share/Trash/info/a.log.trashinfo"
    assert info.exists() and (folder / "Intake/a.log").exists()

    def fail(*_: object) -> None:
        raise OSError(errno.EIO, "input/output error")

    told: list[Recovered] = []
    with monkeypatch.context() as fails:
        fails.setattr(trashing, "remove_note", fail)
        with changing(ready_state_folder(), "undo", told.append):
            pass
    assert [one.stray for one in told] == [(str(info),)]
    said = stray_texts(told[0].stray)
    assert said == [
        f"could not remove the trash record {info}, although its file no longer exists",
        "to remove such records: frugal trash --orphans",
    ]
    frugal("trash", "--orphans", "--yes")
    assert not info.exists()


@pytest.mark.parametrize(
    "extras", ['comment = "hi {name}"', 'tag = "kiln"', 'tag = "kiln"\ncomment = "x"', 'untag = "old"', 'retag = ["new"]']
)
@pytest.mark.parametrize("had", [{}, {"user.xdg.tags": b"old,left", "user.xdg.comment": b"before"}])
def test_what_a_volume_does_not_keep_of_an_entry_comes_back_as_it_was_before_the_run(
    folder: Path, mount: Mount, extras: str, had: dict[str, bytes]
) -> None:
    stick = mount("exfat")
    for name in ("a.log", "b.log"):
        put(folder / "Intake" / name, name)
        for key, value in had.items():
            os.setxattr(folder / "Intake" / name, key, value)
    before = snapshot(folder / "Intake")
    result = carry_out(plan_of(book_of(folder, f'where = "ext is log"\n{extras}\nmove = "{stick}/Logs"')))
    assert sorted(os.listdir(stick / "Logs")) == ["a.log", "b.log"] and not result.not_done
    undone = undo()
    assert not undone.not_done and snapshot(folder / "Intake") == before
    # And there once more, since an undo can be taken back.
    undo(2)
    assert sorted(os.listdir(stick / "Logs")) == ["a.log", "b.log"]
    undo(3)
    assert snapshot(folder / "Intake") == before


@pytest.mark.parametrize("ends", ["fails", "is killed"])
@pytest.mark.parametrize("at", range(4))
def test_no_folder_stays_that_was_made_for_what_did_not_come(
    folder: Path, monkeypatch: pytest.MonkeyPatch, ends: str, at: int
) -> None:
    """A run that ends amid folders in folders, each made for the next, leaves none of those that stayed empty."""
    put(folder / "Intake/kiln.log")
    before, calls = snapshot(folder / "Intake"), count()
    mkdir = disk.mkdir

    def ends_there(name: str, *args: object, **words: object) -> None:
        if next(calls) < at:
            return mkdir(name, *args, **words)  # type: ignore[arg-type]
        if ends == "is killed":
            os._exit(9)
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(disk, "mkdir", ends_there)
    child = os.fork()
    if not child:
        os._exit(int(tidy(folder, 'where = "everything"\nmove = "{ext}/{initial}/{stem}/there"').has_problem))
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == {"fails": 1, "is killed": 9}[ends]
    with changing(ready_state_folder(), "test"):  # recovers it
        pass
    assert {path: seen._replace(mtime_ns=0) for path, seen in snapshot(folder / "Intake").items()} == {
        path: seen._replace(mtime_ns=0) for path, seen in before.items()
    }
