"""`frugal gather`: the files that a list names, by the built program and by its planner."""

from __future__ import annotations

import json
import os
import unicodedata
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.errors import UsageError
from frugal_sorter.planning.jobs import Wish, plan_gather, read_wishes
from tests.conftest import Frugal
from tests.support import NOW_NS, contents, file_names, put, snapshot

E_ACUTE = "\u00e9"


@pytest.fixture
def intake(folder: Path) -> Path:
    for name in ("From phone/IMG_1.jpg", "From phone/IMG_2.JPG", f"{E_ACUTE}mail.txt", "a.pdf", "other/a.pdf", ".hidden.txt"):
        put(folder / "Intake" / name, name)
    return folder / "Intake"


def gathered(folder: Path) -> set[str]:
    return {str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file()} if folder.exists() else set()


@pytest.mark.parametrize(
    ("raw", "encoding"),
    [
        (b"\xef\xbb\xbf# for the insurance\r\n\r\nFrom phone/IMG_1.jpg\r\n  a.pdf  \r\n", "utf-8"),
        (b"From phone\\IMG_1.jpg\na.pdf", "utf-8"),
        ("From phone/IMG_1.jpg\na.pdf\n".encode("utf-16"), "utf-16"),
        (b"from PHONE/img_1.JPG\rA.PDF\r", "cp1252"),
        (b"./From phone/IMG_1.jpg\nother/../a.pdf\n", "utf-8"),
        (b"From phone/IMG_1.jpg\nFrom phone/IMG_1.jpg\na.pdf\n", "UTF8"),
    ],
)
def test_a_list_is_forgiven_its_encoding_slashes_case_and_comments(
    intake: Path, folder: Path, frugal: Frugal, raw: bytes, encoding: str
) -> None:
    (folder / "list.txt").write_bytes(raw)
    said = frugal("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--encoding", encoding, "--yes").stdout
    assert "Of 2 listed: 2 copied, 0 already there, 0 missing." in said
    assert gathered(folder / "Out") == {"From phone/IMG_1.jpg", "a.pdf"} and len(gathered(intake)) == 6


def test_what_is_missing_is_named_with_its_line_and_the_nearest_name(intake: Path, folder: Path, frugal: Frugal) -> None:
    lines = [
        "a.pdf",
        "# a remark",
        "IMG_1.jpg",
        "From phone/IMG_11.jpg",
        "From phone",
        "../secret",
        "/etc/passwd",
        "C:\\x",
        "kiln of 1999",
    ]
    put(folder / "list.txt", "\n".join(lines))
    (intake / "link").symlink_to("a.pdf")
    put(folder / "list.txt", "\n".join([*lines, "link"]))
    words = ("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out")
    listed = frugal(*words, code=3).stdout
    for line in (
        "line  3  IMG_1.jpg  did you mean From phone/IMG_1.jpg?", "line  4  From phone/IMG_11.jpg  did you mean From phone/IMG_1.jpg?",
        "line 5 names a folder: 2 files below From phone", f"line  6  ../secret  not below {intake}",
        f"line  7  /etc/passwd  not below {intake}", "line  8  C:\\x  not below", "line  9  kiln of 1999",
        "line 10  link  a symbolic link, which is not followed",
    ):  # fmt: skip
        assert line in listed
    assert not (folder / "Out").exists()
    assert "Of 10 listed: 3 copied, 0 already there, 7 missing." in frugal(*words, "--yes", code=1).stdout


def test_several_that_differ_in_case_alone_are_named_and_none_is_taken(intake: Path, folder: Path, frugal: Frugal) -> None:
    put(intake / "A.PDF", "another")
    put(folder / "list.txt", f"A.pdf\na.pdf\n{unicodedata.normalize('NFD', E_ACUTE)}MAIL.txt\n")
    said = frugal("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--yes", code=1).stdout
    assert "line 1  A.pdf  2 files match if upper and lower case are ignored: " in said
    assert gathered(folder / "Out") == {"a.pdf", f"{E_ACUTE}mail.txt"}


def test_files_are_moved_flat_and_numbered_and_an_undo_brings_them_back(intake: Path, folder: Path, frugal: Frugal) -> None:
    before = snapshot(intake)
    put(folder / "list.txt", "a.pdf\nother/a.pdf\nFrom phone/IMG_1.jpg\n")
    words = ("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--move", "--flat", "--yes")
    assert "Of 3 listed: 3 moved, 0 already there, 0 missing." in frugal(*words).stdout
    assert gathered(folder / "Out") == {"a.pdf", "a_2.pdf", "IMG_1.jpg"}
    assert (folder / "Out/a_2.pdf").read_text() == "other/a.pdf" and not (intake / "a.pdf").exists()
    frugal("undo", "--yes")
    assert snapshot(intake) == before and not (folder / "Out").exists()


def test_what_is_there_already_stays_and_another_file_is_never_replaced(intake: Path, folder: Path, frugal: Frugal) -> None:
    put(folder / "Out/a.pdf", "a.pdf")
    put(folder / "Out/other/a.pdf", "Another one")
    put(folder / "list.txt", "a.pdf\nother/a.pdf\n.hidden.txt\n")
    words = ("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--yes")
    said = frugal(*words, code=1).stdout
    assert "Of 3 listed: 1 copied, 1 already there, 0 missing, 1 not copied." in said
    assert f"another file is already at {folder / 'Out/other/a.pdf'}" in said
    assert (folder / "Out/other/a.pdf").read_text() == "Another one" and (folder / "Out/.hidden.txt").exists()
    frugal("undo", "--yes")
    assert gathered(folder / "Out") == {"a.pdf", "other/a.pdf"}
    assert json.loads(frugal("history", "--format", "json").stdout)


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--list", "missing.txt", "--from", "Intake", "--to", "Out"), "cannot read the list missing.txt (not found)"),
        (("--list", "bad.txt", "--from", "Intake", "--to", "Out"), "bad.txt:2: not valid utf-8; give the list's encoding"),
        (("--list", "empty.txt", "--from", "Intake", "--to", "Out"), "contains no paths"),
        (("--list", "good.txt", "--from", "Nowhere", "--to", "Out"), "folder not found"),
        (("--list", "good.txt", "--from", "Intake", "--to", ""), "--to is empty"),
        (("--list", "good.txt", "--from", "Intake", "--to", "Out", "--encoding", "klingon"), "'klingon' is not known"),
    ],
)
def test_bad_input_gets_one_line(intake: Path, folder: Path, frugal: Frugal, words: tuple[str, ...], why: str) -> None:
    put(folder / "bad.txt", b"a.pdf\n\xff\xfe\xe9\n")
    put(folder / "empty.txt", "# nothing\n\n")
    put(folder / "good.txt", "a.pdf\n")
    said = frugal("gather", *words, "--yes", code=2).stderr
    assert why in said and said.count("\n") == 1 and not (folder / "Out").exists()


def test_nothing_goes_into_a_system_folder_and_names_that_a_volume_cannot_hold_are_told_first(
    intake: Path, folder: Path, frugal: Frugal, monkeypatch: pytest.MonkeyPatch
) -> None:
    put(folder / "list.txt", "a.pdf\nFrom phone/IMG_1.jpg\n")
    assert "inside a system folder" in frugal("gather", "--list", "list.txt", "--from", "Intake", "--to", "/usr/x", code=3).stderr
    put(intake / "why?.txt", "x")

    def stick(*_: object) -> object:
        from frugal_sorter.filesystem.volumes import Volume

        return Volume("/media/stick", "vfat")

    monkeypatch.setattr("frugal_sorter.planning.jobs.volume_of", stick)
    found = plan_gather([Wish(1, "why?.txt"), Wish(2, "a.pdf")], str(intake), str(folder / "Out"), NOW_NS)
    assert [left.reason for left in found.plan.not_touched] == ["a vfat volume does not allow that name"]
    assert [step.place.name for step in found.plan.asked] == ["a.pdf"]
    monkeypatch.setattr("frugal_sorter.planning.guard.free_bytes", lambda _: 10)
    full = plan_gather([Wish(2, "a.pdf")], str(intake), str(folder / "Out"), NOW_NS)
    assert not full.plan.asked and "but only 10 are free" in full.plan.refused[0].reason


@given(st.lists(file_names, min_size=1, max_size=6, unique=True), st.booleans(), st.booleans())
def test_whatever_the_names_the_numbers_add_up_and_no_content_is_lost(
    tmp_path_factory: pytest.TempPathFactory, names: list[str], move: bool, flat: bool
) -> None:
    from tests.support import carry_out

    folder = tmp_path_factory.mktemp("gather").resolve()
    for number, name in enumerate(names):
        put(folder / "Intake" / str(number % 2) / name, f"{number}")
    held = contents(folder / "Intake")
    wishes = [Wish(number, f"{number % 2}/{name}") for number, name in enumerate(names)] + [Wish(99, "not there")]
    found = plan_gather(wishes, str(folder / "Intake"), str(folder / "Out"), NOW_NS, move, flat)
    assert found.asked == len(found.plan.asked) + len(found.already) + len(found.plan.not_touched) + len(found.missed)
    result = carry_out(found.plan)
    assert result.done.steps == len(found.plan.asked) and found.missed[-1].wish.line == 99
    now = contents(folder)
    assert not held - now and now.total() == held.total() + (0 if move else result.done.steps)


def test_a_list_that_is_no_text_names_the_line() -> None:
    with pytest.raises(UsageError, match=r"list\.txt:3: not valid utf-8"):
        read_wishes(b"a\nb\n\xff", "list.txt")
    assert read_wishes(b"a\r\n#b\n\n c \n", "x") == [Wish(1, "a"), Wish(4, "c")]
    assert os.linesep == "\n"


@pytest.mark.parametrize(("lines", "more", "out"), [
    (["From phone"], [], {"From phone/IMG_1.jpg", "From phone/IMG_2.JPG"}), (["from PHONE\\"], [], {"From phone/IMG_1.jpg", "From phone/IMG_2.JPG"}),
    (['"a.pdf"', "'other/a.pdf'"], [], {"a.pdf", "other/a.pdf"}), (['"C:\\Users\\Maren\\Intake\\From phone\\IMG_1.jpg"'], ["--strip-to", "Intake"], {"From phone/IMG_1.jpg"}),
    (["/Volumes/Old/My INTAKE/intake/other/a.pdf"], ["--strip-to", "intake"], {"other/a.pdf"}),
    (["/srv/x/Maren/Intake/a.pdf", "D:\\y\\maren\\intake\\other"], ["--strip-to", "Maren\\Intake"], {"a.pdf", "other/a.pdf"}),
    (["IMG_1.jpg", "From phone/IMG_2.jpeg"], ["--accept-nearest"], {"From phone/IMG_1.jpg", "From phone/IMG_2.JPG"}),
])  # fmt: skip
def test_a_list_from_elsewhere_is_read_as_it_is_meant(
    intake: Path, folder: Path, frugal: Frugal, lines: list[str], more: list[str], out: set[str]
) -> None:
    put(folder / "list.txt", "\n".join(lines))
    said = frugal("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--yes", *more).stdout
    assert gathered(folder / "Out") == out
    assert f"Verified in the target: {len(out)} of {len(out)} file" in said and "0 missing" in said
    assert ("Similar files used instead" in said) is ("--accept-nearest" in more)


def test_what_is_counted_is_what_is_there(intake: Path, folder: Path, frugal: Frugal) -> None:
    put(folder / "list.txt", "a.pdf\nFrom phone")
    words = ("gather", "--list", "list.txt", "--from", "Intake", "--to", "Out", "--yes")
    frugal(*words)
    (folder / "Out/a.pdf").unlink()
    (folder / "Out/From phone/IMG_1.jpg").unlink()
    assert "Verified in the target: 2 of 3 files" in frugal(*words, "--without", "a.pdf").stdout


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig"])
def test_a_list_with_a_mark_is_read_whatever_wrote_it(folder: Path, frugal: Frugal, encoding: str) -> None:
    put(folder / "From/Émail céladon.txt")
    mark = "\ufeff" if encoding in ("utf-16-le", "utf-16-be") else ""
    put(folder / "list.txt", f"{mark}Émail céladon.txt\r\n".encode(encoding))
    frugal("gather", "--list", "list.txt", "--from", "From", "--to", "To", "--yes")
    assert (folder / "To/Émail céladon.txt").exists()
