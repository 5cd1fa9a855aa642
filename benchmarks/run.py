"""Times the built program against what a technician would type by hand; `make bench`.

Both sides of a pair run in turn, so that a machine that slows down slows both; the median of the
pairs' ratios is what counts. Trees are built before anything is measured.
"""

from __future__ import annotations

import os
import platform
import random
import resource
import statistics
import subprocess
import sys
import sysconfig
import tempfile
import time
from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import NamedTuple

from calls import measure as counting
from changes import measure as changed_by
from cold import measure as reading_cold
from duplicates import measure as searched_in
from growth import measure as growing
from growth import too_steep
from peaks import peak_bytes
from showing import measure as showing
from steady import measure as running_steadily
from volumes import fresh_volume
from whole import measure as whole_commands

from frugal_sorter.filesystem.walk import walk
from frugal_sorter.rules.load import load_rules

ROOT = Path(__file__).resolve().parents[1]
PYTHON = sys.executable
FRUGAL = str(Path(PYTHON).with_name("frugal"))
FILES = 200_000
CHANGED_FILES, CHANGED_PAIRS = 50_000, 7
SEARCHED_MEGABYTES, SEARCHED_PAIRS = 4_000, 9
SUFFIXES = ["jpg", "pdf", "csv", "log", "txt", "tif", "stl", "zip", "bin", "dat"]
WALK = """
import sys
from frugal_sorter.filesystem.walk import walk
for _ in walk(sys.argv[1], 0, True, lambda *_: 0, print):
    pass
"""
# Counts files and bytes by suffix, as a technician would type it.
COUNT = '{n = split($0, part, "."); suffix = n > 1 ? part[n] : ""; files[suffix]++; bytes[suffix] += $1}'
COUNT += " END {for (suffix in files) print suffix, files[suffix], bytes[suffix]}"
BEGIN, END = "<!-- figures: begin -->", "<!-- figures: end -->"


def build_tree(root: Path, files: int) -> Path:
    """Lay out files of made-up sizes, a hundred to a folder, two levels deep."""
    chance = random.Random(1)
    for folder in range(files // 100):
        path = root / f"shelf {folder // 50}" / f"box {folder % 50}"
        path.mkdir(parents=True)
        for number in range(100):
            name = path / f"piece {folder} {number} {chance.randrange(10**6)}.{chance.choice(SUFFIXES)}"
            descriptor = os.open(name, os.O_CREAT | os.O_WRONLY)
            os.ftruncate(descriptor, chance.randrange(100_000))
            os.close(descriptor)
    return root


class Took(NamedTuple):
    """The seconds that a command took, and those of all its processes on processors."""

    clock: float
    cpu: float


def _used() -> float:
    """Return the seconds on processors of all processes that this one has waited for."""
    return sum(resource.getrusage(resource.RUSAGE_CHILDREN)[:2])


def run_once(command: Sequence[str], folder: Path) -> Took:
    """Run a command to its end, its output to nowhere, and return how long it took."""
    environment = {**os.environ, "XDG_STATE_HOME": str(folder / "state"), "XDG_CONFIG_HOME": str(folder / "config")}
    began, used = time.perf_counter(), _used()
    program = subprocess.run(command, stdout=subprocess.DEVNULL, env=environment, cwd=folder, check=False)
    seconds, used = time.perf_counter() - began, _used() - used
    if program.returncode != 0:
        raise SystemExit(f"{command} ended with {program.returncode}")
    return Took(seconds, used)


def ratio(work: str, command: Sequence[str], shown: str, baseline: Sequence[str], goal: str, folder: Path, pairs: int) -> str:
    """Time two commands in turn, after one round that is not counted; the line of the report."""
    ratios, cpu = [], []
    for turn in range(pairs + 1):
        ours, theirs = run_once(command, folder), run_once(baseline, folder)
        if turn:
            ratios.append(ours.clock / theirs.clock)
            cpu.append(ours.cpu / theirs.cpu)
    line = f"| {work} | {shown} | {_spread(ratios)}, CPU {statistics.median(cpu):.2f} | {goal} |"
    print(line, flush=True)
    return line


def _spread(ratios: Sequence[float], digits: int = 2) -> str:
    """Return the median, and the least and most, as two cells of the report."""
    median, least, most = (f"{one:.{digits}f}" for one in (statistics.median(ratios), min(ratios), max(ratios)))
    return f"{median} | {least} to {most}"


def memory(words: Sequence[str], small: Sequence[str], files: int) -> float:
    """Return by how many bytes a file the peak memory of a command grows from a small tree to a large one."""
    return max(0.0, statistics.median(peak_bytes(words) - peak_bytes(small) for _ in range(3)) / files)


def rules_file(folder: Path, tree: Path, conditions: Sequence[str]) -> Path:
    """Write rules that match nothing in a tree."""
    rules = "".join(
        f'[[rule]]\nname = "r{n}"\nin = "{tree}"\nlevels = "all"\nwhere = \'{where}\'\nmove = "x"\n'
        for n, where in enumerate(conditions)
    )
    path = folder / f"{tree.name}-{len(conditions)}.toml"
    path.write_text(f"frugal = 1\n{rules}")
    return path


def twenty_rules() -> list[str]:
    """Return twenty conditions of two or three tests each, of the kinds that technicians write."""
    return [
        *(f'ext is {suffix} and name like "kiln * {suffix}" and size > 10 KB' for suffix in SUFFIXES),
        *(f"type is {group} and modified older than 90 years" for group in ("image", "document", "log", "archive")),
        'name has "invoice" and size > 1 KB',
        'name starts "scan" and ext in (tif, pdf)',
        'stem ends "copy" and modified within 1 day',
        "type in (video, audio) or size > 900 GB and hidden",
        "ext is none and size < 1 KB and depth > 1",
        'name matches "^INV-[0-9]+" and type is document',
    ]


def matching_microseconds(rules: Path, tree: Path) -> float:
    """Return what finding the deciding rule costs for each file, on top of reading the folders."""
    listings = [listing for listing, _ in walk(str(tree), 0, False, lambda *_: 0, lambda _: None)]
    files = sum(len(listing.names) for listing in listings)
    costs = []
    for _ in range(7):
        book = load_rules(rules)
        matcher = book.matcher(tuple(range(len(book.rules))), time.time_ns())
        depths = [1] * len(book.rules)
        began = time.perf_counter()
        for listing in listings:
            matcher.pick(listing, depths)
        costs.append(time.perf_counter() - began)
    return statistics.median(costs) / files * 1e6


def changes(folder: Path) -> list[str]:
    """Measure what changes files; the lines of the report."""
    goals = {"move": "2.0", "trash": "3.2", "delete": "1.9"}
    lines = []
    for ending, goal in goals.items():
        with fresh_volume(folder, ending) as volume:
            found = changed_by(volume, ending, CHANGED_FILES, CHANGED_PAIRS)
        against = "`find -type f -delete`" if ending == "delete" else "bare `os.rename` loop"
        work = f"{CHANGED_FILES:,} times {ending}, with journal, from first intent to last mark"
        lines.append(f"| {work} | {against} | {_spread(found.runs)} | {goal} |")
        if found.undo is not None:
            lines.append(f"| the undo of it | the run | {found.undo:.2f} | | 1.0 |")
        lines.append(f"| the same {ending} | its system calls alone, in a plain loop | {found.bare:.2f} | | none |")
        print("\n".join(lines[-3:]), flush=True)
    return lines


def duplicates(folder: Path) -> list[str]:
    """Measure the search for files with the same contents; the lines of the report."""
    found = searched_in(folder, SEARCHED_MEGABYTES, SEARCHED_PAIRS)
    work = f"`frugal duplicates --format csv`, {found.files:,} files of {found.bytes / 1e9:.1f} GB, a third of them twice"
    shell = "`find -print0 \\| xargs -0 -P2 sha256sum \\| sort \\| uniq -w64 -D`"
    lines = [
        f"| {work} | {shell} | {_spread(found.shells, 3)} | 0.08 |",
        f"| the same | `cat` of the files that have duplicates | {_spread(found.cats)} | 1.9 |",
        f"| bytes read by it | the bytes of these files | {found.read:.2f} | | 1.1 |",
        f"| bytes read by the search after it | bytes read by the first | {found.read_again:.3f} | | 0.1 |",
        f"| time of the search after it | time of the first | {found.again:.2f} | | none |",
        f"| its peak memory | a byte a file | {found.memory:.0f} | | 300 |",
    ]
    print("\n".join(lines), flush=True)
    return lines


def starting(folder: Path, nothing: Sequence[str]) -> list[str]:
    """Measure commands on the demo machine, which are mostly starting; the lines of the report."""
    desk = folder / "desk"
    subprocess.run([FRUGAL, "demo", str(desk)], check=True, capture_output=True)
    rules = str(desk / "rules.toml")
    return [
        ratio(f"`frugal {words[0]}` on the demo machine", [FRUGAL, *words], "`python3 -c pass`", nothing, goal, folder, 15)
        for words, goal in ((["preview", rules], "6"), (["history"], "5"), (["check", rules], "5"))
    ]


def measure(folder: Path) -> list[str]:
    """Measure everything and return the lines of the report."""
    tree, small = build_tree(folder / "tree", FILES), build_tree(folder / "small", 200)
    find = ["find", str(tree), "-type", "f", "-printf", "%s %T@ %p\\n"]
    nothing = [PYTHON, "-c", "pass"]
    walked = [PYTHON, "-c", WALK, str(tree)]
    by_status = ["type is video or size > 900 GB"]
    rules, rules_small = rules_file(folder, tree, by_status), rules_file(folder, small, by_status)
    many = rules_file(folder, tree, twenty_rules())
    shown = "`find -type f -printf '%s %T@ %p\\n'`"
    inventory = [FRUGAL, "inventory", str(tree)]
    counted = "`find -printf '%s %f\\n' \\| awk`, the same count"
    by_suffix = ["sh", "-c", f"find {tree} -type f -printf '%s %f\\n' | awk '{COUNT}'"]
    figures = [
        ratio("`frugal inventory --by ext`", [*inventory, "--by", "ext"], counted, by_suffix, "1.0", folder, 15),
        ratio("`frugal --version`", [FRUGAL, "--version"], "`python3 -c pass`", nothing, "1.6", folder, 41),
        ratio("`frugal --help`", [FRUGAL, "--help"], "`python3 -c pass`", nothing, "2.2", folder, 41),
        *starting(folder, nothing),
        ratio("walk with sizes and times, one process", walked, shown, find, "1.6", folder, 15),
        ratio("`frugal inventory`", inventory, shown, find, "none yet", folder, 9),
        ratio("`frugal preview`, 20 rules, nothing matches", [FRUGAL, "preview", str(many)], shown, find, "2.0", folder, 15),
        ratio("`frugal preview`, one rule on every size", [FRUGAL, "preview", str(rules)], shown, find, "2.0", folder, 15),
    ]  # fmt: skip
    grown = {
        "inventory": memory(inventory[1:], ["inventory", str(small)], FILES),
        "preview": memory(["preview", str(rules)], ["preview", str(rules_small)], FILES),
    }
    cost = matching_microseconds(many, tree)
    changed = [*showing(folder, FRUGAL), *changes(folder), *duplicates(folder)]
    lines = [*whole_commands(folder, FRUGAL), "", "Parts of them, by the clock, and commands that look:", ""]
    lines += ["| work | against | median ratio | least to most | goal |", "| --- | --- | --- | --- | --- |", *figures, *changed]
    for more in (
        running_steadily(folder, FRUGAL), growing(folder), counting(folder, FRUGAL),
        reading_cold(folder, FRUGAL, tree, small),
    ):  # fmt: skip
        lines += ["", *more]
    lines += ["", f"Matching 20 rules of two to three tests costs {cost:.2f} µs a file on top of the walk (goal 1)."]
    lines += [f"Peak memory of `frugal {name}` grows by {size:.0f} bytes a file." for name, size in grown.items()]
    return lines


def main() -> None:
    # As on an ordinary machine: compiled modules are kept, and output is buffered.
    for unusual in ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED"):
        os.environ.pop(unusual, None)
    with tempfile.TemporaryDirectory(prefix="frugal-bench-", dir="/var/tmp") as name:
        lines = measure(Path(name))
    options = str(sysconfig.get_config_var("CONFIG_ARGS"))
    # It matters by a fifth.
    built = ("with" if "--enable-optimizations" in options else "without") + " profile-guided optimisation"
    system = f"Linux {platform.release().split('-')[0]}, CPython {platform.python_version()} built {built}"
    machine = f"{os.cpu_count()} cores ({platform.machine()}), {system}"
    head = f"Measured on {date.today()}: {machine}; {FILES:,} files in {FILES // 100:,} folders, warm."
    path = ROOT / "docs/performance.md"
    text = path.read_text()
    before, after = text.split(BEGIN)[0], text.split(END)[1]
    path.write_text(f"{before}{BEGIN}\n{head}\n\n" + "\n".join(lines) + f"\n{END}{after}")
    print("\n".join([head, *lines]))
    if too_steep:
        raise SystemExit(f"grows faster than its entries: {', '.join(too_steep)}")


if __name__ == "__main__":
    main()
