"""What is taken back and done again, as often as a person likes, is each time the same."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Frugal, Mount
from tests.support import put, rules_text, snapshot

ENDINGS = [
    'move = "Logs"', 'copy = "Copies"', 'link = "Links"', "trash = true", 'tag = "seen"', 'pack = "all.zip"', 'copy = "C"\nmove = "L"',
    'move = "OTHER"', 'copy = "OTHER"', 'rename = "x-{name}"',
]  # fmt: skip


@pytest.mark.parametrize("ending", ENDINGS)
def test_undo_of_a_run_works_after_it_was_done_again(folder: Path, frugal: Frugal, mount: Mount, ending: str) -> None:
    other = mount("tmpfs") / "there" if "OTHER" in ending else folder
    put(folder / "Intake/a.log", "kiln")
    put(folder / "Intake/b.log", "glaze")
    put(folder / "rules.toml", rules_text(f'where = "ext is log"\n{ending.replace("OTHER", str(other))}'))
    before = plain(folder / "Intake")
    frugal("tidy", "rules.toml", "--yes")
    after = plain(folder / "Intake")
    assert after != before or "OTHER" in ending
    for _ in range(2):
        frugal("undo", "1", "--yes")
        assert plain(folder / "Intake") == before
        (last, *_) = [line.split()[0] for line in reversed(frugal("history").stdout.splitlines()) if " undo of run 1 " in line]
        frugal("undo", last, "--yes")
        assert plain(folder / "Intake") == after


@pytest.mark.parametrize("ending", [ending for ending in ENDINGS if "OTHER" not in ending])
def test_entries_of_more_folders_than_are_kept_open_are_changed_and_come_back(folder: Path, frugal: Frugal, ending: str) -> None:
    for number in range(80):
        put(folder / f"Intake/box {number}/piece {number}.log", f"kiln {number}")
    put(folder / "rules.toml", rules_text(f'where = "ext is log"\nlevels = 2\nat_most = 100\n{ending}'))
    before = plain(folder / "Intake")
    said = frugal("tidy", "rules.toml", "--yes", "--short").stdout
    after = plain(folder / "Intake")
    assert after != before and " failed" not in said and "unclear" not in said
    frugal("undo", "--yes", "--short")
    assert plain(folder / "Intake") == before
    frugal("undo", "2", "--yes", "--short")
    assert plain(folder / "Intake") == after


@pytest.mark.parametrize("ending", ['move = "../out"', 'copy = "../out"', "trash = true", 'pack = "../out/all.zip"'])
def test_what_is_below_more_folders_than_one_call_can_name_comes_back(
    folder: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch, ending: str
) -> None:
    (folder / "Intake").mkdir()
    (folder / "out").mkdir()
    monkeypatch.chdir(folder / "Intake")
    for number in range(420):
        # Letters of two bytes: a path counts in these.
        os.mkdir("Öfen nr 1")
        os.chdir("Öfen nr 1")
        if number % 60 == 0:
            put(Path(f"{number}.log"), f"kiln {number}")
    os.chdir(folder)
    put(folder / "rules.toml", rules_text(f'where = "ext is log"\nlevels = "all"\n{ending}'))
    try:
        before = _files_below(folder / "Intake")
        assert len(before) == 7
        frugal("tidy", "rules.toml", "--yes")
        after = _files_below(folder / "Intake")
        assert len(after) == (7 if "copy" in ending else 0)
        frugal("undo", "--yes")
        assert _files_below(folder / "Intake") == before and not list((folder / "out").iterdir())
        frugal("undo", "2", "--yes")
        assert _files_below(folder / "Intake") == after
    finally:
        subprocess.run(["rm", "-rf", folder / "Intake"], check=True)  # no path of ours is that long


def _files_below(root: Path) -> dict[tuple[int, str], int]:
    """Return the size of each file by its depth and its name, without naming a path."""
    found: dict[tuple[int, str], int] = {}
    for depth, (_, _, names, fd) in enumerate(os.fwalk(root)):
        found |= {(depth, name): os.stat(name, dir_fd=fd).st_size for name in names}
    return found


def plain(root: Path) -> object:
    return {path: seen._replace(mtime_ns=0) for path, seen in snapshot(root).items()}
