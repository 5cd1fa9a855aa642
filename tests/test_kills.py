"""The built program is killed before each system call that changes something, and must lose nothing."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import count, product
from pathlib import Path

import pytest

from tests.served import Served
from tests.support import THOROUGH, Seen, contents, put, rules_text, snapshot

STRACE = shutil.which("strace")
SHM = Path("/dev/shm")

pytestmark = pytest.mark.skipif(not STRACE, reason="strace is not installed")

RULES = (
    'where = "ext is jpg"\ntag = "seen"\ncopy = "Backup"\nlink = "Newest"\nmove = "Photos"',
    'where = "ext is csv"\nmove = "Tables"\nclash = "replace"',
    'where = "ext is log"\npack = "Logs/all.zip"',
    'where = "ext is zip"\nunpack = "{stem}"',
    'where = "ext is tmp"\ntrash = true',
    'where = "ext is mov"\nmove = "OTHER"',
    'where = "name starts mould"\ntake = "folders"\nmove = "OTHER"',
    'where = "name starts old"\ntake = "folders"\ntrash = true',
    'in = "Intake/deep"\nwhere = "everything"\nmove = "../Out"\nlevels = "all"\nprune = true',
)
# What changes a file system, or writes down that it will, each counted by itself; of the many writes of
# the journal and of single files every nth. Of all these a third is met each time, always the same; `make fuzz` meets all.
CALLS = {
    "renameat2": 1, "rename": 1, "unlink": 1, "unlinkat": 1, "mkdir": 1, "mkdirat": 1, "symlinkat": 1, "setxattr": 1,
    "fsetxattr": 1, "fchmod": 1, "utimensat": 1, "ftruncate": 1, "copy_file_range": 1, "syncfs": 1, "fsync": 2,
    "fdatasync": 3, "write": 3, "pwrite64": 11,
}  # fmt: skip


class Machine:
    """A home, a state folder, an intake, and a second volume, all of its own."""

    def __init__(self, served: Served, root: Path, other: Path) -> None:
        self.served, self.root, self.other = served, root, other
        for path in (root / "Intake", root / "data", root / "home", root / "state", other):
            shutil.rmtree(path, ignore_errors=True)
        other.mkdir()
        intake = root / "Intake"
        for name in ("a.jpg", "price.csv", "Tables/price.csv", "k1.log", "k2.log", "x.tmp", "film.mov", "deep/er/in.txt"):
            put(intake / name, name)
        for name in ("moulds/cup.stl", "moulds/in/jug.stl", "old scratch/s.txt"):
            put(intake / name, name)
        os.setxattr(intake / "film.mov", "user.xdg.tags", b"kept")
        with zipfile.ZipFile(intake / "pictures.zip", "w") as archive:
            archive.writestr("one.png", "one")
            archive.writestr("in/two.png", "two")
        self.env = {
            **os.environ,
            "HOME": str(root / "home"),
            "XDG_STATE_HOME": str(root / "state"),
            "XDG_DATA_HOME": str(root / "data"),
        }
        if (root / "before").exists():
            shutil.copytree(root / "before", root / "state")
        else:
            # Everything is there that a first run makes, so that only the plan itself is cut off.
            (root / "rules.toml").write_text(rules_text(*RULES).replace("OTHER", str(other)))
            assert self.run("preview", "rules.toml").returncode == 0
            shutil.copytree(root / "state", root / "before")

    def run(self, *words: str, inject: str = "") -> subprocess.CompletedProcess[str]:
        return self.served.run(words, self.root, self.env, inject)

    def files(self) -> dict[bytes, Seen]:
        return {**snapshot(self.root / "Intake"), **snapshot(self.other)}

    def held(self) -> dict[str, int]:
        return dict(contents(self.root / "Intake") + contents(self.other) + contents(self.root / "data"))


@pytest.fixture
def machines(tmp_path: Path) -> Iterator[list[tuple[Path, Path]]]:
    places = []
    for number in range(2):
        other = Path(tempfile.mkdtemp(prefix="frugal-kill-", dir=SHM if SHM.is_dir() else tmp_path))
        places.append((tmp_path.resolve() / str(number), other))
    yield places
    for _, other in places:
        shutil.rmtree(other)


def kill_before(served: Served, call: str, when: int, root: Path, other: Path) -> bool:
    """Kill a run before a system call, and see that nothing is lost; tell whether it came that far."""
    machine = Machine(served, root, other)
    before, held = machine.files(), machine.held()
    done = machine.run("tidy", "rules.toml", "--yes", inject=f"{call}:signal=SIGKILL:when={when}")
    killed = done.returncode not in (0, 1)
    where = f"{call} {when}: {done.stdout[-300:]}{done.stderr[-300:]}"
    assert not killed or done.returncode in (-9, 137), where
    now = machine.held()
    assert not {digest for digest, count in held.items() if now.get(digest, 0) < 1}, where
    if when % 5 == 0:
        shown = machine.run("history")
        assert shown.returncode == 0, where + shown.stderr
    # The next command that changes files settles the run; then undo brings all back.
    undone = machine.run("undo", "--yes")
    assert undone.returncode in (0, 1, 2), where + undone.stdout + undone.stderr
    nothing = ("nothing to undo", "run 1 (tidy of")
    assert undone.returncode == 0 or any(said in undone.stderr for said in nothing), where + undone.stderr
    assert undone.returncode != 1 or "changed nothing" in undone.stderr, where + undone.stderr
    after = machine.files()
    missing = {
        path for path in before if path not in after or after[path]._replace(mtime_ns=0) != before[path]._replace(mtime_ns=0)
    }
    assert not missing, (where, missing, undone.stdout)
    more = {path for path in after if path not in before}
    assert not more, (where, more, undone.stdout)
    trash = machine.root / "data/Trash"
    assert not [path for folder in ("files", "info") if (trash / folder).exists() for path in (trash / folder).iterdir()], where
    return killed


@pytest.mark.parametrize("call", CALLS)
def test_a_kill_before_any_change_loses_nothing_and_doubles_nothing(
    machines: list[tuple[Path, Path]], served: Served, call: str
) -> None:
    stride = CALLS[call] * (1 if THOROUGH else 3)

    def every_other(start: int) -> int:
        killed = 0
        for when in count(1 + start * stride, 2 * stride):
            if not kill_before(served, call, when, *machines[start]):
                return killed
            killed += 1
        return killed

    with ThreadPoolExecutor(2) as both:
        total = sum(both.map(every_other, range(2)))
    assert total, f"no {call} was met"


# One file under two names, with an attribute that is changed through both, one after the other.
CHAINS = {
    "by several rules": (
        'where = "type is log or type is text"\nuntag = "x"',
        'where = "type is log"\ntag = ["x", "log"]\ncomment = "hi {name}"\nlink = "Links"',
        'where = "type is text"\ntag = "text"\nlink = "Links"',
    ),
    "by one rule": ('where = "everything"\ntag = "new"\ncomment = "hi {name}"\nmove = "Out"',),
    "packed": ('where = "everything"\ntag = "new"\ncomment = "hi {name}"\npack = "all.zip"',),
    "trashed": ('where = "everything"\nretag = "{name}"\ncomment = "gone"\ntrash = true',),
}


@pytest.mark.parametrize(
    ("call", "chain"), [*product(["setxattr", "renameat2", "mkdir"], CHAINS), ("symlinkat", "by several rules")]
)
def test_a_kill_amid_several_changes_of_one_attribute_is_taken_back_whole(
    folder: Path, own_home: Path, served: Served, call: str, chain: str
) -> None:
    killed = 0
    for when in count(1):
        for path in (folder / "Intake", own_home / ".local"):
            shutil.rmtree(path, ignore_errors=True)
        put(folder / "Intake/a.log", "clay")
        put(folder / "Intake/c.log", "glaze")
        os.link(folder / "Intake/a.log", folder / "Intake/b.txt")
        os.setxattr(folder / "Intake/a.log", "user.xdg.tags", b"x,y")
        (folder / "rules.toml").write_text(rules_text(*CHAINS[chain]))
        before = snapshot(folder / "Intake")
        words = ["tidy", "rules.toml", "--yes"]
        done = served.run(words, folder, dict(os.environ), f"{call}:signal=SIGKILL:when={when}")
        undone = served.run(["undo", "--yes"], folder, dict(os.environ))
        after = snapshot(folder / "Intake")
        assert {path: seen._replace(mtime_ns=0) for path, seen in after.items()} == {
            path: seen._replace(mtime_ns=0) for path, seen in before.items()
        }, (when, done.stdout, undone.stdout, undone.stderr)
        if done.returncode in (0, 1):
            assert done.returncode == 0, done.stdout
            break
        killed += 1
    assert killed
