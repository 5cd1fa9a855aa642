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
from frugal_sorter.platforms import processes
from frugal_sorter.platforms.slashed import Path

EXAMPLES = """
  frugal demo               the whole story, in a temporary folder that is removed afterwards
  frugal demo ~/tidewater   only the folder, to try things on
"""

_STORY: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "The front desk of Tidewater Pottery keeps everything in one folder. What takes the space? Look at the shares.",
        ("inventory", "Intake", "--top", "4"),
    ),
    (
        "Nine rules say where things belong. What would two of them do? Look at the arrows; nothing is changed yet.",
        ("preview", "rules.toml", "--rule", "Moulds", "--rule", "Supplier invoices by year", "--short"),
    ),
    (
        "Apply all nine. Without --yes, frugal asks first. The last two lines say how to undo it and how to run it every day.",
        ("tidy", "rules.toml", "--yes", "--short"),
    ),
    ("What has been done on this machine? Each run has a number.", ("history",)),
    ("Undo it. Every file returns to where it was.", ("undo", "1", "--yes", "--short")),
    (
        "Rules can age files: first to the holding folder, later to the trash. Look at the date on which this would begin.",
        ("preview", "ageing.toml", "--until", "in 5 days", "--short"),
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", type=Path, help="an empty or new folder")
    parser.add_argument("--seed", type=int, default=DEFAULT_SEED, help="a different number creates different sample data")


def run(args: argparse.Namespace) -> int:
    now = datetime.now()
    if args.folder is not None:
        count = lay_out(args.folder, now, args.seed)
        place = processes.quote(str(args.folder))
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
    for at, (remark, words) in enumerate(_STORY):
        gap = "\n" if at else ""
        print(f"{gap}# {remark}\n$ frugal {processes.join(words)}", flush=True)
        command = [sys.executable, "-P", "-m", "frugal_sorter", *words]
        code = subprocess.run(command, cwd=folder, env=environment, stdin=subprocess.DEVNULL, check=False).returncode
        if code != 0:
            print(f"(ended with {code})", file=sys.stderr)
            return code
    print("\nEnd of the demo, which ran in a temporary folder. To keep a copy of the sample data: frugal demo FOLDER")
    return 0
