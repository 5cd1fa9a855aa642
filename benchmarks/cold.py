"""What a command takes where nothing of a tree is in the memory of the system, as on the first run of a day.

Caches are dropped before each command (drop_caches, proc(5)), which takes the rights of root; then the program itself
is run once on a small tree, so that only the large one is cold. What is below a virtual disk may keep a copy all the same.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

_DROP = Path("/proc/sys/vm/drop_caches")
PAIRS = 7


class _Work(NamedTuple):
    """Two commands of which each is given a tree in place of TREE, and a rule file for it in place of RULES."""

    name: str
    ours: tuple[str, ...]
    shown: str
    theirs: tuple[str, ...]


_NAMES = ("find", "TREE", "-type", "f", "-printf", "%p\\n")
_SIZES = ("find", "TREE", "-type", "f", "-printf", "%s %T@ %p\\n")
_SHOWN = "`find -type f -printf '{}'`"
WORK = (
    _Work("`frugal preview`, a rule on names that none has", ("preview", "RULES"), _SHOWN.format("%p\\n"), _NAMES),
    _Work("`frugal inventory`", ("inventory", "TREE"), _SHOWN.format("%s %T@ %p\\n"), _SIZES),
)


def measure(folder: Path, frugal: str, tree: Path, small: Path) -> list[str]:
    """Time each command on a cold tree against `find`; the lines of the report, none where caches cannot be dropped.

    Args:
        folder: where rule files are written.
        frugal: the program.
        tree: a large tree.
        small: a small one, on which both programs are run first.
    """
    if not _drop():
        return ["Cold caches were not measured: this account may not drop them."]
    lines = ["| work, cold | against | median ratio | least to most | seconds |", "| --- | --- | --- | --- | --- |"]
    for work in WORK:
        ours, theirs = [], []
        for _ in range(PAIRS):
            ours.append(_cold((frugal, *work.ours), folder, tree, small))
            theirs.append(_cold(work.theirs, folder, tree, small))
        ratios = [one / other for one, other in zip(ours, theirs, strict=True)]
        spread = f"{statistics.median(ratios):.2f} | {min(ratios):.2f} to {max(ratios):.2f}"
        seconds = f"{statistics.median(ours):.1f} and {statistics.median(theirs):.1f}"
        lines.append(f"| {work.name} | {work.shown} | {spread} | {seconds} |")
        print(lines[-1], flush=True)
    return lines


def _drop() -> bool:
    """Write out what waits for the disk, and drop all that the system remembers of it; return whether it may be."""
    os.sync()
    try:
        _DROP.write_text("3")
    except OSError:
        return False
    return True


def _cold(command: Sequence[str], folder: Path, tree: Path, small: Path) -> float:
    """Return the seconds that a command takes on a tree of which nothing is remembered."""
    _drop()
    _run(command, folder, small)
    began = time.perf_counter()
    _run(command, folder, tree)
    return time.perf_counter() - began


def _run(command: Sequence[str], folder: Path, tree: Path) -> None:
    rules = folder / f"{tree.name}-cold.toml"
    rules.write_text(f'frugal = 1\n[[rule]]\nname = "r"\nin = "{tree}"\nlevels = "all"\nwhere = "name has zzz"\nmove = "x"\n')
    words = [{"TREE": str(tree), "RULES": str(rules)}.get(word, word) for word in command]
    environment = {**os.environ, "XDG_STATE_HOME": str(folder / "state")}
    subprocess.run(words, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, env=environment, cwd=folder, check=True)
