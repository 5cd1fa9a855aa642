"""What every command says, recorded, so that two versions can be compared: `python -m tests.record SRC > FILE`, then `diff`.

On the demo machine, at moments a minute apart by faketime(1), so that nothing differs but what was changed; what is left of
the machine itself, such as free space, is written as a mark.
"""

from __future__ import annotations

import os
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
_MARKS = (
    (r'("(?:free|total)[a-z_]*": )\d+', r"\1FREE"), (r"\d[\d.,]* [kMGT]B of \d[\d.,]* [kMGT]B( are free( now)?| \(\d+%\)|\.)+", "FREE"),
    (r"(?m)(,\d+,\d+,\d+,\d+,)\d{9,},\d*$", r"\1FREE"), (r'"\d{18,19}"', '"NS"'),
    # Links and folders are as new as this run.
    (r"\b20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d[+\d:.]*", "MOMENT"), (r"\S+ \S+(  Intake/latest kiln log)", r"MOMENT\1"),
)  # fmt: skip


def main(source: Path) -> None:
    """Print what each command says, run from the code in a folder."""
    with tempfile.TemporaryDirectory() as root:
        home, desk = Path(root) / "home", Path(root) / "Tidewater"
        home.mkdir()
        known = {"PATH": os.environ["PATH"], "TZ": "UTC", "LANG": "C.UTF-8", "COLUMNS": "100", "NO_FAKE_STAT": "1"}
        env = {**known, "HOME": str(home), "PYTHONPATH": str(source.resolve())}
        lines = [f"demo {desk}", *filter(None, map(str.strip, re.split(r"[;\n]", COMMANDS)))]
        for minute, line in enumerate(lines):
            moment = f"@2026-12-01 {9 + minute // 60:02}:{minute % 60:02}:00"
            done = subprocess.run(
                ["faketime", "-f", moment, sys.executable, "-P", "-m", "frugal_sorter", *shlex.split(line)], env=env,
                cwd=desk if desk.exists() else root, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT, text=True, errors="replace", check=False,
            )  # fmt: skip
            said = done.stdout.replace(root, "ROOT")
            for pattern, mark in _MARKS:
                said = re.sub(pattern, mark, said)
            sys.stdout.write(f"$ frugal {line.replace(root, 'ROOT')}\n{said}-> {done.returncode}\n")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
