"""On Windows: files that others hold; names and attributes; what is typed."""

from __future__ import annotations

import ctypes
import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from frugal_sorter.platforms import disk, processes
from tests.conftest import Frugal, in_this_process
from tests.support import names, put, rules_text, snapshot

pytestmark = pytest.mark.skipif(sys.platform != "win32", reason="asks Windows")


@pytest.fixture
def desk(folder: Path, frugal: Frugal) -> Path:
    frugal("demo", "desk")
    return folder / "desk"


def test_paths_may_be_written_either_way(desk: Path, folder: Path, frugal: Frugal) -> None:
    there = str(desk).replace("/", "\\")
    put(folder / "rules.toml", rules_text(f"in = '{there}\\Intake'\nwhere = 'ext is tiff'\nmove = '..\\Scans\\{{ext}}'"))
    frugal("tidy", f"{folder}\\rules.toml".replace("/", "\\"), "--yes")
    assert (desk / "Scans/tiff/scan005.TIFF").exists()
    assert "run 1" in frugal("history", "--file", f"{there}\\Intake\\scan005.TIFF").stdout.lower()
    frugal("undo", "--yes", "--only", f"{there}\\Intake\\scan005.TIFF")
    assert (desk / "Intake/scan005.TIFF").exists() and (desk / "Scans/tiff/scan006.TIFF").exists()


def in_long_form(path: Path | str) -> str:
    """Return a path by which the system reaches names of any form and length."""
    return "\\\\?\\" + str(path).replace("/", "\\")


def _open(path: Path, access: int, share: int) -> int:
    api = ctypes.WinDLL("kernel32")  # type: ignore[attr-defined]
    api.CreateFileW.restype = ctypes.c_void_p
    handle = api.CreateFileW(in_long_form(path), access, share, None, 3, 0x80, None)
    assert handle not in (None, ctypes.c_void_p(-1).value)
    return int(handle)


@pytest.fixture
def holding() -> Iterator[Callable[[Path, int, int], None]]:
    handles = []
    yield lambda path, access, share: handles.append(_open(path, access, share))
    for handle in handles:
        ctypes.WinDLL("kernel32").CloseHandle(ctypes.c_void_p(handle))  # type: ignore[attr-defined]


READ, WRITE, SHARE_READ, SHARE_ALL = 0x80000000, 0x40000000, 1, 7


@pytest.mark.parametrize("ending", ["trash = true", "delete = true", "move = 'Moved'"])
@pytest.mark.parametrize(("access", "share"), [(READ, SHARE_ALL), (READ, SHARE_READ), (READ, 0), (WRITE, SHARE_ALL), (WRITE, 0)])
def test_a_file_that_another_program_holds(
    folder: Path, holding: Callable[[Path, int, int], None], ending: str, access: int, share: int
) -> None:
    held = put(folder / "Intake/held.log", "held")
    put(folder / "Intake/free.log", "free")
    put(folder / "rules.toml", rules_text(f"where = 'everything'\n{ending}"))
    holding(held, access, share)
    done = in_this_process(["tidy", "rules.toml", "--yes"], folder, {}, None)
    # Only a program that shares all and reads, or with a move one that shares all and writes, lets it go.
    goes = share == SHARE_ALL and (access == READ or "move" in ending)
    # What others still read has its name until they close it.
    assert held.exists() is not (goes and "delete" not in ending), done.stdout
    assert not (folder / "Intake/free.log").exists()
    if not goes:
        assert "open in" in done.stdout or "open for writing" in done.stdout, done.stdout + done.stderr


ODD = ["con", "aux.txt", "dot.", "blank ", "x" * 120 + ".txt"]


@pytest.mark.parametrize("name", ODD)
def test_names_that_only_the_long_form_reaches_are_sorted_and_come_back(folder: Path, frugal: Frugal, name: str) -> None:
    deep = folder / "Intake" / ("d" * 90) / ("e" * 98)
    disk.mkdir(str(folder / "Intake"))
    disk.mkdir(str(deep.parent))
    disk.mkdir(str(deep))
    path = f"{deep}/{name}"
    with open(in_long_form(path), "wb") as file:
        file.write(b"odd")
    put(folder / "rules.toml", rules_text(f"in = '{deep}'\nwhere = 'everything'\nmove = '../Moved'"))
    frugal("tidy", "rules.toml", "--yes")
    assert not disk.lexists(path) and disk.listdir(f"{deep.parent}/Moved") == [name]
    frugal("undo", "--yes")
    assert disk.lexists(path) and not disk.lexists(f"{deep.parent}/Moved")


def test_attributes_go_along_and_come_back(folder: Path, frugal: Frugal) -> None:
    hidden = put(folder / "Intake/hidden.log", "hidden")
    locked = put(folder / "Intake/locked.log", "locked")
    os.chmod(locked, 0o444)
    ctypes.WinDLL("kernel32").SetFileAttributesW(str(hidden), 2)  # type: ignore[attr-defined]
    far = f"D:/frugal far/{folder.name}"
    put(folder / "rules.toml", rules_text(f"where = 'not hidden'\nmove = '{far}'"))
    frugal("tidy", "rules.toml", "--yes")
    # What is hidden is left, as everywhere.
    assert hidden.exists() and names(folder / "Intake") == {"hidden.log"}
    there = disk.lstat(f"{far}/locked.log")
    assert not there.st_mode & 0o200
    frugal("undo", "--yes")
    assert not disk.lstat(str(locked)).st_mode & 0o200 and not disk.lexists(far)


def test_what_an_attribute_hides_is_counted_with_hidden(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/kiln.log", "12")
    hidden = put(folder / "Intake/hidden.log", "345")
    _attributes(hidden, 2)
    assert "hidden.log" not in frugal("inventory", "Intake", "--listing").stdout
    assert "hidden.log" in frugal("inventory", "Intake", "--listing", "--hidden").stdout
    counted = json.loads(frugal("inventory", "Intake", "--hidden", "--format", "json").stdout)
    assert (counted["files"], counted["bytes"], counted["not_read"]) == (2, 5, [])


def _attributes(path: object, given: int | None = None) -> int:
    """Return the attributes of an entry, or give it some."""
    kernel = ctypes.WinDLL("kernel32")  # type: ignore[attr-defined]
    return int(kernel.GetFileAttributesW(str(path)) if given is None else kernel.SetFileAttributesW(str(path), given))


def _rights(path: Path) -> str:
    """Return the access list of an entry as the system writes it (SDDL)."""
    advapi, length, text = ctypes.WinDLL("advapi32"), ctypes.c_ulong(), ctypes.c_wchar_p()  # type: ignore[attr-defined]
    advapi.GetFileSecurityW(str(path), 4, None, 0, ctypes.byref(length))
    found = ctypes.create_string_buffer(length.value)
    assert advapi.GetFileSecurityW(str(path), 4, found, length, ctypes.byref(length))
    assert advapi.ConvertSecurityDescriptorToStringSecurityDescriptorW(found, 1, 4, ctypes.byref(text), None)
    return str(text.value)


def test_a_drive_without_a_recycle_bin_gets_one_as_the_desktop_knows_it(folder: Path, frugal: Frugal) -> None:
    shutil.rmtree("D:/$Recycle.Bin", ignore_errors=True)
    far = Path(f"D:/frugal bin/{folder.name}")
    put(far / "Kiln.LOG", "1240")
    put(far / "two words.a b", "x")
    (folder / "rules.toml").write_text(
        f"frugal = 1\n[[rule]]\nname = 'old'\nin = '{far.as_posix()}'\nwhere = 'everything'\ntrash = true\n"
    )
    before = snapshot(far)
    frugal("tidy", "rules.toml", "--yes")
    (own,) = Path("D:/$Recycle.Bin").iterdir()
    entries = {path.name for path in own.iterdir()}
    assert "desktop.ini" in entries and b"645FF040" in (own / "desktop.ini").read_bytes()
    assert sorted(name[8:] for name in entries if name.startswith("$R")) == ["", ".LOG"]
    assert all(_attributes(path) & 6 == 6 for path in (own.parent, own, own / "desktop.ini"))
    # Wine keeps a list as a mode, in which the administrators have no place.
    assert {own.name} <= set(re.findall(r";([^;)]+)\)", _rights(own))) <= {"SY", "BA", own.name}
    assert "Kiln.LOG" in frugal("trash").stdout
    frugal("undo", "--yes")
    assert snapshot(far) == before
    shutil.rmtree(far.parent)


def test_letter_case_is_that_of_the_disk(folder: Path, frugal: Frugal) -> None:
    put(folder / "Photos/old.jpg", "old")
    put(folder / "Intake/a.jpg", "a")
    put(folder / "Intake/b.jpg", "b")
    put(folder / "rules.toml", rules_text(
        "where = 'stem is a'\nmove = '../photos/New'", "where = 'stem is b'\nmove = '../PHOTOS/new'"))  # fmt: skip
    before = snapshot(folder)
    frugal("tidy", "rules.toml", "--yes")
    assert names(folder) - {"rules.toml"} == {"Photos/old.jpg", "Photos/New/a.jpg", "Photos/New/b.jpg"}
    frugal("undo", "--yes")
    assert snapshot(folder) == before


ROOT = Path(__file__).parents[2]


def test_a_home_and_variables_are_filled_in_as_no_shell_here_does(
    desk: Path, own_home: Path, folder: Path, frugal: Frugal
) -> None:
    put(own_home / "Intake/a.log", "a")
    for written in ("~\\Intake", "~/Intake", "%USERPROFILE%\\Intake", "$HOME\\Intake", "$env:USERPROFILE/Intake"):
        assert "1 file" in " ".join(frugal("inventory", written, "--format", "table").stdout.split()) or "log" in (
            frugal("inventory", written).stdout
        )
    put(folder / "rules.toml", rules_text("in = '~\\Intake'\nwhere = 'ext is log'\nmove = '~\\Logs'"))
    frugal("tidy", "rules.toml", "--yes")
    assert (own_home / "Logs/a.log").exists()


def test_what_stands_between_single_quotes_is_answered(desk: Path, frugal: Frugal) -> None:
    said = frugal("sort", "desk\\Intake", "--into", "'{type}'", code=2).stderr
    assert 'write "{type}"' in said
    said = frugal("schedule", "add", "night", "--at", "'daily", "02:00'", "--", "tidy", "desk\\rules.toml", code=2).stderr
    assert 'write "daily 02:00"' in said


@pytest.mark.parametrize(("written", "instead"), [("\\In", "C:/In"), ("D:", "D:/"), ("c:In", "C:/In")])
def test_a_path_that_depends_on_the_current_drive_is_refused(folder: Path, frugal: Frugal, written: str, instead: str) -> None:
    put(folder / "rules.toml", rules_text(f"in = '{written}'\nwhere = 'everything'\nmove = 'x'"))
    assert f'write "{instead}"' in frugal("check", "rules.toml", code=2).stderr


def _typed(line: str, desk: Path, folder: Path) -> tuple[int, bytes]:
    """Type a line at the prompt of cmd; return its exit code and what it printed."""
    shim = folder / "bin"
    shim.mkdir(exist_ok=True)
    (shim / "frugal.cmd").write_text(f'@"{sys.executable}" -m frugal_sorter %*\r\n')
    env = {**os.environ, "PATH": f"{shim};{os.environ['PATH']}".replace("/", "\\")}
    with open(folder / "printed.txt", "wb") as out:
        code = subprocess.run(
            f"cmd /d /c {line}",
            cwd=str(desk),
            env=env,
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=subprocess.STDOUT,
            check=False,
        ).returncode
    return code, (folder / "printed.txt").read_bytes()


def test_the_first_lines_of_the_readme_work_at_the_prompt(own_home: Path, folder: Path, frugal: Frugal) -> None:
    frugal("demo", own_home / "desk")
    desk = own_home / "desk"
    for name in ("Intake/scratch/a.log", "Photos/a.jpg", "Archive/a.pdf"):
        put(own_home / name, "a")
    blocks = (ROOT / "README.md").read_text(encoding="utf-8").split("```sh\n")[1:]
    typed = [line for block in blocks for line in block.split("```")[0].splitlines() if line.startswith("frugal ")]
    lines = [line.partition("  #")[0].strip() for line in typed]
    assert len(lines) >= 9
    for line in lines:
        if line.startswith("frugal schedule"):
            line = line.replace("--at", "--print --with windows --at")
        code, said = _typed(line, desk, folder)
        assert code in (0, 1) or b"--yes" in said, (line, said)


def test_a_table_for_programs_ends_its_lines_once(desk: Path, folder: Path) -> None:
    code, said = _typed("frugal inventory . --by ext --format csv", desk, folder)
    assert code == 0 and said.count(b"\r\n") > 5 and b"\r\r\n" not in said


def test_rules_are_tried_on_a_machine_that_is_elsewhere(desk: Path, folder: Path, frugal: Frugal) -> None:
    frugal("inventory", "desk", "--save", "./desk.inventory.gz", "--full", code=None)
    there = json.loads(frugal("preview", "desk/rules.toml", "--format", "json").stdout)
    put(folder / "mine/rules.toml", (desk / "rules.toml").read_bytes())
    disk.replace(str(desk), f"{folder}/away")
    here = json.loads(frugal("preview", "mine/rules.toml", "--on", "desk.inventory.gz", "--format", "json").stdout)
    # The moment of the plan aside.
    assert len(here["steps"]) > 100 and {**here, "made": ""} == {**there, "made": ""}


def test_a_command_to_copy_is_read_as_it_was_meant(folder: Path) -> None:
    words = ["frugal", "sort", "clay & glaze", "a&b", "50%", "plain", "{type}", "it's"]
    assert processes.join(words) == 'frugal sort "clay & glaze" "a&b" "50%" plain "{type}" "it\'s"'
    assert _typed(f"echo {processes.quote('a&b')}", folder, folder) == (0, b'"a&b"\r\n')
