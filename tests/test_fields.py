"""The facts that cost more than a name: what a closer look, attributes and contents say."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import time
from datetime import datetime
from functools import partial
from pathlib import Path

import pytest

from frugal_sorter import demo as made
from frugal_sorter.filesystem import extended_attributes as attributes
from frugal_sorter.filesystem.contents import Contents
from frugal_sorter.filesystem.record import Unknown
from frugal_sorter.filesystem.walk import look_inside
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.rules.fields import FIELDS, Field, World, unmarked_name
from tests.support import DAY_NS, NOW_NS, WORLD, book_of, condition, facts_of, moves_of, plan_of, put, write_song

# Birth and change times cannot be made up, so that here everything is counted from the real now.
SHELF_NOW_NS = time.time_ns()
TAKEN = datetime(2024, 5, 6, 10, 30)
ALL = {
    "photo.jpg", "fake.jpg", "cut.jpg", "no date.jpg", "doc.pdf", "broken.pdf", "notes.txt", "latin.txt", "wide.txt", "song.mp3",
    "locked.csv", "one.dat", "two.dat", "report.csv", "report - Copy.csv", "report (2).csv", "lonely copy.csv", "tagged.bin",
    "huge.txt", "empty.png", "script.png",
}  # fmt: skip
COPIES = {"report - Copy.csv", "report (2).csv"}
PHOTOS = {"photo.jpg", "fake.jpg", "cut.jpg", "no date.jpg", "empty.png", "script.png"}


@pytest.fixture(scope="module")
def shelf(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = tmp_path_factory.mktemp("shelf").resolve()
    chance = random.Random(3)
    make = partial(put, now_ns=SHELF_NOW_NS)
    photo = made.photo(chance, TAKEN, 8, 6)
    make(root / "photo.jpg", photo)
    make(root / "fake.jpg", b"MZ\x90\0" + bytes(200))
    make(root / "cut.jpg", photo[:60])
    make(root / "no date.jpg", photo.replace(b"\x03\x90", b"\x03\x91", 1))
    make(root / "doc.pdf", made.document(["Saltmarsh Minerals", "No. 5207"]))
    make(root / "broken.pdf", b"%PDF-1.4\n" + bytes(500))
    make(root / "notes.txt", "Ask about the blue glaze: céladon.")
    make(root / "latin.txt", "Théière".encode("cp1252"))
    make(root / "wide.txt", "kiln paper".encode("utf-16"))
    write_song(root / "song.mp3", "Maren Holt")
    make(root / "locked.csv", b"a,b").chmod(0o444)
    os.link(make(root / "one.dat", b"\x01\x02"), root / "two.dat")
    for name in ("report.csv", "report - Copy.csv", "report (2).csv", "lonely copy.csv"):
        make(root / name, b"a,b\n1,2\n", age_days=60)
    make(root / "tagged.bin", b"\x00\x01")
    os.setxattr(root / "tagged.bin", attributes.TAGS, b"Keep, kiln two")
    os.setxattr(root / "tagged.bin", attributes.COMMENT, "from Søren".encode())
    os.setxattr(root / "tagged.bin", attributes.ORIGIN, b"https://kiln.example/logs")
    with open(make(root / "huge.txt"), "wb") as file:
        file.truncate(10_000_000_000)
    make(root / "empty.png", b"")
    make(root / "script.png", b"#!/bin/sh\necho\n")
    return root


# What is true, and what is not even under `not`: there it is unknown.
CASES: list[tuple[str, set[str], set[str]]] = [
    ("taken on 2024-05-06", {"photo.jpg"}, ALL - {"photo.jpg"}),
    ("taken before 2025", {"photo.jpg"}, ALL - {"photo.jpg"}),
    ("taken after 2024-05-06", set(), ALL - {"photo.jpg"}),
    ("taken older than 1 year", {"photo.jpg"}, ALL - {"photo.jpg"}),
    ("taken within 1 year", set(), ALL - {"photo.jpg"}),
    ("taken is none", ALL - PHOTOS | {"no date.jpg"}, PHOTOS - {"photo.jpg", "no date.jpg"}),
    ("taken is 2024", {"photo.jpg"}, ALL - {"photo.jpg"}),
    ("type is image and taken on 2024-05", {"photo.jpg"}, PHOTOS - {"photo.jpg"}),
    ("mislabelled", {"fake.jpg"}, {"one.dat", "two.dat", "tagged.bin", "notes.txt", "latin.txt", "locked.csv",
                                   "report.csv", *COPIES, "lonely copy.csv", "huge.txt", "empty.png", "script.png"}),
    ("mime is image/jpeg and type is image", {"photo.jpg", "cut.jpg", "no date.jpg"}, {"empty.png", "script.png"}),
    ("mime starts application and ext is pdf", {"doc.pdf", "broken.pdf"}, set()),
    ("title is 'wheel song'", {"song.mp3"}, {"broken.pdf"}),
    ("title is exactly 'wheel song'", set(), {"broken.pdf"}),
    ("artist has holt", {"song.mp3"}, {"broken.pdf"}),
    ("artist is none", ALL - {"song.mp3", "broken.pdf"}, {"broken.pdf"}),
    ("album is none and ext is mp3", {"song.mp3"}, set()),
    ("title like 'wheel*'", {"song.mp3"}, {"broken.pdf"}),
    ("title matches 'so+ng'", {"song.mp3"}, {"broken.pdf"}),
    ("title fits '{what} song'", {"song.mp3"}, {"broken.pdf"}),
    ("text has saltmarsh and ext is pdf", {"doc.pdf"}, {"broken.pdf"}),
    ("text has 'CÉLADON' and ext is txt", {"notes.txt"}, {"huge.txt"}),
    ("text has exactly 'CÉLADON' and ext is txt", set(), {"huge.txt"}),
    ("text has théière and ext is txt", {"latin.txt"}, {"huge.txt"}),
    ("text starts 'kiln p' and ext is txt", {"wide.txt"}, {"huge.txt"}),
    ("text like '*paper' and ext is txt", {"wide.txt"}, {"huge.txt"}),
    ("text matches 'No\\. \\d+' and ext is pdf", {"doc.pdf"}, {"broken.pdf"}),
    ("text is none and ext is png", {"empty.png"}, set()),
    ("text has x and ext is dat", set(), {"one.dat", "two.dat"} - {"one.dat", "two.dat"}),
    ("tag is keep", {"tagged.bin"}, set()),
    ("tag is exactly keep", set(), set()),
    ("tag is not keep", ALL - {"tagged.bin"}, set()),
    ("tag in (x, 'kiln two')", {"tagged.bin"}, set()),
    ("tag not in (x, 'kiln two')", ALL - {"tagged.bin"}, set()),
    ("tag has kiln", {"tagged.bin"}, set()),
    ("tag starts kee", {"tagged.bin"}, set()),
    ("tag ends two", {"tagged.bin"}, set()),
    ("tag like 'k*n*'", {"tagged.bin"}, set()),
    ("tag matches '^Kee'", {"tagged.bin"}, set()),
    ("tag is none", ALL - {"tagged.bin"}, set()),
    ("tag is not none", {"tagged.bin"}, set()),
    ("comment has søren", {"tagged.bin"}, set()),
    ("comment is none", ALL - {"tagged.bin"}, set()),
    ("comment not has søren", ALL - {"tagged.bin"}, set()),
    ("origin starts https", {"tagged.bin"}, set()),
    ("origin matches 'kiln\\.example'", {"tagged.bin"}, set()),
    ("origin fits 'https://{host}/logs'", {"tagged.bin"}, set()),
    ("readonly", {"locked.csv"}, set()),
    ("not readonly", ALL - {"locked.csv"}, set()),
    ("linked", {"one.dat", "two.dat"}, set()),
    ("copy-named", COPIES, set()),
    ("ext is csv and not copy-named", {"locked.csv", "report.csv", "lonely copy.csv"}, set()),
    ("in use", set(), set()),
    ("not in use", ALL, set()),
    ("created after 2020", ALL, set()),
    ("created is none", set(), set()),
    ("arrived within 1 year", ALL, set()),
    ("arrived older than 1 year", set(), set()),
    ("latest within 1 year", ALL, set()),
    ("latest older than 30 days", set(), set()),
    ("modified older than 30 days and latest within 1 year", {"report.csv", *COPIES, "lonely copy.csv"}, set()),
    ("opened after 2020", ALL, set()),
    ("opened before 2020", set(), set()),
    ("owner is none", set(), set()),
    ("owner is 'nobody there'", set(), set()),
    ("not (taken after 2020)", set(), ALL - {"photo.jpg"}),
    ("taken after 2020 or ext is pdf", {"photo.jpg", "doc.pdf", "broken.pdf"}, ALL - {"photo.jpg", "doc.pdf", "broken.pdf"}),
    ("not (taken after 2020 or ext is pdf)", set(), ALL - {"photo.jpg", "doc.pdf", "broken.pdf"}),
    ("not (taken after 2020 and ext is pdf)", ALL - {"photo.jpg", "doc.pdf", "broken.pdf"} | {"photo.jpg"},
     {"doc.pdf", "broken.pdf"}),
    ("not mislabelled and ext in (jpg, pdf)", {"photo.jpg", "cut.jpg", "no date.jpg", "doc.pdf", "broken.pdf"}, set()),
    ("mislabelled or readonly", {"fake.jpg", "locked.csv"},
     {"one.dat", "two.dat", "tagged.bin", "notes.txt", "latin.txt", "report.csv", *COPIES, "lonely copy.csv",
      "huge.txt", "empty.png", "script.png"}),
    ("size > 1 GB", {"huge.txt"}, set()),
    ("size > 1 GB and text has clay", set(), {"huge.txt"}),
    ("type is audio and artist starts maren and title ends song", {"song.mp3"}, set()),
]  # fmt: skip


@pytest.mark.parametrize(("text", "true", "unknown"), CASES, ids=[case[0] for case in CASES])
def test_conditions_on_dearer_facts(shelf: Path, text: str, true: set[str], unknown: set[str]) -> None:
    world = World(SHELF_NOW_NS + DAY_NS)
    node = condition(text)
    truths = {name: node.test(facts_of(shelf / name, shelf, world)) for name in ALL}
    world.contents.close()
    assert {name for name, truth in truths.items() if truth is True} == true
    if "text" not in text or unknown:
        assert {name for name, truth in truths.items() if truth is None} == unknown


def test_a_table_of_conditions_is_large_enough() -> None:
    from tests import test_conditions

    assert len(CASES) + len(test_conditions.CASES) >= 150


def test_why_a_fact_is_unknown(shelf: Path) -> None:
    reasons = {
        ("cut.jpg", "taken"): "damaged",
        ("broken.pdf", "text"): "damaged",
        ("huge.txt", "text"): "larger than 8 MB",
        ("one.dat", "mislabelled"): "this extension does not imply a file format",
        ("notes.txt", "mime"): "unknown file format",
        ("gone.txt", "text"): "no such file or directory",
    }
    world = World(NOW_NS)
    put(shelf / "gone.txt")
    for (name, field), reason in reasons.items():
        facts = facts_of(shelf / name, shelf, world)
        if name == "gone.txt":
            (shelf / name).unlink()
        value = facts(field)
        assert isinstance(value, Unknown) and reason in value.reason, (name, field, value)
    world.contents.close()


@pytest.mark.parametrize("kind", ["pipe", "link", "device", "folder"])
def test_what_takes_the_place_of_a_file_is_not_read(folder: Path, kind: str) -> None:
    path = folder / "a.txt"
    facts = facts_of(put(path, "secret"), folder, world := World(NOW_NS))
    put(folder / "other.txt", "secret")
    path.unlink()
    if kind == "pipe":
        os.mkfifo(path)
    elif kind == "link":
        path.symlink_to("other.txt")
    elif kind == "folder":
        path.mkdir()
    else:
        try:
            os.mknod(path, 0o020666, os.makedev(1, 5))
        except PermissionError:
            pytest.skip("only root makes device nodes")
    assert isinstance(facts("text"), Unknown)
    world.contents.close()


def test_a_document_that_never_ends_is_given_up_and_the_next_one_is_read(folder: Path) -> None:
    loop = (
        b"%PDF-1.4\n1 0 obj\n<< /Type /Catalog /Pages 2 0 R >>\nendobj\n"
        b"2 0 obj\n<< /Type /Pages /Kids [2 0 R 2 0 R 2 0 R] /Count 9 >>\nendobj\n"
        b"trailer << /Root 1 0 R >>\n%%EOF\n"
    )
    contents = Contents(seconds=3)
    put(folder / "loop.pdf", loop)
    put(folder / "slow.txt", "x")
    assert isinstance(contents.read("text", str(folder / "loop.pdf")), Unknown)
    assert contents.read("text", str(put(folder / "good.txt", "clay"))) == "clay"
    contents.close()
    impatient = Contents(seconds=0)
    found = impatient.read("text", str(folder / "good.txt"))
    assert found == Unknown("took too long")
    impatient.close()


def test_the_bytes_of_a_file_are_opened_only_if_nothing_cheaper_decided(shelf: Path) -> None:
    def opened(text: str) -> int:
        world = World(NOW_NS)
        for name in ALL:
            condition(text).test(facts_of(shelf / name, shelf, world))
        world.contents.close()
        return world.contents.opened

    assert opened("text has clay and ext is nothing") == 0
    assert opened("text has clay or everything") == 0
    assert opened("mislabelled and size > 1 GB") == 1
    assert opened("not (ext is nothing and taken before 2020)") == 0
    assert opened("taken before 2025") == len(PHOTOS)
    assert opened("title is a or artist is b or album is c") == 3  # one look at a recording or a PDF gives all three


def test_planning_opens_no_file_that_its_name_rules_out(folder: Path) -> None:
    for name in ("a.txt", "b.txt", "c.csv", "d.log"):
        put(folder / "Intake" / name, "clay")
    world = World(NOW_NS)
    plan = plan_by_rules(book_of(folder, 'where = "text has clay and ext is txt"\nmove = "x"'), world, EarlierRuns())
    assert len(plan.asked) == 2 and world.contents.opened == 2


def test_a_file_that_a_program_has_open_is_in_use_and_the_program_is_named(folder: Path) -> None:
    path = put(folder / "a.log")
    with subprocess.Popen(["tail", "-f", path], stdout=subprocess.PIPE) as program:
        assert program.stdout is not None
        program.stdout.read(1)
        world = World(NOW_NS)
        facts = facts_of(path, folder, world)
        assert facts("in use") is True
        assert world.open_files.holder(facts.record.identity, facts.record.place.path) == f"tail (process {program.pid})"
        program.kill()
    assert facts_of(path, folder, World(NOW_NS))("in use") is False


@pytest.mark.parametrize(
    ("name", "plain"),
    [
        ("a copy.txt", "a.txt"), ("a copy 2.txt", "a.txt"), ("a - Copy.txt", "a.txt"), ("a - Copy (3).txt", "a.txt"),
        ("a (2).txt", "a.txt"), ("a - Kopie.txt", "a.txt"), ("a (1).txt", "a.txt"), ("a_2.txt", None), ("copy.txt", None),
        ("a (2)", "a"), ("photocopy.txt", None), ("logs (2).tar.gz", "logs.tar.gz"),
    ],
)  # fmt: skip
def test_marks_of_copies(name: str, plain: str | None) -> None:
    assert unmarked_name(name) == plain


def test_folders_are_as_big_and_as_old_as_what_is_inside(folder: Path) -> None:
    root = folder / "run"
    put(root / "a.tmp", b"x" * 10, age_days=9)
    put(root / "deep/b.tmp", b"x" * 20, age_days=4)
    (root / "link").symlink_to("/etc")
    facts = facts_of(root, folder)
    assert (facts("size"), facts("empty"), facts("ext"), facts("type")) == (30, False, "", "other")
    assert facts("modified") == NOW_NS - 4 * DAY_NS
    (folder / "none").mkdir()
    assert facts_of(folder / "none", folder)("empty") is True
    before = look_inside(str(root))
    assert look_inside(str(root)) == before and not isinstance(before, Unknown)
    put(root / "deep/b.tmp", b"y" * 20, age_days=3)
    after = look_inside(str(root))
    assert not isinstance(after, Unknown) and after.digest != before.digest


def need(program: str) -> None:
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not installed")


def test_exiftool_agrees_on_when_a_photo_was_taken(shelf: Path) -> None:
    need("exiftool")
    done = subprocess.run(
        ["exiftool", "-s3", "-DateTimeOriginal", shelf / "photo.jpg"], capture_output=True, text=True, check=True
    )
    said = datetime.strptime(done.stdout.strip(), "%Y:%m:%d %H:%M:%S")
    assert facts_of(shelf / "photo.jpg", shelf)("taken") == int(said.timestamp()) * 10**9
    WORLD.contents.close()


def test_getfattr_agrees_on_tags_and_comment(folder: Path) -> None:
    need("setfattr")
    path = put(folder / "a")
    subprocess.run(["setfattr", "-n", "user.xdg.tags", "-v", "kiln,two words", path], check=True)
    subprocess.run(["setfattr", "-n", "user.xdg.comment", "-v", "hält", path], check=True)
    facts = facts_of(path, folder)
    read = ["getfattr", "--only-values", "-n", "user.xdg.comment", str(path)]
    assert subprocess.run(read, capture_output=True, text=True, check=True).stdout == facts("comment")
    assert (facts("tag"), facts("comment"), facts("origin")) == (("kiln", "two words"), "hält", "")


def test_stat_agrees_on_birth_times(folder: Path) -> None:
    path = put(folder / "a")
    born = subprocess.run(["stat", "-c", "%W", path], capture_output=True, text=True, check=True).stdout.strip()
    created = facts_of(path, folder)("created")
    if born in ("0", "-"):
        assert isinstance(created, Unknown)
    else:
        assert isinstance(created, int) and created // 10**9 == int(born)


def test_every_field_has_a_summary_and_a_cost_that_fits_its_source() -> None:
    for field in FIELDS.values():
        assert field.summary and (bool(field.source) is (field.cost <= 3)), field.name


@pytest.mark.parametrize("cost", [1, 3, 5, 20])
def test_a_field_that_has_no_expression_over_columns_is_asked_of_each_file(
    folder: Path, monkeypatch: pytest.MonkeyPatch, cost: int
) -> None:
    monkeypatch.setitem(FIELDS, "letters", Field("letters", "number", cost, "in its name", lambda facts: len(facts.name)))
    for name in ("kiln.log", "a.log"):
        put(folder / "Intake" / name)
    book = book_of(folder, 'where = "letters > 6"\nmove = "Long"')
    assert moves_of(plan_of(book), folder) == {"Intake/kiln.log": "Intake/Long/kiln.log"}
