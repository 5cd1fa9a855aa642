"""`frugal leftovers`: on a made-up home with twelve programs, and with Debian packages that are really removed."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.app.leftovers import likeness
from tests.conftest import AS_ROOT, Frugal
from tests.support import put, snapshot

# What each of twelve made-up programs has left below the home, and what is only named a little like it.
PROGRAMS: dict[str, tuple[list[str], list[str]]] = {
    "glaze-calculator": (
        [".config/glaze-calculator/settings.json", ".cache/glaze-calculator/big.bin", ".local/share/glaze-calculator/recipes.db",
         ".config/autostart/glaze-calculator.desktop", ".local/state/glaze-calculator/last.log"],
        [".config/glaze-calculator-themes/dark.css", ".local/share/my glaze calculator notes.txt"],
    ),
    "kilnview": ([".kilnviewrc", ".config/Kilnview/window.ini", ".config/systemd/user/kilnview.service"], [".config/kilnview classic/x.ini"]),
    "MouldStudio": ([".config/Tidewater/MouldStudio/prefs.xml", ".local/share/org.tidewater.MouldStudio/models.db"], []),
    "shelf_labels": ([".var/app/org.tidewater.shelf-labels/config/a.ini", ".shelf-labels/labels.csv"], []),
    "claypot": ([".claypot/pots.txt", ".cache/claypot2/x"], [".config/old claypot/x"]),
    "tea": ([".config/tea/a"], []), "photosync": ([".local/share/applications/holiday.desktop"], []),
    "bookingdesk": ([".config/bookingdesk.conf"], []), "scanhelper": ([".cache/scan-helper/a"], []), "printq": ([".printq_history"], []),
    "vaseviewer": ([".config/vaseViewer/a"], []), "ovenlog": ([".local/state/ovenlog.log"], []),
}  # fmt: skip
# Of others: parts of other words, shared folders, and the desktop's own.
OTHERS = [".config/teapot/settings", ".config/steam/a", ".cache/claypots/a", ".config/Tidewater/shared.xml", ".config/mimeapps.list",
          ".local/share/applications/teatime.desktop", ".config/ovenlogger/a", "tea/letter.txt", "Documents/kilnview manual.pdf", ".bashrc"]  # fmt: skip


@pytest.fixture
def home(own_home: Path) -> Path:
    for own, doubtful in PROGRAMS.values():
        for name in (*own, *doubtful):
            put(own_home / name, f"of {name}")
    put(
        own_home / ".local/share/applications/holiday.desktop",
        "[Desktop Entry]\nName=Holiday pictures\nExec=/opt/x/photosync --start %U\n",
    )
    for name in OTHERS:
        put(own_home / name, f"other {name}")
    return own_home


def entries(frugal: Frugal, program: str) -> dict[str, dict[str, Any]]:
    found = json.loads(frugal("leftovers", program, "--format", "json").stdout)
    return {one["path"]: one for one in found["entries"]}


def below(path: str, names: list[str]) -> bool:
    return any(name == path or name.startswith(f"{path}/") for name in names)


@pytest.mark.parametrize("program", PROGRAMS)
def test_all_of_a_program_is_found_and_nothing_of_another(home: Path, frugal: Frugal, program: str) -> None:
    own, doubtful = PROGRAMS[program]
    found = entries(frugal, program)
    sure = {path.removeprefix(f"{home}/") for path, one in found.items() if one["sure"]}
    unsure = {path.removeprefix(f"{home}/") for path, one in found.items() if not one["sure"]}
    assert all(one["why"] and one["bytes"] for one in found.values())
    assert all(any(name == path or name.startswith(f"{path}/") for path in sure) for name in own), (own, sure)
    assert all(below(path, own) for path in sure), sure
    assert all(below(path, doubtful) for path in unsure), unsure
    assert all(any(name == path or name.startswith(f"{path}/") for path in unsure) for name in doubtful)


def kept(home: Path) -> dict[bytes, object]:
    """Return what there is, the tool's own folder, the trash and the times of folders aside."""
    return {
        path: seen._replace(mtime_ns=0) for path, seen in snapshot(home).items()
        if b"frugal-sorter" not in path and b"/Trash" not in path
    }  # fmt: skip


def test_they_go_to_the_trash_and_come_back(home: Path, frugal: Frugal) -> None:
    before = kept(home)
    listed = frugal("leftovers", "glaze-calculator").stdout
    assert kept(home) == before and "Uncertain" in listed and "--do trash" in listed
    frugal("leftovers", "glaze-calculator", "--do", "trash", "--yes")
    own, doubtful = PROGRAMS["glaze-calculator"]
    assert not [name for name in own if (home / name).exists()] and all((home / name).exists() for name in doubtful)
    assert all((home / name).exists() for name in OTHERS)
    assert json.loads(frugal("history", "--format", "json").stdout)["runs"][-1]["kind"] == "leftovers"
    frugal("undo", "--yes")
    assert kept(home).keys() == before.keys()


def test_what_is_named_can_be_left_out(home: Path, frugal: Frugal) -> None:
    frugal("leftovers", "kilnview", "--do", "trash", "--yes", "--without", str(home / ".kilnviewrc"))
    assert (home / ".kilnviewrc").exists() and not (home / ".config/Kilnview").exists()


def test_a_program_that_is_there_keeps_what_it_has_and_what_went_is_named(home: Path, frugal: Frugal, folder: Path) -> None:
    frugal("leftovers", "claypot", "--do", "trash", "--yes")
    put(folder / "bin/claypot", "#!/bin/sh\n").chmod(0o755)
    put(home / ".claypot/new.txt", "new")
    path = f"{folder}/bin:{os.environ['PATH']}"
    said = frugal("leftovers", "claypot", PATH=path).stdout
    assert "is still installed (the command" in said and "To restore them: frugal undo 1" in said
    # Whoever looks after the machine hears of it without asking for that program.
    for words in (["schedule", "check"], ["report"]):
        told = frugal(*words, PATH=path).stdout
        assert "claypot is installed again (the command" in " ".join(told.split()) and "frugal undo 1" in told
        assert "installed again" not in frugal(*words).stdout
    again = json.loads(frugal("report", "--format", "json", PATH=path).stdout)["installed_again"]
    assert [(one["program"], one["run"]) for one in again] == [("claypot", 1)]
    done = frugal("leftovers", "claypot", "--do", "trash", "--yes", code=3, PATH=path)
    assert "is installed" in done.stderr and (home / ".claypot/new.txt").exists()


def test_without_a_name_what_belongs_to_none_is_listed_by_size_and_stays(home: Path, frugal: Frugal) -> None:
    put(home / ".config/bash/a", "x")  # of a command that is there
    before = kept(home)
    found = json.loads(frugal("leftovers", "--format", "json").stdout)["unclaimed"]
    sizes = [one["bytes"] for one in found]
    names = {one["path"].removeprefix(f"{home}/") for one in found}
    assert sizes == sorted(sizes, reverse=True) and ".config/glaze-calculator" in names and ".claypot" in names
    assert ".config/bash" not in names and ".config/mimeapps.list" not in names and ".bashrc" not in names
    assert "This is only a list; frugal does not suggest removing them" in frugal("leftovers").stdout and kept(home) == before


@pytest.mark.parametrize(("words", "told"), [
    (["te"], "too short"), (["--do", "trash"], "of a program"), (["claypot", "--do", "trash", "--format", "json"], "table only"), (["..."], "too short"),
])  # fmt: skip
def test_what_makes_no_sense_is_one_line(home: Path, frugal: Frugal, words: list[str], told: str) -> None:
    done = frugal("leftovers", *words, code=2)
    assert told in done.stderr and len(done.stderr.splitlines()) == 1


@pytest.mark.parametrize(("entry", "program", "how"), [
    ("Glaze Calculator", "glaze-calculator", "sure"), ("glazecalculator", "Glaze_Calculator", "sure"), (".glaze-calculatorrc", "glaze-calculator", "sure"),
    ("org.tidewater.GlazeCalculator", "glaze-calculator", "sure"), ("org.tidewater.glaze", "calculator", ""), ("glazes", "glaze", ""),
    ("unglaze", "glaze", ""), ("glaze.old", "glaze", "doubtful"), ("my-glaze", "glaze", "doubtful"), ("Gläze", "Gläze", "sure"), ("...", "glaze", ""),
    ("glaze.desktop", "glaze", "sure"), ("glaze2", "glaze", "sure"), ("", "glaze", ""),
])  # fmt: skip
def test_a_name_counts_as_a_whole_only(entry: str, program: str, how: str) -> None:
    assert likeness(entry, program)[0] == how


def test_links_are_never_taken(home: Path, frugal: Frugal) -> None:
    (home / ".config/tea-shop").symlink_to(home / "Documents")
    (home / ".teashop").symlink_to(home / "Documents")
    assert {one["sure"] for one in entries(frugal, "tea-shop").values()} == {False}


def run(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True)


@AS_ROOT
@pytest.mark.skipif(not shutil.which("dpkg-deb"), reason="dpkg is not here")
def test_a_package_that_was_removed_is_known_by_its_package_manager(folder: Path, frugal: Frugal, own_home: Path) -> None:
    """Made, installed and removed for real: `dpkg -l` then says rc, and its settings in /etc are still its own."""
    name = "tidewater-glaze-test"
    put(folder / f"deb/etc/{name}/{name}.conf", "x = 1\n")
    put(folder / f"deb/usr/share/{name}/data", "data")
    control = f"Package: {name}\nVersion: 1\nArchitecture: all\nMaintainer: Tidewater Pottery <desk@example.org>\nDescription: made up\n"
    put(folder / "deb/DEBIAN/control", control)
    put(folder / "deb/DEBIAN/conffiles", f"/etc/{name}/{name}.conf\n")
    put(own_home / f".config/{name}/a", "a")
    run("dpkg-deb", "--build", "--root-owner-group", str(folder / "deb"), str(folder / "t.deb"))
    try:
        run("dpkg", "-i", str(folder / "t.deb"))
        assert "is still installed (the package" in frugal("leftovers", name).stdout
        owned = entries(frugal, name)[f"/etc/{name}"]
        assert not owned["sure"] and "belongs to the installed package" in owned["why"]
        run("dpkg", "--remove", name)
        listed = subprocess.run(["dpkg", "-l", name], capture_output=True, text=True, check=True).stdout
        assert f"rc  {name}" in listed
        said = frugal("leftovers", name).stdout
        assert "was removed, but its settings were kept" in said and f"/etc/{name}/" in said
        assert entries(frugal, name)[f"{own_home}/.config/{name}"]["sure"]
    finally:
        run("dpkg", "--purge", name)
        shutil.rmtree(f"/etc/{name}", ignore_errors=True)
