"""`frugal demo`: a made-up machine, and a guided run over it."""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from datetime import datetime

from frugal_sorter.cli.output.text import count_text, shown
from frugal_sorter.demo import DEFAULT_SEED, lay_out
from frugal_sorter.platforms import programs
from frugal_sorter.platforms.slashed import Path

EXAMPLES = """
  frugal demo               the whole story, in a temporary folder that is removed afterwards
  frugal demo ~/tidewater   only the folder, to try things on
"""

_STORY: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("What is in the intake folder?", ("inventory", "Intake", "--top", "4")),
    ("Is the rule file right?", ("check", "rules.toml")),
    ("Which rules are there?", ("rules", "rules.toml")),
    ("What would the rules do? This changes nothing.", ("preview", "rules.toml", "--short")),
    ("Do it. Without --yes it would ask first.", ("tidy", "rules.toml", "--yes", "--short")),
    ("As a watcher does it when something comes: there is nothing left to do.", ("watch", "rules.toml", "--once")),
    ("What was done?", ("history",)),
    ("Take it all back.", ("undo", "--yes", "--short")),
    ("What was taken back is left alone.", ("watch", "rules.toml", "--once")),
    (
        "Each night by itself: this is what would be written, here for cron. Without --print it asks, and sets it up.",
        ("schedule", "add", "nightly", "--at", "daily 02:00", "--with", "cron", "--print", "--", "tidy", "rules.toml"),
    ),
    (
        "In two stages: to the holding folder, and from there to the trash. Day by day this would do:",
        ("preview", "ageing.toml", "--until", "in 40 days", "--short"),
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", type=Path, help="an empty or new folder")
    parser.add_argument("--seed", type=int, default=DEFAULT_SEED, help="another number makes another machine")


def run(args: argparse.Namespace) -> int:
    now = datetime.now()
    if args.folder is not None:
        count = lay_out(args.folder, now, args.seed)
        place = programs.quote(str(args.folder))
        print(f"{count_text(count, 'file')} in {shown(str(args.folder))}: the front desk of Tidewater Pottery.")
        print(f"Next: frugal inventory {place}/Intake, then frugal preview {place}/rules.toml")
        return 0
    with tempfile.TemporaryDirectory(prefix="tidewater-") as name:
        folder = Path(name) / "Front Desk"
        lay_out(folder, now, args.seed)
        return _tell(folder, Path(name))


def _tell(folder: Path, private: Path) -> int:
    """Run the story with a state folder of its own, so that the user's history stays as it is."""
    environment = {**os.environ, "XDG_STATE_HOME": str(private / "state"), "XDG_DATA_HOME": str(private / "data")}
    for remark, words in _STORY:
        print(f"\n# {remark}\n$ frugal {programs.join(words)}", flush=True)
        command = [sys.executable, "-P", "-m", "frugal_sorter", *words]
        code = subprocess.run(command, cwd=folder, env=environment, stdin=subprocess.DEVNULL, check=False).returncode
        if code != 0:
            print(f"(ended with {code})", file=sys.stderr)
            return code
    print("\nThat was the whole story, in a temporary folder. `frugal demo FOLDER` lays out one to keep.")
    return 0
