"""One guard for every way in: what must not be taken away is refused by rules, jobs in one line and saved plans alike."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Frugal
from tests.support import book_of, plan_of, put, rules_text, snapshot

REFUSED = {
    "home": 'in = "~"\nlevels = "all"', "home, hidden": 'in = "~"\nhidden = true', "home, folders": 'in = "~"\ntake = "folders"',
    "home, two levels": 'in = "~"\nlevels = 2', "settings": 'in = "~/.config"', "settings below": 'in = "~/.local/share"\nlevels = "all"',
    "keys": 'in = "~/.ssh"', "around homes": 'in = "PARENT"\nlevels = "all"', "system": 'in = "/etc"', "root": 'in = "/"', "programs": 'in = "/usr/share"',
}  # fmt: skip
ALLOWED = {
    "first level of a home": 'in = "~"', "one folder in it": 'in = "~/Downloads"\nlevels = "all"\nhidden = true',
    "what one program left": 'in = "~/.config/kilnviewer"\nlevels = "all"\nhidden = true', "a cache": 'in = "~/.cache"\nlevels = "all"\nhidden = true',
}  # fmt: skip
ENDINGS = ["delete = true", "trash = true", 'duplicates = {do = "delete"}']


@pytest.fixture
def lived_in(own_home: Path) -> Path:
    for name in (
        "letter.txt",
        ".bashrc",
        "Downloads/old.zip",
        ".config/kilnviewer/settings",
        ".config/x",
        ".ssh/id",
        ".cache/a/b",
        ".local/share/app/db",
    ):
        put(own_home / name)
    return own_home


# Only files are duplicates.
@pytest.mark.parametrize(
    ("place", "ending"),
    [(place, ending) for place in REFUSED for ending in ENDINGS if not ("duplicates" in ending and "folders" in place)],
)
def test_a_rule_is_refused_by_check_preview_and_tidy_in_the_same_words(
    folder: Path, frugal: Frugal, lived_in: Path, place: str, ending: str
) -> None:
    where = REFUSED[place].replace("PARENT", str(lived_in.parent))
    put(folder / "rules.toml", rules_text(f'{where}\nwhere = "everything"\n{ending}'))
    before = snapshot(lived_in)
    said = [frugal("check", "rules.toml", code=3).stdout]
    for words in (["preview", "rules.toml"], ["tidy", "rules.toml", "--yes"]):
        said.append(frugal(*words, code=3).stdout)
    after = {path: seen for path, seen in snapshot(lived_in).items() if b".local/state" not in path}
    assert all(after.get(path, seen)._replace(mtime_ns=0) == seen._replace(mtime_ns=0) for path, seen in before.items())
    (why,) = {line.split(", so frugal ")[1] for text in said for line in text.splitlines() if ", so frugal " in line}
    assert why


@pytest.mark.parametrize("place", ALLOWED)
def test_what_is_a_folder_in_a_home_is_not_refused(folder: Path, lived_in: Path, place: str) -> None:
    plan = plan_of(book_of(folder, f'{ALLOWED[place]}\nwhere = "everything"\ntrash = true'))
    assert plan.asked and not plan.refused
    assert not [step for step in plan.asked if "/.bashrc" in step.place.path or "/.ssh" in step.place.path]


@pytest.mark.parametrize("words", [
    ["purge", "~", "--older-than", "1 day"], ["purge", "~/.config", "--older-than", "1 day", "--permanent"],
    ["duplicates", "~", "--do", "trash"], ["duplicates", "~", "--do", "delete"], ["purge", "/etc", "--older-than", "1 day"],
])  # fmt: skip
def test_a_job_in_one_line_is_refused_alike(frugal: Frugal, lived_in: Path, words: list[str]) -> None:
    said = frugal(*(word.replace("~", str(lived_in)) for word in words), "--yes", code=3).stderr
    assert ", so frugal removes" in said and (lived_in / ".config/x").exists()


@pytest.mark.parametrize("name", [".bashrc", ".config/x", ".ssh/id"])
def test_a_saved_plan_is_refused_alike(folder: Path, frugal: Frugal, lived_in: Path, name: str) -> None:
    put(folder / "rules.toml", rules_text('in = "~/Downloads"\nwhere = "everything"\ndelete = true'))
    frugal("preview", "rules.toml", "--save", "later.plan")
    path = folder / "later.plan"
    path.write_text(path.read_text().replace(json.dumps(str(lived_in / "Downloads/old.zip")), json.dumps(str(lived_in / name))))
    said = frugal("tidy", "--plan", "later.plan", "--yes", code=3).stdout
    assert ", so frugal removes" in said and (lived_in / name).exists()


# Trees under version control

VERSION_CONTROL = [".git", ".hg", ".svn", "CVS"]


@pytest.mark.parametrize("own", VERSION_CONTROL)
@pytest.mark.parametrize("inside", ["", "src"])
def test_the_own_folder_of_a_version_control_is_never_taken_and_it_is_said_that_files_are(
    folder: Path, frugal: Frugal, own: str, inside: str
) -> None:
    repository = folder / "proj"
    for name in (f"{own}/HEAD", f"{own}/objects/aa/bb", "src/kiln.py", "src/old.py", "notes.txt"):
        put(repository / name)
    rules = f'in = "{repository / inside}"\nwhere = "everything"\nlevels = "all"\nhidden = true\ntake = "TAKE"\ntrash = true'
    for take in ("files", "folders", "items"):
        text = rules.replace("TAKE", take)
        plan = plan_of(book_of(folder, text.replace('levels = "all"\n', "") if take == "items" else text))
        taken = [step.place.path for step in plan.asked]
        assert (taken or take == "folders") and not [path for path in taken if f"/{own}" in path]
        assert any("version control" in note.text or "version-controlled" in note.text for note in plan.notes)
    put(folder / "rules.toml", rules_text(rules.replace("TAKE", "files")))
    assert "version-controlled" in frugal("check", "rules.toml").stdout
    assert "version-controlled" in frugal("preview", "rules.toml").stdout
    frugal("purge", repository / inside, "--older-than", "1 day", "--by", "modified", "--levels", "all", "--hidden", "--yes")
    assert (repository / own / "HEAD").exists() and not (repository / "src/kiln.py").exists()


def test_a_rule_inside_the_own_folder_of_a_version_control_is_refused(folder: Path, frugal: Frugal) -> None:
    put(folder / "proj/.git/objects/aa/bb")
    put(folder / "rules.toml", rules_text('in = "proj/.git/objects"\nwhere = "everything"\nlevels = "all"\ndelete = true'))
    assert "version control" in frugal("tidy", "rules.toml", "--yes", code=3).stdout
    assert (folder / "proj/.git/objects/aa/bb").exists()
