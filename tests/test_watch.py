"""Watching: by its core with a clock and events of the test's own, and by the built program."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.app import watch
from frugal_sorter.app.session import Session
from frugal_sorter.app.watch import Watcher
from frugal_sorter.errors import FrugalError, StateError
from frugal_sorter.execution.executor import Result, changing
from frugal_sorter.filesystem import walk
from frugal_sorter.filesystem.events import LOST, MOUNTS, Event, SystemSource
from frugal_sorter.filesystem.record import Listing
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.sight import Root
from frugal_sorter.rules.load import load_rules
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.step import Mark, Step
from tests.conftest import AS_ROOT, Frugal, Mount
from tests.support import NOW_NS, put, rules_text, wait_until

SECOND_NS = 1_000_000_000


@dataclass
class Told:
    """A source and a listener in one: what the watcher asks for and says."""

    deep: set[str] = field(default_factory=set)
    flat: set[str] = field(default_factory=set)
    notes: list[str] = field(default_factory=list)
    moved: list[str] = field(default_factory=list)
    runs: int = 0
    missing: list[str] = field(default_factory=list)
    counted: int | None = None
    error: Exception | None = None

    def watch(self, deep: Collection[str], flat: Collection[str]) -> None:
        if self.error is not None:
            raise self.error
        self.deep, self.flat = set(deep), set(flat)

    def watched(self) -> int | None:
        return self.counted

    def wait(self, seconds: float) -> Sequence[Event]:
        raise AssertionError("the test itself says what happens")

    def wake(self) -> None:
        return

    def close(self) -> None:
        return

    def watching(self, roots: Collection[Root], missing: Collection[str]) -> None:
        self.missing = list(missing)

    def note(self, text: str) -> None:
        self.notes.append(text)

    def planned(self, plan: Plan) -> None:
        self.runs += 1

    def step(self, step: Step, mark: Mark) -> None:
        if step.source is not None and step.verb == "move":
            self.moved.append(step.source.name)

    def done(self, plan: Plan, result: Result) -> None:
        return

    def left(self, plan: Plan) -> None:
        return


class Room:
    """A watched folder, in which the test is the clock."""

    def __init__(self, folder: Path, rules: str) -> None:
        self.folder, self.now_ns, self.told = folder, NOW_NS, Told()
        (folder / "rules.toml").write_text(rules)
        self.apart_ns = 0
        self.watcher = Watcher(
            lambda: load_rules(folder / "rules.toml"), lambda: Session(self.now_ns, "front-desk", "maren"), self.told, self.told,
            clock=lambda: self.now_ns, running=lambda: self.now_ns - self.apart_ns,
        )  # fmt: skip

    def start(self) -> None:
        self.watcher.start()
        self.settle(1)

    def write(self, name: str, age: float = 0, told: bool = True) -> Path:
        """Write a file so long before now (days), and tell of it."""
        path = put(self.folder / name, "clay", age, self.now_ns)
        if told:
            self.watcher.take([Event(str(path.parent), str(path))])
        return path

    def settle(self, seconds: float) -> None:
        """Let time pass, and the watcher do what comes due."""
        until_ns = self.now_ns + int(seconds * SECOND_NS)
        while self.now_ns <= until_ns:
            wait_ns = max(int(self.watcher.due_in() * SECOND_NS), SECOND_NS // 100)
            if self.now_ns + wait_ns > until_ns:
                break
            self.now_ns += wait_ns
            self.watcher.act()
        self.now_ns = until_ns


LOGS = rules_text('where = "ext is log"\nmove = "Logs"')


@pytest.fixture
def room(folder: Path) -> Room:
    (folder / "Intake").mkdir()
    room = Room(folder, LOGS)
    room.start()
    return room


def test_what_comes_is_taken_when_it_is_left_alone_and_not_before(room: Room) -> None:
    path = room.write("Intake/a.log", age=400)  # however old it says that it is
    room.settle(4.9)
    assert path.exists() and room.told.moved == []
    room.settle(0.6)
    assert room.told.moved == ["a.log"] and (room.folder / "Intake/Logs/a.log").exists()
    room.write("Intake/b.txt")
    room.settle(60)
    assert room.told.moved == ["a.log"]


def test_a_file_that_is_written_slowly_is_moved_once_and_after_it(room: Room) -> None:
    for second in range(10):
        with open(room.folder / "Intake/slow.log", "a") as file:
            file.write(f"{second}\n")
        room.write("Intake/quick.log" if second == 0 else "Intake/other.txt")
        os.utime(room.folder / "Intake/slow.log", ns=(room.now_ns, room.now_ns))
        room.watcher.take([Event(str(room.folder / "Intake"), str(room.folder / "Intake/slow.log"))])
        room.settle(1)
    assert room.told.moved == ["quick.log"]
    room.settle(3.9)
    assert room.told.moved == ["quick.log"]
    room.settle(0.5)
    assert room.told.moved == ["quick.log", "slow.log"]
    assert (room.folder / "Intake/Logs/slow.log").read_text() == "".join(f"{second}\n" for second in range(10))


def test_what_comes_one_by_one_waits_for_itself_alone(room: Room) -> None:
    for number in range(40):
        room.write(f"Intake/{number}.log")
        room.settle(0.5)
        assert len(room.told.moved) in range(max(0, number - 10), max(1, number - 7))
    room.settle(10)
    assert len(room.told.moved) == 40 and room.told.runs > 10


def test_very_many_at_once_are_one_run(room: Room) -> None:
    for number in range(1_500):
        put(room.folder / f"Intake/{number}.log", "x", 0, room.now_ns)
    intake = str(room.folder / "Intake")
    room.watcher.take([Event(intake, f"{intake}/{number}.log") for number in range(1_500)])
    room.settle(10)
    assert len(room.told.moved) == 1_500 and room.told.runs == 1


def test_a_date_that_passes_is_acted_on_without_an_event(folder: Path) -> None:
    (folder / "Intake").mkdir()
    room = Room(folder, rules_text('where = "modified older than 30 days"\nmove = "Old"'))
    put(folder / "Intake/old.log", "x", 29.9, NOW_NS)
    put(folder / "Intake/older.log", "x", 31, NOW_NS)
    put(folder / "Intake/new.log", "x", 3, NOW_NS)
    room.start()
    assert room.told.moved == ["older.log"]
    room.settle(0.0999 * 86_400 - 5)
    assert room.told.moved == ["older.log"]
    room.settle(60)
    assert room.told.moved == ["older.log", "old.log"]
    # Only the moment itself is waited for: nothing is looked at in between.
    assert room.told.runs == 2


def test_hours_hold_and_what_came_outside_of_them_is_taken_when_they_begin(folder: Path) -> None:
    (folder / "Intake").mkdir()
    room = Room(folder, rules_text('where = "ext is log"\nmove = "Logs"\nduring = "14:00-16:00"'))
    room.start()
    room.write("Intake/a.log")  # at noon
    room.settle(7_190)
    assert room.told.moved == []
    room.settle(30)
    assert room.told.moved == ["a.log"]


def test_a_folder_that_is_missing_is_waited_for_whenever_it_goes(folder: Path) -> None:
    room = Room(folder, LOGS)
    room.start()
    intake = folder / "Intake"
    assert room.told.missing == [str(intake)] and str(folder) in room.told.flat
    for number in range(2):
        put(intake / f"{number}.log", "x", 0, room.now_ns)
        room.watcher.take([Event(str(folder), str(intake))])
        room.settle(12)
        assert room.told.moved == [f"{one}.log" for one in range(number + 1)] and room.told.deep == {str(intake)}
        shutil.rmtree(intake)
        room.watcher.take([Event(str(folder), str(intake))])
        room.settle(1)
        assert room.told.missing == [str(intake)]
    assert room.told.notes == []


def test_rules_that_change_are_read_again_and_a_mistake_leaves_the_old_ones(room: Room) -> None:
    rules = room.folder / "rules.toml"
    for text, said in ((LOGS.replace("ext is log", "ext is txt"), "reloaded the rule file"), ("x = [", "stay in use")):
        rules.write_text(text)
        room.watcher.take([Event(str(room.folder), str(rules))])
        assert said in room.told.notes[-1]
    room.write("Intake/a.log")
    room.write("Intake/a.txt")
    room.settle(10)
    assert room.told.moved == ["a.txt"]
    rules.unlink()
    room.watcher.take([Event(str(room.folder), str(rules))])
    assert "cannot be read" in room.told.notes[-1]


def test_what_was_not_told_is_found_after_an_overflow_a_jump_of_the_clock_and_in_the_end_anyway(room: Room) -> None:
    for number, hear in enumerate(("overflow", "slept", "set back", "rescan")):
        room.write(f"Intake/{number}.log", age=1, told=False)
        room.settle(300)
        assert len(room.told.moved) == number
        if hear == "overflow":
            room.watcher.take([LOST])
        elif hear in ("slept", "set back"):
            step_ns = 3_600 * SECOND_NS * (1 if hear == "slept" else -1)
            room.now_ns += step_ns
            room.apart_ns += step_ns
        room.settle(6 * 3_600 + 60 if hear == "rescan" else 70)
        assert len(room.told.moved) == number + 1, hear


@AS_ROOT
def test_a_volume_is_waited_for_each_time_that_it_goes(folder: Path, mount: Mount) -> None:
    (folder / "volume").mkdir()
    rules = rules_text('where = "ext is log"\nmove = "Logs"').replace('in = "Intake"', 'in = "{stick}/Intake"')
    room = Room(folder, rules.replace("frugal = 1", 'frugal = 1\n[places]\nstick = { path = "volume", mounted = true }'))
    room.start()
    assert room.told.missing == [str(folder / "volume/Intake")]
    for number in range(2):
        put(mount("tmpfs") / f"Intake/{number}.log", "x", 0, room.now_ns)
        room.watcher.take([LOST])
        room.settle(10)
        assert room.told.moved == [f"{one}.log" for one in range(number + 1)] and room.told.missing == []
        subprocess.run(["umount", folder / "volume"], check=True)
        room.watcher.take([LOST])
        room.settle(1)
        assert room.told.missing == [str(folder / "volume/Intake")]


def test_what_came_a_moment_ago_is_left_alone_though_nobody_told_of_it(folder: Path) -> None:
    (folder / "Intake").mkdir()
    room = Room(folder, LOGS)
    put(folder / "Intake/old.log", "x", 400)
    room.now_ns = time.time_ns()
    room.start()
    room.settle(3)
    assert room.told.moved == []
    room.settle(10)
    assert room.told.moved == ["old.log"]


def test_it_does_not_chase_its_own_tail(folder: Path) -> None:
    for name in ("One", "Two"):
        (folder / name).mkdir()
    rules = "".join(
        f'[[rule]]\nname = "{a}"\nin = "{a}"\nwhere = "ext is log"\nmove = "../{b}"\n'
        for a, b in (("One", "Two"), ("Two", "One"))
    )
    room = Room(folder, f"frugal = 1\n{rules}")
    room.start()
    room.write("One/a.log")
    for _ in range(12):
        room.settle(6)
        for name in ("One", "Two"):
            if (folder / name / "a.log").exists():
                room.watcher.take([Event(str(folder / name), str(folder / name / "a.log"))])
    assert room.told.moved == ["a.log"] * 3 and sum("leaving it alone" in note for note in room.told.notes) == 1
    room.write("One/b.log")
    room.settle(6)
    assert room.told.moved[3:] == ["b.log"]
    # After ten minutes of rest it is an entry like any other.
    room.settle(700)
    room.watcher.take([Event(str(path.parent), str(path)) for path in folder.glob("*/a.log")])
    room.settle(6)
    assert "a.log" in room.told.moved[4:]


def test_a_change_deep_in_a_folder_is_one_of_the_entry_that_it_belongs_to(folder: Path) -> None:
    (folder / "Intake").mkdir()
    room = Room(folder, rules_text('where = "name starts order"\ntake = "items"\nmove = "Orders"'))
    room.start()
    room.write("Intake/order 7/pictures/deep/a.jpg")
    room.settle(4)
    assert (folder / "Intake/order 7").exists()
    room.settle(2)
    assert (folder / "Intake/Orders/order 7/pictures/deep/a.jpg").exists()


def test_only_where_something_changed_is_looked_at(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("a", "b/c", "b/d"):
        (folder / "Intake" / name).mkdir(parents=True)
    room = Room(folder, rules_text('where = "ext is log"\nmove = "/' + str(folder).strip("/") + '/Out"\nlevels = "all"'))
    room.start()
    read: list[str] = []
    plain = walk.read_parts

    def reading(path: str, *rest: Any) -> Iterator[Listing]:
        read.append(path)
        return plain(path, *rest)

    monkeypatch.setattr(walk, "read_parts", reading)
    room.write("Intake/b/c/x.log")
    room.settle(10)
    intake = str(folder / "Intake")
    assert set(read) == {intake, f"{intake}/b", f"{intake}/b/c"} and (folder / "Out/x.log").exists()


def test_another_writer_is_waited_for_and_said_once(room: Room) -> None:
    with changing(ready_state_folder(), "test"):
        room.write("Intake/a.log")
        room.settle(30)
        assert room.told.moved == [] and sum("another frugal run" in note for note in room.told.notes) == 1
    room.settle(5)
    assert room.told.moved == ["a.log"]


def test_a_fault_that_a_person_must_mend_is_said_once_and_tried_again(room: Room, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object, **__: object) -> Plan:
        raise StateError("the journal cannot be written", "free disk space there")

    with monkeypatch.context() as context:
        context.setattr(watch, "plan_rules", full)
        room.write("Intake/a.log")
        room.settle(200)
    assert room.told.moved == [] and [note for note in room.told.notes if "journal" in note] == room.told.notes
    assert len(room.told.notes) == 1 and "free disk space there; trying again" in room.told.notes[0]
    room.settle(61)
    assert room.told.moved == ["a.log"]


@pytest.mark.parametrize("how", ["limit", "fewer", "deep"])
def test_where_the_system_cannot_tell_it_looks_from_time_to_time(folder: Path, how: str) -> None:
    (folder / "Intake/below").mkdir(parents=True)
    room = Room(folder, LOGS)
    room.told.counted = 1 if how == "fewer" else None
    errors = {"limit": OSError(28, "No space left on device"), "deep": RecursionError()}
    room.told.error = errors.get(how)
    room.start()
    assert "checking every 15 seconds" in room.told.notes[0] and ("max_user_watches" in room.told.notes[0]) is (how == "limit")
    room.write("Intake/a.log", told=False)
    room.settle(40)
    assert room.told.moved == ["a.log"]


def test_rules_with_a_mistake_do_not_start(folder: Path) -> None:
    with pytest.raises(FrugalError):
        Room(folder, "x = [").start()


# The built program


@pytest.fixture
def watched(folder: Path) -> Iterator[subprocess.Popen[str]]:
    """The program watches a folder; what it says is in the file `said`."""
    (folder / "Intake").mkdir()
    (folder / "rules.toml").write_text(LOGS)
    with open(folder / "said", "w") as said:
        program = subprocess.Popen(
            [sys.executable, "-m", "frugal_sorter", "watch", "rules.toml", "--settle", "1s"],
            cwd=folder, stdout=said, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, text=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1"},
        )  # fmt: skip
        wait_until(lambda: "watching 1 folder" in (folder / "said").read_text())
        yield program
        program.kill()
        program.wait()


def test_the_program_takes_what_comes_and_ends_when_it_is_asked(
    folder: Path, watched: subprocess.Popen[str], frugal: Frugal
) -> None:
    for number in range(60):
        (folder / f"Intake/{number}.log").write_text(str(number))
    wait_until(lambda: len(list(folder.glob("Intake/Logs/*.log"))) == 60)
    assert all((folder / f"Intake/Logs/{number}.log").read_text() == str(number) for number in range(60))
    assert "another watcher is already using" in frugal("watch", "rules.toml", code=3).stderr
    (folder / "rules.toml").write_text(LOGS.replace("ext is log", "ext is txt"))
    wait_until(lambda: "reloaded the rule file" in (folder / "said").read_text())
    (folder / "Intake/last.txt").write_text("x")
    wait_until(lambda: (folder / "Intake/Logs/last.txt").exists())
    watched.send_signal(signal.SIGSTOP)
    (folder / "Intake/stopped.txt").write_text("x")
    watched.send_signal(signal.SIGCONT)
    wait_until(lambda: (folder / "Intake/Logs/stopped.txt").exists())
    watched.send_signal(signal.SIGTERM)
    assert watched.wait(30) == 0 and "stopped" in (folder / "said").read_text()
    found = json.loads(frugal("history", "--format", "json").stdout)["visits"]
    assert found[-1]["outcome"] == "stopped" and {one["driver"] for one in found} == {"watch"}
    assert sum(amount["files"] for one in found for amount in one["done"].values()) == 62
    frugal("undo", "--since", "1 hour", "--yes")
    assert sorted(path.name for path in (folder / "Intake").iterdir()) == sorted(
        [f"{number}.log" for number in range(60)] + ["last.txt", "stopped.txt"]
    )


def test_a_killed_watcher_loses_nothing_and_the_next_one_goes_on(
    folder: Path, watched: subprocess.Popen[str], frugal: Frugal
) -> None:
    for number in range(400):
        (folder / f"Intake/{number}.log").write_text(str(number))
    wait_until(lambda: (folder / "Intake/Logs").exists() and len(list(folder.glob("Intake/Logs/*"))) > 20)
    watched.kill()
    watched.wait()
    said = frugal("watch", "rules.toml", "--once", "--settle", "0s")
    assert len(list(folder.glob("Intake/Logs/*.log"))) == 400 and not list(folder.glob("Intake/*.log"))
    assert all((folder / f"Intake/Logs/{number}.log").read_text() == str(number) for number in range(400))
    assert "Nothing to do" in frugal("watch", "rules.toml", "--once").stdout or said


@pytest.mark.skipif(not shutil.which("strace"), reason="strace is not installed")
def test_a_watcher_that_waits_reads_nothing(folder: Path, watched: subprocess.Popen[str], frugal: Frugal, own_home: Path) -> None:
    # It has looked at all that there is once.
    wait_until(lambda: "nothing to do" in frugal("history").stdout)
    calls = [""]

    def is_quiet() -> bool:
        calls.append(Path(f"/proc/{watched.pid}/io").read_text())
        return len(calls) > 200 and len(set(calls[-200:])) == 1

    wait_until(is_quiet)
    trace = own_home / "trace"
    words = ["timeout", "4", "strace", "-f", "-o", str(trace), "-e", "trace=%file,getdents64", "-p", str(watched.pid)]
    assert subprocess.run(words, capture_output=True, check=False).returncode == 124
    lines = trace.read_text().splitlines()
    assert not [line for line in lines if str(folder) in line or "getdents" in line], lines


def test_what_there_is_now_is_done_once(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    (folder / "rules.toml").write_text(LOGS)
    assert "1 file moved; frugal undo 1" in frugal("watch", "rules.toml", "--once").stdout
    assert frugal("watch", "rules.toml", "--once").stdout == "Nothing to do.\n"
    frugal("undo", "--yes")
    said = frugal("watch", "rules.toml", "--once").stdout
    assert "1 file: undone by run 2" in said and said.endswith("Nothing to do.\n"), said
    (folder / "rules.toml").write_text(LOGS.replace("Intake", "Gone"))
    assert "Gone is missing" in frugal("watch", "rules.toml", "--once", code=1).stdout
    assert "cannot be read" in frugal("watch", "none.toml", code=2).stderr


@AS_ROOT
def test_only_what_is_mounted_where_the_rules_act_is_looked_at(folder: Path, mount: Mount) -> None:
    room = Room(folder, LOGS + f'\n[[rule]]\nname = "out"\nin = "Intake"\nwhere = "ext is csv"\nmove = "{folder}/stick/N"\n')
    (folder / "Intake").mkdir()
    room.start()
    room.write("Intake/a.log", age=1, told=False)
    mount("tmpfs", "elsewhere")
    room.watcher.take([MOUNTS])
    room.settle(30)
    assert room.told.moved == []
    for place in ("stick", "Intake"):
        mount("tmpfs", place)
        put(folder / f"Intake/{place}.log", "b", 1, room.now_ns)
        room.watcher.take([MOUNTS])
        room.settle(30)
        assert f"{place}.log" in room.told.moved


def test_what_listens_and_ends_is_told_at_once() -> None:
    source = SystemSource()
    try:
        ending = threading.Thread(target=lambda: [][0])
        ending.start()
        ending.join()
        assert LOST in source.wait(60)
    finally:
        source.close()
