"""How many system calls a command makes for each file, and what that means where each takes a millisecond.

Counted by strace on three thousand files and on six thousand in as many folders; the difference is what a file costs. Then
strace holds up every call that asks a volume for something, as a network would. Where there is no strace nothing is done.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

# More than the entries that are looked at for a hint.
FEW, MANY = 3_000, 6_000
_BOXES = 10
# What a volume on a network has to be asked for; what is read and written goes in larger pieces, and is held back by neither.
_ASKING = "newfstatat,statx,openat,getdents64,renameat2,unlinkat,mkdirat"
_DELAY_MICROSECONDS = 1_000
_AGE_SECONDS = 90 * 86_400
_COUNTED = re.compile(r"^\s*[\d.]+\s+[\d.]+\s+\d+\s+(\d+)\s+(?:\d+\s+)?(\w+)$", re.MULTILINE)


class _Work(NamedTuple):
    """What is counted: what it is called, the words, its rule, and how many calls a file may cost."""

    name: str
    words: tuple[str, ...]
    rule: str
    most: int


WORK = (
    _Work("`preview`, a rule on names that none has", ("preview", "rules.toml"), 'where = "name has zzz"\nmove = "Old"', 0),
    _Work("`preview`, a rule on sizes that none has", ("preview", "rules.toml"), 'where = "size > 900 GB"\nmove = "Old"', 1),
    _Work("`preview`, all at home", ("preview", "rules.toml"), 'where = "ext is log"\nmove = "{folder}"', 0),
    _Work("`preview`, all move", ("preview", "rules.toml"), 'where = "ext is log"\nmove = "Old"', 1),
    _Work("`inventory`", ("inventory", "Intake"), "", 1),
    _Work("`tidy --yes`, all move", ("tidy", "rules.toml", "--yes"), 'where = "ext is log"\nmove = "Old"', 4),
    _Work("`tidy --yes`, all to the trash", ("tidy", "rules.toml", "--yes"), 'where = "ext is log"\ntrash = true', 7),
    _Work("`tidy --yes`, all deleted", ("tidy", "rules.toml", "--yes"), 'where = "ext is log"\ndelete = true', 5),
)  # fmt: skip


def measure(folder: Path, frugal: str) -> list[str]:
    """Count each command on both trees; the lines of the report."""
    if shutil.which("strace") is None:
        return []
    lines = ["| work | calls for each file | in all | at most | with 1 ms a call |", "| --- | --- | --- | --- | --- |"]
    for work in WORK:
        few, many = (_calls(folder / f"calls-{files}", files, work, frugal) for files in (FEW, MANY))
        # Previews look at some files for a hint; for all else fewer are enough.
        sizes = (FEW, MANY) if work.words[0] == "preview" else (1_000, 3_000)
        slow = [_slowly(folder / f"slow-{files}", files, work, frugal) for files in sizes]
        each = {call: (many[call] - few[call]) / (MANY - FEW) for call in many}
        named = ", ".join(f"{call} {count:.1f}" for call, count in sorted(each.items(), key=lambda one: -one[1]) if count > 0.05)
        each_ms = (slow[1] - slow[0]) / (sizes[1] - sizes[0]) * 1e3
        # A zero is added so that none is shown as less than nothing; what is less is shown as it is.
        total, each_ms = round(sum(each.values()), 1) + 0.0, round(each_ms, 1) + 0.0
        lines.append(f"| {work.name} | {named or 'none'} | {total} | {work.most} | {each_ms} ms a file |")
        print(lines[-1], flush=True)
    return lines


def _calls(folder: Path, files: int, work: _Work, frugal: str) -> Counter[str]:
    """Return how often a command made which call."""
    counted = folder.with_suffix(".counted")
    _traced(folder, files, work, frugal, ["-c", "-o", str(counted)])
    return Counter({call: int(count) for count, call in _COUNTED.findall(counted.read_text()) if call != "total"})


def _slowly(folder: Path, files: int, work: _Work, frugal: str) -> float:
    """Return the seconds that a command takes where each call that asks a volume is held up."""
    held_up = ["-e", f"trace={_ASKING}", "-e", f"inject={_ASKING}:delay_enter={_DELAY_MICROSECONDS}", "-o", "/dev/null"]
    return _traced(folder, files, work, frugal, held_up)


def _traced(folder: Path, files: int, work: _Work, frugal: str, options: Sequence[str]) -> float:
    """Run a command below strace on a new tree, and return the seconds that it took."""
    for number in range(files):
        path = folder / f"Intake/box {number % _BOXES}/piece {number:06}.log"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"glaze {number}")
        os.utime(path, (time.time() - _AGE_SECONDS,) * 2)
    head = 'frugal = 1\n[[rule]]\nname = "r"\nin = "Intake"\nlevels = "all"\nat_most = 10000\n'
    (folder / "rules.toml").write_text(head + work.rule + "\n")
    # What was just made is looked at once more before it goes: its status is too young to be sure of.
    time.sleep(3)
    environment = {**os.environ, "HOME": str(folder), "XDG_STATE_HOME": str(folder / "state")}
    began = time.perf_counter()
    subprocess.run(
        ["strace", "-f", "-qq", *options, frugal, *work.words], cwd=folder, env=environment,
        stdin=subprocess.DEVNULL, capture_output=True, check=False,
    )  # fmt: skip
    seconds = time.perf_counter() - began
    shutil.rmtree(folder)
    return seconds
