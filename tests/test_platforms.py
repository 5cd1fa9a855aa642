"""The seam: every system can be imported on every other one, and names are told apart by what holds them."""

from __future__ import annotations

import subprocess
import sys
from functools import partial
from pathlib import Path

import platformdirs
import pytest

from frugal_sorter.platforms import system
from frugal_sorter.rules.keys import Places
from frugal_sorter.state import forget_all
from frugal_sorter.trash.recycle_bin import RecycleBin
from tests.conftest import Frugal, Mount
from tests.support import book_of, plan_of, put, rules_text

PLACES = ("desktop", "documents", "downloads", "pictures", "music", "videos")


@pytest.mark.skipif(system.NAME != "linux", reason="elsewhere the library is asked")
@pytest.mark.parametrize("value", [None, "", "/srv/x", "/srv/x/", "relative", " /srv", "~/x"])
@pytest.mark.parametrize("home", ["/home/maren", "/", "relative", "", None])
def test_own_folders_are_where_the_library_has_them(value: str | None, home: str | None, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, told in [("HOME", home), *((f"XDG_{one}_HOME", value) for one in ("STATE", "CONFIG", "DATA"))]:
        monkeypatch.setenv(name, told) if told is not None else monkeypatch.delenv(name, raising=False)
    ours = system.state_home("frugal-sorter"), system.settings_home("frugal-sorter"), system.data_home()
    theirs = (
        platformdirs.user_state_dir("frugal-sorter", appauthor=False), platformdirs.user_config_dir("frugal-sorter", appauthor=False),
        platformdirs.user_data_dir(),
    )  # fmt: skip
    assert [Path(one) for one in ours] == [Path(one) for one in theirs]


def test_folders_of_the_system_have_a_name_and_are_asked_for_only_where_it_is_used(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []

    def found(name: str) -> str:
        asked.append(name)
        return f"/srv/{name}"

    for name in PLACES:
        monkeypatch.setattr(platformdirs, f"user_{name}_dir", partial(found, name))

    places = Places()
    places["shelf"] = "/srv/shelf"
    assert list(places) == ["home", *PLACES, "temp", "shelf"] and len(places) == 9
    assert "music" in places and "kiln" not in places and places["home"] == str(Path.home()) and not asked
    assert (places["music"], places["music"], places["shelf"]) == ("/srv/music", "/srv/music", "/srv/shelf") and asked == [
        "music"
    ]
    with pytest.raises(KeyError):
        places["kiln"]


# What a system does not have is taken away before anything is imported, and what it has is put in its place.
FAKE = """
import sys, os, importlib, pkgutil, types, subprocess, pathlib, tempfile, multiprocessing, sqlite3, ctypes, ctypes.wintypes, json, logging
import platformdirs, regex, rich.console, asyncio, shutil, selectors
name = sys.argv[1]
missing = {"win32": ("fcntl", "pwd", "grp", "resource"), "darwin": ("msvcrt", "winreg"), "linux": ("msvcrt", "winreg")}[name]
for one in missing:
    sys.modules[one] = None
gone = {"win32": "fork getxattr setxattr listxattr removexattr geteuid getuid getegid statvfs pread pwrite readv fchown fchmod killpg "
                 "O_CLOEXEC O_DIRECTORY O_NOFOLLOW O_NONBLOCK O_PATH O_NOATIME posix_fallocate posix_fadvise copy_file_range uname makedev",
        "darwin": "getxattr setxattr listxattr removexattr O_PATH O_NOATIME posix_fallocate posix_fadvise copy_file_range",
        "linux": ""}[name]
for one in gone.split():
    if hasattr(os, one):
        delattr(os, one)
class Anything:
    def __init__(self, *args, **more): pass
    def __call__(self, *args, **more): return 0
    def __getattr__(self, name):
        if name.startswith("__"): raise AttributeError(name)
        return Anything()
if name == "win32":
    pathlib.WindowsPath = pathlib.PosixPath
    ctypes.WinDLL = Anything
    os.O_NOINHERIT, os.O_BINARY = 0x80, 0x8000
    for one in ("msvcrt", "winreg"):
        sys.modules[one] = types.ModuleType(one)
    import signal
    signal.SIGBREAK = 21
    del signal.SIGHUP, signal.SIGALRM, signal.SIGKILL
sys.platform = name
import frugal_sorter
others = {"win32": (".posix.", ".darwin."), "darwin": (".windows.", ".posix.attributes."), "linux": (".windows.", ".darwin.")}[name]
count = 0
for module in pkgutil.walk_packages(frugal_sorter.__path__, "frugal_sorter."):
    if "__main__" in module.name or any(f".platforms{one}" in f"{module.name}." for one in others):
        continue
    importlib.import_module(module.name)
    count += 1
print(count)
"""


@pytest.mark.parametrize("name", ["linux", "darwin", "win32"])
def test_the_whole_package_can_be_imported_on_each_system(name: str) -> None:
    done = subprocess.run([sys.executable, "-c", FAKE, name], capture_output=True, text=True, check=False)
    assert done.returncode == 0 and int(done.stdout) > 100, done.stderr[-2_000:]


@pytest.mark.parametrize(("name", "told"), [
    ("kiln.log", ""), ("a:b", "':'"), ('6" tile', "'\"'"), ("what?", "'?'"), ("a\\b", "'\\\\'"), ("tab\t", "'\\t'"), ("dot.", "end in a dot"),
    ("blank ", "end in a dot or a blank"), ("con", "name of a device"), ("NUL.tar.gz", "name of a device"), ("com1", "name of a device"),
    ("COM¹.txt", "name of a device"), ("lpt9 .txt", "name of a device"), ("conin$", "name of a device"), ("console", ""), ("com0", ""),
    ("aux2.txt", ""), ("x" * 255, ""), ("x" * 256, "more than 255"), ("🔥" * 127, ""), ("🔥" * 128, "more than 255"), ("Müller", ""),
])  # fmt: skip
def test_names_that_windows_cannot_hold(name: str, told: str) -> None:
    said = system.windows_refuses(name)
    assert (told in said) if told else not said
    assert system.refused_here(name) == (said if system.NAME == "windows" else "")


TARGETS = ["move = 'Kiln: logs'", "move = 'Logs./{ext}'", "move = 'aux/{ext}'", "rename = '{stem}?.{ext}'", "copy = 'Backup/con'"]


@pytest.mark.parametrize("target", TARGETS)
def test_a_file_for_windows_is_told_what_windows_cannot_hold(folder: Path, frugal: Frugal, target: str) -> None:
    (folder / "Intake").mkdir()
    rule = f"where = 'everything'\n{target}"
    put(folder / "here.toml", rules_text(rule))
    put(folder / "there.toml", rules_text(rule, head='for = ["windows", "linux"]'))
    assert "cannot be made" not in frugal("check", "here.toml").stdout
    said = frugal("check", "there.toml").stdout
    assert "is not allowed" in said and "the file is for Windows" in said


def test_a_target_above_its_folder_is_no_name(folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    put(folder / "rules.toml", rules_text("where = 'everything'\nmove = '../Sorted/{ext}'", head='for = ["windows"]'))
    assert "cannot be made" not in frugal("check", "rules.toml").stdout


@pytest.mark.parametrize("wrong", ['"windows"', '["dos"]', "[1]", "true"])
def test_systems_that_are_not_known_are_a_mistake(folder: Path, frugal: Frugal, wrong: str) -> None:
    put(folder / "rules.toml", rules_text("where = 'everything'\nleave = true", head=f"for = {wrong}"))
    assert "rules.toml:2" in frugal("check", "rules.toml", code=2).stderr


def test_folders_that_the_volume_of_a_target_cannot_hold_are_told_and_not_made(
    mount: Mount, folder: Path, frugal: Frugal
) -> None:
    far = mount("exfat")
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text(f"where = 'everything'\nmove = '{far}/Kiln: logs/{{ext}}'"))
    assert "cannot create" in frugal("check", "rules.toml").stdout
    assert "cannot create" in frugal("tidy", "rules.toml", "--yes", code=1).stdout
    assert (folder / "Intake/a.log").exists() and not list(far.iterdir())


def test_letters_of_another_case_are_one_folder_where_the_volume_says_so(mount: Mount, folder: Path, frugal: Frugal) -> None:
    far = mount("exfat")
    (far / "Photos").mkdir()
    for name in "abc":
        put(folder / f"Intake/{name}.log")
    put(folder / "rules.toml", rules_text(*(
        f"where = 'stem is {name}'\nmove = '{far}/{target}'" for name, target in (("a", "photos/New"), ("b", "PHOTOS/new"), ("c", "Photos/NEW"))
    )))  # fmt: skip
    said = frugal("tidy", "rules.toml", "--yes").stdout
    assert sorted(path.relative_to(far).as_posix() for path in far.rglob("*.log")) == [
        f"Photos/New/{name}.log" for name in "abc"
    ], said
    frugal("undo", "--yes")
    assert sorted(path.name for path in far.rglob("*")) == ["Photos"]


def test_the_info_of_a_recycle_bin_says_where_an_entry_was() -> None:
    from datetime import datetime

    from frugal_sorter.filesystem.record import Place

    trash = RecycleBin("/bin/S-1", "/", 1)
    place, deleted = Place("/desk/Intake", "Émail 🔥.txt"), datetime(2026, 11, 26, 4, 20, 7)
    raw = trash.info_bytes(place, deleted, 1_234)
    # Version, size, and the length of the path in letters of UTF-16, with its end.
    assert raw[:8] == b"\x02" + bytes(7) and int.from_bytes(raw[8:16], "little") == 1_234
    assert int.from_bytes(raw[24:28], "little") == len(place.path.encode("utf-16-le")) // 2 + 1
    assert raw[28:].decode("utf-16-le") == place.path.replace("/", "\\") + "\0"
    name = trash.name_for(place, 1)
    assert name[:2] == "$R" and name.endswith(".txt") and len(name) == 12 and trash.name_for(place, 2) != name
    assert (
        trash.entry_name(trash.info_name(name)) == name
        and trash.entry_name("desktop.ini") is None
        and not trash.is_entry("desktop.ini")
    )
    for cut in range(len(raw)):
        assert trash.parse(raw[:cut])[0] != place.path
    assert trash.may_begin(b"", place) and trash.may_begin(raw[:20], place) and not trash.may_begin(raw, place)


def test_what_macos_keeps_as_one_thing_is_not_taken_apart(folder: Path, own_home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("Photos.photoslibrary/originals/a.jpg", "Kiln.APP/Contents/icon.jpg", "Album/b.jpg", "v1.2 notes/c.jpg"):
        put(folder / "Intake" / name)
    put(own_home / "Library/Caches/d.jpg")
    put(own_home / "e.jpg")
    rule = 'where = "ext is jpg"\nlevels = "all"\nmove = "Sorted"'

    def moved(place: str = "Intake") -> set[str]:
        forget_all()
        plan = plan_of(book_of(folder, f'in = "{place}"\n{rule}'))
        return {step.place.name for step in plan.asked}

    assert moved() == {"a.jpg", "icon.jpg", "b.jpg", "c.jpg"} and moved("~") == {"d.jpg", "e.jpg"}
    monkeypatch.setattr(system, "NAME", "macos")
    assert moved() == {"b.jpg", "c.jpg"} and moved("~") == {"e.jpg"}
    # Nor by a rule that acts inside it; what programs keep for an account is for a rule that names the folder.
    forget_all()
    refused = plan_of(book_of(folder, f'in = "Intake/Photos.photoslibrary/originals"\n{rule}')).refused
    assert "inside a package" in refused[0].reason
    assert moved("~/Library/Caches") == {"d.jpg"}


@pytest.mark.parametrize(("name", "kept"), [("windows", "AppData/Roaming"), ("macos", "Library")])
def test_what_programs_keep_below_a_home_is_not_removed_as_a_whole(
    folder: Path, own_home: Path, monkeypatch: pytest.MonkeyPatch, name: str, kept: str
) -> None:
    put(own_home / kept / "a.log")
    book = book_of(folder, f'in = "~/{kept}"\nwhere = "everything"\nlevels = "all"\ndelete = true')
    assert not plan_of(book).refused, name
    monkeypatch.setattr(system, "SETTINGS", (kept,))
    assert "program settings" in plan_of(book).refused[0].reason
