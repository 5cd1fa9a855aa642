"""What unattended use does all day: runs that find nothing, small plans, and how much of a plan an entry costs."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path

from frugal_sorter.app.rules import plan_rules
from frugal_sorter.app.session import Session
from frugal_sorter.rules.load import load_rules
from frugal_sorter.state import forget_all

RUNS = 7
_SUFFIXES = ("jpg", "pdf", "csv", "log", "txt", "tif", "stl", "zip")
_DAY_SECONDS = 86_400
_RULE = (
    f"frugal = 1\n[[rule]]\nname = 'by kind'\nin = 'Intake'\nlevels = 'all'\nwhere = 'ext in ({', '.join(_SUFFIXES)})'\n"
    "move = '{ext}/{modified:%Y}'\n"
)


def _lay_out(folder: Path, files: int, at_home: bool) -> Path:
    """Lay out files of some years, a hundred to a folder, or each where the rule puts it; return the rule file."""
    now = time.time()
    for number in range(files):
        suffix = _SUFFIXES[number % len(_SUFFIXES)]
        written = now - (40 + number % 1_500) * _DAY_SECONDS
        home = f"{suffix}/{time.localtime(written).tm_year}"
        path = folder / "Intake" / (home if at_home else f"box {number // 100}") / f"piece {number:06}.{suffix}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch()
        os.utime(path, (written, written))
    rules = folder / "rules.toml"
    rules.write_text(_RULE)
    return rules


def _seconds(command: Sequence[str], folder: Path) -> list[float]:
    """Run a command several times, after once that is not counted; what it took each time."""
    environment = {**os.environ, "HOME": str(folder), "XDG_STATE_HOME": str(folder / "state")}
    took = []
    for _ in range(RUNS + 1):
        began = time.perf_counter()
        subprocess.run(command, cwd=folder, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=True)
        took.append(time.perf_counter() - began)
    return took[1:]


def measure(folder: Path, frugal: str) -> list[str]:
    """Measure all; the lines of the report."""
    lines = ["| work | median | least to most | goal |", "| --- | --- | --- | --- |"]
    at_home = {files: _lay_out(folder / f"home-{files}", files, at_home=True) for files in (10_000, 200_000)}
    for (files, rules), goal in zip(at_home.items(), ("0.35 s", "0.8 s"), strict=True):
        took = _seconds([frugal, "tidy", str(rules), "--yes"], rules.parent)
        lines.append(
            f"| `tidy --yes`, {files:,} files, all at home | {statistics.median(took):.2f} s | "
            f"{min(took):.2f} to {max(took):.2f} | {goal} |"
        )
        print(lines[-1], flush=True)
    moving = _lay_out(folder / "moving", 20_000, at_home=False)
    for work, files, rules, goal in (
        ("an entry that moves", 20_000, moving, "20 µs"), ("an entry at home", 200_000, at_home[200_000], "2 µs"),
    ):  # fmt: skip
        os.environ |= {"HOME": str(rules.parent), "XDG_STATE_HOME": str(rules.parent / "state")}
        costs = [_planned(rules) / files * 1e6 for _ in range(RUNS)]
        lines.append(
            f"| planning {work}, CPU of all processes, the walk included | {statistics.median(costs):.1f} µs | "
            f"{min(costs):.1f} to {max(costs):.1f} | {goal} |"
        )
        print(lines[-1], flush=True)
    return lines


def _planned(rules: Path) -> float:
    """Plan in a process of its own, as a command does; return the seconds on processors."""
    code = f"from steady import plan; plan({str(rules)!r})"
    done = subprocess.run([sys.executable, "-c", code], cwd=Path(__file__).parent, capture_output=True, text=True, check=True)
    return float(done.stdout)


def plan(rules: str) -> None:
    """Plan once to have everything loaded, then again; print the seconds that it took on processors."""
    import gc

    gc.disable()
    for again in range(2):
        forget_all()
        book = load_rules(Path(rules))
        began = sum(os.times()[:4])
        plan_rules(Session.begin(), book)
        if again:
            print(sum(os.times()[:4]) - began)
