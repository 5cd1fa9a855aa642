"""Nobody gets in: rights never widen, what is around is not run, and what is read is what was looked at."""

from __future__ import annotations

import os
import stat
import subprocess
import sys
import tarfile
import unicodedata
import zipfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.changes import copier as rights
from frugal_sorter.cli.output.text import cell_text, printable_lines
from frugal_sorter.errors import StateError
from frugal_sorter.execution.executor import Result
from frugal_sorter.state import read_input
from frugal_sorter.trash.freedesktop import FreedesktopBin, parse_info
from tests.conftest import AS_ROOT, Frugal, Mount
from tests.served import Served
from tests.support import book_of, carry_out, done_by, plan_of, put, rules_text, undo

EVERYTHING = 'where = "everything"\n'


def tidy(folder: Path, *rules: str) -> Result:
    return carry_out(plan_of(book_of(folder, *rules)))


@pytest.mark.parametrize("module", ["puremagic", "json", "PIL", "subprocess", "frugal_sorter", "tomllib", "sqlite3"])
def test_a_module_in_the_current_folder_is_never_run(folder: Path, frugal: Frugal, module: str) -> None:
    put(folder / "Intake/a.png", b"\x89PNG\r\n\x1a\n")
    put(folder / "rules.toml", rules_text('where = \'mime is "image/png" or taken after 2020\'\nmove = "P"'))
    put(folder / f"{module}.py", f"open({str(folder / 'intruder')!r}, 'w')")
    # As it is installed: the current folder is where a person stands, and no part of the program.
    code = "import sys; from frugal_sorter.cli.main import main; sys.exit(main())"
    done = subprocess.run([sys.executable, "-P", "-c", code, "preview", "rules.toml"], cwd=folder, capture_output=True, text=True)
    assert done.returncode in (0, 1) and not (folder / "intruder").exists(), done.stderr
    frugal("preview", "rules.toml", code=done.returncode)
    assert not (folder / "intruder").exists() or module in ("frugal_sorter", "subprocess", "json", "tomllib", "sqlite3")


@pytest.mark.parametrize(
    ("mode", "owner", "group", "given"),
    [
        (0o4755, True, True, 0o4755), (0o4755, False, True, 0o755), (0o6755, False, True, 0o2755),
        (0o2755, True, False, 0o755), (0o6755, True, True, 0o6755), (0o1750, False, False, 0o1750),
    ],
)  # fmt: skip
def test_set_id_bits_are_given_only_to_what_has_the_owner_they_were_meant_for(
    folder: Path, mode: int, owner: bool, group: bool, given: int
) -> None:
    path = put(folder / "run")
    uid, gid = os.geteuid() + (not owner), path.stat().st_gid + (not group)
    with open(path, "rb") as file:
        assert rights.give_mode(file.fileno(), mode, uid, gid) is (mode == given)
    assert stat.S_IMODE(path.stat().st_mode) == given


@pytest.mark.parametrize("how", ["rules", "plan", "list", "listed in", "settings"])
@pytest.mark.parametrize("what", ["pipe", "zeros", "folder", "large"])
def test_what_is_no_sane_text_ends_at_once(folder: Path, frugal: Frugal, own_home: Path, how: str, what: str) -> None:
    put(folder / "Intake/a.log")
    listed = 'where = \'listed in "bad"\'\nmove = "L"' if how == "listed in" else 'where = "everything"\nmove = "L"'
    put(folder / "rules.toml", rules_text(listed))
    bad = own_home / ".config/frugal-sorter/settings.toml" if how == "settings" else folder / "bad"
    bad.parent.mkdir(parents=True, exist_ok=True)
    if what == "pipe":
        os.mkfifo(bad)
    elif what == "zeros":
        bad.symlink_to("/dev/zero")
    elif what == "folder":
        bad.mkdir()
    else:
        with open(bad, "wb") as file:
            file.truncate(1_100_000_000)
    words = {
        "rules": ["check", "bad"], "plan": ["tidy", "--plan", "bad", "--yes"], "listed in": ["check", "rules.toml"],
        "list": ["gather", "--list", "bad", "--from", "Intake", "--to", "Out", "--yes"],
        "settings": ["tidy", "rules.toml", "--yes"],
    }[how]  # fmt: skip
    said = frugal(*words, code=2).stderr
    reasons = {"pipe": "not a regular file", "zeros": "not a regular file", "folder": "folder", "large": "larger than"}
    assert reasons[what] in said and (folder / "Intake/a.log").exists()


def test_what_is_read_is_what_was_looked_at(folder: Path) -> None:
    own, other = put(folder / "own.toml", "own"), put(folder / "other.toml", "another account's")

    def swap(found: os.stat_result) -> None:
        assert found.st_ino == os.stat(own).st_ino or not own.exists()
        os.rename(other, own)

    assert read_input(own, 100, swap) == b"own"


@AS_ROOT
def test_root_refuses_a_rule_file_of_another_account_by_its_descriptor(folder: Path, frugal: Frugal) -> None:
    path = put(folder / "rules.toml", rules_text(EVERYTHING + 'move = "L"'))
    os.chown(path, 1000, 1000)
    assert "other users can write" in frugal("check", "rules.toml", code=2).stderr
    (folder / "link.toml").symlink_to(path)
    assert "other users can write" in frugal("check", "link.toml", code=2).stderr
    assert StateError.exit_code == 2


@pytest.mark.parametrize(
    ("named", "top", "original"),
    [
        ("/home/maren/a.pdf", "", "/home/maren/a.pdf"),
        ("a/b.pdf", "/media/usb", "/media/usb/a/b.pdf"),
        ("/media/usb/a/b.pdf", "/media/usb", "/media/usb/a/b.pdf"),
        ("/home/maren/.config/autostart/x.desktop", "/media/usb", ""),
        ("../x", "/media/usb", ""),
        ("a/../../x", "/media/usb", ""),
        ("/home/../etc/passwd", "", ""),
        ("relative", "", ""),
        ("/tmp/n%00m", "", ""),
        ("/", "", ""),
        ("/media/usb", "/media/usb", ""),
        ("", "/media/usb", ""),
    ],
)
def test_an_info_file_cannot_say_that_something_comes_to_where_it_was_not(named: str, top: str, original: str) -> None:
    raw = f"[Trash Info]\nPath={named}\nDeletionDate=2026-11-23T12:00:00\n".encode()
    assert parse_info(raw, FreedesktopBin("/x", top, 1))[0] == original


@pytest.mark.parametrize("date", ["0001-01-01T00:00:00", "9999-12-31T23:59:59", "2026-13-01T00:00:00", "soon", ""])
def test_a_date_that_no_clock_has_shown_is_no_date(date: str) -> None:
    deleted = parse_info(f"[Trash Info]\nPath=/a\nDeletionDate={date}\n".encode(), FreedesktopBin("/x", "", 1))[1]
    assert deleted is None or deleted.year == 9999


MODES = [0o600, 0o640, 0o644, 0o604, 0o444, 0o4755, 0o777]


@pytest.mark.parametrize("first", MODES)
@pytest.mark.parametrize("second", MODES)
def test_a_zip_is_no_more_open_than_the_strictest_of_what_is_in_it(folder: Path, first: int, second: int) -> None:
    put(folder / "Intake/a.csv").chmod(first)
    put(folder / "Intake/b.csv").chmod(second)
    assert done_by(tidy(folder, EVERYTHING + 'pack = "P/all.zip"'))["pack"] == 1
    mode = stat.S_IMODE((folder / "Intake/P/all.zip").stat().st_mode)
    for who in (0o040, 0o004):
        assert not mode & who or (first & who and second & who), oct(mode)
    assert not mode & 0o7111 and mode & 0o600 == 0o600


@pytest.mark.parametrize("mode", [0o600, 0o644, 0o4755, 0o000, None])
@pytest.mark.parametrize("archive_mode", [0o600, 0o640, 0o644])
@pytest.mark.parametrize("kind", ["zip", "tar"])
def test_what_is_unpacked_is_no_more_open_than_it_was_nor_than_its_archive(
    folder: Path, kind: str, mode: int | None, archive_mode: int
) -> None:
    path = folder / f"Intake/a.{kind}"
    path.parent.mkdir()
    if kind == "zip":
        with zipfile.ZipFile(path, "w") as archive:
            info = zipfile.ZipInfo("in/a.sh")
            info.external_attr = 0 if mode is None else (stat.S_IFREG | mode) << 16
            archive.writestr(info, "x")
    else:
        with tarfile.open(path, "w") as tar:
            member = tarfile.TarInfo("in/a.sh")
            member.mode = 0o644 if mode is None else mode
            tar.addfile(member)
    path.chmod(archive_mode)
    tidy(folder, EVERYTHING + 'unpack = "{stem}"')
    got = stat.S_IMODE((folder / "Intake/a/in/a.sh").stat().st_mode)
    own = 0o644 if mode is None else mode
    assert not got & 0o7000 and got & ~0o600 & ~own == 0 and got & 0o044 & ~archive_mode == 0, oct(got)
    assert stat.S_IMODE((folder / "Intake/a").stat().st_mode) & 0o044 & ~archive_mode == 0


@AS_ROOT
def test_what_root_makes_of_the_files_of_another_account_belongs_to_that_account(folder: Path) -> None:
    for name in ("a.csv", "b.csv"):
        os.chown(put(folder / "Intake" / name), 1000, 1000)
    with zipfile.ZipFile(folder / "Intake/c.zip", "w") as archive:
        archive.writestr("in/c.txt", "c")
    os.chown(folder / "Intake/c.zip", 1000, 1000)
    tidy(folder, 'where = "ext is csv"\npack = "all.zip"', 'where = "name is c.zip"\nunpack = "{stem}"')
    for name in ("all.zip", "c", "c/in", "c/in/c.txt"):
        assert (folder / "Intake" / name).stat().st_uid == 1000, name
    undo()
    assert (folder / "Intake/a.csv").stat().st_uid == 1000


@given(st.text())
def test_whatever_is_printed_holds_nothing_that_acts_on_a_terminal(text: str) -> None:
    shown = printable_lines(text)
    bad = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}
    left = [letter for letter in shown if unicodedata.category(letter) in bad and letter not in "\n\u200d"]
    assert not [letter for letter in left if letter != "\r"] and all(
        shown[at + 1] == "\n" for at, letter in enumerate(shown) if letter == "\r"
    )
    assert printable_lines(shown) == shown
    assert cell_text(text)[:1] not in tuple("=+-@\t\r＝＋－＠")


HOSTILE = ["\x1b[31mred.txt", "a\nb.txt", "\u202egnp.exe", "\x9b31mc1.txt", "=cmd.csv", "＝full.csv", "<b>.html", "\udcff.txt", "\u00ad.txt"]  # fmt: skip


def test_no_output_of_any_command_brings_a_name_to_the_terminal_raw(folder: Path, served: Served) -> None:
    for name in HOSTILE:
        put(folder / "in" / f"{name}.d" / name, "the same")
        put(folder / "in" / name, "the same")
        os.setxattr(folder / "in" / name, "user.xdg.tags", b"\x1b[31mtag")
    put(folder / "rules.toml", rules_text('in = "in"\nwhere = "everything"\nmove = "by/{tag}"\nlevels = "all"'))
    formats = {"inventory": ["table", "json", "csv", "html"], "duplicates": ["table", "json", "csv", "html"]}
    commands = [[name, "in", "--format", one] for name, all_ in formats.items() for one in all_]
    commands += [["compare", "in", "in/a\nb.txt.d", "--format", one] for one in ("table", "json", "csv", "html")]
    commands += [
        ["inventory", "in", "--listing"], ["preview", "rules.toml"], ["explain", f"in/{HOSTILE[0]}", "--rules", "rules.toml"],
        ["purge", "in", "--older-than", "1 day", "--levels", "all", "--hidden"], ["inventory", "in/\x1b[31mnone"],
        ["tidy", "rules.toml", "--yes"], ["history", "1"], ["history", "--file", HOSTILE[0]], ["undo", "--yes"],
        ["purge", "in", "--older-than", "1 day", "--by", "modified", "--yes"], ["trash"], ["undo", "--yes"], ["\x1b[31m"],
    ]  # fmt: skip
    for words in commands:
        done = served.run(words, folder, os.environ)
        said = done.stdout + done.stderr
        assert "Traceback" not in said and done.returncode in (0, 1, 2, 3), (words, said[-500:])
        bad = {"Cc", "Cf", "Cs", "Zl", "Zp"}
        left = {
            hex(ord(letter)) for letter in said.replace("\r\n", "\n") if unicodedata.category(letter) in bad and letter != "\n"
        }
        assert not left, (words, left)
        assert "<b>.html" not in said or "html" not in words


@AS_ROOT
def test_a_home_that_is_a_volume_of_its_own_is_not_purged(folder: Path, frugal: Frugal, mount: Mount) -> None:
    home = mount("tmpfs", "home")
    put(home / "old.txt", age_days=900)
    said = frugal("purge", home, "--older-than", "1 day", "--by", "modified", "--yes", code=3, HOME=str(home)).stderr
    assert "home folder" in said and (home / "old.txt").exists()
