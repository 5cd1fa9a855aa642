"""What every command says, recorded, so that two versions can be compared: `python -m tests.record SRC > FILE`, then `diff`.

On the demo machine and on two generated ones of 10,000 files, one wide and one deep, at moments a minute apart by faketime(1), so that nothing differs but what was changed; what is left of
the machine itself, such as free space, is written as a mark.
"""

from __future__ import annotations

import hashlib
import os
import random
import re
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path

COMMANDS = """
--help
check rules.toml; rules rules.toml; rules rules.toml --format json; check --schema
preview rules.toml; preview rules.toml --tree; preview rules.toml --until "in 30 days"; preview rules.toml --format json
preview rules.toml --format html; explain Intake/README --rules rules.toml; help rules; help conditions
inventory . --save a; inventory . --by ext; inventory . --by folder; inventory . --by age; inventory . --by "type,age"
inventory . --by type --format csv; inventory . --by folder --format json; inventory . --format html; inventory . --tree
inventory . --tree --format json; inventory . --listing --sort name; inventory . --listing --format csv
inventory . --by ext --top 3 --largest 5; duplicates .; duplicates . --top 2; duplicates . --format json
duplicates . --format csv; duplicates . --format html; suggest .; leftovers; leftovers glaze-calculator
leftovers glaze-calculator --format json; sort Intake --into {type}; purge . --older-than 100d --levels all
schedule list; schedule check; forecast .; forecast . --format json
schedule add nightly --at "daily 02:00" --print --with cron -- tidy rules.toml
schedule add nightly --at "daily 02:00" --print --with systemd -- tidy rules.toml
tidy rules.toml --yes; tidy rules.toml --yes; history; history 1; history --format json; history 1 --format json
inventory . --save b; compare a b; compare a b --format json; compare a b --format csv; compare a b --format html
compare before-run-1 after-run-1; compare before-run-1 after-run-1 --format csv; compare before-run-1 after-run-1 --format html
report; report --format json; report --format html; trash; trash --format json; rules rules.toml
duplicates . --do trash --yes; purge Intake --older-than 1d --by modified --yes; trash --older-than 1d
trash --shrink-to 1kB; undo --yes; undo 2 --yes; undo 1; undo --since "1 hour" --yes; history; history --format csv; report
completion bash; completion zsh
"""
# On the generated machines, where most output is long.
MANY = """
check rules.toml; preview rules.toml; preview rules.toml --format json; preview rules.toml --tree
inventory . --by type; inventory . --by "folder,age" --top 40; inventory . --tree; inventory . --listing --sort name
inventory . --listing --format csv --hidden; duplicates . --format json; duplicates . --top 5; suggest In
sort In --into "{type}/{modified:%Y}" --levels all; purge . --older-than 300d --by modified --levels all
tidy rules.toml --yes; tidy rules.toml --yes; history; history 1; compare before-run-1 after-run-1; report
duplicates . --do trash --yes; trash; undo --yes; undo 1 --yes; inventory . --by ext --hidden; preview rules.toml
"""
RULES = """frugal = 1
[[rule]]
name = "Keep the drafts"
in = "In"
levels = "all"
where = 'name has "draft"'
leave = true
[[rule]]
name = "Large and old"
in = "In"
levels = "all"
where = 'size > 900 B and modified older than 300 days'
trash = true
at_most = 5000
[[rule]]
name = "By type and month"
in = "In"
levels = "all"
hidden = true
where = 'type is image or ext in (pdf, csv)'
move = "Sorted/{type}/{modified:%Y-%m}"
rename = "{stem}-{n}.{ext}"
[[rule]]
name = "The rest"
in = ["In", "Other"]
levels = 3
where = 'everything'
move = "Rest/{initial}"
clash = "same"
"""
_FILES = 10_000
# Of longer output the ends are written, and a digest of all.
_LONG, _END = 400, 20
_NOW = 1_796_100_000
_MARKS = (
    (r'("(?:free|total)[a-z_]*": )\d+', r"\1FREE"), (r"\d[\d.,]* [kMGT]B of \d[\d.,]* [kMGT]B( are free( now)?| \(\d+%\)|\.)+", "FREE"),
    (r"(?m)(,\d+,\d+,\d+,\d+,)\d{9,},\d*$", r"\1FREE"), (r'"\d{18,19}"', '"NS"'),
    # Links and folders are as new as this run.
    (r"\b20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d[+\d:.]*", "MOMENT"), (r"\S+ \S+(  Intake/latest kiln log)", r"MOMENT\1"),
)  # fmt: skip


def generate(folder: Path, seed: int, folders: int, depth: int) -> None:
    """Write 10,000 files that are the same for the same numbers: odd names, copies, further names, links, hidden ones."""
    chance = random.Random(seed)
    words = [
        "kiln",
        "Glaze",
        "draft",
        "photo",
        "été",
        "Ünï",
        "a b",
        "x_2",
        "report 2025-03-04",
        "Ω",
        "IMG_0001",
        ".note",
        "-dash",
        "q'uote",
    ]
    ends = [".pdf", ".csv", ".JPG", ".png", ".log", ".txt", "", ".tar.gz", ".dat", ".zip"]
    tops = [folder / "In", folder / "Other"]
    places = list(tops)
    for number in range(folders):
        above = chance.choice([one for one in places if len(one.relative_to(folder).parts) < depth])
        places.append(above / f"{chance.choice(words).strip('.')} {number}")
    for place in places:
        place.mkdir(parents=True, exist_ok=True)
    made: list[Path] = []
    for number in range(_FILES):
        path = chance.choice(places) / f"{chance.choice(words)}{number % 997}{chance.choice(ends)}"
        if path.exists():
            path = path.with_name(f"{number} {path.name}")
        kind = chance.random()
        if kind < 0.02 and made:
            path.hardlink_to(chance.choice(made))
        elif kind < 0.04:
            path.symlink_to("somewhere else")
            os.utime(path, (_NOW, _NOW), follow_symlinks=False)
        else:
            path.write_bytes(chance.randbytes(1) * chance.choice([0, 1, 10, 500, 1_000, 3_000]))
            made.append(path)
            when = _NOW - chance.randrange(800 * 86_400)
            os.utime(path, (when, when))
    (folder / "rules.toml").write_text(RULES)
    for path in (*places, folder / "rules.toml"):
        os.utime(path, (_NOW, _NOW))


def main(source: Path) -> None:
    """Print what each command says, run from the code in a folder."""
    with tempfile.TemporaryDirectory() as root:
        _record(source, Path(root), "Tidewater", COMMANDS, demo=True)
        for name, seed, folders, depth in (("Wide", 1, 40, 2), ("Deep", 2, 700, 12)):
            generate(Path(root) / name, seed, folders, depth)
            _record(source, Path(root), name, MANY)


def _record(source: Path, root: Path, name: str, commands: str, demo: bool = False) -> None:
    home, desk = root / f"home of {name}", root / name
    home.mkdir()
    known = {"PATH": os.environ["PATH"], "TZ": "UTC", "LANG": "C.UTF-8", "COLUMNS": "100", "NO_FAKE_STAT": "1"}
    env = {**known, "HOME": str(home), "PYTHONPATH": str(source.resolve())}
    lines = [*filter(None, map(str.strip, re.split(r"[;\n]", commands)))]
    for minute, line in enumerate([f"demo {desk}", *lines] if demo else lines):
        moment = f"@2026-12-01 {9 + minute // 60:02}:{minute % 60:02}:00"
        done = subprocess.run(
            ["faketime", "-f", moment, sys.executable, "-P", "-m", "frugal_sorter", *shlex.split(line)], env=env,
            cwd=desk if desk.exists() else root, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, text=True, errors="replace", check=False,
        )  # fmt: skip
        said = done.stdout.replace(str(root), "ROOT")
        for pattern, mark in _MARKS:
            said = re.sub(pattern, mark, said)
        rows = said.splitlines(keepends=True)
        if len(rows) > _LONG and not demo:
            digest = hashlib.sha256(said.encode()).hexdigest()
            said = "".join([*rows[:_END], f"... {len(rows):,} lines, {digest} ...\n", *rows[-_END:]])
        sys.stdout.write(f"$ frugal {line.replace(str(root), 'ROOT')}\n{said}-> {done.returncode}\n")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
