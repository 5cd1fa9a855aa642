"""Another account owns the folder, and swaps what is in it at every system call, for every verb.

The run is carried out in a fork of the test. A profiler counts the system calls that it makes; at one of them
the attacker acts, as fast as anybody can. Whatever becomes of the run: nothing outside the folder is touched.
"""

from __future__ import annotations

import os
import random
import shutil
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from frugal_sorter.planning.plan import Plan
from tests.conftest import IS_ROOT
from tests.profiler import Profiler, in_a_fork
from tests.support import THOROUGH, book_of, carry_out, plan_of, put, snapshot, undo

pytestmark = pytest.mark.skipif(not IS_ROOT, reason="only root has something to lose to another account")
# Thoroughly, every system call is attacked, in every way; else every fourth one that changes something.
EVERY = 1 if THOROUGH else 4
SEED = 20261125

RULES = {
    "move": 'where = "ext is log"\nmove = "Logs/{stem}"\nlevels = 2',
    "rename": 'where = "ext is log"\nrename = "old-{name}"\nlevels = 2',
    "trash": 'where = "ext is log"\ntrash = true\nlevels = 2',
    "delete": 'where = "ext is log"\ndelete = true\nlevels = 2',
    "copy": 'where = "ext is log"\ncopy = "Copies/{stem}"\nlevels = 2',
    "link": 'where = "ext is log"\nlink = "Links"\nlevels = 2',
    "tag": 'where = "ext is log"\ntag = "kept"\ncomment = "read"\nlevels = 2',
    "pack": 'where = "ext is log"\npack = "Packs/all.zip"\nlevels = 2',
    "unpack": 'where = "type is archive"\nunpack = "Out/{stem}"',
    "hard link": 'where = "ext is log"\nduplicates = {keep = "shortest-path", do = "hardlink"}\nlevels = 2',
    "delete duplicates": 'where = "ext is log"\nduplicates = {keep = "shortest-path", do = "delete"}\nlevels = 2',
    "replace": 'where = "name is new.txt"\nmove = "sub"\nclash = "replace"',
    "folder": 'take = "folders"\nwhere = "name is sub"\nmove = "Folders"',
    "delete folder": 'take = "folders"\nwhere = "name is sub"\ndelete = true',
    "pack folder": 'take = "folders"\nwhere = "name is sub"\npack = "Packs/sub.zip"',
    "across": 'where = "ext is log"\nmove = "OTHER"\nlevels = 2',
    "folder across": 'take = "folders"\nwhere = "name is sub"\nmove = "OTHER"',
}


def build(folder: Path, other: Path) -> None:
    """Lay out the folder of the other account, and what it must not reach."""
    intake, secret = folder / "Intake", folder / "secret"
    for name in ("a.log", "b.log", "sub/a.log", "sub/c.log", "sub/new.txt", "new.txt"):
        put(intake / name, "the same" if "a." in name or "b." in name else name)
        put(secret / name, f"secret {name}").chmod(0o600)
        put(secret / "sub" / name, f"secret {name}").chmod(0o600)
    (secret / "sub").chmod(0o700)
    os.setxattr(secret / "a.log", "user.xdg.tags", b"secret")
    with zipfile.ZipFile(intake / "one.zip", "w") as archive:
        archive.writestr("sub/a.log", "out of the zip")
        archive.writestr("b.log", "out of the zip")
    with tarfile.open(intake / "two.tar", "w") as tar:
        tar.add(intake / "sub", "sub")
    for parent, folders, files in os.walk(intake):
        for name in [".", *folders, *files]:
            os.chown(os.path.join(parent, name), 1000, 1000)
    other.mkdir(exist_ok=True)


def swap_folders(folder: Path) -> None:
    """Put links in the place of every folder of the intake."""
    for path in sorted((folder / "Intake").rglob("*"), reverse=True):
        if path.is_dir() and not path.is_symlink():
            path.rename(folder / "Intake" / f"gone {path.name} {random.random()}")
            path.symlink_to(folder / "secret/sub")


def swap_root(folder: Path) -> None:
    """Put a link in the place of the intake itself."""
    (folder / "Intake").rename(folder / "gone")
    (folder / "Intake").symlink_to(folder / "secret")


def swap_private(folder: Path) -> None:
    """Put links in the place of what is unfinished."""
    for path in (folder / "Intake").rglob(".frugal-*"):
        target = folder / ("secret/sub" if path.is_dir() else "secret/a.log")
        path.rename(path.with_name(f"gone {random.random()}"))
        path.symlink_to(target)


def swap_entries(folder: Path) -> None:
    """Put links in the place of all files."""
    for path in (folder / "Intake").rglob("*.*"):
        if path.is_file() and not path.is_symlink():
            path.rename(path.with_name(f"gone {random.random()}"))
            path.symlink_to(folder / "secret/a.log")


def swap_all(folder: Path) -> None:
    """Put links in the place of everything in the intake."""
    swap_private(folder)
    swap_entries(folder)
    swap_folders(folder)


ATTACKS: dict[str, Callable[[Path], None]] = {
    "folders": swap_folders, "private names": swap_private, "entries": swap_entries, "root": swap_root,
} if THOROUGH else {"all": swap_all, "root": swap_root}  # fmt: skip


def attacked(work: Callable[[], object], act: Callable[[], None], when: int) -> int:
    """Carry work out in a fork with an attack at one system call; return how many calls there were."""
    _, calls, said = in_a_fork(work, Profiler(act, when, THOROUGH))
    assert not said, said
    return calls


# What was deleted is not taken back.
@pytest.mark.parametrize(
    ("verb", "phase"),
    [(verb, phase) for verb in RULES for phase in ("tidy", "undo") if not (phase == "undo" and "delete" in verb)],
)
def test_nothing_outside_is_touched_whatever_is_swapped_and_when(
    tmp_path_factory: pytest.TempPathFactory, own_home: Path, monkeypatch: pytest.MonkeyPatch, verb: str, phase: str
) -> None:
    if "across" in verb and not os.path.isdir("/dev/shm"):
        pytest.skip("there is no second volume here")
    base = tmp_path_factory.mktemp("attack").resolve()
    other = Path("/dev/shm") / f"frugal-attack-{os.getpid()}"

    def ready() -> tuple[Path, Callable[[], object]]:
        shutil.rmtree(base)
        base.mkdir()
        shutil.rmtree(own_home)
        own_home.mkdir()
        shutil.rmtree(other, ignore_errors=True)
        build(base, other)
        plan: Plan = plan_of(book_of(base, RULES[verb].replace("OTHER", str(other))))
        assert plan.asked, verb
        if phase == "tidy":
            return base, lambda: carry_out(plan)
        assert carry_out(plan).done
        return base, lambda: undo(1)

    chance = random.Random(f"{SEED} {verb} {phase}")
    try:
        for name, attack in ATTACKS.items():
            when, calls = chance.randint(1, EVERY), 1
            while when <= calls:
                folder, work = ready()
                before = snapshot(folder / "secret")
                calls = attacked(work, lambda attack=attack, folder=folder: attack(folder), when)  # type: ignore[misc]
                after = snapshot(folder / "secret")
                changed = {path: (before.get(path), after.get(path)) for path in before.keys() | after.keys()}
                changed = {path: pair for path, pair in changed.items() if pair[0] != pair[1]}
                assert not changed, (verb, phase, name, when, changed)
                when += EVERY
    finally:
        shutil.rmtree(other, ignore_errors=True)
