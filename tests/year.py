"""Two simulated years of nightly visits against a ledger of its own: `python -m tests.year [DAYS] [SEED]`.

Each day files come, a schedule comes by in the night, and now and then something goes wrong: the folder is away, a file
stands where a folder should be, the clock is months ahead or behind, a person takes a run back, whole or in part. The
program is the built one, its clock is that of faketime(1).
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

FIRST = datetime(2027, 1, 4)
# For how many days each is kept, and how late that may become: a day that is not believed counts for none.
KEEP, TRASH, LOGS = 100, 30, 20
SLACK = 12
RULES = """frugal = 1
log = "{root}/owner.log"
[trash]
older_than = "30 days"
[[rule]]
name = "{texts}"
in = "{root}/Intake"
where = 'ext is txt'
tag = "x"
move = "{root}/Texts"
[[rule]]
name = "scratch"
in = "{root}/Intake"
where = 'ext is tmp'
trash = true
[[rule]]
name = "logs"
in = "{root}/Intake"
where = 'ext is log and modified older than 20 days'
delete = true
"""


class Night(NamedTuple):
    """What the ledger has of a run: its day, its entries by rule, and their bytes."""

    day: int
    entries: Counter[str]
    bytes: int


class Year:
    """A machine with its ledger.

    Args:
        root: an empty folder.
        seed: of what happens.
    """

    def __init__(self, root: Path, seed: int) -> None:
        self.root, self.random, self.day = root, random.Random(seed), 0
        self.texts = "texts"
        self.ledger: dict[int, Night] = {}
        self.undone: dict[int, int] = {}
        # Day on which each file came, and those in the trash with the day on which they went there.
        self.came: dict[str, int] = {}
        self.trashed: dict[str, int] = {}
        self.gone: Counter[str] = Counter()
        # Nights with a wrong clock, and those on which a person should know of something.
        self.unbelieved, self.wrong = 0, set[int]()
        self.trouble: set[int] = set()
        (root / "Intake").mkdir(parents=True)
        (root / "config/frugal-sorter").mkdir(parents=True)
        (root / "config/frugal-sorter/settings.toml").write_text(f"keep_days = {KEEP}\n")
        self.write_rules()

    def write_rules(self) -> None:
        path = self.root / "rules.toml"
        path.write_text(RULES.format(root=self.root, texts=self.texts))
        path.chmod(0o600)

    def frugal(self, *words: str, hours: float = 0, code: int | None = 0) -> str:
        """Run the program on this day of the ledger, so many hours off."""
        moment = FIRST + timedelta(days=self.day, hours=2 + hours)
        env = {
            **os.environ, "HOME": str(self.root), "XDG_STATE_HOME": str(self.root / "state"), "NO_FAKE_STAT": "1",
            "XDG_DATA_HOME": str(self.root / "data"), "XDG_CONFIG_HOME": str(self.root / "config"), "TZ": "UTC",
        }  # fmt: skip
        done = subprocess.run(
            ["faketime", "-f", f"@{moment:%Y-%m-%d %H:%M:%S}", sys.executable, "-m", "frugal_sorter", *words], env=env,
            capture_output=True, text=True, stdin=subprocess.DEVNULL, check=False, cwd=self.root,
        )  # fmt: skip
        assert code in (None, done.returncode), (self.day, words, done.returncode, done.stdout[-800:], done.stderr[-800:])
        return done.stdout

    def told(self, *words: str, code: int | None = 0) -> Any:
        return json.loads(self.frugal(*words, "--format", "json", hours=1, code=code))

    def live(self, days: int) -> None:
        """Let days pass, each with its night, and compare the ledger now and then."""
        first = self.day
        for day in range(first, first + days):
            self.day = day
            self.files_come()
            self.night()
            if self.day % 30 == 17:
                self.take_back()
            if self.day % 60 == 59 or self.day == days - 1:
                self.compare()
            if self.day == days // 2:
                self.texts = "papers"
                self.write_rules()

    def files_come(self) -> None:
        moment = (FIRST + timedelta(days=self.day)).timestamp()
        for kind, most in (("txt", 3), ("tmp", 2), ("log", 2)):
            for number in range(self.random.randint(0, most)):
                name = f"{self.day:04}-{number}.{kind}"
                path = self.root / "Intake" / name
                path.write_bytes(b"x" * self.random.randint(1, 400))
                os.utime(path, (moment, moment))
                self.came[name] = self.day

    def night(self) -> None:
        """Come by as a schedule does; on some nights something is in the way."""
        what = self.random.choices(("well", "away", "in the way", "ahead", "behind"), (80, 4, 4, 3, 3))[0]
        intake, texts = self.root / "Intake", self.root / "Texts"
        if what == "away":
            intake.rename(self.root / "away")
            texts.exists() and texts.rename(self.root / "texts-away")
        elif what == "in the way":
            texts.exists() and texts.rename(self.root / "texts-away")
            texts.write_text("a file")
        clock = {"ahead": 24 * self.random.randint(40, 900), "behind": -24 * self.random.randint(40, 900)}.get(what, 0)
        before = {path.name: path.stat().st_size for path in intake.glob("*")} if intake.is_dir() else {}
        trash = set(self.in_trash())
        last = max(self.ledger, default=0)
        self.frugal("visit", "nightly", "--in", str(self.root), "--", "tidy", "rules.toml", "--yes", hours=clock, code=None)
        if what == "away":
            (self.root / "away").rename(intake)
        if what == "in the way":
            texts.unlink()
        if (self.root / "texts-away").exists():
            (self.root / "texts-away").rename(texts)
        after = {path.name for path in intake.glob("*")}
        left = {name: size for name, size in before.items() if name not in after}
        if what in ("ahead", "behind"):
            self.unbelieved += 1
            self.wrong.add(self.day + clock // 24)
            assert not trash - set(self.in_trash()), "on a day that is not believed nothing leaves the trash"
            assert not any(name.endswith(".log") for name in left), "and nothing is deleted"
        emptied = trash - set(self.in_trash())
        for name in emptied:
            age = self.day - self.trashed.pop(name)
            assert age >= TRASH - 1, f"day {self.day}: {name} left the trash after {age} days"
        for name in left:
            if name.endswith(".tmp"):
                self.trashed[name] = self.day
            if name.endswith(".log"):
                age = self.day - self.came[name]
                assert age >= LOGS - 1, f"day {self.day}: {name} was deleted after {age} days"
        if what == "well":
            late = [name for name, day in self.trashed.items() if self.day - day > TRASH + SLACK]
            late += [name for name in after if name.endswith(".log") and self.day - self.came[name] > LOGS + SLACK]
            assert not late, f"day {self.day}: kept too long: {late}"
        if left or emptied:
            entries = Counter({"txt": self.texts, "tmp": "scratch", "log": "logs"}[name.rpartition(".")[2]] for name in left)
            entries["the trash"] += len(emptied)
            self.ledger[last + 1] = Night(self.day, +entries, sum(left.values()))
        if what == "away" or (what == "in the way" and any(name.endswith(".txt") for name in before)):
            self.trouble.add(self.day)

    def in_trash(self) -> list[str]:
        folder = self.root / "data/Trash/files"
        return os.listdir(folder) if folder.is_dir() else []

    def take_back(self) -> None:
        """Take the last run back, whole, or what it did with one text."""
        last = max(self.ledger, default=0)
        if not last or last in self.undone:
            return
        texts = [path.name for path in (self.root / "Texts").glob(f"{self.day:04}-*")]
        only = ["--only", str(self.root / "Texts" / texts[0])] if texts and self.random.random() < 0.5 else []
        before = set(os.listdir(self.root / "Intake"))
        self.frugal("undo", str(last), *only, "--yes", hours=1, code=None)
        back = set(os.listdir(self.root / "Intake")) - before
        night = self.ledger[last]
        for name in back:
            night.entries[self.texts if name.endswith(".txt") else "scratch"] -= 1
            self.trashed.pop(name, None)
            # Whoever takes back what rules do does not want it again: it is gone from this story.
            (self.root / "Intake" / name).unlink()
        self.undone[last] = len(back)
        if back:
            self.ledger[last + 1] = Night(self.day, Counter(), 0)

    def compare(self) -> None:
        """Compare each sum with the ledger."""
        history = self.told("history")
        runs = {one["id"]: one for one in history["runs"]}
        oldest = min(runs, default=0)
        for number, night in self.ledger.items():
            age = self.day - night.day
            assert number in runs or age >= KEEP - 1, f"day {self.day}: run {number} was forgotten after {age} days"
            in_trash = number in runs and any(day == night.day for day in self.trashed.values())
            assert number not in runs or age <= KEEP + SLACK + self.unbelieved or in_trash, (
                f"day {self.day}: run {number} is kept after {age} days"
            )
        known = {number: night for number, night in self.ledger.items() if number in runs}
        assert runs.keys() == known.keys(), (oldest, runs.keys() ^ known.keys())
        wanted: Counter[str] = Counter()
        for night in known.values():
            wanted.update(+night.entries)
        report = self.told("report", "--since", "2020-01-01")
        by_rule = {
            one["rule"]: max(count["files"] + count["folders"] for count in one["done"].values()) for one in report["rules"]
        }
        assert by_rule == +wanted, (self.day, by_rule, wanted)
        rules = {one["name"]: one["done"] for one in self.told("rules", "rules.toml")["rules"]}
        assert rules == {name: wanted[name] for name in rules}, (rules, wanted)
        for number, night in known.items():
            if number not in self.undone and runs[number]["kind"] == "tidy":
                assert runs[number]["done"] == night.entries.total(), (number, runs[number], night)
        nights = {datetime.fromisoformat(one["began"]).replace(tzinfo=None) - FIRST for one in report["troubles"]}
        told = {day.days for day in nights} - self.wrong
        recent = range(max(self.day - KEEP + SLACK, 0), self.day + 1)
        trouble = self.trouble - self.wrong
        assert told.intersection(recent) == trouble.intersection(recent), (self.day, told ^ trouble)


def main(words: Sequence[str]) -> None:
    """Live so many days, with a seed, and say so."""
    days, seed = int(words[0]) if words else 730, int(words[1]) if len(words) > 1 else 1
    if shutil.which("faketime") is None:
        sys.stdout.write("NOT RUN: faketime is not installed\n")
        return
    with tempfile.TemporaryDirectory() as folder:
        year = Year(Path(folder).resolve() / "machine", seed)
        year.live(days)
        sys.stdout.write(
            f"{days} days, {len(year.ledger)} runs, {len(year.undone)} taken back, {year.unbelieved} nights with a wrong clock: all sums equal\n"
        )


if __name__ == "__main__":
    main(sys.argv[1:])
