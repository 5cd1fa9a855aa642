from __future__ import annotations

import errno
import os
import sqlite3
from collections.abc import Iterable, Mapping
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from frugal_sorter.changes import removal as rename
from frugal_sorter.changes.descriptors import Descriptors
from frugal_sorter.errors import FrugalError, RefusedError, StateError
from frugal_sorter.execution.executor import Result, changing, execute
from frugal_sorter.execution.recovery import state_after_crash
from frugal_sorter.execution.undo import plan_undo, run_to_undo
from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.journal import database
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import disk
from frugal_sorter.reasons import Outcome
from frugal_sorter.state import ready_state_folder, writer_is_active, writer_lock
from frugal_sorter.steps.moving import Move
from frugal_sorter.steps.step import Mark, RunContext, Step, attempt, step_as_line
from tests.support import NOW_NS, book_of, carry_out, contents, file_names, moves_of, plan_of, put, snapshot, undo

MOVE_ALL = 'where = "everything"\nmove = "{type}/{modified:%Y-%m}"'


def tidy(folder: Path, *rules: str, again: bool = False) -> Result:
    return carry_out(plan_of(book_of(folder, *rules), again=again))


@pytest.mark.parametrize(
    "rule",
    [
        'unpack = "U/{stem}"', 'move = "New"', 'move = "New/{stem}/deep"', 'move = "{stem}/deep"', 'move = "../Out/{stem}"',
        'copy = "New/{stem}"\nmove = "Other/{stem}"', 'pack = "New/{stem}/all.zip"',
    ],
)  # fmt: skip
@pytest.mark.parametrize("is_used", [False, True])
def test_where_nothing_was_done_no_folder_shows_a_time_of_the_run(folder: Path, rule: str, is_used: bool) -> None:
    for name in ("a.zip", "b.zip", "c.zip"):
        put(folder / "Intake" / name, "no archive")
    put(folder / "Out/there.txt")
    for path in (folder / "Intake", folder / "Out", folder):
        os.utime(path, (1_000, 1_000))
    plan = plan_of(book_of(folder, f'where = "ext is zip"\n{rule}'))
    for step in plan.steps:
        # Not what it was when it was planned: nothing is done with it.
        if step.was is not None and not (is_used and step.place.name == "c.zip"):
            step.was = step.was._replace(size=1, mtime_ns=1)
    before = snapshot(folder)
    result = carry_out(plan)
    if is_used and "unpack" not in rule:
        assert result.done or "pack" in rule
    else:
        assert not result.done and snapshot(folder) == before
    undo(result.run)
    assert snapshot(folder) == before


def test_tidy_again_undo_and_redo(folder: Path) -> None:
    for index, name in enumerate(("a.jpg", "b.jpg", "sub/a.jpg", "c", "d.log")):
        put(folder / "Intake" / name, f"{index}", age_days=index * 40).chmod(0o640 - index)
    rule = MOVE_ALL + '\nlevels = "all"'
    before = snapshot(folder)
    assert tidy(folder, rule).done.steps == 5
    after = snapshot(folder)
    assert not plan_of(book_of(folder, rule)).asked
    assert undo().done.steps == 5
    assert snapshot(folder) == before
    left = plan_of(book_of(folder, rule)).not_touched
    assert {one.reason for one in left} == {"undone by run 2; to include it: --again"} and len(left) == 5
    # The undo of an undo: everything but the times of folders that had to be made anew.
    assert undo(2).done.steps == 5
    assert {path: seen for path, seen in snapshot(folder).items() if seen.kind == "-"} == {
        path: seen for path, seen in after.items() if seen.kind == "-"
    }
    assert undo().done.steps == 5
    assert {path: seen for path, seen in snapshot(folder).items() if seen.kind == "-"} == {
        path: seen for path, seen in before.items() if seen.kind == "-"
    }
    assert tidy(folder, rule, again=True).done.steps == 5


def test_a_changed_rule_or_file_is_no_longer_taken_back(folder: Path) -> None:
    put(folder / "Intake/a.jpg")
    put(folder / "Intake/b.jpg")
    tidy(folder, MOVE_ALL)
    undo()
    put(folder / "Intake/b.jpg", "edited")
    assert set(moves_of(plan_of(book_of(folder, MOVE_ALL)), folder)) == {"Intake/b.jpg"}
    assert len(plan_of(book_of(folder, MOVE_ALL + "\nhidden = true")).asked) == 2


def test_a_rule_that_makes_names_from_names_comes_to_rest(folder: Path) -> None:
    put(folder / "Intake/a.jpg")
    rule = 'where = "everything"\nrename = "old {name}"'
    assert tidy(folder, rule).done.steps == 1
    assert not plan_of(book_of(folder, rule)).asked
    undo()
    assert {one.reason for one in plan_of(book_of(folder, rule)).not_touched} == {"undone by run 2; to include it: --again"}
    undo(2)
    assert not plan_of(book_of(folder, rule)).not_touched and (folder / "Intake/old a.jpg").exists()


@pytest.mark.parametrize(
    ("what", "outcome", "reason"),
    [
        ("written", Outcome.SKIPPED, "changed since the plan was made"),
        ("replaced", Outcome.SKIPPED, "changed since the plan was made"),
        ("gone", Outcome.SKIPPED, "no longer there"),
        ("taken", Outcome.SKIPPED, "the name a.log was taken in the meantime"),
        ("parent swapped", Outcome.SKIPPED, ""),
        ("target swapped", Outcome.FAILED, ""),
    ],
)
def test_what_changed_between_the_plan_and_its_step_is_skipped(folder: Path, what: str, outcome: Outcome, reason: str) -> None:
    source, target = folder / "Intake/a.log", folder / "Intake/log/2026-11/a.log"
    put(source)
    put(folder / "Intake/b.log")
    put(target.parent / "there.log")
    plan = plan_of(book_of(folder, MOVE_ALL))
    if what == "written":
        source.write_text("written to")
    elif what == "replaced":
        same = source.stat()
        put(folder / "other", "clay")
        source.unlink()
        os.rename(folder / "other", source)
        os.utime(source, ns=(same.st_mtime_ns, same.st_mtime_ns))
    elif what == "gone":
        source.unlink()
    elif what == "taken":
        put(target, "mine")
    elif what == "parent swapped":
        (folder / "Intake").rename(folder / "Aside")
        (folder / "Intake").symlink_to("Aside")
    else:
        target.parent.rename(folder / "Aside")
        target.parent.symlink_to(folder / "Aside")
    before = contents(folder)
    result = carry_out(plan)
    marks = {step.place.name: mark for step, mark in result.not_done}
    assert marks["a.log"].outcome == outcome and reason in marks["a.log"].reason
    assert result.has_problem and contents(folder) == before
    assert result.done.steps == (0 if "swapped" in what else 1)


def test_undo_lists_what_is_in_the_way_and_does_the_rest(folder: Path) -> None:
    for name in ("back.log", "taken.log", "gone.log", "edited.log", "replaced.log"):
        put(folder / "Intake" / name, name)
    tidy(folder, MOVE_ALL)
    sorted_to = folder / "Intake/log/2026-11"
    put(folder / "Intake/taken.log", "another")
    (sorted_to / "gone.log").unlink()
    (sorted_to / "edited.log").write_text("edited")
    (sorted_to / "replaced.log").unlink()
    put(sorted_to / "keep inode", "x")
    put(sorted_to / "replaced.log", "another")
    with changing(ready_state_folder(), "test") as journal:
        plan = plan_undo(journal, run_to_undo(journal, None), NOW_NS)
        assert {left.place.name: left.reason for left in plan.not_touched} == {
            "taken.log": f"another file is now at {folder}/Intake/taken.log",
            "gone.log": "no longer there",
            "replaced.log": "another file is there now",
        }
        assert "edited since" in plan.notes[0].text
        execute(plan, journal, lambda _step, _mark: None)
    assert (folder / "Intake/edited.log").read_text() == "edited"
    assert (folder / "Intake/back.log").exists() and (sorted_to / "taken.log").read_text() == "taken.log"
    (folder / "Intake/taken.log").unlink()
    assert undo(1).done.steps == 1  # once nothing is in the way, the rest follows


def test_undo_names_the_later_run_that_moved_a_file_on(folder: Path) -> None:
    put(folder / "Intake/a.log")
    tidy(folder, MOVE_ALL)
    tidy(folder, 'in = "Intake/log/2026-11"\nwhere = "everything"\nmove = "../../far"')
    with changing(ready_state_folder(), "test") as journal:
        plan = plan_undo(journal, journal.run(1), NOW_NS)
    assert plan.not_touched[0].reason == "run 2 moved it again; undo that run first"
    undo()
    # The last run is that of before, and it is back: an older one is taken back by its number alone.
    with pytest.raises(FrugalError, match=r"run 2 .* has already been undone by run 3"):
        undo()
    undo(1)
    assert (folder / "Intake/a.log").exists()


def test_undo_makes_folders_that_were_removed_and_keeps_those_that_are_used(folder: Path) -> None:
    put(folder / "Intake/sub/a.log")
    tidy(folder, MOVE_ALL + '\nlevels = "all"')
    (folder / "Intake/sub").rmdir()
    put(folder / "Intake/log/mine.txt")
    assert undo().done.steps == 1
    assert (folder / "Intake/sub/a.log").exists()
    assert not (folder / "Intake/log/2026-11").exists() and (folder / "Intake/log/mine.txt").exists()


def test_stopping_does_the_current_step_and_no_more(folder: Path) -> None:
    for number in range(5):
        put(folder / f"Intake/{number}.log")
    plan = plan_of(book_of(folder, MOVE_ALL))
    told: list[Step] = []
    with changing(ready_state_folder(), "test") as journal:
        result = execute(plan, journal, lambda step, _: told.append(step), lambda: len(told) >= 4)
        assert (result.stopped, result.done.steps) == (True, 2)
        assert journal.run(1).state == "stopped"
    assert undo().done.steps == 2


class _Killed(BaseException):
    pass


@pytest.mark.parametrize("survived", range(7))
def test_after_a_kill_the_disk_tells_what_was_done(folder: Path, survived: int) -> None:
    for number in range(4):
        put(folder / f"Intake/{number}.log", str(number))
    before = snapshot(folder)
    plan = plan_of(book_of(folder, MOVE_ALL))
    done = 0

    def told(_step: Step, _mark: Mark) -> None:
        nonlocal done
        done += 1
        if done > survived:
            raise _Killed

    class Forgetful(Journal):
        def mark(self, run: int, marks: object) -> None:
            """A kill writes no marks."""

        def mark_done(self, run: int, spans: object) -> None:
            """Nor these."""

    folder_of_state = ready_state_folder()
    with Forgetful(folder_of_state, write=True) as journal, pytest.raises(_Killed):
        execute(plan, journal, told)
    with Journal(folder_of_state, write=False) as journal:
        (run,) = journal.interrupted_runs()
        ended = [mark.outcome for step, mark in state_after_crash(journal, run) if step.verb == "move"]
    moved = min(4, max(0, survived - 1))  # two folders are made first, then comes the step that was cut off
    assert ended == [Outcome.DONE] * moved + [Outcome.SKIPPED] * (4 - moved)
    if moved:
        assert undo().done.steps == moved
        assert {path: seen for path, seen in snapshot(folder).items() if seen.kind == "-"} == {
            path: seen for path, seen in before.items() if seen.kind == "-"
        }
    else:
        with pytest.raises(FrugalError, match="changed nothing"):
            undo()
    with Journal(folder_of_state, write=False) as journal:
        assert journal.run(1).state == "interrupted"


def _step(source: Path, target: Path) -> Step:
    was = look(place_of(str(source))).identity
    return Step(1, "move", "r", "k", place_of(str(source)), place_of(str(target)), was)


def test_a_kill_between_the_halves_of_a_rename_by_link_is_put_right(folder: Path) -> None:
    source, target = put(folder / "a"), folder / "b"
    step = _step(source, target)
    os.link(source, target)
    with Descriptors() as descriptors:
        move = Move(RunContext(descriptors))
        assert move.resolve_after_crash(step, None, repair=False).outcome == Outcome.OPEN
        assert move.resolve_after_crash(step, None, repair=True).outcome == Outcome.DONE
        assert move.resolve_after_crash(step, None, repair=True).outcome == Outcome.DONE
    assert sorted(os.listdir(folder)) == ["b"]


def test_without_the_kernels_help_a_rename_still_never_clobbers(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*_: object) -> None:
        raise OSError(errno.EINVAL, "not known")

    monkeypatch.setattr(disk, "rename_exclusively", refuse)
    source, target, taken = put(folder / "a", "a"), folder / "b", put(folder / "c", "c")
    with Descriptors() as descriptors:
        assert attempt(Move(RunContext(descriptors)), _step(source, taken)).outcome == Outcome.SKIPPED
        assert attempt(Move(RunContext(descriptors)), _step(source, target)).outcome == Outcome.DONE
    assert {path.name: path.read_text() for path in folder.iterdir()} == {"b": "a", "c": "c"}


def test_an_entry_that_slips_in_at_the_last_moment_is_put_back(folder: Path) -> None:
    source, target, other = put(folder / "a", "planned"), folder / "b", put(folder / "c", "other")
    step = _step(source, target)

    def swap_then_rename(source_fd: int, name: str, target_fd: int, new: str) -> None:
        if other.exists():
            source.rename(folder / "kept")
            other.rename(source)
        rename.rename_without_replacing(source_fd, name, target_fd, new)

    with Descriptors() as descriptors:
        mark = attempt(Move(RunContext(descriptors), swap_then_rename), step)
    assert mark.outcome == Outcome.SKIPPED
    assert {path.name: path.read_text() for path in folder.iterdir()} == {"a": "other", "kept": "planned"}


@pytest.mark.parametrize("number", [errno.EXDEV, errno.EACCES, errno.ENOSPC, errno.EIO, errno.EROFS])
def test_a_rename_that_fails_changes_nothing_and_is_named(folder: Path, number: int) -> None:
    def fail(*_: object) -> None:
        raise OSError(number, os.strerror(number))

    step = _step(put(folder / "a"), folder / "b")
    with Descriptors() as descriptors:
        mark = attempt(Move(RunContext(descriptors), fail), step)
    assert mark.outcome == Outcome.FAILED and mark.reason
    assert os.listdir(folder) == ["a"]


def test_descriptors_are_bounded_and_follow_no_link(folder: Path) -> None:
    for number in range(200):
        (folder / f"d{number}").mkdir()
    (folder / "link").symlink_to("d1")
    with Descriptors(most=8) as descriptors:
        before = len(os.listdir("/proc/self/fd"))
        for number in range(200):
            descriptors.folder(str(folder / f"d{number}"))
        assert len(os.listdir("/proc/self/fd")) - before <= 8
        for path in (folder / "link", folder / "link/x", folder / "none"):
            with pytest.raises(OSError):
                descriptors.folder(str(path))


def test_one_writer_at_a_time_is_told_who_the_other_is(folder: Path) -> None:
    with writer_lock(folder, "tidy"):
        assert writer_is_active(folder)
        with pytest.raises(RefusedError, match=rf"frugal tidy \(process {os.getpid()}\)"), writer_lock(folder, "undo"):
            pass
    assert not writer_is_active(folder)
    with writer_lock(folder, "undo"):
        pass


def test_a_damaged_or_newer_journal_is_refused_with_its_remedy() -> None:
    state = ready_state_folder()
    assert state.stat().st_mode & 0o777 == 0o700
    with Journal(state, write=True):
        assert (state / "journal.sqlite").stat().st_mode & 0o777 == 0o600
    with sqlite3.connect(state / "journal.sqlite") as db:
        db.execute("PRAGMA user_version = 99")
    db.close()
    with pytest.raises(StateError, match="newer version"):
        Journal(state, write=False)
    (state / "journal.sqlite").write_bytes(b"not a database" * 100)
    with pytest.raises(StateError, match="damaged"):
        Journal(state, write=False)


def test_intents_are_on_the_disk_before_the_first_change_and_a_full_disk_stops_it(folder: Path) -> None:
    put(folder / "Intake/a.log")
    plan = plan_of(book_of(folder, MOVE_ALL))

    class Full(Journal):
        def begin(self, plan: Plan, began_ns: int) -> int:
            raise StateError("full", "")

    with Full(ready_state_folder(), write=True) as journal, pytest.raises(StateError):
        execute(plan, journal, lambda _step, _mark: None)
    assert (folder / "Intake/a.log").exists()

    def check(_step: Step, _mark: Mark) -> None:
        with Journal(ready_state_folder(), write=False) as reader:
            assert len(list(reader.steps(1))) == len(plan.steps)

    with changing(ready_state_folder(), "test") as journal:
        assert execute(plan, journal, check).done.steps == 1


def test_the_journal_keeps_any_name_and_any_inode_number(folder: Path) -> None:
    place = Place(str(folder), "raw\udcff\n\u202e")
    was = Identity("file", 7, (1 << 64) - 3, 1 << 40, -5, None)
    plan = Plan("tidy", NOW_NS, "rules\udcfe.toml")
    plan.add("move", "r", "k", place, Place(str(folder), "b"), was)
    with Journal(ready_state_folder(), write=True) as journal:
        run = journal.begin(plan, NOW_NS)
        journal.mark(run, [Mark(1, Outcome.DONE, "", was)])
        ((step, mark),) = journal.steps(run)
        assert (step.source, step.was, mark) == (place, was, Mark(1, Outcome.DONE, "", was))
        assert journal.run(run).origin == plan.origin


_scope = st.sampled_from(["", 'levels = "all"', "levels = 2", "hidden = true", 'hidden = true\nlevels = "all"'])
_any_rule = st.tuples(
    st.sampled_from(["everything", "ext is log", "type is image", "size > 1 B", "name has a", "depth > 1", "not ext is none"]),
    st.sampled_from(['move = "{type}"', 'move = "{ext}"', 'move = "X/{modified:%Y}"', 'rename = "{initial}"', 'leave = true',
                     'move = "Y"\nrename = "{stem}.{ext|initial}"', 'rename = "n {name}"', 'move = "{initial}/{stem}"']),
    _scope,
    st.sampled_from(["", 'clash = "skip"']),
).map(lambda parts: [f"where = '{parts[0]}'\n{parts[1]}\n{parts[2]}\n{parts[3]}"])  # fmt: skip
# Where several rules stand together, what one of them does must not make another one true.
_lasting_rules = st.tuples(
    st.lists(
        st.tuples(
            st.sampled_from(["everything", "ext is log", "type is image", "size > 1 B", "modified before 2026"]),
            st.sampled_from(['move = "{type}"', 'move = "{ext}"', 'move = "X/{modified:%Y}"', "leave = true"]),
        ),
        min_size=1, max_size=3,
    ),
    st.sampled_from(['levels = "all"', 'hidden = true\nlevels = "all"']),
).map(lambda book: [f"where = '{where}'\n{ending}\n{book[1]}" for where, ending in book[0]])  # fmt: skip
_tree = st.lists(
    st.tuples(st.sampled_from(["", "", "s", "s/t", ".h", "image", "X"]), file_names, st.binary(max_size=3), st.integers(-2, 900)),
    min_size=1, max_size=12,
)  # fmt: skip


@settings(max_examples=60)
@given(tree=_tree, rules=_any_rule | _lasting_rules)
def test_nothing_is_lost_a_rerun_does_nothing_and_undo_is_the_identity(
    tmp_path_factory: pytest.TempPathFactory, tree: list[tuple[str, str, bytes, int]], rules: list[str]
) -> None:
    root = tmp_path_factory.mktemp("tree").resolve()
    (root / "Intake").mkdir()
    for parent, name, body, age in tree:
        try:
            put(root / "Intake" / parent / name, body, age)
        except OSError:
            continue  # a file where this one needs a folder, or the other way round
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_STATE_HOME", str(root / "state"))
        book = book_of(root, *rules)
        before, inside = snapshot(root / "Intake"), contents(root / "Intake")
        plan = plan_of(book)
        planned = moves_of(plan, root)
        result = carry_out(plan)
        assert contents(root / "Intake") == inside
        assert (result.done.steps, result.not_done) == (len(planned), [])
        for source, target in planned.items():
            assert os.path.lexists(root / target)
            assert source == target or not os.path.lexists(root / source) or source in planned.values()
        assert not plan_of(book).asked
        if result.done:
            undo()
        assert snapshot(root / "Intake") == before
        assert not plan_of(book).asked


# Once for the folders of a block, once for its rules.
@pytest.mark.parametrize("fails_at", [1, 2])
def test_a_run_that_is_written_down_at_the_second_try_is_read_as_it_was_planned(
    folder: Path, monkeypatch: pytest.MonkeyPatch, fails_at: int
) -> None:
    """The disk is full, the room that was kept is given back, and all is written once more, from the start."""
    for number in range(5):
        put(folder / f"Intake/{number}.log")
        put(folder / f"Intake/in {number}/a.tmp")
    rules = 'where = "ext is log"\nmove = "Logs/{stem}"', 'where = "ext is tmp"\nlevels = 2\nmove = "Rest/{stem}"'
    plan = plan_of(book_of(folder, *rules))
    met: list[int] = []
    numbers_for = database.Numbering.numbers_for

    def full(self: database.Numbering, values: Iterable[object]) -> Mapping[object, int]:
        found = numbers_for(self, values)
        met.append(1)
        if len(met) == fails_at:
            raise OSError(errno.ENOSPC, "no space left on device")
        return found

    monkeypatch.setattr(database.Numbering, "numbers_for", full)
    before = snapshot(folder)
    result = carry_out(plan)
    assert (result.done.steps == 10 and len(met) > fails_at) or fails_at == 3
    with Journal(ready_state_folder(), write=False) as journal:
        assert [step_as_line(step) for step, _ in journal.steps(1)] == [step_as_line(step) for step in plan.steps]
    undo()
    assert snapshot(folder) == before


@pytest.mark.parametrize("write", [True, False])
def test_two_processes_may_open_a_new_journal_at_once(own_home: Path, write: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    with Journal(ready_state_folder(), write=True) as journal:
        assert journal.runs() == []
    looked, look = [], database._version_of

    def as_before_the_other_one(db: sqlite3.Connection) -> int:
        looked.append(db)
        return 0 if len(looked) == 1 else look(db)

    monkeypatch.setattr(database, "_version_of", as_before_the_other_one)
    with Journal(ready_state_folder(), write=write) as journal:
        assert journal.runs() == [] and looked
