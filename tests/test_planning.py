from __future__ import annotations

import os
import subprocess
import time
from pathlib import Path

import pytest

from frugal_sorter.filesystem import parallel as sharing
from frugal_sorter.filesystem.record import Place
from frugal_sorter.planning import guard
from frugal_sorter.planning.matched import Names, is_numbered_form
from frugal_sorter.platforms import accounts
from frugal_sorter.rules.fields import World
from frugal_sorter.state import ready_state_folder
from frugal_sorter.steps.step import Count
from tests.support import DAY_NS, NOW_NS, book_of, moves_of, plan_of, put


def test_relative_targets_are_below_in_and_folders_are_made_once(folder: Path) -> None:
    for name in ("a.jpg", "b.jpg", "c.log"):
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, 'where = "everything"\nmove = "{type}/{modified:%Y}"'))
    assert moves_of(plan, folder / "Intake") == {
        "a.jpg": "image/2026/a.jpg", "b.jpg": "image/2026/b.jpg", "c.log": "log/2026/c.log",
    }  # fmt: skip
    made = [step.target.path for step in plan.steps if step.verb == "make-folder" and step.target]
    assert [os.path.relpath(path, folder / "Intake") for path in made] == ["image", "image/2026", "log", "log/2026"]


def test_clashes_are_numbered_also_among_the_files_of_one_run(folder: Path) -> None:
    for name in ("one/a.jpg", "two/a.jpg", "three/a.jpg", "Sorted/a.jpg", "Sorted/a_2.jpg"):
        put(folder / "Intake" / name)
    rule = 'where = "type is image"\nmove = "Sorted"\nlevels = "all"'
    plan = plan_of(book_of(folder, rule))
    assert moves_of(plan, folder / "Intake") == {
        "one/a.jpg": "Sorted/a_3.jpg", "three/a.jpg": "Sorted/a_4.jpg", "two/a.jpg": "Sorted/a_5.jpg",
    }  # fmt: skip
    assert plan.at_home == Count(2)


def test_clash_skip_looks_at_what_stood_there_before(folder: Path) -> None:
    for name in ("one/a.jpg", "two/b.jpg", "three/b.jpg", "Sorted/a.jpg"):
        put(folder / "Intake" / name)
    plan = plan_of(book_of(folder, 'where = "type is image"\nmove = "Sorted"\nlevels = "all"\nclash = "skip"'))
    assert moves_of(plan, folder / "Intake") == {"three/b.jpg": "Sorted/b.jpg", "two/b.jpg": "Sorted/b_2.jpg"}
    assert [(left.place.name, left.reason) for left in plan.not_touched] == [("a.jpg", "a.jpg already exists")]


@pytest.mark.parametrize(
    ("name", "plain", "is_one"),
    [
        ("a_2.jpg", "a.jpg", True), ("a_17.jpg", "a.jpg", True), ("a_1.jpg", "a.jpg", False),
        ("a_02.jpg", "a.jpg", False), ("a.jpg", "a.jpg", False), ("b_2.jpg", "a.jpg", False),
        ("x_2.tar.gz", "x.tar.gz", True), ("a_2_3.jpg", "a_2.jpg", True), ("a_2", "a", True),
    ],
)  # fmt: skip
def test_numbered_forms(name: str, plain: str, is_one: bool) -> None:
    assert is_numbered_form(name, plain) is is_one


def test_long_names_stay_legal_when_numbered(folder: Path) -> None:
    name = "é" * 124 + ".jpeg"
    put(folder / name)
    names = Names()
    given = [names.give(Place(str(folder), name)).name for _ in range(3)]
    assert len(set(given)) == 3 and all(len(os.fsencode(one)) <= 255 and one.endswith(".jpeg") for one in given)


@pytest.mark.parametrize("fork_dies", [False, True])
def test_two_processes_find_what_one_finds(folder: Path, monkeypatch: pytest.MonkeyPatch, fork_dies: bool) -> None:
    for number in range(60):
        put(folder / f"Intake/{number % 9}/{number % 4}/same {number % 5}.log")
    put(folder / "Intake/3/site/.git/HEAD")
    (folder / "Intake/4/link").symlink_to("0")
    book = book_of(
        folder,
        'where = "ext is log and size > 1 B"\nmove = "Sorted"\nlevels = "all"',
        'in = "Intake/5"\nwhere = "hidden"\nleave = true',
    )
    alone = plan_of(book)
    monkeypatch.setattr(sharing, "SPLIT_AFTER", 2)
    monkeypatch.setattr(sharing, "_FEWEST_LEFT", 2)
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    forks: list[int] = []
    fork = os.fork

    def counted() -> int:
        forks.append(1)
        return fork()

    monkeypatch.setattr(os, "fork", counted)
    if fork_dies:
        monkeypatch.setattr(sharing, "_send", lambda *_: os._exit(1))
    together = plan_of(book)
    assert forks
    assert (together.steps, together.seen, together.notes, together.not_touched) == (
        alone.steps,
        alone.seen,
        alone.notes,
        alone.not_touched,
    )
    assert len(alone.asked) == 60 and alone.seen == Count(60)


def test_a_volume_in_the_tree_is_not_entered_even_where_a_fork_dies(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(8):
        put(folder / f"Intake/{number}/a.log")
    mounted = [folder / f"Intake/{number}" for number in range(8)]
    monkeypatch.setattr(sharing, "SPLIT_AFTER", 1)
    monkeypatch.setattr(sharing, "_FEWEST_LEFT", 2)
    monkeypatch.setattr(sharing, "_send", lambda *_: os._exit(1))
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    done = []
    try:
        for path in mounted:
            if subprocess.run(["mount", "-t", "tmpfs", "tmpfs", path], capture_output=True, check=False).returncode != 0:
                pytest.skip("a file system cannot be mounted here")
            done.append(path)
            put(path / "b.log")
        plan = plan_of(book_of(folder, 'where = "ext is log"\nmove = "x"\nlevels = "all"'))
    finally:
        for path in done:
            subprocess.run(["umount", path], check=True)
    assert not plan.asked and not plan.has_problem
    assert sorted(note.text for note in plan.notes) == [f"{path}: on another volume; not included" for path in mounted]


def test_what_is_left_and_why(folder: Path) -> None:
    intake = folder / "Intake"
    now_ns = time.time_ns()  # the inode of each file is changed now, whatever its date says
    put(intake / "fresh.log", age_days=0.00001, now_ns=now_ns)
    put(intake / "future.log", age_days=-3, now_ns=now_ns)
    put(intake / "no suffix")
    put(intake / "keep.log")
    put(intake / "to link.csv")
    put(intake / "to file.pdf")
    put(intake / "other.bin")
    (intake / "spreadsheet").symlink_to(folder)
    put(intake / "document", b"a file")
    plan = plan_of(
        book_of(
            folder,
            'where = "name is keep.log"\nleave = true',
            'where = "type in (log, other) and name is not document and ext is not bin"\nmove = "{ext}"\nsettle = "1 minute"',
            'where = "type in (spreadsheet, document)"\nmove = "{type}"',
        ),
        World(now_ns),
    )
    assert moves_of(plan, intake) == {}
    # A date in the future says nothing; the inode of that file was changed just now.
    assert {left.place.name: (left.reason, left.reason.problem) for left in plan.not_touched} == {
        "fresh.log": ("changed too recently", False),
        "future.log": ("changed too recently", False),
        "no suffix": ("it has no value for {ext}", True),
        "to link.csv": (f"{intake}/spreadsheet is a symbolic link of {accounts.account_name()}, and it is not followed", True),
        "to file.pdf": (f"{intake}/document is a file, but must be a folder", True),
    }
    assert (plan.kept, plan.seen, plan.has_problem) == (Count(1), Count(8), True)


def test_missing_places_are_noted_and_the_rest_goes_on(folder: Path) -> None:
    put(folder / "Intake/a.log")
    put(folder / "file")
    plan = plan_of(
        book_of(
            folder,
            'in = ["Intake", "Away", "file"]\nwhere = "everything"\nmove = "x"',
            'in = "Away"\nwhere = "hidden"\nleave = true',
        )
    )
    assert moves_of(plan, folder) == {"Intake/a.log": "Intake/x/a.log"}
    assert {note.text for note in plan.notes} == {
        f"{folder}/Away is missing; skipped for rule 0, rule 1", f"{folder}/file is not a folder; skipped for rule 0",
    }  # fmt: skip
    assert plan.has_problem


def test_levels_hidden_and_nested_folders(folder: Path) -> None:
    for name in ("a.log", ".h.log", "s/b.log", "s/t/c.log", "s/t/u/d.log", ".g/e.log"):
        put(folder / "Intake" / name)

    def sources(rule: str) -> set[str]:
        return set(moves_of(plan_of(book_of(folder, f'where = "ext is log"\nmove = "/{folder}/X"\n{rule}')), folder / "Intake"))

    assert sources("levels = 1") == {"a.log"}
    assert sources("levels = 2") == {"a.log", "s/b.log"}
    assert sources('levels = "all"') == {"a.log", "s/b.log", "s/t/c.log", "s/t/u/d.log"}
    assert sources('levels = "all"\nhidden = true') == {"a.log", ".h.log", "s/b.log", "s/t/c.log", "s/t/u/d.log", ".g/e.log"}
    both = book_of(folder, 'in = ["Intake", "Intake/s/t"]\nwhere = "ext is log"\nmove = "X"')
    assert moves_of(plan_of(both), folder / "Intake") == {"a.log": "X/a.log", "s/t/c.log": "s/t/X/c.log"}


def test_the_rule_file_links_and_devices_are_no_entries(folder: Path) -> None:
    put(folder / "Intake/a.log")
    (folder / "Intake/b.log").symlink_to("a.log")
    os.mkfifo(folder / "Intake/c.log")
    put(folder / "Intake/rules.toml")
    plan = plan_of(book_of(folder / "Intake", 'in = "."\nwhere = "everything"\nmove = "x"'))
    assert set(moves_of(plan, folder / "Intake")) == {"a.log"}


def test_trees_under_version_control_are_left_whole(folder: Path) -> None:
    put(folder / "Intake/site/.git/HEAD")
    put(folder / "Intake/site/page.html")
    put(folder / "Intake/site/inner/more.html")
    put(folder / "Intake/a.html")
    everything = 'where = "ext is html"\nlevels = "all"\n'
    plan = plan_of(book_of(folder, everything + 'move = "x"'))
    assert set(moves_of(plan, folder / "Intake")) == {"a.html"}
    assert "under version control" in plan.notes[0].text and not plan.has_problem
    into = plan_of(book_of(folder, everything + 'move = "site/x"'))
    assert not into.asked and into.not_touched[0].reason.problem
    inside = plan_of(book_of(folder, f'in = "Intake/site"\n{everything}move = "x"'))
    assert set(moves_of(inside, folder / "Intake/site")) == {"page.html", "inner/more.html"}


@pytest.mark.parametrize(
    ("path", "refused"),
    [
        ("/", True), ("/etc", True), ("/etc/ssl", True), ("/usr/lib/x", True), ("/home", True), ("/home/maren", False),
        ("/usr/local/share/x", False), ("/var", True), ("/var/tmp", False), ("/tmp", False), ("/run/media/maren/stick", False),
        ("/etcetera", False), ("/srv/.Trash-1000/files", True),
    ],
)  # fmt: skip
def test_guarded_folders(path: str, refused: bool) -> None:
    assert (guard.refused_folder(path) is not None) is refused


def test_guarded_folders_refuse_their_rule_only(folder: Path) -> None:
    put(folder / "Intake/a.log")
    put(folder / "Intake/b.csv")
    state = ready_state_folder()
    plan = plan_of(
        book_of(
            folder, 'in = "/etc"\nwhere = "everything"\nmove = "x"', f'in = "{state}"\nwhere = "everything"\nmove = "x"',
            'where = "ext is log"\nmove = "x"', 'where = "ext is csv"\nmove = "/usr/lib/x"',
        )
    )  # fmt: skip
    assert [refusal.rule for refusal in plan.refused] == ["rule 0", "rule 1"]
    assert moves_of(plan, folder) == {"Intake/a.log": "Intake/x/a.log"}
    assert "inside a system folder" in plan.not_touched[0].reason


def test_links_are_resolved_once_for_in_and_target(folder: Path) -> None:
    put(folder / "Real/a.log")
    (folder / "Store").mkdir()
    (folder / "Intake").symlink_to("Real")
    (folder / "shelf").symlink_to("Store")
    plan = plan_of(book_of(folder, f'where = "everything"\nmove = "{folder}/shelf/{{ext}}"'))
    assert moves_of(plan, folder) == {"Real/a.log": "Store/log/a.log"}


def test_no_target_leads_through_a_link_below_in(folder: Path) -> None:
    put(folder / "Intake/a.log")
    (folder / "Real/deep").mkdir(parents=True)
    (folder / "Intake/log").symlink_to(folder / "Real")
    plan = plan_of(book_of(folder, 'where = "everything"\nmove = "{ext}/deep/{initial}"'))
    assert not plan.asked and "Intake/log is a symbolic link" in plan.not_touched[0].reason


def test_ages_are_counted_from_the_moment_that_is_handed_in(folder: Path) -> None:
    put(folder / "Intake/a.log", age_days=10)
    book = book_of(folder, 'where = "modified older than 12 days"\nmove = "x"')
    assert not plan_of(book).asked
    later = World(NOW_NS + 3 * DAY_NS)
    assert len(plan_of(book, later).asked) == 1
