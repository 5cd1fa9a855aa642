"""Whole commands, as a person waits for them, against what one would type; and a small preview on three homes.

Both sides of a pair are processes that run in turn on trees of their own; what counts are processors (user and system of all
processes). A home is fresh; used for a year of nights (365 visits, 60 runs); or heavy (2,000 runs, 300,000 steps taken back).
"""

from __future__ import annotations

import os
import resource
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from changes import PER_FOLDER, build
from peaks import peak_bytes

FILES, WALKED = 50_000, 200_000
_MIXED = (
    'ext is jpg and size > 900 GB', 'name like "kiln*" and ext is pdf', 'type is video', 'stem fits "{day:%Y%m%d}-{rest}"',
    'name matches "^INV-[0-9]+"', 'name has "invoice"', 'modified older than 90 years', 'stem ends "copy"',
    'name starts "scan" and ext in (tif, pdf)', 'ext is none and size < 1 KB',
)  # fmt: skip
_RENAME = """
import os, sys
root = sys.argv[1]
for folder in os.listdir(f"{root}/Intake"):
    for name in os.listdir(f"{root}/Intake/{folder}"):
        os.rename(f"{root}/Intake/{folder}/{name}", f"{root}/out/{name}")
"""
_TRASH = """
import sys
from pathlib import Path
sys.path.insert(0, sys.argv[2])
from changes import trash_all
trash_all(Path(sys.argv[1]), int(sys.argv[3]))
"""


_RUNS = """
import sys
from frugal_sorter import api
path, runs, boxes = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
text = open(path).read()
for run in range(runs):
    # Each in folders of its own, until all had their turn.
    folders = ", ".join(f'"Intake/box {(run * boxes + box) % 150}"' for box in range(boxes))
    rules = api.load_rules(path, text.replace('in = "Intake"', f"in = [{folders}]"))
    api.undo(api.carry_out(api.plan(rules, again=True)).run)
"""


def _cpu(command: Sequence[str], folder: Path, home: Path) -> float:
    """Run a command to its end and return the seconds of all its processes on processors."""
    # As on an ordinary machine: compiled modules are kept, and output is buffered.
    unusual = ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED")
    environment = {name: value for name, value in os.environ.items() if not name.startswith("XDG_") and name not in unusual}
    environment["HOME"] = str(home)
    before = sum(resource.getrusage(resource.RUSAGE_CHILDREN)[:2])
    done = subprocess.run(
        command, cwd=folder, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=False
    )  # fmt: skip
    if done.returncode not in (0, 1):
        raise SystemExit(f"{command} ended with {done.returncode}: {done.stderr.decode()[-300:]}")
    return sum(resource.getrusage(resource.RUSAGE_CHILDREN)[:2]) - before


def _line(work: str, against: str, ratios: Sequence[float], goal: str) -> str:
    spread = f"{statistics.median(ratios):.2f} | {min(ratios):.2f} to {max(ratios):.2f}"
    line = f"| {work} | {against} | {spread} | {goal} |"
    print(line, flush=True)
    return line


def _rule(tree: Path, ending: str, where: str = "ext is log") -> Path:
    path = tree / "rules.toml"
    path.write_text(
        f"frugal = 1\n[[rule]]\nname = 'logs'\nin = 'Intake'\nlevels = 'all'\nat_most = 1000000\nwhere = '{where}'\n{ending}\n"
    )
    return path


def _changes(folder: Path, frugal: str, pairs: int) -> list[str]:
    """Return the lines of what changes files: each pair on new trees and a fresh home."""
    here = str(Path(__file__).parent)
    tidy = [frugal, "tidy", "rules.toml", "--yes", "--short"]
    purge = [frugal, "purge", "Intake", "--older-than", "1s", "--by", "modified", "--levels", "all", "--permanent", "--yes",
             "--short", "--at-most", "1000000"]  # fmt: skip
    rows: tuple[tuple[str, str, list[str], Callable[[Path], list[str]], str, str], ...] = (
        (f"`frugal tidy`, {FILES:,} moves", 'move = "../out"', tidy, lambda tree: [sys.executable, "-c", _RENAME, str(tree)],
         "a loop of `os.rename`", "3.5"),
        (f"`frugal tidy`, {FILES:,} to the trash", "trash = true", tidy,
         lambda tree: [sys.executable, "-c", _TRASH, str(tree), here, str(FILES)], "its own calls in a loop", "2.0"),
        (f"`frugal purge --permanent`, {FILES:,}", "", purge,
         lambda tree: ["find", str(tree / "Intake"), "-type", "f", "-delete"], "`find -type f -delete`", "6"),
    )  # fmt: skip
    lines = []
    for work, ending, command, bare, against, goal in rows:
        ratios, undone = [], []
        for turn in range(pairs):
            ours, theirs, home = (folder / f"{name}{turn}" for name in ("ours", "theirs", "home"))
            home.mkdir()
            for tree in (ours, theirs):
                build(tree, FILES)
            if ending:
                _rule(ours, ending)
            time.sleep(2.2)  # what was written a moment ago is left alone, or looked at once more
            took = _cpu(command, ours, home)
            ratios.append(took / _cpu(bare(theirs), theirs, home))
            if ending.startswith("move"):
                undone.append(_cpu([frugal, "undo", "--yes", "--short"], ours, home) / took)
            for tree in (ours, theirs, home):
                shutil.rmtree(tree)
        lines.append(_line(work, against, ratios, goal))
        if undone:
            lines.append(_line("`frugal undo` of it", "the run", undone, "0.9"))
    return lines


def _walks(folder: Path, frugal: str, pairs: int) -> list[str]:
    """Return the lines of what only looks, on one tree."""
    tree, home = build(folder / "tree", WALKED), folder / "home"
    home.mkdir()
    rules = "".join(
        f"[[rule]]\nname = 'r{number}'\nin = 'Intake'\nlevels = 'all'\nwhere = '{where}'\nmove = 'x'\n"
        for number, where in enumerate(_MIXED)
    )
    (tree / "mixed.toml").write_text(f"frugal = 1\n{rules}")
    (tree / "home.toml").write_text(
        'frugal = 1\n[[rule]]\nname = "h"\nin = "Intake"\nlevels = "all"\nwhere = "ext is log"\nmove = "{folder}"\n'
    )
    # Names end with numbers of 0 to 99: twelve of a hundred.
    _rule(tree, 'move = "../out"', 'stem ends "1" or stem ends "22" or stem ends "33"')
    printed = ["find", "Intake", "-type", "f", "-printf", "%s %T@ %p\\n"]
    lines = []
    for work, command, bare, against, goal in (
        (f"`frugal inventory --tree`, {WALKED:,}", [frugal, "inventory", "Intake", "--tree"], ["du", "-a", "Intake"],
         "`du -a`", "2.5"),
        (f"`frugal preview`, 10 mixed rules, nothing matches, {WALKED:,}", [frugal, "preview", "mixed.toml"], printed,
         "`find -printf`", "2.5"),
        (f"`frugal preview`, {WALKED * 12 // 100:,} of {WALKED:,} move", [frugal, "preview", "rules.toml"], printed,
         "`find -printf`", "4.0"),
        (f"`frugal tidy`, {WALKED:,} at home, nothing to do", [frugal, "tidy", "home.toml", "--yes"], printed,
         "`find -printf`", "1.5"),
    ):  # fmt: skip
        ratios = [_cpu(command, tree, home) / _cpu(bare, tree, home) for _ in range(pairs + 1)][1:]
        lines.append(_line(work, against, ratios, goal))
    shutil.rmtree(tree)
    return lines


def _used_home(folder: Path, frugal: str, runs: int, steps: int, visits: int) -> Path:
    """Return a home with a history: runs that moved files and were taken back, and visits of a schedule that found nothing."""
    home = folder / f"home of {runs} runs"
    tree = folder / f"tree of {runs} runs"
    home.mkdir()
    build(tree, 150 * PER_FOLDER)
    _rule(tree, 'move = "../out"')
    time.sleep(1.1)
    # In one process: a thousand starts would take longer than the rest.
    _cpu(
        [sys.executable, "-c", _RUNS, str(tree / "rules.toml"), str(runs // 2), str(max(steps // (runs // 2) // PER_FOLDER, 1))],
        tree,
        home,
    )
    shutil.rmtree(tree / "Intake")
    (tree / "Intake").mkdir()
    for _ in range(visits):
        _cpu([frugal, "visit", "nightly", "--in", str(tree), "--", "tidy", "rules.toml", "--yes"], tree, home)
    shutil.rmtree(tree)
    return home


def _homes(folder: Path, frugal: str, pairs: int) -> list[str]:
    """Return the lines of a small preview and of the history, on used homes against a fresh one."""
    small = build(folder / "small", PER_FOLDER)
    _rule(small, 'move = "../out"', "ext is csv")
    fresh = folder / "fresh"
    fresh.mkdir()
    nothing = [sys.executable, "-c", "pass"]
    preview, history = [frugal, "preview", "rules.toml"], [frugal, "history"]
    ratios = [_cpu(preview, small, fresh) / _cpu(nothing, small, fresh) for _ in range(pairs + 1)][1:]
    lines = [_line("`frugal preview` of a small folder", "`python3 -c pass`", ratios, "7")]
    for what, home in (
        ("a year of nights", _used_home(folder, frugal, 60, 6_000, 365)),
        ("2,000 runs", _used_home(folder, frugal, 2_000, 300_000, 0)),
    ):
        for command, goal in ((preview, "1.15"), (history, "none")):
            ratios = [_cpu(command, small, home) / _cpu(command, small, fresh) for _ in range(pairs + 1)][1:]
            lines.append(_line(f"`frugal {command[1]}` on a home of {what}", "on a fresh home", ratios, goal))
    return lines


def _memory(folder: Path, frugal: str) -> list[str]:
    """Return the lines of the memory of a plan, and of the undo of its run."""
    trees = build(folder / "few", PER_FOLDER), build(folder / "many", WALKED)
    rules = [str(_rule(tree, 'move = "../out"')) for tree in trees]
    home = folder / "remembered"
    home.mkdir()
    preview = [peak_bytes(["preview", rule], home) for rule in rules]
    undo = []
    for rule in rules:
        peak_bytes(["tidy", rule, "--yes", "--short"], home)
        undo.append(peak_bytes(["undo", "--yes", "--short"], home))
    for tree in trees:
        shutil.rmtree(tree)
    return [
        _line(f"memory of {what} of {WALKED:,} moves, in bytes", "a step", [(large - small) / WALKED], "300")
        for what, (small, large) in (("a plan", preview), ("the undo", undo))
    ]


def measure(folder: Path, frugal: str, pairs: int = 7) -> list[str]:
    """Measure whole commands; the lines of the report."""
    lines = ["Whole commands, by the time on processors:", "", "| work | against | median ratio | least to most | goal |"]
    lines.append("| --- | --- | --- | --- | --- |")
    for part in (_changes, _walks, _homes):
        lines += part(folder, frugal, pairs)
    return [*lines, *_memory(folder, frugal)]


if __name__ == "__main__":
    import tempfile

    # All of it, or the homes alone.
    parts = (_homes,) if sys.argv[1:] == ["homes"] else (_changes, _walks, _homes)
    with tempfile.TemporaryDirectory(prefix="frugal-bench-", dir="/var/tmp") as name:
        for part in parts:
            part(Path(name), str(Path(sys.executable).with_name("frugal")), 3)
        _memory(Path(name), str(Path(sys.executable).with_name("frugal")))
