"""How memory and time grow with the number of entries, from ten thousand to a million in one folder.

In memory where there is such a volume: how a disk finds one name among a million is not what is measured here.
"""

from __future__ import annotations

import math
import os
import time
from contextlib import ExitStack
from pathlib import Path
from tempfile import TemporaryDirectory

from peaks import peak_bytes

SIZES = (10_000, 100_000, 1_000_000)
# Above this power of the number of entries something grows faster than what it is about.
MOST_POWER = 1.1
_RULES = 'frugal = 1\n[[rule]]\nname = "r"\nin = "Intake"\nwhere = "everything"\nmove = "Out/{ext}"\nsettle = "0 s"\n'
_IN_MEMORY = Path("/dev/shm")
too_steep: list[str] = []


def measure(folder: Path) -> list[str]:
    """Measure each command on each size, once; the lines of the report."""
    with ExitStack() as stack:
        if _IN_MEMORY.is_dir():
            folder = Path(stack.enter_context(TemporaryDirectory(prefix="frugal-bench-", dir=_IN_MEMORY)))
        return _measured(folder)


def _measured(folder: Path) -> list[str]:
    lines = ["| work | 10,000 | 100,000 | 1,000,000 | power of time | goal |", "| --- | --- | --- | --- | --- | --- |"]
    took: dict[str, list[tuple[float, int]]] = {}
    for files in SIZES:
        root = folder / f"grown-{files}"
        (root / "Intake").mkdir(parents=True)
        for number in range(files):
            (root / f"Intake/piece {number:07} of a set.{('jpg', 'pdf')[number % 2]}").touch()
        rules = root / "rules.toml"
        rules.write_text(_RULES)
        os.environ |= {"HOME": str(root), "XDG_STATE_HOME": str(root / "state")}
        for work, words in (
            ("`inventory` of one folder", ["inventory", str(root / "Intake")]),
            ("`preview` of one folder, all move", ["preview", str(rules)]),
        ):
            began = time.perf_counter()
            peak = peak_bytes(words)
            took.setdefault(work, []).append((time.perf_counter() - began, peak))
    for work, found in took.items():
        power = math.log(found[-1][0] / found[-2][0], SIZES[-1] / SIZES[-2])
        too_steep.extend([work] if power > MOST_POWER else [])
        cells = " | ".join(f"{seconds:.1f} s, {peak / 1e6:.0f} MB" for seconds, peak in found)
        lines.append(f"| {work} | {cells} | {power:.2f} | {MOST_POWER}, 250 MB |")
        print(lines[-1], flush=True)
    return lines
