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
    ("See what is in the intake folder.", ("inventory", "Intake", "--top", "4")),
    ("Check the rule file.", ("check", "rules.toml")),
    ("List the rules.", ("rules", "rules.toml")),
    ("Preview what the rules would do. This changes nothing.", ("preview", "rules.toml", "--short")),
    ("Apply the rules. Without --yes, frugal asks first.", ("tidy", "rules.toml", "--yes", "--short")),
    ("Check for new files once, as a watcher does. There are none.", ("watch", "rules.toml", "--once")),
    ("List what has been done.", ("history",)),
    ("Undo all of it.", ("undo", "--yes", "--short")),
    ("Files from an undone run are left alone.", ("watch", "rules.toml", "--once")),
    (
        "Run the rules every night. --print only shows the crontab entry; without it, frugal asks and sets it up.",
        ("schedule", "add", "nightly", "--at", "daily 02:00", "--with", "cron", "--print", "--", "tidy", "rules.toml"),
    ),
    (
        "Age files in two stages: first to the holding folder, then to the trash. Day by day, this would happen:",
        ("preview", "ageing.toml", "--until", "in 40 days", "--short"),
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", type=Path, help="an empty or new folder")
    parser.add_argument("--seed", type=int, default=DEFAULT_SEED, help="a different number creates different sample data")


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
    print("\nEnd of the demo, which ran in a temporary folder. To keep a copy of the sample data: frugal demo FOLDER")
    return 0
