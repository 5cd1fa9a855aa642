"""What nobody asked to be removed goes only while the same bytes stay elsewhere, and nobody writes."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from frugal_sorter.changes import removal as remove
from frugal_sorter.changes import removal as witness
from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.changes.removal import rename_without_replacing
from frugal_sorter.execution.executor import Result, changing, execute
from frugal_sorter.filesystem.record import Place, place_of
from frugal_sorter.filesystem.status import look, same_bytes
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import disk
from frugal_sorter.reasons import NotDone, Outcome
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.kinds import VerbName
from frugal_sorter.steps.parts import there
from frugal_sorter.steps.step import RunContext, Step, verbs_for
from tests.support import book_of, carry_out, contents, plan_of, put, undo

EVERYTHING = 'where = "everything"\n'


def tidy(folder: Path, *rules: str) -> Result:
    return carry_out(plan_of(book_of(folder, *rules)))


def duplicates(do: str) -> str:
    return EVERYTHING + f'duplicates = {{keep = "shortest-path", do = "{do}"}}\nlevels = "all"'


def killed(plan: Plan) -> None:
    """Carry out a plan in a fork, which is killed at the first removal of a name."""
    child = os.fork()
    if child == 0:
        disk.unlink = lambda *_args, **_more: os._exit(9)
        try:
            with changing(ready_state_folder(), "test") as journal:
                execute(plan, journal, lambda _step, _mark: None)
        finally:
            os._exit(0)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 9


def settle() -> None:
    with changing(ready_state_folder(), "test"):
        pass


# What was made, and what it was made of


@pytest.mark.parametrize("what", ["removed", "edited", "moved on"])
@pytest.mark.parametrize("rule", ['copy = "C"', 'copy = "C"\ntag = "kept"'])
def test_an_undo_never_removes_the_last_copy(folder: Path, rule: str, what: str) -> None:
    original = put(folder / "Intake/a.txt", "only")
    tidy(folder, EVERYTHING + rule)
    if what == "removed":
        original.unlink()
    elif what == "edited":
        original.write_text("edited since")
    else:
        tidy(folder, 'where = "ext is txt"\nmove = "Elsewhere"')
    undo(1)
    assert (folder / "Intake/C/a.txt").read_text() == "only"


@pytest.mark.parametrize("kind", ["copy of a folder", "zip", "unpacked"])
@pytest.mark.parametrize("edited", [False, True])
def test_what_was_made_of_several_goes_only_while_all_of_it_is_elsewhere(folder: Path, kind: str, edited: bool) -> None:
    import zipfile

    put(folder / "Intake/set/a.txt", "a" * 50)
    put(folder / "Intake/set/in/b.txt", "b")
    if kind == "unpacked":
        with zipfile.ZipFile(folder / "Intake/one.zip", "w") as archive:
            archive.writestr("in/a.txt", "a" * 50)
    rule, made, inside = {
        "copy of a folder": ('take = "folders"\nwhere = "name is set"\ncopy = "C"', "Intake/C/set", "a.txt"),
        "zip": ('take = "folders"\nwhere = "name is set"\npack = "P/all.zip"', "Intake/P/all.zip", ""),
        "unpacked": ('where = "ext is zip"\nunpack = "U/{stem}"', "Intake/U/one", "in/a.txt"),
    }[kind]
    before = contents(folder)
    assert tidy(folder, rule).done
    if edited and inside:
        # With the time that it had: only a comparison of the bytes tells.
        path = folder / made / inside
        times = path.stat()
        path.write_text("x" * 50)
        os.utime(path, ns=(times.st_atime_ns, times.st_mtime_ns))
    undo()
    assert (folder / made).exists() is (edited and bool(inside))
    if not edited:
        assert contents(folder) == before


@pytest.mark.parametrize("rule", ['copy = "C"', 'pack = "C/a.zip"'])
def test_an_undo_leaves_what_a_program_has_open_for_writing(folder: Path, rule: str) -> None:
    put(folder / "Intake/a.txt", "x")
    tidy(folder, EVERYTHING + rule)
    (made,) = (folder / "Intake/C").iterdir()
    with open(made, "ab") as typing:
        result = undo()
        assert any("being written by" in mark.reason for _, mark in result.not_done)
        typing.write(b"typed")
    assert made.read_bytes().endswith(b"typed")


@pytest.mark.parametrize("do", ["delete", "trash", "hardlink"])
@pytest.mark.parametrize("which", ["a.txt", "b/b.txt"])
def test_a_duplicate_stays_when_one_of_the_two_is_written_to_while_they_are_compared(
    folder: Path, monkeypatch: pytest.MonkeyPatch, do: str, which: str
) -> None:
    for name in ("a.txt", "b/b.txt"):
        put(folder / "Intake" / name, "same" * 100_000)
    plan = plan_of(book_of(folder, duplicates(do)))
    assert len(plan.asked) == 1
    monkeypatch.setattr(disk, "CAN_LEASE", False)  # with a lease nobody could
    real = same_bytes

    def written_meanwhile(one: int, other: int, heed: Callable[[], None]) -> bool:
        same = real(one, other, heed)
        path = folder / "Intake" / which
        times = path.stat()
        with open(path, "r+b") as file:
            file.write(b"EDITED")
        os.utime(path, ns=(times.st_atime_ns, times.st_mtime_ns))
        return same

    monkeypatch.setattr("frugal_sorter.changes.removal.same_bytes", written_meanwhile)
    result = carry_out(plan)
    assert not result.done and result.not_done[0][1].outcome in (Outcome.NOT_RUN, Outcome.SKIPPED)
    assert (folder / "Intake/a.txt").exists() and (folder / "Intake/b/b.txt").exists()
    assert not list((folder / "Intake").rglob(".frugal-*"))


def test_who_wants_to_write_meanwhile_waits_a_moment_and_wins(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("a.txt", "b/b.txt"):
        put(folder / "Intake" / name, "same" * 1_000_000)
    plan = plan_of(book_of(folder, duplicates("delete")))
    real = same_bytes
    writers: list[subprocess.Popen[bytes]] = []
    code = f"file = open({str(folder / 'Intake/a.txt')!r}, 'r+b'); file.write(b'EDITED')"

    def opened_meanwhile(one: int, other: int, heed: Callable[[], None]) -> bool:
        writers.append(subprocess.Popen([sys.executable, "-c", code]))

        def until_somebody_waits() -> None:
            while True:
                heed()  # raises as soon as the lease is asked back

        return real(one, other, until_somebody_waits)

    monkeypatch.setattr("frugal_sorter.changes.removal.same_bytes", opened_meanwhile)
    result = carry_out(plan)
    assert not result.done and "started writing" in result.not_done[0][1].reason
    assert writers[0].wait(30) == 0 and (folder / "Intake/a.txt").read_bytes().startswith(b"EDITED")
    assert (folder / "Intake/b/b.txt").exists()


def test_two_names_of_one_file_are_no_witness_of_each_other(folder: Path) -> None:
    put(folder / "a", "only")
    with Descriptors() as descriptors:
        fd = descriptors.folder(str(folder))
        with pytest.raises(NotDone, match="same file"), witness.witnessed(fd, "a", fd, "a"):
            pass


# Settling


@pytest.mark.parametrize("edit", ["none", "a.txt", "b/b.txt"])
def test_a_killed_hard_link_is_settled_without_losing_what_was_edited_since(folder: Path, edit: str) -> None:
    for name in ("a.txt", "b/b.txt"):
        put(folder / "Intake" / name, "original")
    killed(plan_of(book_of(folder, duplicates("hardlink"))))
    assert list((folder / "Intake").rglob(".frugal-*"))
    if edit != "none":
        (folder / "Intake" / edit).write_text("edited")
    settle()
    assert not list((folder / "Intake").rglob(".frugal-*"))
    found = {path.name: path.read_text() for path in (folder / "Intake").rglob("*.txt")}
    assert "original" in found.values() and set(found) == {"a.txt", "b.txt"}
    assert ("edited" in found.values()) is (edit != "none")


@pytest.mark.parametrize("what", ["older", "with a second name", "a folder with a second name", "its own", "its own folder"])
def test_only_what_a_run_has_made_is_removed_under_its_private_name(folder: Path, what: str) -> None:
    put(folder / "Intake/a.txt", "a")
    plan = plan_of(book_of(folder, EVERYTHING + 'copy = "C"'))
    (folder / "Intake/C").mkdir()
    began_ns = time.time_ns() + (10**10 if what == "older" else 0)
    with Journal(ready_state_folder(), write=True) as journal:
        run = journal.begin(plan, began_ns)
        token = journal.token(run)
        copy = next(step for step in plan.steps if step.verb == "copy")
    # No note of it: the power went before that was on the disk.
    strange = body = folder / "Intake/C" / f".frugal-{run}-{copy.id}-{token}"
    if "folder" in what:
        body = strange / "inside.txt"
    put(body, "half of it", age_days=-1)
    if "second name" in what:
        os.link(body, folder / "choose another name")
    settle()
    assert strange.exists() == ("own" not in what)
    with Journal(ready_state_folder(), write=True) as journal:
        assert bool(journal.interrupted_runs()) == ("own" not in what)
    if strange.exists():
        # The run is closed as soon as nothing is there.
        strange.rename(folder / "moved away by hand")
        settle()
    with Journal(ready_state_folder(), write=False) as journal:
        assert not journal.interrupted_runs()


def test_the_private_names_of_two_journals_never_meet(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(folder / "Intake/proj/only", "precious")
    put(folder / "In2/b.txt", "b")
    with Descriptors() as descriptors:
        plan = plan_of(book_of(folder, 'take = "folders"\nwhere = "name is proj"\nmove = "../Out"'))
        with Journal(ready_state_folder(), write=True) as journal:
            run = journal.begin(plan, plan.made_ns)
            step = next(step for step in plan.steps if step.verb == "move")
            aside = RunContext(descriptors, run, token=journal.token(run)).private(step)
    (folder / "Intake/proj").rename(folder / "Intake" / aside)
    monkeypatch.setenv("XDG_STATE_HOME", str(folder / "another"))
    tidy(folder, f'in = "In2"\n{EVERYTHING}copy = "{folder}/Intake"')
    settle()
    assert (folder / "Intake" / aside / "only").read_text() == "precious"
    monkeypatch.delenv("XDG_STATE_HOME")
    settle()
    assert (folder / "Intake/proj/only").read_text() == "precious"


@pytest.mark.parametrize("edited", ["none", "its old name taken", "target"])
def test_a_killed_move_to_another_volume_is_settled_whole(folder: Path, edited: str) -> None:
    source, target = put(folder / "Intake/a.txt", "planned"), folder / "Out/a.txt"
    target.parent.mkdir()
    plan = Plan("tidy", look(place_of(str(source))).ctime_ns, "test")
    plan.add("move-across", "r", "k", place_of(str(source)), place_of(str(target)), look(place_of(str(source))).identity)
    killed(plan)
    if edited == "its old name taken":
        source.write_text("edited")
    elif edited == "target":
        target.write_text("edited")
    settle()
    left = sorted(path.read_text() for path in folder.rglob("*.txt"))
    assert left == (["planned"] if edited == "none" else ["edited", "planned"])
    assert not list(folder.rglob(".frugal-*"))


# The one function


def test_what_slips_in_at_the_last_moment_is_put_back(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = put(folder / "a", "meant")
    record = look(Place(str(folder), "a"))
    real = rename_without_replacing

    def slip_in(fd: int, name: str, to: int, new: str) -> None:
        if new == "private":
            path.unlink()
            put(path, "slipped in")
        real(fd, name, to, new)

    monkeypatch.setattr("frugal_sorter.changes.removal.rename_without_replacing", slip_in)
    with Descriptors() as descriptors, pytest.raises(NotDone, match="changed since"):
        remove.remove_name(descriptors.folder(str(folder)), "a", remove.same_as(record), "private")
    assert path.read_text() == "slipped in" and sorted(os.listdir(folder)) == ["a"]


def test_where_nobody_can_be_asked_for_want_of_descriptors_nothing_is_removed(folder: Path) -> None:
    put(folder / "a")
    record = look(Place(str(folder), "a"))
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    fd = os.open(folder, os.O_RDONLY)
    opened = [os.dup(fd)]
    resource.setrlimit(resource.RLIMIT_NOFILE, (opened[0] + 1, hard))
    try:
        with pytest.raises(NotDone, match="cannot check whether a program is writing") as not_done:
            remove.remove_name(fd, "a", remove.same_as(record))
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
        for one in (fd, *opened):
            os.close(one)
    assert not_done.value.outcome is Outcome.FAILED and (folder / "a").exists()


@pytest.mark.parametrize("verb", ["trash", "delete", "remove-made", "move-across", "hard-link"])
def test_every_verb_that_takes_content_away_asks_who_is_writing(folder: Path, verb: VerbName) -> None:
    source, other = put(folder / "a.txt", "same"), put(folder / "b.txt", "same")
    (folder / "Out").mkdir()
    was = look(place_of(str(source))).identity
    target: Place | None = Place(str(folder / "Out"), "a.txt")
    again = {"id": 1, "verb": "link", "source": str(other), "target": str(source)}
    step = Step(1, verb, "r", "k", place_of(str(source)), target, was, {"again": again} if verb == "remove-made" else {})
    if verb == "trash":
        step.target = Place(str(folder / "home/.local/share/Trash/files"), "a.txt")
    if verb == "hard-link":
        from frugal_sorter.steps.step import Witness

        step.witness = Witness(place_of(str(other)), look(place_of(str(other))).identity)
    with open(source, "ab"), Descriptors() as descriptors:
        context = RunContext(descriptors, 1, token="0")
        with pytest.raises(NotDone, match="being written by") as not_done:
            verbs_for(context)[step.verb].do(step)
        assert not_done.value.outcome is Outcome.NOT_RUN and there(context, place_of(str(source)), was)
    assert not list((folder / "Out").iterdir())


def test_an_undo_settles_what_the_power_left_of_a_run_that_says_it_is_done(folder: Path) -> None:
    """A disk may lose even what it said that it had written: the copy is gone, and its part is there again."""
    put(folder / "Intake/a.txt", "a")
    put(folder / "Intake/b.txt", "b")
    result = tidy(folder, EVERYTHING + 'copy = "C"')
    with Journal(ready_state_folder(), write=False) as journal:
        run = journal.run(result.run)
        (step,) = [one for one, _ in journal.steps(run.id) if one.verb == "copy" and one.target and one.target.name == "a.txt"]
    (folder / "Intake/C/a.txt").rename(folder / "Intake/C" / f".frugal-{run.id}-{step.id}-{run.token}")
    undo(result.run)
    assert sorted(path.name for path in (folder / "Intake").rglob("*")) == ["a.txt", "b.txt"]


def test_an_undo_settles_what_the_power_left_of_an_undo_before_it(folder: Path) -> None:
    for name in "ab":
        put(folder / "Intake" / name, "the same")
    result = tidy(folder, duplicates("hardlink"))
    undone = undo(result.run)
    with Journal(ready_state_folder(), write=False) as journal:
        run = journal.run(undone.run)
        (step,) = [one for one, _ in journal.steps(run.id) if one.verb == "own-file"]
    assert step.source is not None
    put(folder / "Intake" / f".frugal-{run.id}-{step.id}-{run.token}", "the same", age_days=-1)
    undo(result.run)
    assert sorted(path.name for path in (folder / "Intake").iterdir()) == ["a", "b"]
