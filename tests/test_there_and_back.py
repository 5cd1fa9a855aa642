"""The same on each system: no content disappears, undo is exact, and a kill at any changing call loses nothing.

On Linux and, by `tests/test_other_systems.py`, on Windows and a faked macOS: the calls are hooked at the seam, so that no tracer is asked for.
"""

from __future__ import annotations

import hashlib
import itertools
import os
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from frugal_sorter.platforms import slashed
from frugal_sorter.state import forget_all
from tests.conftest import IS_MACOS, IS_WINDOWS, Frugal, in_this_process
from tests.support import THOROUGH, book_of, carry_out, contents, done_by, file_names, plan_of, put, rules_text, snapshot, undo

# Another volume, and where the trash of an account is.
FAR = Path("D:/frugal far" if IS_WINDOWS else "/dev/shm/frugal far")


def trash_of(home: Path) -> Path:
    return Path("C:/$Recycle.Bin") if IS_WINDOWS else home / (".Trash" if IS_MACOS else ".local/share/Trash")


# Targets that Windows cannot hold are among them.
TARGETS = [
    "{ext}",
    "Sorted/{stem}",
    "{stem}: kiln?",
    "aux/{ext}",
    "{modified:%Y}.",
    "con",
    'a "quoted" place',
    "photos",
    "Photos",
]
ENDINGS = st.one_of(
    st.sampled_from(TARGETS).map(lambda target: f"move = '{target}'"), st.just("trash = true"), st.just("delete = true"),
    st.sampled_from(["{stem}_{n}.{ext}", "nul.{ext}", "{name}."]).map(lambda name: f"rename = '{name}'"),
    st.sampled_from(["pack = 'all.zip'", "move = 'Sorted'\nprune = true", "copy = 'Copies'\nmove = 'Sorted'"]),
)  # fmt: skip
BODIES = st.sampled_from([b"", b"clay", b"glaze", b"kiln" * 30])


# Linux has properties and kills of its own besides.
@settings(max_examples=200 if THOROUGH else 25 if IS_WINDOWS else 40)
@given(files=st.dictionaries(file_names, BODIES, min_size=1, max_size=6), ending=ENDINGS, read_only=st.booleans())
def test_no_content_disappears_and_undo_is_exact(
    tmp_path_factory: pytest.TempPathFactory, own_home: Path, files: dict[str, bytes], ending: str, read_only: bool
) -> None:
    folder = slashed.Path(tmp_path_factory.mktemp("t").resolve())
    for name, body in files.items():
        try:
            put(folder / "Intake" / name, body)
        except OSError:
            continue  # differs from another name in its case alone
    if read_only:
        for one in (folder / "Intake").iterdir():
            one.chmod(0o444)
    before, held = snapshot(folder), contents(folder)
    plan = plan_of(book_of(folder, f"where = 'everything'\nat_most = 1000\n{ending}"))
    removed = Counter(step.verb for step in plan.asked)
    result = carry_out(plan)
    if "delete = true" in ending:
        assert done_by(result).get("delete", 0) == removed["delete"] - len(
            [one for one, _ in result.not_done if one.verb == "delete"]
        )
        return
    gone = held - contents(folder)
    trashed = Counter(dict.fromkeys(held, 0))
    if "trash" in ending:
        trashed = contents(trash_of(own_home))
    packed = "pack" in ending and not result.not_done
    assert packed or not gone - trashed
    if result.run is not None and plan.asked:
        undo()
    assert snapshot(folder) == before


MIXED = rules_text(
    "where = 'ext is a'\nmove = 'Moved/{modified:%Y}'", "where = 'ext is b'\ntrash = true", "where = 'ext is c'\ndelete = true",
    "where = 'ext is d'\npack = 'Packed.zip'", "where = 'ext is e'\nmove = 'Moved'\nclash = 'replace'",
    "where = 'ext is f'\nduplicates = {keep = 'oldest', do = 'hardlink'}", "where = 'ext is zip'\nunpack = 'Unpacked'",
    "take = 'folders'\nwhere = 'name is Whole'\nmove = 'Moved'", f"where = 'ext is g'\nmove = '{FAR.as_posix()}'",
)  # fmt: skip


def lay_out(root: Path) -> None:
    import zipfile

    for letter in "abcdefg":
        put(root / f"Intake/one.{letter}", f"one {letter}", 30)
        put(root / f"Intake/two.{letter}", f"two {letter}" if letter != "f" else "one f", 20)
    put(root / "Intake/Moved/one.e", "in the way")
    put(root / "Intake/Whole/inside.txt", "inside")
    with zipfile.ZipFile(root / "Intake/set.zip", "w") as archive:
        archive.writestr("from archive.txt", "unpacked")
    put(root / "rules.toml", "frugal = 1\n" + MIXED.partition("\n")[2])


RUN = """
import os, sys
if "FAKED_MACOS" in os.environ:
    from tests.on_macos.__main__ import fake
    fake()
from frugal_sorter.platforms import disk
point, calls = int(sys.argv[1]), 0
def hooked(function):
    def call(*args, **more):
        global calls
        calls += 1
        if calls == point:
            os._exit(9)
        return function(*args, **more)
    return call
for name in disk.CHANGING:
    setattr(disk, name, hooked(getattr(disk, name)))
disk.rename_exclusively = hooked(disk.rename_exclusively)
from frugal_sorter.cli.main import main
code = main(["tidy", "rules.toml", "--yes"])
print("calls", calls)
sys.exit(code)
"""


def everything(root: Path, home: Path) -> Counter[str]:
    """Count the contents there are, wherever they may be; what lies packed counts as well."""
    import zipfile

    places = [root, trash_of(home), FAR]
    found = sum((contents(place) for place in places if place.is_dir()), Counter[str]())
    for one in root.rglob("*.zip"):
        with suppress(zipfile.BadZipFile), zipfile.ZipFile(one) as archive:
            found += Counter(hashlib.sha256(archive.read(member)).hexdigest() for member in archive.infolist())
    return found


def state_of(root: Path) -> dict[str, tuple[str, int, str]]:
    """Return what undo brings back: all but what was deleted for good."""
    return {
        os.fsdecode(path): (seen.kind, seen.size, seen.digest)
        for path, seen in snapshot(root).items() if not path.endswith(b".c")
    }  # fmt: skip


def clear(home: Path) -> None:
    for place in (trash_of(home), FAR):
        shutil.rmtree(place, ignore_errors=True)


def points() -> Iterator[int]:
    """Yield every kill point, or the same part of them each time."""
    return itertools.count(1, 1 if THOROUGH else 12 if IS_WINDOWS else 8)


def test_a_kill_before_any_changing_call_loses_nothing(
    tmp_path_factory: pytest.TempPathFactory, frugal: Frugal, own_home: Path
) -> None:
    begun = 0
    for point in points():
        root = slashed.Path(tmp_path_factory.mktemp("k").resolve())
        clear(own_home)
        lay_out(root)
        before, held = state_of(root), everything(root, own_home)
        done = subprocess.run(
            [sys.executable, "-X", "utf8", "-c", RUN, str(point)], cwd=root, env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)}, stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
        )  # fmt: skip
        forget_all()
        deleted = Counter(hashlib.sha256(body).hexdigest() for body in (b"one c", b"two c"))
        assert not held - everything(root, own_home) - deleted, (point, done.stdout.decode())
        assert done.returncode in (0, 9), done.stdout.decode()
        # A kill before the run began leaves nothing to take back.
        if done.returncode != 9 or "interrupted" in frugal("history").stdout:
            begun += 1
            # What was deleted for good does not come back, and says so by its exit code.
            in_this_process(["undo", "--yes"], root, {}, None)
        assert state_of(root) == before, (point, done.stdout.decode())
        if done.returncode != 9:
            assert done.returncode == 0 and point > 30 and begun > 3, done.stdout.decode()
            break
