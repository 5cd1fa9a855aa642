"""`frugal suggest`: a rule file that a technician would call right, on the demo machine and on another one."""

from __future__ import annotations

import json
import os
import random
import re
import time
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.app.learning import Item
from frugal_sorter.app.proposal import Seen, propose, shape_of, tokens_of
from frugal_sorter.rules.templates import parse_reading
from tests.conftest import Frugal
from tests.support import NOW_NS, put, snapshot, write_song


@pytest.mark.parametrize(("names", "pattern"), [
    (["KILN 1 2026-07-08", "KILN 3 2026-10-01"], "KILN {number} {day:%Y-%m-%d}"), (["scan000", "scan017"], "scan{number}"),
    (["Invoice 5200 Northlight Kilns", "Invoice 5213 Quay Packaging Ltd"], "Invoice {number} {label}"),
    (["2026-10-04 glaze test 3", "2025-01-31 glaze test 12"], "{day:%Y-%m-%d} glaze test {number}"),
    (["Rechnung_20261004_Müller", "Rechnung_20260101_Søren Lind"], "Rechnung_{day:%Y%m%d}_{label}"),
    (["Protokoll 3 October 2026", "Protokoll 14 march 2025"], "Protokoll {day:%d %B %Y}"), (["report ann v1", "report bob lee v22"], "report {label} v{number}"),
    (["{a} 1", "{a} 2"], None), (["a{b} note 1", "a{b} note 2"], "a{{b}} note {number}"), (["12 34", "56 78"], None), (["same", "same"], None),
    (["note a", "note b"], "note {label}"), (["99999999 kiln", "20261399 kiln"], "{number} kiln"),
])  # fmt: skip
def test_names_of_one_shape_have_a_pattern_that_reads_them(names: list[str], pattern: str | None) -> None:
    shape = shape_of([tokens_of(name) for name in names])
    assert (shape.pattern if shape is not None else None) == pattern
    if pattern is not None:
        assert all(parse_reading(pattern, False).fits(name) for name in names)


@given(st.lists(st.text(alphabet="kiln aB1-_.{}ü20261004", min_size=1, max_size=14), min_size=2, max_size=6))
def test_a_pattern_fits_every_name_that_it_was_made_from(names: list[str]) -> None:
    assert all("".join(token.text for token in tokens_of(name)) == name for name in names)
    shape = shape_of([tokens_of(name) for name in names])
    if shape is not None:
        assert all(parse_reading(shape.pattern, False).fits(name) for name in names), shape.pattern


def rules_of(text: str) -> dict[str, dict[str, object]]:
    return {rule["name"]: rule for rule in tomllib.loads(text)["rule"]}


@pytest.mark.parametrize(
    ("name", "stem"), [("a.TİF", "a"), ("README", "README"), ("logs.tar.gz", "logs"), (".profile", ".profile")]
)
def test_a_name_is_cut_where_its_suffix_begins(name: str, stem: str) -> None:
    assert Seen(name, 1, 0).stem == stem
    assert Item(name, "there", 1, 0).says_nothing is (len(stem) < 3)


def test_the_demo_machine_is_sorted_as_its_own_rules_would_or_as_well(folder: Path, frugal: Frugal) -> None:
    frugal("demo", "desk")
    before = snapshot(folder / "desk")
    frugal("suggest", "desk/Intake", "--to", "proposed.toml")
    assert "no warnings" in frugal("check", "proposed.toml").stdout
    assert snapshot(folder / "desk") == before
    plans = {
        rules: {step["source"]: step["target"] for step in json.loads(frugal("preview", rules, "--format", "json").stdout)["steps"] if step["verb"] == "move"}
        for rules in ("desk/rules.toml", "proposed.toml")
    }  # fmt: skip
    own, proposed = plans["desk/rules.toml"], plans["proposed.toml"]
    desk = f"{folder}/desk/"
    right = {
        r"kiln \d .*\.log": r"Kiln Logs/\d{4}-\d\d/", r"scan\d+\.tiff?": r"(Intake/Scans|Supplier Invoices/Scans)/", r"img_\d+\.jpe?g": r"Glaze Photos/",
        r"invoice .*\.pdf": r"Supplier Invoices/\d{4}/", r".*\.(stl|obj)": r"Mould Models/",
    }  # fmt: skip
    for pattern, place in right.items():
        names = [name for name in os.listdir(folder / "desk/Intake") if re.fullmatch(pattern, name.lower())]
        assert len(names) > 5
        for name in names:
            target = proposed[f"{desk}Intake/{name}"].removeprefix(desk)
            assert re.match(place, target), (name, target)
    # Where both know the day from the name they agree to the folder.
    for source, target in own.items():
        if "KILN" in source:
            assert os.path.dirname(proposed[source]) == os.path.dirname(target)
    kept = [name for name in os.listdir(folder / "desk/Intake") if name.endswith((".part", ".crdownload"))]
    assert kept and not [name for name in kept if f"{desk}Intake/{name}" in proposed]
    text = (folder / "proposed.toml").read_text()
    assert "{day:%Y-%m-%d}" in text and "{number}" in text and "# 26 files" in text


# A workshop in another town: dates in front, names that cameras give, numbered scans, several languages. What a
# technician expects of it was written down before the program saw it.
OTHER = {
    "2026-10-{day:02} Protokoll Ofen {n}.txt": (12, r"stem fits \"\{day:%Y-%m-%d\} Protokoll Ofen \{number\}\""),
    "DSC_{n:04}.JPG": (30, r"stem fits \"DSC_\{number\}\""), "Facture {n} {who}.pdf": (9, r"stem fits \"Facture \{number\} \{label\}\""),
    "Scan_2026{m:02}{day:02}_{n}.pdf": (8, r"stem fits \"Scan_\{day:%Y%m%d\}_\{number\}\""), "見積もり {n}.xlsx": (7, r"\{number\}"),
}  # fmt: skip


def other_machine(root: Path, seed: int = 1) -> None:
    chance = random.Random(seed)
    names = []
    for form, (count, _) in OTHER.items():
        for n in range(count):
            names.append(
                form.format(
                    day=1 + n % 28, m=1 + n % 12, n=100 + n, who=chance.choice(["Duval et fils", "Søren Lind", "Ateliers Roy"])
                )
            )
    names += ["note.txt", "à lire.docx", "half.part", "setup-1.2.exe"]
    chance.shuffle(names)
    for name in names:
        put(root / name, name, age_days=chance.randrange(1, 300), now_ns=time.time_ns())


def test_another_machine_gets_the_patterns_that_were_expected(folder: Path, frugal: Frugal) -> None:
    other_machine(folder / "Eingang")
    (folder / "Factures").mkdir()
    for number in range(6):
        put(folder / f"Factures/2025/Facture {number} Duval et fils.pdf")
    text = frugal("suggest", "Eingang").stdout
    for form, (count, pattern) in OTHER.items():
        assert re.search(pattern, text), (form, text)
        assert f"# {count} files" in text, form
    rules = rules_of(text)
    assert [rule["move"] for rule in rules.values() if "Facture" in str(rule["where"])] == ["../Factures/{modified:%Y}"]
    assert [rule for rule in rules.values() if rule.get("leave")] and not [rule for rule in rules.values() if rule.get("delete")]
    put(folder / "rules.toml", text)
    assert "no warnings" in frugal("check", "rules.toml").stdout


def test_the_same_folder_in_another_order_gives_the_same_proposal(folder: Path, frugal: Frugal) -> None:
    files = [Seen(f"Kiln {number} 2026-01-{1 + number % 28:02}.log", 10, NOW_NS - number) for number in range(40)]
    files += [Seen(f"IMG_{number}.jpg", 20, NOW_NS) for number in range(30)] + [
        Seen(f"x{number}.bin", 1, 0) for number in range(9)
    ]
    wanted = propose("/srv/in", files, [], NOW_NS)
    for seed in range(5):
        random.Random(seed).shuffle(files)
        assert propose("/srv/in", files, [], NOW_NS) == wanted
    names = [one.name for group in wanted for one in group.files]
    assert len(names) == len(set(names)), "each file is in one group"


def test_scans_are_told_apart_by_the_words_at_their_top(folder: Path, frugal: Frugal) -> None:
    tops = ["Harbour Clay\nDelivery note", "Quay Packaging\nInvoice", "Kiln service\nLetter"]
    for number in range(24):
        fillers = "We thank you for your order, which we have with pleasure put together. " * (number % 3 + 1)
        put(folder / f"Intake/scan{number:04}.txt", f"{tops[number % 3]} {number}\n{' ' * 200}{fillers}{number}")
    for number in range(24, 30):
        put(folder / f"Intake/scan{number:04}.txt", f"{number}")
    frugal("suggest", "Intake", "--to", "rules.toml")
    frugal("check", "rules.toml")
    frugal("tidy", "rules.toml", "--yes")
    places = {path.name: path.parent.relative_to(folder / "Intake").as_posix() for path in (folder / "Intake").rglob("*.txt")}
    by_top = [{places[f"scan{number:04}.txt"] for number in range(first, 24, 3)} for first in range(3)]
    # One place for each, none shared, and none that is named after a filler.
    assert [len(one) for one in by_top] == [1, 1, 1] and len(set.union(*by_top)) == 3
    assert not set.union(*by_top) & {"Scans/With", "Scans/Which", "Scans/Your"}
    assert {places[f"scan{number:04}.txt"] for number in range(24, 30)} == {"Scans"}


@pytest.mark.parametrize(
    ("artists", "is_by_artist"),
    [(["Maren Holt", "Søren Lind"], True), (["Maren Holt"], False), ([f"No {number}" for number in range(8)], False)],
)
def test_recordings_go_to_their_artists_where_that_tells_them_apart(
    folder: Path, frugal: Frugal, artists: list[str], is_by_artist: bool
) -> None:
    (folder / "Intake").mkdir()
    for number in range(8):
        write_song(folder / f"Intake/wheel song {number}.mp3", artists[number % len(artists)])
    frugal("suggest", "Intake", "--to", "rules.toml")
    assert ("{artist|" in (folder / "rules.toml").read_text()) is is_by_artist
    frugal("tidy", "rules.toml", "--yes")
    assert len({path.parent for path in (folder / "Intake").rglob("*.mp3")}) == (len(artists) if is_by_artist else 1)


def test_where_nothing_is_alike_it_says_so(folder: Path, frugal: Frugal) -> None:
    (folder / "Empty").mkdir()
    assert "No rules to suggest" in frugal("suggest", "Empty").stdout
    put(folder / "Few/a.txt")
    put(folder / "Few/b.jpg")
    assert "No rules to suggest" in frugal("suggest", "Few").stdout and "checked 2 files" in frugal("suggest", "Few").stdout
    assert "folder not found" in frugal("suggest", "nowhere", code=2).stderr


def test_it_can_be_seen_as_a_preview_and_never_replaces_a_file(folder: Path, frugal: Frugal) -> None:
    other_machine(folder / "Eingang")
    assert "It would move" in frugal("suggest", "Eingang", "--as-preview").stdout
    put(folder / "rules.toml", "mine")
    assert "already exists" in frugal("suggest", "Eingang", "--to", "rules.toml", code=2).stderr
    assert (folder / "rules.toml").read_text() == "mine"


def test_a_folder_that_cannot_be_read_is_one_line(folder: Path, frugal: Frugal) -> None:
    (folder / "shut").mkdir(mode=0o000)
    assert "no permission" in frugal("suggest", "shut", code=2, without_rights=True).stderr


def test_papers_take_their_names_from_the_number_and_the_date_in_them(folder: Path, frugal: Frugal) -> None:
    for number in range(12):
        put(
            folder / f"Intake/scan{number:03}.txt",
            f"Harbour Clay\nInvoice No: HC-{1000 + number}\nDate: 2026-03-{number + 1:02}\n",
        )
        put(
            folder / f"Intake/scan{number + 50:03}.txt",
            f"Quay Packaging\nDelivery note 2026/{100 + number}\n{number + 1} May 2026\n",
        )
    # One that nobody could name: it is left where it is rather than given half a name.
    put(folder / "Intake/scan099.txt", "Harbour Clay\nWe thank you for your visit\n")
    frugal("suggest", "Intake", "--to", "rules.toml")
    text = (folder / "rules.toml").read_text()
    assert "of the 13 that were opened, it found the date in 12, number in 12" in text
    assert "no warnings" in frugal("check", "rules.toml").stdout
    frugal("tidy", "rules.toml", "--yes")
    names = {path.name for path in (folder / "Intake").rglob("*.txt")}
    assert {"2026-03-01 Invoice HC-1000.txt", "1 May 2026 Delivery note 2026_100.txt", "scan099.txt"} <= names
    assert len(names) == 25


@pytest.mark.parametrize("end", ["tif", "txt"])
def test_scans_without_a_text_say_so(folder: Path, frugal: Frugal, end: str) -> None:
    for number in range(20):
        put(folder / f"Intake/scan{number:03}.{end}", b"\0\1\2")
    said = frugal("suggest", "Intake").stdout
    assert "text was found in" in said and "so that they keep their names" in said and "rename" not in said


def test_recordings_that_a_device_named_take_their_title(folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    for number in range(8):
        write_song(folder / f"Intake/untitled{number:03}.mp3", "Maren Holt")
    frugal("suggest", "Intake", "--to", "rules.toml")
    assert "rename = '{artist|\"Unknown artist\"} - {title}.{ext}'" in (folder / "rules.toml").read_text()
