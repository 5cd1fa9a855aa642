"""Runs of so many steps that a fork or a thread takes a part of them."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Sequence
from itertools import count
from pathlib import Path

import pytest

from frugal_sorter.changes.descriptors import Deferred
from frugal_sorter.execution.executor import changing, execute
from frugal_sorter.filesystem.record import place_of
from frugal_sorter.filesystem.status import is_same_file, is_unchanged, look
from frugal_sorter.planning.plan import Plan
from frugal_sorter.reasons import Outcome
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps import trashing as ahead
from frugal_sorter.steps.step import Step
from frugal_sorter.steps.trashing import Trash
from tests.support import book_of, carry_out, plan_of, put, rules_text, snapshot, trash_of, undo, wait_until

COUNT = 30
TRASHING = 'where = "ext is tmp"\ntrash = true\nat_most = 10000'


@pytest.fixture
def small_batches(monkeypatch: pytest.MonkeyPatch) -> None:
    """A fork is worth it for a few steps."""
    monkeypatch.setattr(ahead, "BATCH", 4)
    monkeypatch.setattr(ahead, "FEWEST", 10)
    monkeypatch.setattr(os, "cpu_count", lambda: 2)


@pytest.fixture
def scratch(folder: Path, small_batches: None) -> Plan:
    for number in range(COUNT):
        put(folder / f"Intake/glaze {number:02}.tmp", f"recipe {number}")
    return plan_of(book_of(folder, TRASHING))


def in_trash(home: Path) -> tuple[list[str], list[str]]:
    """Return the names in the trash of a home, and those for which it has info files."""
    root = home / ".local/share/Trash"
    if not root.exists():
        return [], []
    return sorted(os.listdir(root / "files")), sorted(name[:-10] for name in os.listdir(root / "info"))


def test_info_files_made_ahead_are_those_of_the_files(scratch: Plan, folder: Path, own_home: Path) -> None:
    before = snapshot(folder)
    result = carry_out(scratch)
    assert result.done.steps == COUNT and not result.not_done
    assert trash_of(own_home) == {f"glaze {number:02}.tmp": f"{folder}/Intake/glaze {number:02}.tmp" for number in range(COUNT)}
    assert undo().done.steps == COUNT
    assert in_trash(own_home) == ([], []) and snapshot(folder) == before


def test_a_name_taken_in_the_trash_meanwhile_is_skipped_and_kept(scratch: Plan, folder: Path, own_home: Path) -> None:
    foreign = put(own_home / ".local/share/Trash/info/glaze 09.tmp.trashinfo", "of another program")
    foreign.parent.chmod(0o700)
    result = carry_out(scratch)
    assert [(step.place.name, mark.outcome) for step, mark in result.not_done] == [("glaze 09.tmp", Outcome.SKIPPED)]
    files, infos = in_trash(own_home)
    assert foreign.read_text() == "of another program" and infos == sorted([*files, "glaze 09.tmp"])
    assert os.listdir(folder / "Intake") == ["glaze 09.tmp"]


@pytest.mark.parametrize("steps", [0, 1, 5, 17])
def test_a_run_that_is_stopped_leaves_no_info_file_behind(scratch: Plan, own_home: Path, steps: int) -> None:
    asked = count()
    with changing(ready_state_folder(), "test") as journal:
        result = execute(scratch, journal, lambda _step, _mark: None, lambda: next(asked) >= steps)
    assert result.stopped and result.done.steps == steps
    files, infos = in_trash(own_home)
    assert files == infos and len(files) == steps


@pytest.mark.parametrize("survived", [0, 1, 3])
def test_a_fork_that_dies_is_made_up_for(scratch: Plan, own_home: Path, monkeypatch: pytest.MonkeyPatch, survived: int) -> None:
    write, parent, batches = Trash._write_infos, os.getpid(), count()

    def write_or_die(self: Trash, steps: Sequence[Step]) -> list[int]:
        if os.getpid() == parent or next(batches) < survived:
            return write(self, steps)
        write(self, steps[:2])
        os.kill(os.getpid(), signal.SIGKILL)
        raise AssertionError

    monkeypatch.setattr(Trash, "_write_infos", write_or_die)
    result = carry_out(scratch)
    assert result.done.steps == COUNT and not result.not_done
    files, infos = in_trash(own_home)
    assert files == infos and len(files) == COUNT


def test_a_stopped_run_clears_up_behind_a_fork_that_died(scratch: Plan, own_home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write, parent = Trash._write_infos, os.getpid()

    def write_and_die(self: Trash, steps: Sequence[Step]) -> list[int]:
        assert os.getpid() != parent, "nothing is listed"
        write(self, steps)
        os.kill(os.getpid(), signal.SIGKILL)
        raise AssertionError

    monkeypatch.setattr(Trash, "_write_infos", write_and_die)
    with changing(ready_state_folder(), "test") as journal:
        root = own_home / ".local/share/Trash/info"

        def stop_when_written() -> bool:
            wait_until(lambda: root.exists() and len(os.listdir(root)) == ahead.BATCH)
            return True

        assert execute(scratch, journal, lambda _step, _mark: None, stop_when_written).stopped
    assert in_trash(own_home) == ([], [])


def test_where_no_fork_can_be_had_all_is_done_without(scratch: Plan, own_home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse() -> int:
        raise BlockingIOError

    monkeypatch.setattr(os, "fork", refuse)
    assert carry_out(scratch).done.steps == COUNT
    assert len(in_trash(own_home)[1]) == COUNT


def test_what_is_left_to_a_thread_is_done_in_order_when_it_has_caught_up() -> None:
    done: list[int] = []
    behind: Deferred[int] = Deferred(done.extend)
    for number in range(250):
        behind.add(number)
    behind.catch_up()
    assert done == list(range(250))
    behind.add(250)
    behind.close()
    assert done == list(range(251))


# A file whose status is older than the plan is the one that was seen


@pytest.mark.parametrize(
    ("change", "same"),
    [
        ({}, True),
        ({"ino": 1}, False),
        ({"dev": 0}, False),
        ({"size": 5}, False),
        ({"mtime_ns": 1}, False),
        ({"born_ns": 1}, True),
    ],
)
def test_a_status_that_is_older_than_the_look_is_enough(folder: Path, change: dict[str, int], same: bool) -> None:
    path = put(folder / "a")
    was = look(place_of(str(path))).identity._replace(**change)  # type: ignore[arg-type]
    found = os.lstat(path)
    later = found.st_ctime_ns + 3_000_000_000
    assert is_unchanged(found, was, later) is same
    assert not is_unchanged(found, was, found.st_ctime_ns) and not is_unchanged(found, was, 0)
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        assert is_same_file("a", descriptor, was, later) is same
        # Without that the birth decides.
        assert is_same_file("a", descriptor, was, 0) is (not change)
    finally:
        os.close(descriptor)


@pytest.mark.parametrize("verb", ['move = "Done"', "trash = true", "delete = true"])
@pytest.mark.parametrize("planned", [-(10**12), 10**12])
def test_another_file_with_the_same_number_size_and_time_is_left(folder: Path, verb: str, planned: int) -> None:
    path = put(folder / "Intake/a.tmp")
    plan = plan_of(book_of(folder, f'where = "ext is tmp"\n{verb}'))
    plan.made_ns = time.time_ns() + planned
    step = plan.asked[0]
    assert step.was is not None and step.was.born_ns
    step.was = step.was._replace(born_ns=step.was.born_ns - 1)
    result = carry_out(plan)
    assert result.done.steps == 0 and path.exists()


# Killed for real


STRACE = shutil.which("strace")


@pytest.mark.skipif(not STRACE, reason="strace is not installed")
def test_a_kill_amid_many_loses_nothing_either_way(folder: Path, own_home: Path) -> None:
    files = ahead.FEWEST + 500
    (folder / "Intake").mkdir()
    for number in range(files):
        (folder / f"Intake/{number}.tmp").write_bytes(b"%d" % number)
    (folder / "rules.toml").write_text(rules_text(TRASHING))
    before = snapshot(folder)

    def frugal(*words: str, killed_at: int = 0) -> int:
        killer = ["strace", "-qq", "-o", "/dev/null", "-e", "trace=renameat2", "-e"]
        killer.append(f"inject=renameat2:signal=SIGKILL:when={killed_at}")
        command = [*(killer if killed_at else []), sys.executable, "-m", "frugal_sorter", *words, "--yes"]
        done: list[subprocess.CompletedProcess[str]] = []

        def has_ended() -> bool:
            done[:] = [subprocess.run(command, cwd=folder, capture_output=True, text=True)]
            # What a killed run has forked ends a moment later.
            return "another frugal run is changing files" not in done[0].stderr

        wait_until(has_ended)
        return done[0].returncode

    assert frugal("tidy", "rules.toml", killed_at=3_000) in (-9, 137)
    assert frugal("undo") == 0
    after = snapshot(folder)
    # The times of folders are not known to be as they were after a kill.
    assert {path: seen for path, seen in after.items() if seen.kind == "-"} == {
        path: seen for path, seen in before.items() if seen.kind == "-"
    }
    assert in_trash(own_home) == ([], []) and set(after) == set(before)
    assert frugal("tidy", "rules.toml", "--again") == 0
    trashed, infos = in_trash(own_home)
    assert len(trashed) == files and trashed == infos
    assert frugal("undo", killed_at=2_500) in (-9, 137)
    # The next command that changes files settles it; what came back has no info file any more.
    assert frugal("tidy", "rules.toml") == 0
    trashed, infos = in_trash(own_home)
    assert trashed == infos and len(trashed) + len(os.listdir(folder / "Intake")) == files
    assert 0 < len(trashed) < files
