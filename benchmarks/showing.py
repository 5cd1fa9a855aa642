"""What showing a hundred thousand entries costs against showing twenty thousand, for every command that prints lists."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from collections.abc import Sequence
from pathlib import Path

FEW, MANY = 20_000, 100_000
MOST = 6.0
_AGE_SECONDS = 90 * 86_400
# In this order: a run must be there before it is shown or taken back. None to answer no to the question.
COMMANDS: Sequence[tuple[str, Sequence[str]]] = (
    ("`frugal preview`", ("preview", "rules.toml")),
    ("`frugal explain` of a folder", ("explain", "Intake", "--rules", "rules.toml")),
    ("`frugal purge --list-all`", ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--at-most", "200000")),
    ("`frugal inventory --listing`", ("inventory", "Intake", "--listing")),
    ("`frugal duplicates`", ("duplicates", "Intake", "--top", "100000")),
    ("`frugal compare`", ("compare", "Intake", "Other")),
    ("`frugal tidy --yes`", ("tidy", "rules.toml", "--yes")),
    ("`frugal history RUN`", ("history", "1")),
    ("the list of `frugal undo`", ("undo", "1")),
    ("`frugal undo --yes`", ("undo", "1", "--yes")),
    ("`frugal tidy --yes` with a tag and a move", ("tidy", "grouped.toml", "--yes")),
    ("`frugal undo --yes` with a tag and a move", ("undo", "3", "--yes")),
)


def measure(folder: Path, frugal: str) -> list[str]:
    """Time each command on both, once; the lines of the report."""
    took = {files: _seconds(folder / f"shown-{files}", files, frugal) for files in (FEW, MANY)}
    lines = []
    for work, _ in COMMANDS:
        few, many = took[FEW][work], took[MANY][work]
        lines.append(f"| {work} of {MANY:,} entries, all shown | of {FEW:,} | {many / few:.1f} | | {MOST:.0f} |")
    print("\n".join(lines), flush=True)
    return lines


def _seconds(folder: Path, files: int, frugal: str) -> dict[str, float]:
    for name in ("Intake", "Other"):
        (folder / name).mkdir(parents=True)
        for number in range(files):
            path = folder / name / f"piece {number:06}.{'log' if number % 2 else 'csv'}"
            path.write_text(f"glaze {number // 2} {name}")
            os.utime(path, (time.time() - _AGE_SECONDS,) * 2)
    rule = 'frugal = 1\n[[rule]]\nname = "logs"\nin = "Intake"\nwhere = "ext in (log, csv)"\nmove = "Old/{ext}"\n'
    (folder / "rules.toml").write_text(rule)
    (folder / "grouped.toml").write_text(f'{rule}tag = "seen"\n')
    environment = {**os.environ, "HOME": str(folder), "XDG_STATE_HOME": str(folder / "state")}
    took = {}
    for work, words in COMMANDS:
        began = time.perf_counter()
        done = subprocess.run(
            [frugal, *words], cwd=folder, env=environment, stdin=subprocess.DEVNULL,
            capture_output=True, check=False,
        )  # fmt: skip
        took[work] = time.perf_counter() - began
        # 1 says that something differs, 3 that there was nobody to ask.
        if done.returncode not in (0, 1, 3):
            raise SystemExit(f"frugal {' '.join(words)} ended with {done.returncode}: {done.stderr.decode()[-300:]}")
    shutil.rmtree(folder)
    return took
