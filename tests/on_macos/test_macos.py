"""What only macOS does: its trash, its attributes, its folders; faked, see `tests/on_macos`."""

from __future__ import annotations

import json
import plistlib
import re
import subprocess
import unicodedata
from pathlib import Path
from shutil import which

import pytest

from frugal_sorter.filesystem.extended_attributes import read_attribute
from frugal_sorter.platforms import attributes, disk, processes, system
from frugal_sorter.reasons import Why
from frugal_sorter.schedule.scheduler import scheduler_here
from frugal_sorter.state import forget_all
from tests.conftest import Frugal
from tests.support import put, rules_text, snapshot

_TAGS = "com.apple.metadata:_kMDItemUserTags"


def test_the_trash_is_that_of_the_account_and_gives_back_what_frugal_put_there(
    folder: Path, own_home: Path, frugal: Frugal
) -> None:
    put(own_home / ".Trash/by hand.log", "of Finder")
    put(own_home / ".Trash/.DS_Store")
    put(folder / "Intake/kiln.log", "1240")
    put(folder / "Intake/sub/by hand.log", "ours")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nlevels = "all"\ntrash = true'))
    before = snapshot(folder)
    frugal("tidy", "rules.toml", "--yes")
    assert {path.name for path in (own_home / ".Trash").iterdir()} == {".DS_Store", "by hand.log", "by hand.2.log", "kiln.log"}
    listed = {one["id"]: one for one in json.loads(frugal("trash", "--format", "json").stdout)["trash"]}
    assert listed.keys() == {"by hand.log", "by hand.2.log", "kiln.log"} and not any(one["orphan"] for one in listed.values())
    assert listed["by hand.log"]["original"] is None and listed["kiln.log"]["original"] == str(folder / "Intake/kiln.log")
    assert "original location unknown" in frugal("trash").stdout
    frugal("trash", "--restore", "Intake/kiln.log", "--yes")
    assert (folder / "Intake/kiln.log").read_text() == "1240"
    frugal("undo", "--yes")
    frugal("undo", "1", "--yes")
    assert snapshot(folder) == before and (own_home / ".Trash/by hand.log").read_text() == "of Finder"
    # Nothing of ours is left that says where something was.
    assert not list(own_home.rglob("*.trashinfo"))


def test_a_trash_that_cannot_be_read_is_not_said_to_be_empty(
    own_home: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch
) -> None:
    (own_home / ".Trash").mkdir()
    assert "The trash is empty." in frugal("trash").stdout
    listdir = disk.listdir

    def refused(path: str) -> list[str]:
        if path == f"{own_home}/.Trash":
            raise PermissionError(1, "Operation not permitted", path)
        return list(listdir(path))

    monkeypatch.setattr(disk, "listdir", refused)
    said = frugal("trash", code=1).stdout
    assert "empty" not in said and "Full Disk Access" in said


def test_tags_comments_and_origins_are_those_that_finder_keeps(folder: Path, frugal: Frugal) -> None:
    file = put(folder / "Intake/kiln.log")
    attributes.setxattr(str(file), _TAGS, plistlib.dumps(["Glaze\n6", "Clay\n0"], fmt=plistlib.FMT_BINARY))
    attributes.setxattr(str(file), "com.apple.metadata:kMDItemWhereFroms", plistlib.dumps(["https://kiln.example/a", ""]))
    assert read_attribute(str(file), "user.xdg.tags") == "Glaze,Clay"
    assert read_attribute(str(file), "user.xdg.origin.url").startswith("https://kiln.example/a")
    put(folder / "rules.toml", rules_text('where = "tag is glaze"\ntag = "seen"\ncomment = "fired"\nmove = "Logs"'))
    frugal("tidy", "rules.toml", "--yes")
    moved = folder / "Intake/Logs/kiln.log"
    assert read_attribute(str(moved), "user.xdg.tags") == "Glaze,Clay,seen"
    assert plistlib.loads(attributes.getxattr(str(moved), "com.apple.metadata:kMDItemFinderComment")) == "fired"
    if which("plistutil"):
        convert = ["plistutil", "-i", "-", "-f", "xml"]
        said = subprocess.run(convert, input=attributes.getxattr(str(moved), _TAGS), capture_output=True, check=True).stdout
        assert re.findall(rb"<string>(.*)", said.replace(b"</string>", b"")) == [b"Glaze", b"Clay", b"seen"]
    assert plistlib.loads(attributes.getxattr(str(moved), _TAGS)) == ["Glaze\n6", "Clay\n0", "seen"]
    frugal("undo", "--yes")
    assert plistlib.loads(attributes.getxattr(str(file), _TAGS)) == ["Glaze\n6", "Clay\n0"]
    assert read_attribute(str(file), "user.xdg.tags") == "Glaze,Clay" and not read_attribute(str(file), "user.xdg.comment")


@pytest.mark.parametrize("raw", [b"", b"no list", b"bplist00" + b"\xff" * 30, plistlib.dumps({"a": 1}), plistlib.dumps([1, 2])])
def test_an_attribute_that_is_no_list_has_no_tags(folder: Path, raw: bytes) -> None:
    file = put(folder / "kiln.log")
    attributes.setxattr(str(file), _TAGS, raw)
    assert read_attribute(str(file), "user.xdg.tags") == ""


def test_a_copy_to_another_volume_keeps_attributes_byte_for_byte(folder: Path, frugal: Frugal) -> None:
    far = Path("/dev/shm/frugal of macos")
    file = put(folder / "Intake/kiln.log")
    attributes.setxattr(str(file), "com.apple.FinderInfo", bytes(32))
    put(folder / "rules.toml", rules_text(f'where = "ext is log"\nmove = "{far}"'))
    try:
        frugal("tidy", "rules.toml", "--yes")
        assert attributes.getxattr(str(far / "kiln.log"), "com.apple.FinderInfo") == bytes(32)
        frugal("undo", "--yes")
        assert attributes.getxattr(str(file), "com.apple.FinderInfo") == bytes(32) and not far.exists()
    finally:
        for one in far.glob("*") if far.exists() else ():
            one.unlink()


def test_both_forms_of_an_accent_are_one_name(folder: Path, frugal: Frugal) -> None:
    name = "Glasür.log"
    assert system.folded(unicodedata.normalize("NFD", name)) == system.folded(name.upper())


def test_what_macos_hides_from_programs_is_explained(own_home: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch) -> None:
    put(own_home / "Documents/kiln.log")
    opened = disk.open

    def refused(path: str, *args: object, **more: object) -> int:
        if path == f"{own_home}/Documents":
            raise PermissionError(1, "Operation not permitted", path)
        return int(opened(path, *args, **more))  # type: ignore[arg-type]

    monkeypatch.setattr(disk, "open", refused)
    done = frugal("inventory", own_home, "--format", "json", code=1)
    (unread,) = json.loads(done.stdout)["not_read"]
    assert (unread["code"], unread["by_design"]) == (Why.PRIVATE.code, False) and "Full Disk Access" in unread["reason"]


def test_what_programs_keep_is_looked_for_in_the_library(own_home: Path, frugal: Frugal) -> None:
    for place in (
        "Application Support/Glaze Calculator",
        "Caches/Glaze Calculator",
        "Preferences/com.kiln.glaze-calculator.plist",
    ):
        put(own_home / "Library" / place / "x" if "." not in place else own_home / "Library" / place)
    forget_all()
    said = frugal("leftovers", "glaze calculator", code=None).stdout
    assert "Application Support" in said and "Caches" in said
    assert "Kiln View" not in processes.registered()


def test_jobs_go_to_launchd() -> None:
    assert scheduler_here().name == "launchd"
