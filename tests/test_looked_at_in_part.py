"""`suggest`, `leftovers` and `report` on folders that are empty, that cannot be read in part, or whose names are of all scripts."""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Frugal
from tests.support import put, rules_text

# Names as people write them, in scripts that run both ways, with signs that mean something to shells, TOML and templates.
LANGUAGES = ["Glasur {}.txt", "Émail bleu {}.txt", "глина {}.txt", "釉薬 {}.txt", "طين {}.txt", "חימר {}.txt", "ดินเหนียว {}.txt", "점토 {}.txt",
             "πηλός {}.txt", "çömlek {}.txt", "मिट्टी {}.txt", "clay \"best\" {}.txt", "{{half}} off {}.txt", "100% $HOME {}.txt", "🏺 vase {}.txt",
             "back\\slash {}.txt"]  # fmt: skip


@pytest.fixture
def desk(folder: Path, own_home: Path) -> Iterator[Path]:
    """A desk that is open to any account, so that only what is shut on purpose is."""
    for number in range(12):
        put(folder / f"Intake/Invoice {5200 + number} Harbour Clay.pdf")
        put(folder / f"Archive/Invoices/Invoice {5100 + number} Quay Packaging.pdf")
        put(folder / f"Archive/Kiln/kiln log {number}.csv")
    put(folder / "Archive/Shut/a.pdf")
    put(own_home / ".config/glaze-calculator/settings")
    put(own_home / ".cache/glaze-calculator/a")
    shut = [folder / "Archive/Shut", own_home / ".cache"]
    for path in shut:
        path.chmod(0)
    yield folder
    for path in shut:
        path.chmod(stat.S_IRWXU)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["suggest", "Intake", "--like", "Archive"], "# Not read: {folder}/Archive/Shut (no permission)."),
        (["suggest", "Intake", "--like", "Archive", "--format", "html"], "Not read: {folder}/Archive/Shut (no permission)."),
        (["suggest", "Archive", "--since", "1d"], "Not read: {folder}/Archive/Shut (no permission)."),
        (["leftovers", "glaze-calculator"], "Not read: {home}/.cache (no permission)"),
        (["leftovers", "nothing-like-it"], "No leftovers of nothing-like-it found"),
        (["leftovers"], "Not read: {home}/.cache (no permission)"),
        (["leftovers", "glaze-calculator", "--format", "json"], '"path": "{home}/.cache"'),
    ],
)  # fmt: skip
def test_what_could_not_be_read_is_named(desk: Path, own_home: Path, frugal: Frugal, words: list[str], told: str) -> None:
    said = frugal(*words, code=1, without_rights=True).stdout
    assert told.format(folder=desk, home=own_home) in said


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["suggest", "Empty"], "No rules to suggest for {folder}/Empty: checked 0 files, but"),
        (["suggest", "Empty", "--like", "Empty"], "Cannot learn rules from {folder}/Empty:"),
        (["suggest", "Empty", "--since", "1d"], "Cannot learn rules: according to saved"),
        (["leftovers", "glaze-calculator"], "No leftovers of glaze-calculator found."),
        (["report"], "No files were moved or removed in this period."),
    ],
)
def test_where_there_is_nothing_it_says_so(folder: Path, frugal: Frugal, words: list[str], told: str) -> None:
    (folder / "Empty").mkdir()
    assert told.format(folder=folder) in frugal(*words).stdout


@pytest.mark.parametrize("name", LANGUAGES)
def test_names_of_any_script_are_proposed_learnt_moved_and_reported(folder: Path, frugal: Frugal, name: str) -> None:
    for number in range(10, 22):
        put(folder / "Intake" / name.format(number))
        put(folder / "Sorted/Here" / name.format(100 + number))
        put(folder / f"Sorted/There/plate {number}.stl")
    for out, more in (("a.toml", []), ("b.toml", ["--like", "Sorted"])):
        frugal("suggest", "Intake", "--to", out, *more)
        assert "warning:" not in frugal("check", out).stdout
        frugal("tidy", out, "--yes")
        assert not [one for one in os.scandir(folder / "Intake") if one.is_file()]
        assert "12 files moved" in frugal("report").stdout.replace("\n", " ")
        frugal("undo", "--yes")
        assert len(list((folder / "Intake").glob("*.txt"))) == 12


@pytest.mark.parametrize("name", ["{photos} of {now}", "a}b{c", "{home}"])
@pytest.mark.parametrize("way", [[], ["--like"], ["--since"]])
def test_folders_are_named_whatever_braces_they_have(folder: Path, frugal: Frugal, name: str, way: list[str]) -> None:
    desk, sorted_tree = folder / name, folder / name / "Sorted"
    for number in range(10, 22):
        put(desk / f"Intake/Invoice {number}.pdf")
        put(sorted_tree / f"{name}/Invoice {100 + number}.pdf")
        put(sorted_tree / f"Plates/plate {number}.stl")
    if way == ["--since"]:
        frugal("inventory", desk, "--save", "before")
        for number in range(10, 20):
            os.rename(desk / f"Intake/Invoice {number}.pdf", sorted_tree / f"{name}/Invoice {number}.pdf")
    where = [desk, "--since", "1d"] if way == ["--since"] else [desk / "Intake", *([*way, sorted_tree] if way else [])]
    frugal("suggest", *where, "--to", "rules.toml")
    before = sorted(sorted_tree.rglob("*.pdf"))
    frugal("tidy", "rules.toml", "--yes")
    assert not list((desk / "Intake").glob("*.pdf"))
    assert way == [] or len(sorted((sorted_tree / name).glob("*.pdf"))) == 24 > len(before)


def test_a_folder_that_would_be_read_as_another_is_no_rule(folder: Path, frugal: Frugal) -> None:
    """`$HOME` stands for something in a rule file, and cannot be written otherwise."""
    for number in range(9):
        put(folder / f"a $HOME b/Invoice {number}.pdf")
    for words in (["suggest", "a $HOME b"], ["sort", "a $HOME b", "--into", "{type}", "--as-rule"]):
        assert "a rule file" in frugal(*words, code=2).stderr


@pytest.mark.parametrize("name", ["vase {}", "釉薬{}", "طين{}"])
def test_a_program_may_have_a_name_of_any_script(own_home: Path, frugal: Frugal, name: str) -> None:
    put(own_home / ".config" / name.format("").strip() / "a")
    found = json.loads(frugal("leftovers", name.format("").strip() + "x", "--format", "json").stdout)
    assert found["entries"] == []
    put(own_home / ".config" / name.format("view") / "a")
    found = json.loads(frugal("leftovers", name.format("view"), "--format", "json").stdout)
    assert [one["sure"] for one in found["entries"]] == [True]


def test_lines_of_the_crontab_are_named_and_stay(folder: Path, own_home: Path, frugal: Frugal) -> None:
    table = "# glaze-calculator is started below\n0 3 * * 1 /opt/bin/glaze-calculator --nightly\n5 * * * * my-glaze-calculator-backup\n"
    put(folder / "bin/crontab", f"#!/bin/sh\ncat <<'END'\n{table}END\n").chmod(0o755)
    path = f"{folder}/bin:{os.environ['PATH']}"
    said = frugal("leftovers", "glaze-calculator", PATH=path).stdout
    assert (
        "Line 2 of your crontab mentions it; frugal does not change it (edit with" in said
        and "Line 1" not in said
        and "Line 3" not in said
    )
    lines = json.loads(frugal("leftovers", "glaze-calculator", "--format", "json", PATH=path).stdout)["crontab_lines"]
    assert [line["line"] for line in lines] == [2]
    put(folder / "bin/crontab", "#!/bin/sh\necho not allowed >&2; exit 1\n").chmod(0o755)
    assert "Not read: the crontab" in frugal("leftovers", "glaze-calculator", PATH=path, code=1).stdout


def test_sums_say_how_deep_they_go(folder: Path, frugal: Frugal) -> None:
    """Files that go into a subfolder must not look lost."""
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    for words in (["report"], ["history", "1"], ["compare", "before-run-1", "after-run-1"]):
        assert "(including hidden files, without subfolders)" in frugal(*words).stdout.replace("\n", " ")
