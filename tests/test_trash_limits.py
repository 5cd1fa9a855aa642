"""What is permanently removed from the trash: by the command, by `[trash]` in a rule file, and by its planner."""

from __future__ import annotations

import os
import shutil
import time
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.errors import FrugalError
from frugal_sorter.filesystem.record import Identity, Place, place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning import matched as to_trash
from frugal_sorter.planning.trash_plans import Weighed, held_back, leaving
from frugal_sorter.rules.load import read_rules
from frugal_sorter.rules.model import WEEK, TrashLimits
from frugal_sorter.rules.units import SECOND_NS, Duration
from frugal_sorter.state import ready_state_folder
from frugal_sorter.trash.base import Trashed
from frugal_sorter.trash.freedesktop import FreedesktopBin
from frugal_sorter.values import replace
from tests.conftest import Frugal
from tests.support import NOW_NS, WORLD, condition, put, rules_text, trash_of
from tests.test_faults import _desktop

DAY = 86_400


def trashed(home: Path, name: str, days: float, size: int = 10, original: str = "") -> None:
    """Lay an entry into the trash of a home as another program would have, some days ago."""
    root = home / ".local/share/Trash"
    put(root / "files" / name, b"x" * size)
    when = datetime.now() - timedelta(days=days)
    text = f"[Trash Info]\nPath={original or home / 'Intake' / name}\nDeletionDate={when:%Y-%m-%dT%H:%M:%S}\n"
    put(root / "info" / f"{name}.trashinfo", text)


@pytest.fixture
def bin_(own_home: Path) -> Path:
    own_home.chmod(0o700)
    for name, days, size in (("a.log", 40, 1_000), ("b.log", 20, 2_000), ("c.jpg", 10, 4_000), ("d.jpg", 1, 8_000)):
        trashed(own_home, name, days, size)
    put(own_home / ".local/share/Trash/files/glazes/deep/e.csv", b"x" * 500)
    trashed_folder = own_home / ".local/share/Trash/info/glazes.trashinfo"
    when = datetime.now() - timedelta(days=50)
    put(trashed_folder, f"[Trash Info]\nPath={own_home}/Intake/glazes\nDeletionDate={when:%Y-%m-%dT%H:%M:%S}\n")
    return own_home / ".local/share/Trash"


def halves(root: Path) -> tuple[set[str], set[str]]:
    """Return what is in a trash by its files and by its notes."""
    return set(os.listdir(root / "files")), {name.removesuffix(".trashinfo") for name in os.listdir(root / "info")}


@pytest.mark.parametrize(
    ("options", "stay"),
    [
        (("--older-than", "30d"), {"b.log", "c.jpg", "d.jpg"}),
        (("--older-than", "1w"), {"d.jpg"}),
        (("--shrink-to", "12500B"), {"c.jpg", "d.jpg"}),
        (("--shrink-to", "1GB"), {"a.log", "b.log", "c.jpg", "d.jpg", "glazes"}),
        (("--shrink-to", "0B"), set()),
        (("--where", "size > 3 KB"), {"a.log", "b.log", "glazes"}),
        (("--where", "type is log and arrived within 30 days"), {"a.log", "c.jpg", "d.jpg", "glazes"}),
        (("--where", 'folder is "Intake" and name like "*.jpg"', "--older-than", "5d"), {"a.log", "b.log", "d.jpg", "glazes"}),
        (("--where", "ext is jpg", "--shrink-to", "12KB"), {"a.log", "b.log", "d.jpg", "glazes"}),
        (("--orphans",), {"a.log", "b.log", "c.jpg", "d.jpg", "glazes"}),
    ],
)  # fmt: skip
def test_what_fits_the_options_leaves_and_the_rest_stays_whole(
    bin_: Path, frugal: Frugal, options: tuple[str, ...], stay: set[str]
) -> None:
    put(bin_ / "files/lost half.bin", b"x")
    put(bin_ / "info/lost note.trashinfo", "[Trash Info]\nPath=/x\nDeletionDate=2026-01-01T10:00:00\n")
    lost = (set(), set()) if options == ("--orphans",) else ({"lost half.bin"}, {"lost note"})
    before = halves(bin_)
    if stay != {"a.log", "b.log", "c.jpg", "d.jpg", "glazes"} or lost == (set(), set()):
        listed = frugal("trash", *options, code=3).stdout
        assert "deleted permanently" in listed and halves(bin_) == before
    said = frugal("trash", *options, "--yes").stdout
    assert halves(bin_) == (stay | lost[0], stay | lost[1])
    if len(stay) < 5:
        assert "This run cannot be undone." in said
    assert set(trash_of(bin_.parent.parent.parent)) == stay | lost[1]


@pytest.mark.skipif(not (shutil.which("gio") and shutil.which("dbus-run-session")), reason="gio or dbus is not installed")
@pytest.mark.parametrize(
    "options", [("--older-than", "30d"), ("--shrink-to", "12500B"), ("--where", "ext is jpg"), ("--orphans",)]
)
def test_the_desktop_sees_what_is_left_after_each_kind_of_emptying(
    bin_: Path, own_home: Path, frugal: Frugal, options: tuple[str, ...]
) -> None:
    put(bin_ / "info/lost note.trashinfo", "[Trash Info]\nPath=/x\nDeletionDate=2026-01-01T10:00:00\n")
    frugal("trash", *options, "--yes")
    listed = _desktop(own_home, "gio", "trash", "--list")
    if "trash:///" not in listed:
        pytest.skip(f"gio shows no trash here: {listed[:200]}")
    seen = {line.split("\t")[0].removeprefix("trash:///") for line in listed.splitlines() if line.startswith("trash:///")}
    assert seen == set(os.listdir(bin_ / "files")) and 0 < len(seen) <= 5


def test_the_list_says_how_old_and_how_big_and_names_halves(bin_: Path, frugal: Frugal) -> None:
    put(bin_ / "files/lost half.bin", b"x")
    said = frugal("trash").stdout
    assert "40 days ago" in said and "15.5 kB" in said and "5 files and 1 folder with 1 file" in said
    assert "Incomplete entries: 1. To delete them: frugal trash --orphans" in said


def test_an_emptying_says_which_runs_can_then_not_be_taken_back_and_undo_says_by_whom(
    folder: Path, own_home: Path, frugal: Frugal
) -> None:
    put(folder / "Intake/a.log", "a")
    put(folder / "Intake/b.log", "b")
    put(folder / "rules.toml", rules_text('where = "ext is log"\ntrash = true'))
    frugal("tidy", "rules.toml", "--yes")
    said = frugal("trash", "--where", "name is 'a.log'", "--yes").stdout
    assert "1 of these was moved to the trash by run 1; undo will no longer" in said
    undone = frugal("undo", "1", "--yes", code=1).stdout
    assert "permanently deleted by run 2" in undone and (folder / "Intake/b.log").exists()
    assert not trash_of(own_home)
    assert "permanently" in frugal("history", "--file", "a.log").stdout or "removed" in frugal("history", "2").stdout


@pytest.mark.parametrize(
    ("options", "why"),
    [
        (("--older-than", "5m"), "use minutes or months"),
        (("--shrink-to", "5"), "has no unit"),
        (("--where", "tag is keep"), "`tag` is not available for files in the trash"),
        (("--where", "size >"), "--where: the condition is incomplete"),
    ],
)
def test_bad_input_gets_one_line(bin_: Path, frugal: Frugal, options: tuple[str, ...], why: str) -> None:
    before = halves(bin_)
    said = frugal("trash", *options, "--yes", code=2).stderr
    assert why in said and said.count("\n") == 1 and halves(bin_) == before


def test_a_ceiling_holds_for_the_trash_too(own_home: Path, frugal: Frugal) -> None:
    for number in range(12):
        trashed(own_home, f"{number}.tmp", 40)
    said = frugal("trash", "--older-than", "30d", "--at-most", "11", "--yes", code=3).stdout
    assert "it would remove 12 files, but the limit" in said and len(trash_of(own_home)) == 12
    frugal("trash", "--older-than", "30d", "--at-most", "12", "--yes")
    assert not trash_of(own_home)


def test_a_rule_file_keeps_the_trash_small_but_not_by_what_it_puts_there_or_what_is_young(
    bin_: Path, folder: Path, own_home: Path, frugal: Frugal
) -> None:
    put(folder / "Intake/new.tmp", b"x" * 6_000)
    rule = 'where = "ext is tmp"\ntrash = true'
    put(folder / "rules.toml", rules_text(rule, head='[trash]\nshrink_to = "10 KB"\n'))
    shown = frugal("preview", "rules.toml").stdout
    assert "the trash  permanently delete 3 files and 1 folder with 1 file (7.5 kB) from the trash" in shown
    assert "Permanent deletion cannot be undone." in shown
    frugal("tidy", "rules.toml", "--yes")
    # Still larger than that: d.jpg came within a week, and new.tmp in this run.
    assert set(trash_of(own_home)) == {"d.jpg", "new.tmp"}
    put(folder / "rules.toml", rules_text(rule, head='[trash]\nshrink_to = "10 KB"\nkeep = "0 days"\n'))
    frugal("tidy", "rules.toml", "--yes")
    assert set(trash_of(own_home)) == {"new.tmp"}
    said = frugal("undo", "1", "--yes", code=1).stdout
    assert "3 files and 1 folder with 1 file: deleted permanently" in said and "could not be undone yet" not in said
    assert (folder / "Intake/new.tmp").exists() and not trash_of(own_home)


def test_a_saved_plan_may_empty_the_trash_and_nothing_else_under_that_verb(
    bin_: Path, folder: Path, own_home: Path, frugal: Frugal
) -> None:
    put(folder / "Intake/keep.txt", "keep")
    put(folder / "rules.toml", rules_text('where = "ext is tmp"\ntrash = true', head='[trash]\nolder_than = "30 days"\n'))
    frugal("preview", "rules.toml", "--save", "later.plan")
    text = (folder / "later.plan").read_text()
    forged = text.replace(f"{bin_}/files/a.log", f"{folder}/Intake/keep.txt")
    assert forged != text
    put(folder / "forged.plan", forged).chmod(0o600)
    assert (
        f"{folder}/Intake is not a trash folder of this account"
        in frugal("tidy", "--plan", "forged.plan", "--yes", code=3).stdout
    )
    assert (folder / "Intake/keep.txt").exists()
    trashed(own_home, "a.log", 40)
    frugal("preview", "rules.toml", "--save", "again.plan")
    frugal("tidy", "--plan", "again.plan", "--yes")
    assert "a.log" not in trash_of(own_home)


def test_age_and_size_are_limits_of_their_own_and_each_table_sees_what_is_left(
    bin_: Path, folder: Path, own_home: Path, frugal: Frugal
) -> None:
    tables = '[[trash]]\nolder_than = "15 days"\nshrink_to = "9 KB"\nwhere = "ext in (log, jpg)"\n'
    tables += '[[trash]]\nwhere = "name is glazes"\n'
    (folder / "Intake").mkdir()
    put(folder / "rules.toml", rules_text('where = "ext is tmp"\ntrash = true', head=tables))
    shown = " ".join(frugal("preview", "rules.toml").stdout.split())
    # a.log and b.log are too old, c.jpg is too much, and d.jpg of yesterday is held back.
    assert "the trash, limit 1 permanently delete 3 files (7.0 kB) from the trash" in shown
    assert "the trash, limit 2 permanently delete 1 folder with 1 file (500 B) from the trash" in shown
    frugal("tidy", "rules.toml", "--yes")
    assert set(trash_of(own_home)) == {"d.jpg"}


@pytest.mark.parametrize(
    ("table", "warns"),
    [
        ('older_than = "2 days"', True), ('older_than = "6 days"', True), ('older_than = "7 days"', False),
        ('older_than = "1 month"', False), ('older_than = "2 days"\nkeep = "1 day"', False),
        ('older_than = "2 days"\nkeep = "3 days"', True), ('shrink_to = "1 KB"', False),
    ],
)  # fmt: skip
def test_what_the_protection_holds_back_is_said(bin_: Path, folder: Path, frugal: Frugal, table: str, warns: bool) -> None:
    (folder / "Intake").mkdir()
    put(folder / "rules.toml", rules_text('where = "ext is tmp"\ntrash = true', head=f"[trash]\n{table}\n"))
    checked = frugal("check", "rules.toml").stdout
    assert ("rules.toml:2: [trash]: `older_than` is" in checked.replace("\n", " ")) is warns
    # d.jpg came yesterday; the others are older than any of these.
    held = table == 'shrink_to = "1 KB"'
    assert ("1 entry stays in the trash for now" in frugal("preview", "rules.toml").stdout) is held


@pytest.mark.parametrize(
    ("table", "why"),
    [
        ('shrnk_to = "5 GB"', "did you mean `shrink_to`"),
        ('shrink_to = "5"', "the size 5 has no unit"),
        ('older_than = "soon"', '"soon" is not a duration'),
        ('keep = "1 week"', "[trash] has no limit"),
        ('where = "text has clay"', "`text` is not available for files in the trash"),
        ("at_most = -1", "is not a whole number"),
    ],
)
def test_mistakes_in_the_table_are_named_with_their_line(folder: Path, frugal: Frugal, table: str, why: str) -> None:
    put(folder / "rules.toml", rules_text('where = "ext is tmp"\ntrash = true', head=f"[trash]\n{table}\n"))
    said = frugal("check", "rules.toml", code=2).stderr
    assert why in said and ("rules.toml:3:" in said or "rules.toml:2:" in said)


def test_the_table_is_read_with_its_defaults(folder: Path) -> None:
    text = rules_text('where = "everything"\nleave = true', head='[trash]\nolder_than = "30 days"\nat_most = 5\n')
    (limits,) = read_rules(text.encode(), folder / "rules.toml").trash
    assert limits == TrashLimits(Duration(0, 30 * DAY), None, None, WEEK, 5)
    plain = rules_text('where = "everything"\nleave = true')
    assert read_rules(plain.encode(), folder / "rules.toml").trash == ()
    several = text.replace("[trash]", "[[trash]]").replace("at_most", '[[trash]]\nshrink_to = "5 GB"\nat_most')
    first, second = read_rules(several.encode(), folder / "rules.toml").trash
    assert (first, second) == (TrashLimits(Duration(0, 30 * DAY), keep=WEEK), TrashLimits(None, 5 * 10**9, None, WEEK, 5))
    assert (first.line, second.line) == (2, 4)
    with pytest.raises(FrugalError):
        read_rules(text.replace("[trash]\n", "trash = [5]\n").encode(), folder / "rules.toml")


def test_a_kill_between_file_and_note_leaves_nothing_undecided(bin_: Path, frugal: Frugal) -> None:
    """What a kill leaves of an emptying is known again: the note goes when the run is settled."""
    frugal("trash", "--where", "name is 'a.log'", "--yes")
    journal = ready_state_folder() / "journal.sqlite"
    import sqlite3

    with sqlite3.connect(journal) as db:
        db.execute("UPDATE runs SET state = 'open', counts = NULL")
        db.execute("DELETE FROM marks")
    db.close()
    put(bin_ / "info/a.log.trashinfo", "[Trash Info]\nPath=/x\nDeletionDate=2026-01-01T10:00:00\n")
    frugal("trash", "--where", "name is 'b.log'", "--yes")
    assert not (bin_ / "info/a.log.trashinfo").exists()
    with Journal(ready_state_folder(), write=False) as read:
        assert [run.state for run in read.runs()] == ["interrupted", "done"]


WEIGHED = st.lists(st.tuples(st.integers(0, 100), st.integers(0, 5_000)), max_size=12)


@given(WEIGHED, st.none() | st.integers(0, 100), st.none() | st.integers(0, 30_000), st.integers(0, 50), st.integers(0, 9_000))
def test_the_oldest_go_first_only_as_many_as_needed_and_never_the_young(
    tmp_path_factory: pytest.TempPathFactory, entries: list[tuple[int, int]], older: int | None, most: int | None,
    keep: int, coming: int,
) -> None:  # fmt: skip
    bin_ = FreedesktopBin("/trash", "", 1)
    record = look(Place(*os.path.split(__file__)))
    weighed = [
        Weighed(
            Trashed(bin_, f"{number:02}", f"/x/{number}", datetime.now()),
            record._replace(identity=Identity("file", 1, number + 1, size, 0)),
            None,
            NOW_NS - days * DAY * SECOND_NS - 1,
        )
        for number, (days, size) in enumerate(entries)
    ]
    limits = TrashLimits(None if older is None else Duration(0, older * DAY), most, None, Duration(0, keep * DAY))
    going = leaving(weighed, limits, WORLD, coming)
    days = {one.trashed.name: day for one, (day, _) in zip(weighed, entries, strict=True)}
    assert all(days[one.trashed.name] >= keep for one in going)
    too_old = {one.trashed.name for one in weighed if older is not None and days[one.trashed.name] >= max(older, keep)}
    names = {one.trashed.name for one in going}
    left = sum(size for _, size in entries) + coming - sum(one.bytes for one in going)
    if older is None and most is None:
        assert names == {name for name, day in days.items() if day >= keep}
    elif most is None:
        assert names == too_old
    else:
        assert names >= too_old and (left <= most or names == {name for name, day in days.items() if day >= keep})
        # Nothing goes for the size alone once it is small enough.
        last = [one for one in going if one.trashed.name not in too_old]
        assert not last or left + last[-1].bytes > most
    assert held_back(weighed, limits, WORLD, coming) == len(
        leaving(weighed, replace(limits, keep=Duration(0, 0)), WORLD, coming)
    ) - len(going)
    assert [days[one.trashed.name] for one in going] == sorted((days[one.trashed.name] for one in going), reverse=True)


def test_a_condition_is_asked_of_the_name_and_place_that_an_entry_had(bin_: Path) -> None:
    from frugal_sorter.planning.trash_plans import all_trashed, weigh

    found, notes = all_trashed()
    assert not notes and len(found) == 5
    entries = [weigh(one) for one in found]
    for text, names in (
        ("folder is Intake", 5),
        ("ext is log", 2),
        ("size < 600 B", 1),
        ("name is glazes", 1),
        ("arrived older than 15 days", 3),
    ):
        world = WORLD.__class__(time.time_ns())
        assert len(leaving(entries, TrashLimits(where=condition(text)), world)) == names


@given(
    st.lists(st.sampled_from(["a.log", "a.2.log", "A.log", "b", "b.2", "b.3", ".c"]), unique=True),
    st.lists(st.sampled_from(["a.log", "a.2.log", "A.log", "b", "b.2", ".c.2"]), unique=True),
    st.booleans(),
)
def test_a_trash_that_is_listed_gives_the_same_names_as_one_that_is_asked(
    tmp_path_factory: pytest.TempPathFactory, files: list[str], notes: list[str], is_there: bool
) -> None:
    home = tmp_path_factory.mktemp("home").resolve()
    root = FreedesktopBin(str(home / "Trash"), "", os.stat(home).st_dev)
    if is_there:
        for name in files:
            put(home / "Trash/files" / name)
        for name in notes:
            put(home / f"Trash/info/{name}.trashinfo")
    records = [look(place_of(str(put(home / folder / name)))) for folder in "xyz" for name in ("a.log", "b", ".c", "A.log")]

    def given_names(singly: int) -> list[str]:
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(to_trash, "_ASKED_SINGLY", singly)
            patch.setattr(to_trash, "bin_for", lambda *_: root)
            removals = to_trash.Removals()
            targets = [removals.trash("r", "k", record).target for record in records]
        return [target.name for target in targets if target is not None]

    plain = given_names(1_000_000)
    assert len(set(plain)) == len(plain) == len(records)
    assert given_names(1) == given_names(5) == plain


def test_a_rule_file_may_hold_limits_of_the_trash_alone(folder: Path, frugal: Frugal, own_home: Path) -> None:
    trashed(own_home, "old.log", 90)
    trashed(own_home, "young.log", 1)
    put(folder / "trash.toml", 'frugal = 1\n[trash]\nolder_than = "30 days"\n').chmod(0o600)
    assert "0 rules, no errors" in frugal("check", "trash.toml").stdout
    for words in (["preview"], ["tidy", "-n"]):
        assert "permanently delete 1 file" in frugal(words[0], "trash.toml", *words[1:]).stdout
    assert "This file has no rules." in frugal("rules", "trash.toml").stdout
    frugal("tidy", "trash.toml", "--yes")
    assert list(trash_of(own_home)) == ["young.log"]
    put(folder / "empty.toml", "frugal = 1\n").chmod(0o600)
    assert "contains no rules" in frugal("check", "empty.toml", code=2).stderr
