"""Times the search for files with the same contents against `sha256sum` and `cat`; called by `run.py`.

The made-up tree has about 4 GB: many small files, some of tens of MB, a third of the bytes twice or
more, and beside each large original files of the same size that differ in one byte at the start, in the
middle and at the end.
"""

from __future__ import annotations

import math
import os
import random
import shutil
import statistics
import subprocess
import sys
import time
from pathlib import Path
from typing import NamedTuple

from peaks import peak_bytes

FRUGAL = str(Path(sys.executable).with_name("frugal"))


class Searched(NamedTuple):
    """All ratios: against the shell, against reading the candidates; the bytes read, and the second search."""

    shells: list[float]
    cats: list[float]
    read: float
    again: float
    read_again: float
    memory: float
    files: int
    bytes: int


def build(root: Path, megabytes: int) -> Path:
    """Lay out the tree."""
    chance = random.Random(7)
    written = 0
    number = 0

    def put(body: bytes, name: str) -> None:
        nonlocal written, number
        folder = root / f"box {number // 200}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(body)
        written += len(body)
        number += 1

    while written < megabytes * 300_000:  # small ones, a third of them again
        body = chance.randbytes(int(math.exp(chance.uniform(math.log(500), math.log(200_000)))))
        put(body, f"piece {number}.dat")
        if chance.random() < 0.25:
            put(body, f"piece {number} again.dat")
    while written < megabytes * 1_000_000:  # large ones
        size = chance.randrange(8_000_000, 60_000_000)
        body = chance.randbytes(size)
        put(body, f"mould {number}.stl")
        if chance.random() < 0.5:
            put(body, f"mould {number} again.stl")
        if chance.random() < 0.06:
            for at in (0, size // 2, size - 1):
                other = bytearray(body)
                other[at] ^= 1
                put(bytes(other), f"mould {number} changed at {at}.stl")
    return root


def _timed(command: list[str] | str, **more: object) -> tuple[float, str]:
    began = time.perf_counter()
    done = subprocess.run(command, capture_output=True, text=True, shell=isinstance(command, str), check=False, **more)  # type: ignore[call-overload]
    return time.perf_counter() - began, done.stdout


def _groups_of_shell(text: str) -> set[frozenset[str]]:
    groups: dict[str, set[str]] = {}
    for line in text.splitlines():
        groups.setdefault(line[:64], set()).add(line[66:])
    return {frozenset(one) for one in groups.values()}


def measure(folder: Path, megabytes: int, pairs: int) -> Searched:
    """Search the tree, and check that exactly the groups of `sha256sum` are found."""
    import json

    tree = build(folder / "duplicates", megabytes)
    os.environ["XDG_STATE_HOME"] = str(folder / "state")
    # As the shell does, each file that is found is printed.
    words = [FRUGAL, "duplicates", str(tree), "--format"]
    shell = f"find {tree} -type f -print0 | xargs -0 -P2 sha256sum | sort | uniq -w64 -D"
    _timed(
        ["sh", "-c", f"cat $(find {tree} -type f | head -1) > /dev/null; find {tree} -type f -print0 | xargs -0 cat > /dev/null"]
    )
    shells, cats, agains, read, read_again = [], [], [], 0.0, 0.0
    found = {}
    for _ in range(pairs):
        shutil.rmtree(folder / "state", ignore_errors=True)
        ours, _ = _timed([*words, "csv"])
        again, _ = _timed([*words, "csv"])
        theirs, listed = _timed(shell)
        found, second = (json.loads(_timed([*words, "json", *more])[1]) for more in (["--no-cache"], []))
        groups = {frozenset(one["path"] for one in group["files"]) for group in found["groups"]}
        assert groups == _groups_of_shell(listed), "the groups differ from those of sha256sum"
        (folder / "candidates").write_text("\0".join(path for group in groups for path in sorted(group)))
        cat, _ = _timed(f"xargs -0 cat < {folder / 'candidates'} > /dev/null")
        size = sum(os.path.getsize(path) for group in groups for path in group)
        shells.append(ours / theirs)
        cats.append(ours / cat)
        agains.append(again / ours)
        read = found["bytes_read"] / size
        read_again = second["bytes_read"] / found["bytes_read"]
    small = build(folder / "few", 1)
    peaks = [peak_bytes(["duplicates", str(one), "--no-cache", "--format", "csv"]) for one in (tree, small)]
    memory = (peaks[0] - peaks[1]) / found["files_seen"]
    return Searched(
        shells, cats, read, statistics.median(agains), read_again, memory,
        found["files_seen"], found["bytes_seen"],
    )  # fmt: skip
