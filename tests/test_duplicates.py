"""Files with the same contents: the search against a naive oracle, what stays, and how the others go."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import threading
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from types import SimpleNamespace
from typing import cast

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter import duplicates
from frugal_sorter.duplicates import CACHED_BYTES, WHOLE_BYTES, Columns, ContentSearch, DigestCache, Found, Group, Same
from frugal_sorter.filesystem import parallel as sharing
from frugal_sorter.planning.duplicates import Removing, choose, first_difference, look_alikes, plan_duplicates, same_folders
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import disk
from frugal_sorter.reasons import Outcome
from frugal_sorter.rules.fields import unmarked_name
from frugal_sorter.rules.keys import KEEPS, Keep
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.step import Count
from tests.conftest import Frugal
from tests.served import Served
from tests.support import (
    WORLD,
    book_of,
    carry_out,
    contents,
    done_by,
    on_terminal,
    plan_of,
    put,
    rules_text,
    snapshot,
    trash_of,
    undo,
)

BIG = CACHED_BYTES + WHOLE_BYTES


def groups_of(folder: Path, **options: object) -> set[frozenset[str]]:
    """Return the groups that a search finds, by the paths of the first names."""
    found = ContentSearch(hidden=True, **options).search([str(folder)])  # type: ignore[arg-type]
    return {frozenset(one.path for one in group.files) for group in found.groups}


def oracle(folder: Path) -> set[frozenset[str]]:
    """Return the groups by reading everything: files by their whole contents, each inode once."""
    by_content: dict[bytes, dict[tuple[int, int], str]] = defaultdict(dict)
    for path in sorted(folder.rglob("*"), key=str):
        if path.is_file() and not path.is_symlink() and path.stat().st_size:
            by_content[path.read_bytes()].setdefault((path.stat().st_dev, path.stat().st_ino), str(path))
    return {frozenset(paths.values()) for paths in by_content.values() if len(paths) > 1}


BODIES = st.sampled_from(
    ["", "a", "b", "clay", "Clay", *(body for size in (WHOLE_BYTES, BIG) for body in ("0" * size, "1" + "0" * (size - 1)))]
)
TREES = st.lists(
    st.tuples(st.sampled_from(["", "a", "b/c", ".h"]), BODIES, st.sampled_from(["file", "hard", "soft", "middle"])), max_size=9
)


@given(TREES)
def test_the_search_finds_what_an_oracle_finds_that_reads_everything(
    tmp_path_factory: pytest.TempPathFactory, tree: list[tuple[str, str, str]]
) -> None:
    folder = tmp_path_factory.mktemp("same").resolve()
    made: list[Path] = []
    for number, (below, body, kind) in enumerate(tree):
        path = folder / below / f"{number}"
        path.parent.mkdir(parents=True, exist_ok=True)
        if kind in ("hard", "soft") and made:
            (os.link if kind == "hard" else os.symlink)(made[number % len(made)], path)
            continue
        path.write_text(body[: len(body) // 2] + "x" + body[len(body) // 2 + 1 :] if kind == "middle" and body else body)
        made.append(path)
    assert groups_of(folder) == oracle(folder)


@pytest.mark.parametrize("two", [False, True])
@pytest.mark.parametrize("at", [0, BIG // 2, BIG - 1])
def test_one_byte_tells_files_of_one_size_apart_wherever_it_is(
    folder: Path, monkeypatch: pytest.MonkeyPatch, at: int, two: bool
) -> None:
    monkeypatch.setattr(sharing, "_WORTH_BYTES", 0 if two else 1 << 60)
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    body = bytearray(b"0" * BIG)
    put(folder / "a.stl", bytes(body))
    put(folder / "b.stl", bytes(body))
    body[at] = 49
    put(folder / "c.stl", bytes(body))
    assert groups_of(folder) == {frozenset({str(folder / "a.stl"), str(folder / "b.stl")})}
    assert (
        first_difference(
            *(
                __import__("frugal_sorter.filesystem.record", fromlist=["x"]).place_of(str(folder / one))
                for one in ("a.stl", "c.stl")
            )
        )
        == at
    )


def test_parts_whose_process_dies_are_read_again(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sharing, "_WORTH_BYTES", 0)
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    for number in range(12):
        put(folder / f"{number}.dat", f"{number % 3}" * 100)
    parent = os.getpid()

    def work(items: Sequence[str], told: object) -> list[int]:
        if os.getpid() != parent:
            os._exit(1)
        return [len(one) for one in items]

    assert [length for part in sharing.in_two(["a", "bb", "ccc"], [1, 1, 1], work) for length in part] == [1, 2, 3]
    assert len(groups_of(folder)) == 3


def test_a_fork_whose_parent_has_ended_is_given_no_more(monkeypatch: pytest.MonkeyPatch) -> None:
    tickets, parent = sharing._Tickets(range(2)), os.getpid()
    monkeypatch.setattr(os, "getpid", lambda: parent + 1)
    monkeypatch.setattr(os, "getppid", lambda: parent)
    assert tickets.take() == 0
    monkeypatch.setattr(os, "getppid", lambda: 1)
    assert tickets.take() is None
    monkeypatch.undo()
    assert [tickets.take(), tickets.take()] == [1, None]
    tickets.close()


def test_few_bytes_are_read_and_next_to_none_the_second_time(folder: Path) -> None:
    for number in range(5):
        put(folder / f"alone {number}.dat", bytes([number]) * (BIG + 10 + number))
    for number in range(6):
        put(folder / f"differs at the start {number}.dat", bytes([number]) + bytes(BIG))
    put(folder / "one.dat", b"x" * BIG * 4)
    put(folder / "two.dat", b"x" * BIG * 4)
    state = ready_state_folder()
    first = ContentSearch(cache=state).search([str(folder)])
    ends = 2 * duplicates.END_BYTES
    assert first.read == 2 * BIG * 4 + 8 * ends and len(first.groups) == 1
    again = ContentSearch(cache=state).search([str(folder)])
    paths = [[[one.path for one in group.files] for group in search.groups] for search in (first, again)]
    assert again.read == 0 and paths[0] == paths[1] == [[str(folder / "one.dat"), str(folder / "two.dat")]]
    # What is small is read as quickly as it is looked up.
    put(folder / "small.dat", "clay")
    put(folder / "small too.dat", "clay")
    assert ContentSearch(cache=state).search([str(folder)]).read == ContentSearch(cache=state).search([str(folder)]).read == 8
    # What was written to since is read again, also where its size and time are the same.
    before = (folder / "two.dat").stat()
    with open(folder / "two.dat", "r+b") as file:
        file.seek(BIG)
        file.write(b"y")
    os.utime(folder / "two.dat", ns=(before.st_atime_ns, before.st_mtime_ns))
    third = ContentSearch(cache=state).search([str(folder)])
    assert len(third.groups) == 1 and third.read == BIG * 4 + ends + 8


def test_the_cache_is_bounded_and_a_damaged_one_is_done_without(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("frugal_sorter.duplicates.MOST_ROWS", 10)
    with DigestCache(folder) as cache:
        for moment in range(5):
            cache.keep([((1, moment * 10 + at, 0, 5, 5, 5), b"e", b"w") for at in range(5)], moment)
        assert cache.known([(1, 44, 0, 5, 5, 5)]) == {(1, 44, 0, 5, 5, 5): (b"e", b"w")}
        assert not cache.known([(1, 0, 0, 5, 5, 5)]) and not cache.known([(1, 44, 0, 5, 5, 6)])
    (folder / "digests.sqlite").write_bytes(b"no database" * 500)
    for path in folder.glob("digests.sqlite-*"):
        path.unlink()
    put(folder / "Intake/a", "x")
    put(folder / "Intake/b", "x")
    assert len(ContentSearch(cache=folder).search([str(folder / "Intake")]).groups) == 1


def test_the_search_tells_how_far_it_has_got(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(duplicates, "_TOLD_EVERY", 2)
    for number in range(6):
        put(folder / f"{number}.dat", "x" * BIG)
    told: list[tuple[int, int, str]] = []
    ContentSearch(on_progress=lambda files, of, what: told.append((files, of, what))).search([str(folder)])
    assert told[0] == (6, 0, "files found") and (6, 6, "files looked into") in told and told[-1] == (6, 6, "files read")


def test_two_searches_at_once_find_the_same(folder: Path) -> None:
    for number in range(60):
        put(folder / f"Intake/{number}.dat", f"{number % 7}" * 500)
    found: list[int] = []

    def search() -> None:
        found.append(len(ContentSearch(cache=ready_state_folder()).search([str(folder / "Intake")]).groups))

    threads = [threading.Thread(target=search) for _ in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert found == [7] * 4


@pytest.mark.parametrize("what", ["changes", "vanishes", "link", "unreadable"])
def test_what_changes_or_cannot_be_read_is_named_and_in_no_group(folder: Path, what: str) -> None:
    for name in ("a.dat", "b.dat", "c.dat"):
        put(folder / name, "clay")
    found = [Found(str(folder / name), *_who(folder / name)) for name in ("a.dat", "b.dat", "c.dat")]
    if what == "changes":
        put(folder / "c.dat", "CLAY")
    elif what == "link":
        (folder / "c.dat").unlink()
        (folder / "c.dat").symlink_to("a.dat")
    else:
        (folder / "c.dat").unlink()
        if what == "unreadable":
            (folder / "c.dat").mkdir()
    told = duplicates.ends_digests(found, lambda _: None)
    one, other, third = (told[number] for number in range(len(told)))
    assert one is not None and one == other and third is None
    assert list(told.problems) == [2] and told.problems[2]


def _who(path: Path) -> tuple[int, int, int, int, int]:
    found = path.lstat()
    return found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns


def same(path: str, mtime_ns: int = 0) -> Same:
    columns = Columns()
    folder, name = os.path.split(path)
    status = SimpleNamespace(
        st_size=10, st_ino=1, st_mtime_ns=mtime_ns, st_ctime_ns=0, st_blocks=8, st_nlink=1
    )  # fmt: skip
    columns.add(folder, 1, [name], cast("list[os.stat_result]", [status]))
    return Same(columns, 0)


@pytest.mark.parametrize(
    ("keep", "keep_in", "kept", "why", "going"),
    [
        (("oldest",), (), "/x/b copy.jpg", "the oldest", 3),
        (("newest",), (), "/x/long name.jpg", "the newest", 3),
        (("shortest-path",), (), "/x/b.jpg", "the shortest path", 3),
        (("unmarked", "newest"), (), "/x/long name.jpg", "the newest", 3),
        (("unmarked", "shortest-path"), (), "/x/b.jpg", "the shortest path", 3),
        (("oldest",), ("/y",), "/y/b (2).jpg", "in the --keep-in folder", 3),
        (("oldest",), ("/x",), "/x/b copy.jpg", "in the --keep-in folder", 1),
        (("oldest",), ("/z",), "/x/b copy.jpg", "no copy in the --keep-in folder", 0),
    ],
)
def test_which_one_stays_and_why(keep: tuple[Keep, ...], keep_in: tuple[str, ...], kept: str, why: str, going: int) -> None:
    files = [same("/x/b copy.jpg", 1), same("/x/b.jpg", 2), same("/x/long name.jpg", 3), same("/y/b (2).jpg", 2)]
    choice = choose(Group(10, files), keep, keep_in)
    assert (choice.kept.path, choice.why, len(choice.going)) == (kept, why, going)
    assert choice.kept not in choice.going and choice.frees == 10 * going


@given(
    st.lists(st.tuples(st.sampled_from(["/x", "/y"]), st.integers(0, 3)), min_size=2, max_size=6, unique=True),
    st.lists(st.sampled_from(KEEPS), max_size=3),
    st.booleans(),
)
def test_one_always_stays_and_the_choice_does_not_depend_on_the_order(
    places: list[tuple[str, int]], keep: list[Keep], keep_in: bool
) -> None:
    files = [same(f"{folder}/{number}.jpg", number % 2) for folder, number in places]
    folders = ["/x"] if keep_in else []
    one, other = (choose(Group(10, order), keep, folders) for order in (files, files[::-1]))
    assert one.kept.path == other.kept.path and {file.path for file in one.going} == {file.path for file in other.going}
    assert one.kept not in one.going and not any(keep_in and file.path.startswith("/x/") for file in one.going)


# By the built program


@pytest.fixture
def desk(folder: Path) -> Path:
    put(folder / "Intake/shelf.jpg", "shelf" * 9_000, 30)
    put(folder / "Intake/shelf (2).jpg", "shelf" * 9_000, 3)
    put(folder / "Archive/2025/shelf picture.jpg", "shelf" * 9_000, 60)
    put(folder / "Intake/recipe.csv", "clay,1\n", 9)
    put(folder / "Intake/recipe - Copy.csv", "clay,2\n", 5)
    put(folder / "Intake/label copy.pdf", "label", 5)
    put(folder / "Intake/empty one", "")
    put(folder / "Intake/empty two", "")
    return folder


def test_the_report_names_what_stays_why_and_what_could_be_freed(desk: Path, frugal: Frugal) -> None:
    os.link(desk / "Intake/shelf.jpg", desk / "Intake/shelf again.jpg")
    before = snapshot(desk)
    said = frugal("duplicates", "Intake", "Archive").stdout
    assert "3 × 45.0 kB" in said and "2025/shelf picture.jpg  the oldest" in said and "same file (hard link)" in said
    assert "1 file named like copies is a true copy." in said
    assert "Intake/recipe - Copy.csv  modified " in said and "first difference at byte 6" in said
    assert "there is no original" in said and "Intake/label copy.pdf" in said
    assert "Skipped 2 empty files" in said and snapshot(desk) == before
    assert "2 groups" in frugal("duplicates", "Intake", "Archive", "--empty").stdout
    assert "No duplicates found." in frugal("duplicates", "Intake", "Archive", "--min-size", "1MB").stdout
    assert "No duplicates found" in frugal("duplicates", "Archive", "--levels", "1").stdout
    shown = frugal("duplicates", "Intake", "Archive", "--empty", "--top", "1").stdout
    assert "and 1 more group" in shown


def test_the_formats_say_the_same_and_escape_what_they_must(desk: Path, frugal: Frugal) -> None:
    put(desk / "Intake/=1+1.jpg", "shelf" * 9_000)
    put(desk / "Intake/<b>.jpg", "shelf" * 9_000)
    told = json.loads(frugal("duplicates", "Intake", "Archive", "--format", "json").stdout)
    schema = json.loads((Path(__file__).parent.parent / "docs/output.schema.json").read_text("utf-8"))
    jsonschema.validate(told, {**schema, "$ref": "#/$defs/duplicates"})
    (group,) = told["groups"]
    assert [one["keep"] for one in group["files"]].count(True) == 1 and len(group["files"]) == 5 and group["why"]
    assert {one["kind"] for one in told["look_alikes"]} == {"copy", "differs", "alone"}
    rows = list(csv.DictReader(io.StringIO(frugal("duplicates", "Intake", "Archive", "--format", "csv").stdout)))
    assert len(rows) == 5 and [row["keep"] for row in rows].count("yes") == 1
    assert any(row["path"].startswith("/") for row in rows)
    page = frugal("duplicates", "Intake", "Archive", "--format", "html").stdout
    assert "&lt;b&gt;.jpg" in page and "<b>.jpg" not in page and "Named like copies, but not the same" in page


@pytest.mark.parametrize("do", ["trash", "delete", "hardlink"])
def test_the_others_go_and_come_back_as_far_as_they_can(desk: Path, frugal: Frugal, own_home: Path, do: str) -> None:
    path = desk / "Intake/shelf (2).jpg"
    os.setxattr(path, "user.xdg.tags", b"shop window")
    before = snapshot(desk)
    digests_before = set(contents(desk))
    frugal("duplicates", "Intake", "Archive", "--do", do, "--across-owners", code=3)
    assert snapshot(desk) == before
    said = frugal("duplicates", "Intake", "Archive", "--do", do, "--yes").stdout
    if do == "hardlink":
        assert (
            path.stat().st_ino
            == (desk / "Intake/shelf.jpg").stat().st_ino
            == (desk / "Archive/2025/shelf picture.jpg").stat().st_ino
        )
    else:
        assert not path.exists() and not (desk / "Intake/shelf.jpg").exists()
    assert set(contents(desk)) == digests_before
    assert len(trash_of(own_home)) == (2 if do == "trash" else 0)
    if do == "delete":
        assert "This run cannot be undone." in said
        return
    frugal("undo", "--yes")
    assert snapshot(desk) == before and path.stat().st_nlink == 1
    frugal("undo", "2", "--yes")
    assert path.exists() == (do == "hardlink")
    frugal("undo", "3", "--yes")
    assert snapshot(desk) == before


def test_what_stays_in_a_folder_and_by_a_condition(desk: Path, frugal: Frugal) -> None:
    frugal("duplicates", "Intake", "Archive", "--keep-in", "Intake", "--do", "trash", "--yes")
    assert not (desk / "Archive/2025/shelf picture.jpg").exists() and (desk / "Intake/shelf (2).jpg").exists()
    frugal("undo", "--yes")
    said = frugal("duplicates", "Intake", "Archive", "--where", "copy-named", "--do", "trash", "--yes").stdout
    assert "left out by the condition" in said
    assert (desk / "Intake/shelf.jpg").exists() and not (desk / "Intake/shelf (2).jpg").exists()
    frugal("undo", "--yes")
    frugal("duplicates", "Intake", "Archive", "--keep", "newest", "--do", "trash", "--yes")
    assert (desk / "Intake/shelf (2).jpg").exists() and not (desk / "Intake/shelf.jpg").exists()


def test_nothing_goes_across_owners_or_rights_unless_asked_for(desk: Path, frugal: Frugal) -> None:
    (desk / "Intake/shelf (2).jpg").chmod(0o600)
    said = frugal("duplicates", "Intake", "--do", "hardlink", "--yes").stdout
    assert "different owner or permissions from the copy to keep" in said and (desk / "Intake/shelf (2).jpg").stat().st_nlink == 1
    frugal("duplicates", "Intake", "--do", "hardlink", "--across-owners", "--yes")
    assert (desk / "Intake/shelf (2).jpg").stat().st_nlink == 2
    frugal("undo", "--yes")
    assert (desk / "Intake/shelf (2).jpg").stat().st_mode & 0o777 == 0o600


def test_marks_are_taken_off_where_the_unmarked_name_is_free(desk: Path, frugal: Frugal) -> None:
    put(desk / "Intake/label copy 2.pdf", "another")
    said = frugal("duplicates", "Intake", "--unmark", "--yes", code=1).stdout
    assert (
        "another file is now at" in said and (desk / "Intake/label.pdf").exists() and (desk / "Intake/recipe - Copy.csv").exists()
    )
    frugal("undo", "--yes")
    assert (desk / "Intake/label copy.pdf").exists()


def test_a_ceiling_system_folders_and_trees_under_version_control(desk: Path, frugal: Frugal) -> None:
    said = frugal("duplicates", "Intake", "Archive", "--do", "trash", "--at-most", "1", "--yes", code=3).stdout
    assert "it would remove 2 files, but the limit" in said
    put(desk / "Intake/.git/HEAD", "x")
    said = frugal("duplicates", "Intake", "Archive", "--do", "trash", "--keep-in", "Archive", "--yes").stdout
    assert "is under version control, and frugal does not change it" in said and (desk / "Intake/shelf.jpg").exists()


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("Missing",), "folder not found"),
        (("Intake", "--keep", "nicest"), "unknown value 'nicest'; choose from unmarked"),
        (("Intake", "--do", "trash", "--format", "json"), "cannot be combined with --format"),
        (("Intake", "--do", "trash", "--unmark"), "be combined"),
        (("Intake", "--min-size", "5"), "has no unit"),
        (("Intake", "--where", "size >"), "--where: the condition is incomplete"),
    ],
)
def test_bad_input_gets_one_line(desk: Path, frugal: Frugal, words: tuple[str, ...], why: str) -> None:
    said = frugal("duplicates", *words, code=2).stderr
    assert why in said and said.count("\n") == 1


@pytest.mark.parametrize(
    ("answers", "gone"),
    [
        ("1\n", {"b", "c"}),
        ("2\n", {"a", "c"}),
        ("\n", {"b", "c"}),
        ("s\n", set()),
        ("q\n", set()),
        ("x\n3\n", {"a", "b"}),
        ("r\n", {"b", "c"}),
        ("n\n", set()),
        ("t\n", {"b", "c"}),
    ],
)
def test_a_person_chooses_for_each_group(folder: Path, answers: str, gone: set[str]) -> None:
    for number, name in enumerate("abc"):
        put(folder / "Intake" / name, "clay", 30 - number)
    _, said = on_terminal(folder, "duplicates", "Intake", "--do", "trash", answers=answers + "yes\n")
    assert set("abc") - set(os.listdir(folder / "Intake")) == gone, said
    assert "Group 1 of 1: 3" in said and "Keep which one?" in said
    assert ("`x` is not an answer" in said) is answers.startswith("x")


# Between the report and the removal


def removal_plan(folder: Path, do: str) -> Plan:
    found = ContentSearch().search([str(folder)])
    return plan_duplicates([choose(group) for group in found.groups], Removing(do, WORLD), "test", [str(folder)])  # type: ignore[arg-type]


@pytest.mark.parametrize("do", ["trash", "delete", "hardlink"])
@pytest.mark.parametrize("which", ["kept", "other"])
@pytest.mark.parametrize("what", ["edited", "same size", "replaced", "link", "gone"])
def test_what_changes_between_report_and_removal_is_skipped_and_no_content_goes(
    folder: Path, do: str, which: str, what: str
) -> None:
    put(folder / "Intake/a.jpg", "clay" * 100, 30)
    put(folder / "Intake/b.jpg", "clay" * 100, 3)
    plan = removal_plan(folder / "Intake", do)
    assert len(plan.asked) == 1
    path = folder / "Intake" / ("a.jpg" if which == "kept" else "b.jpg")
    before = path.stat()
    if what in ("edited", "same size"):
        path.write_text("CLAY" * 100 if what == "same size" else "another")
        if what == "same size":
            os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))
    elif what == "replaced":
        put(folder / "new", "another")
        os.replace(folder / "new", path)
    else:
        path.unlink()
        if what == "link":
            path.symlink_to("b.jpg" if which == "kept" else "a.jpg")
    held = contents(folder / "Intake")
    result = carry_out(plan)
    assert not result.done and result.not_done[0][1].outcome in (Outcome.SKIPPED, Outcome.FAILED)
    assert contents(folder / "Intake") == held and not [
        name for name in os.listdir(folder / "Intake") if name.startswith(".frugal")
    ]


def test_a_hard_link_that_cannot_be_made_leaves_the_file_as_it_was(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put(folder / "Intake/a.jpg", "clay", 30)
    put(folder / "Intake/b.jpg", "clay", 3)
    before = snapshot(folder / "Intake")
    plan = removal_plan(folder / "Intake", "hardlink")

    def refuse(*_: object, **__: object) -> None:
        raise OSError(31, "Too many links")

    monkeypatch.setattr(disk, "link", refuse)
    result = carry_out(plan)
    assert result.not_done[0][1].reason == "too many links"
    assert {path: seen.digest for path, seen in snapshot(folder / "Intake").items()} == {
        path: seen.digest for path, seen in before.items()
    }


@pytest.mark.skipif(not shutil.which("strace"), reason="strace is not installed")
@pytest.mark.parametrize("call", ["rename,renameat,renameat2", "link,linkat", "unlink,unlinkat", "fsync,fdatasync"])
@pytest.mark.parametrize("back", [False, True])
def test_a_kill_at_any_point_of_a_hard_link_loses_nothing(
    desk: Path, frugal: Frugal, served: Served, call: str, back: bool
) -> None:
    words = ("duplicates", "Intake", "Archive", "--do", "hardlink", "--yes", "--no-cache")
    held = set(contents(desk))
    for when in range(1, 40):
        if back:
            frugal(*words)
            words_now: tuple[str, ...] = ("undo", "--yes")
        else:
            words_now = words
        done = served.run(words_now, desk, os.environ, f"{call}:signal=SIGKILL:when={when}")
        assert set(contents(desk)) == held
        if done.returncode == 0:
            if not back:
                frugal("undo", "--yes")
            break
        frugal("duplicates", "Archive", "--do", "trash", "--yes")  # settles, and has nothing to do
        assert set(contents(desk)) == held
        assert not list(desk.rglob(".frugal-*")), when
        assert (desk / "Intake/shelf (2).jpg").exists() and (desk / "Intake/shelf.jpg").exists()
        while (desk / "Intake/shelf.jpg").stat().st_nlink > 1 or (desk / "Intake/shelf (2).jpg").stat().st_nlink > 1:
            runs = json.loads(frugal("history", "--format", "json").stdout)["runs"]
            frugal("undo", str(max(one["id"] for one in runs if one["kind"] == "duplicates")), "--yes")
    else:
        pytest.fail("the program was killed each time")
    assert when > 1 or (back and call.startswith("link"))  # the way back makes no link


# In a rule file


def test_a_rule_keeps_one_of_each_and_is_undone_and_left_alone(folder: Path) -> None:
    for name, days in (("a.jpg", 30), ("b (2).jpg", 50), ("c.jpg", 3)):
        put(folder / "Intake" / name, "clay", days)
    put(folder / "Intake/other.jpg", "glaze")
    put(folder / "Intake/d.txt", "clay")
    rule = 'where = "type is image"\nduplicates = {keep = ["unmarked", "oldest"], do = "trash"}'
    plan = plan_of(book_of(folder, rule))
    assert [step.place.name for step in plan.asked] == ["b (2).jpg", "c.jpg"] and plan.at_home == Count(2)
    assert {step.witness.place.name for step in plan.asked if step.witness} == {"a.jpg"}
    assert done_by(carry_out(plan)) == {"trash": 2} and not plan_of(book_of(folder, rule)).asked
    assert undo().done.steps == 2
    again = plan_of(book_of(folder, rule))
    assert not again.asked and {left.reason for left in again.not_touched} == {"undone by run 2; to include it: --again"}
    assert len(plan_of(book_of(folder, rule), again=True).asked) == 2


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ('duplicates = "trash"', "write what to do with files that have the same contents"),
        ('duplicates = {keep = "oldest"}', "write what to do with files that have the same contents"),
        ('duplicates = {keep = "biggest", do = "trash"}', '"biggest" is not allowed here'),
        ('duplicates = {do = "burn"}', '"burn" is not allowed here'),
        ('duplicates = {do = "trash", kep = "oldest"}', "did you mean `keep`"),
        ('take = "folders"\nduplicates = {do = "trash"}', "only files are compared"),
        ('tag = "x"\nduplicates = {do = "trash"}', "`tag` cannot be combined with `duplicates`"),
        ('trash = true\nduplicates = {do = "trash"}', "a rule has exactly one action"),
    ],
)
def test_mistakes_in_the_ending_are_named(folder: Path, frugal: Frugal, line: str, why: str) -> None:
    put(folder / "rules.toml", rules_text(f'where = "everything"\n{line}'))
    assert why in frugal("check", "rules.toml", code=2).stderr


# Names and folders


@pytest.mark.parametrize(
    ("name", "original"),
    [
        ("a copy.jpg", "a.jpg"), ("a copy 2.jpg", "a.jpg"), ("a - Copy.jpg", "a.jpg"), ("a - Copy (3).jpg", "a.jpg"),
        ("a (2).jpg", "a.jpg"), ("a (copy).jpg", "a.jpg"), ("a (another copy).jpg", "a.jpg"), ("a (3rd copy).jpg", "a.jpg"),
        ("a (Kopie).jpg", "a.jpg"), ("a - Kopie.jpg", "a.jpg"), ("Kopie von a.jpg", "a.jpg"), ("a (copie).jpg", "a.jpg"),
        ("a - copia.jpg", "a.jpg"), ("Copy of a.jpg", "a.jpg"), ("a - Cópia.tar.gz", "a.tar.gz"), ("a (1).jpg", "a.jpg"),
        ("a_2.jpg", None), ("copy.jpg", None), ("photocopy.jpg", None), ("a (2024).jpg", None), ("hardcopy 2.jpg", None),
    ],
)  # fmt: skip
def test_the_marks_of_copies(name: str, original: str | None) -> None:
    assert unmarked_name(name) == original


def test_folders_that_hold_the_same_are_one_line_and_only_the_outermost(folder: Path) -> None:
    for top in ("Moulds", "Moulds of May", "Other"):
        for name, body in (("a.stl", "a"), ("deep/b.stl", "b"), ("deep/c.stl", "c")):
            put(folder / top / name, body + ("x" if top == "Other" and body == "a" else ""))
    found = ContentSearch().search([str(folder)])
    assert same_folders(found) == [[str(folder / one / "deep") for one in ("Moulds", "Moulds of May", "Other")]] or same_folders(found)[0] == [
        str(folder / "Moulds"), str(folder / "Moulds of May"),
    ]  # fmt: skip
    put(folder / "Moulds of May/more.stl", "more")
    assert [str(folder / "Moulds"), str(folder / "Moulds of May")] not in same_folders(ContentSearch().search([str(folder)]))


def test_names_that_look_like_copies_are_judged_by_content(desk: Path) -> None:
    found = ContentSearch().search([str(desk / "Intake")])
    kinds = {os.path.basename(one.path): one.kind for one in look_alikes(found)}
    assert kinds == {"shelf (2).jpg": "copy", "recipe - Copy.csv": "differs", "label copy.pdf": "alone"}
