"""Times changes with everything on (identity, journal, trash) against the bare system call; called by `run.py`.

What is timed is a plan being carried out, from the first line in the journal to the last, and the
undo of it; planning and printing are not. All trees are built before anything is removed, on a volume
of its own: on ext4 new files are far dearer where many were deleted just before.
"""

from __future__ import annotations

import fcntl
import gc
import os
import statistics
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from frugal_sorter.app.rules import plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.execution.executor import changing, execute
from frugal_sorter.execution.undo import plan_undo, run_to_undo
from frugal_sorter.rules.load import load_rules
from frugal_sorter.state import forget_all, ready_state_folder

PER_FOLDER = 100
ENDINGS = {"move": 'move = "../out"', "trash": "trash = true", "delete": "delete = true"}


class Changed(NamedTuple):
    """All ratios of the run and its baseline, and medians: of the undo as a multiple of the run, and of `bare`.

    `bare` is the run as a multiple of the same system calls in a plain loop, without anything written down.
    """

    runs: list[float]
    undo: float | None
    bare: float


def build(root: Path, files: int) -> Path:
    """Lay out empty files, a hundred to a folder."""
    for box in range(files // PER_FOLDER):
        folder = root / f"Intake/box {box}"
        folder.mkdir(parents=True)
        for number in range(PER_FOLDER):
            os.close(os.open(folder / f"piece {box} {number}.log", os.O_CREAT | os.O_WRONLY))
    (root / "out").mkdir()
    return root


def rename_all(root: Path, files: int) -> None:
    """Move every file by the bare call."""
    for box in range(files // PER_FOLDER):
        for number in range(PER_FOLDER):
            name = f"piece {box} {number}.log"
            os.rename(f"{root}/Intake/box {box}/{name}", f"{root}/out/{name}")


def find_delete(root: Path, _files: int) -> None:
    """Delete every file as a technician would."""
    subprocess.run(["find", str(root / "Intake"), "-type", "f", "-delete"], check=True)


def trash_all(root: Path, files: int) -> None:
    """Do what the specification of the trash asks for, and nothing else: a file with a note, and a rename, each."""
    for folder in ("info", "files"):
        (root / folder).mkdir()
    for box in range(files // PER_FOLDER):
        for number in range(PER_FOLDER):
            name = f"piece {box} {number}.log"
            note = f"[Trash Info]\nPath={root}/Intake/box%20{box}/{name}\nDeletionDate=2026-11-23T10:00:00\n"
            info = os.open(f"{root}/info/{name}.trashinfo", os.O_CREAT | os.O_EXCL | os.O_WRONLY)
            os.write(info, note.encode())
            os.close(info)
    os.sync()
    for box in range(files // PER_FOLDER):
        for number in range(PER_FOLDER):
            name = f"piece {box} {number}.log"
            os.rename(f"{root}/Intake/box {box}/{name}", f"{root}/files/{name}")


def move_looking(root: Path, files: int) -> None:
    """Look at each file, move it, and look again, by open folders."""
    with _open(root / "out") as target:
        for folder, names in _boxes(root, files):
            for name in names:
                os.stat(name, dir_fd=folder, follow_symlinks=False)
                os.rename(name, name, src_dir_fd=folder, dst_dir_fd=target)
                os.stat(name, dir_fd=target, follow_symlinks=False)


def delete_looking(root: Path, files: int) -> None:
    """Ask for a lease of each file, look at it, and delete it, by open folders."""
    for folder, names in _boxes(root, files):
        for name in names:
            leased = os.open(name, os.O_RDONLY | os.O_NOFOLLOW, dir_fd=folder)
            fcntl.fcntl(leased, fcntl.F_SETLEASE, fcntl.F_RDLCK)
            os.close(leased)
            os.stat(name, dir_fd=folder, follow_symlinks=False)
            os.unlink(name, dir_fd=folder)


@contextmanager
def _open(folder: Path) -> Iterator[int]:
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        yield descriptor
    finally:
        os.close(descriptor)


def _boxes(root: Path, files: int) -> Iterator[tuple[int, list[str]]]:
    for box in range(files // PER_FOLDER):
        with _open(root / f"Intake/box {box}") as folder:
            yield folder, [f"piece {box} {number}.log" for number in range(PER_FOLDER)]


BARE = {"move": move_looking, "trash": trash_all, "delete": delete_looking}


def _timed(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def measure(folder: Path, ending: str, files: int, pairs: int) -> Changed:
    """Carry out plans of one ending, each beside its baseline, then take all of them back."""
    baseline = find_delete if ending == "delete" else rename_all
    sides = ("ours", "base", "bare")
    trees = [[build(folder / f"{ending} {n} {side}", files) for side in sides] for n in range(pairs)]
    os.sync()
    gc.disable()
    ratios, runs, undos, bares = [], [], [], []
    for number, (ours, base, bare) in enumerate(trees):
        # On a journaled file system who comes second pays for what the first left to be written.
        direct = _timed(lambda: BARE[ending](bare, files)) if number % 2 else 0.0  # noqa: B023
        _own_home(ours)
        rules = ours / "rules.toml"
        rules.write_text(
            f'frugal = 1\n[[rule]]\nname = "r"\nin = "Intake"\nlevels = "all"\nwhere = "ext is log"\n'
            f"{ENDINGS[ending]}\nat_most = {files}\n"
        )
        plan = plan_rules(Session.begin(), load_rules(rules))
        assert len(plan.asked) == files, plan.refused
        with changing(ready_state_folder(), "bench") as journal:
            seconds = _timed(lambda: execute(plan, journal, lambda _step, _mark: None))  # noqa: B023
        ratios.append(seconds / _timed(lambda: baseline(base, files)))  # noqa: B023
        bares.append(seconds / (direct or _timed(lambda: BARE[ending](bare, files))))  # noqa: B023
        runs.append(seconds)
    for (ours, *_), seconds in zip(trees, runs, strict=True):
        if ending == "delete":
            break
        _own_home(ours)
        with changing(ready_state_folder(), "bench") as journal:
            undo = plan_undo(journal, run_to_undo(journal, None), time.time_ns())
            undos.append(_timed(lambda: execute(undo, journal, lambda _step, _mark: None)) / seconds)  # noqa: B023
    gc.enable()
    taken_back = statistics.median(undos) if undos else None
    return Changed(ratios, taken_back, statistics.median(bares))


def _own_home(root: Path) -> None:
    os.environ |= {"HOME": str(root / "home"), "XDG_STATE_HOME": str(root / "state"), "XDG_DATA_HOME": str(root / "data")}
    forget_all()
