"""Every count that is printed, held against `find`: files, folders, and the files inside those folders."""

from __future__ import annotations

import json
import os
import re
import socket
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import AS_ROOT, Frugal, Mount
from tests.support import put, rules_text

DAY = 86_400


@pytest.fixture
def intake(folder: Path) -> Path:
    """Old and young files and folders, hidden ones and links among them."""
    root = folder / "Intake"
    for name, days in (
        ("a.log", 90), ("b.log", 90), ("c.csv", 1), ("d.csv", 1), (".e.log", 90), ("old/f.log", 90), ("old/sub/g.csv", 90),
        ("old/.h", 90), ("young/i.log", 1), ("young/j.log", 90), (".cache/k", 90), ("none/sub/l.log", 1),
    ):  # fmt: skip
        path = put(root / name, "glaze")
        os.utime(path, (time.time() - days * DAY,) * 2)
    (root / "link").symlink_to("a.log")
    (root / "empty").mkdir()
    return root


def find(root: Path, *tests: str) -> int:
    out = subprocess.run(["find", root, "-mindepth", "1", *tests, "-printf", "x"], capture_output=True, text=True, check=True)
    return len(out.stdout)


def counted(text: str) -> tuple[int, int, int]:
    """Read a count as it is printed: files, folders, files inside."""
    files = re.search(r"(\d+) (?:other )?files?\b(?! inside)", re.sub(r"folders? with \d+ files?", "folder", text))
    folders = re.search(r"(\d+) (?:other )?folders?", text)
    inside = re.search(r"folders? with (\d+) file", text)
    return tuple(int(found[1]) if found else 0 for found in (files, folders, inside))  # type: ignore[return-value]


def shallow(root: Path, hidden: bool, *tests: str) -> tuple[int, int]:
    visible = () if hidden else ("!", "-name", ".*")
    return (
        find(root, "-maxdepth", "1", "-type", "f", *visible, *tests),
        find(root, "-maxdepth", "1", "-type", "d", *visible, *tests),
    )


@pytest.mark.parametrize("hidden", [False, True])
@pytest.mark.parametrize("take", ["files", "folders", "items"])
def test_a_purge_counts_what_goes_what_stays_and_what_is_inside(take: str, hidden: bool, intake: Path, frugal: Frugal) -> None:
    words = ["purge", "Intake", "--older-than", "30d", "--by", "modified", "--take", take, *(["--hidden"] if hidden else [])]
    files, folders = shallow(intake, hidden)
    inside = sum(find(path, "-type", "f") for path in intake.iterdir() if path.is_dir() and (hidden or path.name[0] != "."))
    before = find(intake, "-type", "f")
    said = frugal(*words, code=3).stdout
    going = counted(re.search(r"^(.*), to the trash$", said, re.MULTILINE)[1])  # type: ignore[index]
    asked = frugal(*words, "--yes").stdout
    done = counted(re.search(r"^(.*) moved to the trash\.", asked, re.MULTILINE)[1])  # type: ignore[index]
    assert done == going
    stays = re.search(r"([^\n]*) (?:is|are) newer or do", said)
    left = counted(stays[1]) if stays else (0, 0, 0)
    wanted_files = files if take != "folders" else 0
    wanted_folders = folders if take != "files" else 0
    assert (going[0] + left[0], going[1] + left[1]) == (wanted_files, wanted_folders)
    assert going[2] + left[2] == (inside if take != "files" else 0)
    assert find(intake, "-type", "f") == before - going[0] - going[2]
    totals = re.search(r"held (\d+) files? of .* before and (\d+) files?", frugal("history", "1").stdout)
    assert totals is not None
    if take != "files":
        assert (int(totals[1]), int(totals[2])) == (before, before - going[0] - going[2])


@pytest.mark.parametrize("take", ["files", "folders", "items"])
@pytest.mark.parametrize("ending", ['move = "../Out"', "trash = true", "delete = true", "leave = true"])
def test_a_preview_and_its_tidy_count_every_entry_once(take: str, ending: str, intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text(f'where = "modified older than 30 days"\ntake = "{take}"\n{ending}'))
    files, folders = shallow(intake, False)
    told = json.loads(frugal("preview", "rules.toml", "--format", "json").stdout)["totals"]
    seen = told["looked_at"]
    assert (seen["files"], seen["folders"]) == (files if take != "folders" else 0, folders if take != "files" else 0)
    kept = told["kept"] if ending == "leave = true" else told["entries"]
    old = {"files": (2, 0), "folders": (0, 1), "items": (2, 1)}[take]
    assert (kept["files"], kept["folders"]) == old
    assert kept["inside"] == (find(intake / "old", "-type", "f") if old[1] else 0)
    said = frugal("tidy", "rules.toml", "--yes").stdout
    if ending != "leave = true":
        verb = {"m": " moved", "t": " moved to the trash", "d": " permanently deleted"}[ending[0]]
        assert counted(re.search(rf"^(\d.*){verb}", said, re.MULTILINE)[1]) == (*old, kept["inside"])  # type: ignore[index]


def test_a_listing_is_in_the_order_of_names_as_people_sort_them(folder: Path, frugal: Frugal) -> None:
    for name in ("a10.log", "a9.log", "B1.log", "sub 10/x", "Sub 9/x", "Sub 9/inner/y", "a9/x"):
        put(folder / "Intake" / name)
    lines = frugal("inventory", "Intake", "--listing").stdout.split("\n\n")[0].splitlines()
    assert [line[29:] for line in lines] == [
        "a9/", "a9.log", "a10.log", "B1.log", "Sub 9/", "sub 10/", "a9/x", "Sub 9/inner/", "Sub 9/x", "Sub 9/inner/y", "sub 10/x",
    ]  # fmt: skip


def test_what_a_rule_has_no_more_to_do_with_needs_no_change(folder: Path, frugal: Frugal) -> None:
    for name in ("a.csv", "b.csv", "c.log", "d.txt"):
        put(folder / "Intake" / name, name)
    rules = put(folder / "rules.toml", rules_text(
        'where = "ext is log"\nrun = ["true", "{path}"]', 'where = "ext is csv"\nduplicates = {keep = "oldest", do = "trash"}'
    ))  # fmt: skip
    frugal("tidy", rules, "--yes")
    said = frugal("tidy", rules, "--yes").stdout
    assert "3 files need no change" in said and "1 file matches no rule" in said


def test_no_count_is_ever_negative_and_a_question_adds_up(intake: Path, frugal: Frugal) -> None:
    for words in (
        ["sort", "Intake", "--into", "{ext}"], ["sort", "Intake", "--into", "{ext}", "--levels", "all"],
        ["purge", "Intake", "--older-than", "1h", "--take", "items", "--hidden", "--by", "modified"],
    ):  # fmt: skip
        said = frugal(*words, code=3).stdout
        assert "-" not in re.findall(r"(-?)\d+ other", said) and "checked 0 files" not in said


@pytest.mark.parametrize("hidden", [False, True])
def test_a_listing_names_every_entry_and_adds_up(hidden: bool, intake: Path, frugal: Frugal) -> None:
    words = ["inventory", "Intake", "--listing", *(["--hidden"] if hidden else [])]
    visible = () if hidden else ("!", "-path", "*/.*")
    wanted = {kind: find(intake, "-type", letter, *visible) for kind, letter in (("file", "f"), ("folder", "d"), ("link", "l"))}
    rows = json.loads(frugal(*words, "--format", "json").stdout)["entries"]
    assert {kind: sum(row["kind"] == kind for row in rows) for kind in wanted} == wanted
    lines = frugal(*words).stdout.splitlines()
    if not hidden:
        left_out = find(intake, "-name", ".*", "!", "-path", "*/.*/*")
        assert lines.pop() == f"Not listed: {left_out} hidden entries (add --hidden to include them)."
    assert lines[-1] == (
        f"{wanted['file']} files, {sum(row['bytes'] for row in rows if row['kind'] == 'file')} B; "
        f"{wanted['folder']} folders, 1 symbolic link."
    )
    assert len(lines) - 2 == sum(wanted.values()) == len(frugal(*words, "--format", "csv").stdout.splitlines()) - 1


def test_hidden_files_and_folders_are_told_apart(intake: Path, frugal: Frugal) -> None:
    said = frugal("inventory", "Intake").stdout
    assert "Not counted: 2 hidden files and 1 hidden folder and everything in them" in said
    told = json.loads(frugal("inventory", "Intake", "--format", "json").stdout)
    assert told["hidden_not_counted"] == {"files": 2, "folders": 1}


@pytest.mark.parametrize(("order", "wanted"), [("name", ["csv", "log"]), ("size", ["log", "csv"]), ("modified", ["csv", "log"])])
def test_rows_are_sorted_as_asked(order: str, wanted: list[str], folder: Path, frugal: Frugal) -> None:
    for name, size, days in (("a.csv", 10, 1), ("b.log", 500, 90)):
        os.utime(put(folder / "Intake" / name, b"x" * size), (time.time() - days * DAY,) * 2)
    rows = json.loads(frugal("inventory", "Intake", "--by", "ext", "--sort", order, "--format", "json").stdout)["rows"]
    assert [row["ext"] for row in rows] == wanted


def test_what_a_person_leaves_out_is_no_file_that_no_rule_asks_for(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "ext is log"\nmove = "x"'))
    assert "not a number in the list" in frugal("preview", "rules.toml", "--without", "9", code=2).stderr
    steps = json.loads(frugal("preview", "rules.toml", "--format", "json").stdout)["steps"]
    number = next(step["number"] for step in steps if step["verb"] == "move")
    said = frugal("preview", "rules.toml", "--without", str(number)).stdout
    assert "1 file: left out by --without" in said and "2 files match no rule" in said


def test_a_trash_counts_folders_as_folders(intake: Path, frugal: Frugal) -> None:
    frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--take", "items", "--yes")
    said = frugal("trash", "--where", "name is old", code=3).stdout
    assert "1 folder with 3 files, 15 B, deleted permanently" in said
    assert (
        "1 folder with 3 files permanently deleted from the trash." in frugal("trash", "--where", "name is old", "--yes").stdout
    )


def test_hints_name_the_right_run(intake: Path, frugal: Frugal) -> None:
    put(intake.parent / "rules.toml", rules_text('where = "ext is log"\nmove = "../Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    assert "Redo: frugal undo 2" in frugal("undo", "--yes").stdout
    assert "Run 1 has been redone. Undo: frugal undo 1" in frugal("undo", "2", "--yes").stdout
    assert "Redo: frugal undo 4" in frugal("undo", "1", "--yes").stdout
    frugal("purge", "Intake", "--older-than", "30d", "--by", "modified", "--permanent", "--yes")
    assert "frugal undo 5" not in frugal("history").stdout
    skipped = frugal("undo", "5", code=1).stdout
    assert "Nothing to undo in run 5" in skipped and "cannot be undone." not in skipped


@AS_ROOT
@pytest.mark.parametrize("ending", ["trash = true", 'move = "Out"', 'move = "OTHER"', 'copy = "Copies"', 'pack = "P/all.zip"'])
def test_what_is_taken_back_is_counted_as_it_was_when_it_was_done(
    folder: Path, frugal: Frugal, mount: Mount, ending: str
) -> None:
    other = mount("tmpfs")
    for name in ("a", "b", "in/c", "in/deep/d"):
        put(folder / "Intake/moulds" / name, "x" * 100)
    rule = f'where = "name is moulds"\ntake = "folders"\n{ending.replace("OTHER", str(other / "Out"))}'
    put(folder / "rules.toml", rules_text(rule))
    done = frugal("tidy", "rules.toml", "--yes").stdout
    back = frugal("undo", "--yes").stdout
    again = frugal("undo", "2", "--yes").stdout
    inside = "1 folder with 4 files"
    assert inside in done or "pack" in ending
    assert (inside in back and inside in again) or "pack" in ending, back + again
    if "copy" not in ending and "pack" not in ending:
        assert all("400 B" in said for said in (done, back, again))


@pytest.mark.parametrize("job", ["purge", "tidy"])
def test_an_empty_folder_holds_no_file(folder: Path, frugal: Frugal, job: str) -> None:
    for name in "abc":
        (folder / "Intake" / name).mkdir(parents=True)
        os.utime(folder / "Intake" / name, (1, 1))
    put(folder / "rules.toml", rules_text('take = "folders"\nwhere = "everything"\ntrash = true'))
    words = {
        "purge": ("purge", "Intake", "--older-than", "30d", "--by", "modified", "--take", "items"),
        "tidy": ("tidy", "rules.toml"),
    }[job]
    said = frugal(*words, "--yes").stdout + frugal("history", "1").stdout + frugal("undo", "--yes").stdout
    assert "3 folders" in said and not re.search(r"[1-9]\d* files?\b", said), said


# Every kind of entry: names below the folder, each with its bytes; `=` is a further name of another file.
KINDS_OF = {
    "a.txt": b"a" * 11, "b.txt": b"b" * 12, "c.log": b"c" * 20, "d.log": b"d" * 21, "e.tmp": b"e" * 30, "f.bak": b"f" * 40,
    "g.jpg": b"g" * 55, "h.jpg": b"g" * 55, "empty1.md": b"", "empty2.dat": b"", ".hidden.txt": b"h" * 7,
    "sub/i.jpg": b"g" * 55, "sub/j.md": b"j" * 9, "sub/.k": b"k" * 5, "moulds/x.dat": b"x" * 61, "moulds/y.dat": b"y" * 62,
}  # fmt: skip
BOOK = (
    'name = "texts"\nwhere = \'ext is txt\'\ntag = "x"\ncopy = "C"\nmove = "T"',
    'name = "logs"\nwhere = \'ext is log\'\npack = "logs.zip"',
    "name = \"scratch\"\nwhere = 'ext is tmp'\ntrash = true",
    "name = \"backups\"\nwhere = 'ext is bak'\ndelete = true",
    'name = "moulds"\ntake = "folders"\nwhere = \'name is moulds\'\ntag = "y"\nmove = "P"',
)
_AMOUNT = re.compile(r"(?<![\w:./-])(\d[\d,]*) (?:other |more |extra |empty |hidden |new )?([a-z]+|B)\b")


def amounts(text: str) -> set[tuple[int, str]]:
    """Return every number that a text prints with what it is a number of, in the singular."""
    return {(int(number.replace(",", "")), what.removesuffix("s")) for number, what in _AMOUNT.findall(text)}


class Disk:
    """What `find` says of a folder."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def count(self, *tests: str) -> int:
        return find(self.root, *tests)

    def size(self, *tests: str, of: str = "%s") -> int:
        """Return the bytes, or the blocks, of all files, each counted once whatever its names."""
        asked = ["find", str(self.root), "-type", "f", *tests, "-printf", f"%i {of}\n"]
        lines = subprocess.run(asked, capture_output=True, text=True, check=True).stdout.splitlines()
        return sum(int(line.split()[1]) for line in set(lines))


def test_every_number_that_is_printed_is_what_find_says(folder: Path, frugal: Frugal) -> None:
    root = folder / "Intake"
    for name, content in KINDS_OF.items():
        put(root / name, content)
    os.link(root / "a.txt", root / "a2.txt")
    (root / "link").symlink_to("a.txt")
    (root / "empty").mkdir()
    os.mkfifo(root / "pipe")
    with socket.socket(socket.AF_UNIX) as here:
        os.chdir(root)
        here.bind("socket")
        os.chdir(folder)
    book = "frugal = 1\n" + "".join(f'[[rule]]\nin = "Intake"\n{rule}\n' for rule in BOOK)
    put(folder / "rules.toml", book).chmod(0o600)
    disk, seen = Disk(root), ("!", "-path", "*/.*")
    files, bytes_, special = (disk.count("-type", "f", *seen), disk.size(*seen), disk.count("-type", "p,s"))

    # A file with two names is one file for an inventory, and two entries for whatever acts on names.
    said = amounts(frugal("inventory", "Intake").stdout)
    hidden = disk.count("-type", "f") - files
    assert said >= {(disk.count("-type", "d"), "subfolder"), (1, "symbolic"), (special, "pipe"), (1, "hard"), (hidden, "file")}
    table = json.loads(frugal("inventory", "Intake", "--format", "json").stdout)
    assert (table["files"], table["bytes"]) == (files - 1, bytes_) and table["others"] == special
    assert table["disk_bytes"] == 512 * disk.size(*seen, of="%b")
    listing = frugal("inventory", "Intake", "--listing").stdout
    assert len(listing.split("\n\n")[0].splitlines()) == disk.count(*seen)
    every_name = disk.size(*seen) + 11  # both names of a.txt
    assert amounts(listing.split("\n\n")[1]) == {
        (files, "file"), (every_name, "B"), (disk.count("-type", "d"), "folder"), (1, "symbolic"), (special, "pipe"),
        (hidden, "entrie"),
    }  # fmt: skip

    # What is told before is what is told after, and what the disk shows.
    top = disk.count("-maxdepth", "1", "-type", "f", *seen)
    texts, logs, moulds = 11 + 11 + 12, 20 + 21, 61 + 62
    everything = {
        (3, "file"), (texts, "B"), (1, "folder"), (2, "file"), (texts + moulds, "B"), (1, "zip"), (logs + 30, "B"), (1, "file"),
        (40, "B"),
    }  # fmt: skip
    preview = frugal("preview", "rules.toml").stdout
    assert amounts(next(line for line in preview.splitlines() if line.startswith("This would"))) == {*everything, (3, "folder")}
    others = f"1 symbolic link, {special} pipes, sockets or devices: never touched"
    rest = f"  {top - 7} files and 2 folders with 3 files match no rule; {others}\n"
    assert rest in preview
    done = frugal("tidy", "rules.toml", "--yes").stdout
    summary = next(line for line in done.splitlines() if line.startswith("3 files and 1 folder"))
    assert amounts(summary) == {(3, "file"), (1, "folder"), (2, "file"), (1, "file"), (1, "zip")} and rest in done
    assert "Freed 40 B" in done and f"{logs + 30} B moved to the trash" in done
    assert [find(root / name, "-type", "f") for name in ("T", "C", "P/moulds")] == [3, 3, 2]
    assert disk.count("-maxdepth", "1", "-type", "f", *seen) == top - 7 + 1

    def check(taken: int, size: int, per_rule: dict[str, int], freed: int, at: int = 1) -> None:
        """Compare every command that counts what was done with one account of it."""
        history = json.loads(frugal("history", "--format", "json").stdout)
        (run,) = (one for one in history["runs"] if one["id"] == at)
        (visit,) = (one for one in history["visits"] if at in one["runs"])
        assert run["done"] == visit["amount"]["files"] + visit["amount"]["folders"] == taken
        assert (visit["amount"]["bytes"], visit["freed"]) == (size, freed)
        rules = json.loads(frugal("rules", "rules.toml", "--format", "json").stdout)["rules"]
        assert {one["name"]: one["done"] for one in rules} == per_rule
        report = json.loads(frugal("report", "--format", "json").stdout)
        by_rule = {
            one["rule"]: max(count["files"] + count["folders"] for count in one["done"].values()) for one in report["rules"]
        }
        assert by_rule == {name: count for name, count in per_rule.items() if count}
        assert report["freed"] == 40 and {one["path"]: one["there"] for one in report["folders"]} == {
            str(path): len(list(path.iterdir())) for path in (root / "T", root / "C", root / "P") if path.is_dir() and any(path.iterdir())
        } | ({str(root): 1} if (root / "logs.zip").exists() else {})  # fmt: skip

    whole = {"texts": 3, "logs": 2, "scratch": 1, "backups": 1, "moulds": 1}
    check(8, texts + moulds + logs + 30 + 40, whole, 40)
    lying = amounts(frugal("trash").stdout.splitlines()[4])
    assert lying == {(logs + 30, "B"), (3, "file")}

    # A part is taken back, then the rest.
    frugal("undo", "1", "--only", "Intake/T/a.txt", "Intake/P/moulds", "--yes")
    check(2, 11 + moulds, {**whole, "texts": 2, "moulds": 0}, 0, at=2)
    assert "5 of 14 undone" in frugal("history").stdout
    frugal("undo", "1", "--yes", code=1)
    check(5, 11 + 12 + logs + 30, {**whole, "texts": 0, "logs": 0, "scratch": 0, "moulds": 0}, 0, at=3)
    assert disk.count("-type", "f", *seen) == files - 1 and not (root / "f.bak").exists()

    # What could go, what is refused and what goes are the same numbers.
    found = frugal("duplicates", "Intake", "--levels", "all").stdout
    assert (
        amounts(found) >= {(2, "file"), (110, "B"), (1, "group"), (2, "file"), (1, "hard")} and "Skipped 2 empty files" in found
    )
    refused = frugal("purge", "Intake", "--older-than", "0d", "--at-most", "1", code=3).stdout
    going = disk.count("-maxdepth", "1", "-type", "f", *seen)
    assert f"{going} files: refused" in refused and "younger" not in refused
    freed = disk.size("-maxdepth", "1", *seen) + 11
    purged = frugal("purge", "Intake", "--older-than", "0d", "--permanent", "--yes").stdout
    assert f"{going} files permanently deleted" in purged and f"Freed {freed} B" in purged
    assert not disk.count("-maxdepth", "1", "-type", "f", *seen)
