"""`frugal suggest --like`: learnt from three habits with noise, and honest figures: what is tested was never seen."""

from __future__ import annotations

import random
import re
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from frugal_sorter.app.learning import FOLDS, Item, learn, place_for, score_of
from tests.conftest import Frugal
from tests.support import put

MISFILED, NAMELESS = 0.05, 0.10
SUPPLIERS = ("Harbour Clay", "Northlight Kilns", "Saltmarsh Minerals", "Quay Packaging", "Ateliers Roy", "Søren Lind")
PROJECTS = ("Garden wall", "Tea set Okada", "Lighthouse tiles", "Museum jars", "Fountain")
BEGIN = datetime(2026, 1, 3, 12)


def tree(habit: str, files: int = 360, seed: int = 3) -> tuple[list[Item], set[str]]:
    """Return what somebody sorted, 5 % misfiled and 10 % with names that tell nothing, and the names of both."""
    chance = random.Random(seed)
    items, noise = [], set()
    for number in range(files):
        when = BEGIN + timedelta(days=chance.randrange(180))
        one, other = chance.choice(SUPPLIERS), chance.choice(PROJECTS)
        if habit == "supplier":
            name, folder = f"{chance.choice(['Invoice', 'Delivery note', 'Offer'])} {number} {one}.pdf", one
        elif habit == "project":
            name, folder = (
                f"{other} {chance.choice(['plan', 'photo', 'letter'])} {number}.{chance.choice(['pdf', 'jpg', 'docx'])}",
                f"Projects/{other}",
            )
        else:
            name, folder = f"sheet {number}.csv", f"Sheets/{when.strftime(habit)}"
        telling = not habit.startswith("%")
        if telling and chance.random() < NAMELESS:
            name = f"{number:04}.{name.rpartition('.')[2]}"
            noise.add(name)
        elif chance.random() < MISFILED:
            noise.add(name)
            folder = {"supplier": chance.choice(SUPPLIERS), "project": f"Projects/{chance.choice(PROJECTS)}"}.get(
                habit, f"Sheets/{datetime(2025, 1, 1).strftime(habit)}"
            )
        items.append(Item(name, folder, chance.randrange(500, 5_000_000), int(when.timestamp()) * 10**9))
    return items, noise


@pytest.mark.parametrize("habit", ["supplier", "project", "%Y-%m", "%Y/%m", "%Y/%m %B", "%Y/%B", "%Y/%m-%b"])
def test_what_can_be_told_is_put_right_and_the_rest_is_left(habit: str) -> None:
    items, noise = tree(habit)
    score = score_of(items)
    assert score.all == len(items) >= 300
    telling = len(items) - len(noise)
    # Some of the misfiled lie right by chance: they only make the figure better.
    assert score.right >= 0.95 * telling
    wrong = [one for one in score.misplaced if one.name not in noise]
    assert len(wrong) <= 0.02 * len(items), wrong
    nameless = {name for name in noise if re.fullmatch(r"\d{4}\.\w+", name)}
    guessed = [one for one in score.misplaced if one.name in nameless]
    assert len(guessed) <= 0.15 * len(nameless), guessed
    for rule in learn(items):
        assert 1 <= len(rule.tests) <= 4 and len(rule.where) < 100


def test_sizes_are_learnt_where_names_tell_nothing(folder: Path, frugal: Frugal) -> None:
    for number in range(30):
        put(folder / f"Sorted/Web/IMG_{number}.jpg", b"x" * (300 + number))
        put(folder / f"Sorted/Print/IMG_{number}0.jpg", b"x" * (30_000 + number))
    for name, size in (("IMG_77.jpg", 400), ("IMG_78.jpg", 25_000), ("price list.pdf", 25_000)):
        put(folder / "Intake" / name, b"x" * size)
    frugal("suggest", "Intake", "--like", "Sorted", "--to", "rules.toml")
    # What else is large was never sorted by anybody.
    assert "warning:" not in frugal("check", "rules.toml").stdout and "ext is jpg and size" in (folder / "rules.toml").read_text()
    frugal("tidy", "rules.toml", "--yes")
    assert (folder / "Sorted/Web/IMG_77.jpg").exists() and (folder / "Sorted/Print/IMG_78.jpg").exists()
    assert (folder / "Intake/price list.pdf").exists()


def test_what_stands_inside_tells_where_names_say_nothing(folder: Path, frugal: Frugal) -> None:
    for number in range(24):
        who = "Harbour Clay" if number % 2 else "Quay Packaging"
        put(folder / f"Sorted/{who}/scan{number:04}.txt", f"Invoice {number}\nfrom {who.upper()}, with thanks\n")
        put(folder / f"Sorted/Kiln/kiln log {number}.txt", "quay packaging and clay were fired")
    put(folder / "Intake/scan0900.txt", "From Quay Packaging\n")
    put(folder / "Intake/scan0901.txt", "From somebody nobody knows\n")
    said = frugal("suggest", "Intake", "--like", "Sorted", "--to", "rules.toml").stdout
    assert "took 48 of 48 test files (100%)" in said and "48 were placed correctly (100%) and 0 wrongly" in said
    assert 'text has "' in (folder / "rules.toml").read_text().replace("'", '"')
    assert "warning:" not in frugal("check", "rules.toml").stdout
    frugal("tidy", "rules.toml", "--yes")
    assert (folder / "Sorted/Quay Packaging/scan0900.txt").exists() and (folder / "Intake/scan0901.txt").exists()


def test_labels_that_mean_nothing_get_no_more_than_chance() -> None:
    items, _ = tree("supplier")
    folders = [item.folder for item in items]
    for seed in range(4):
        random.Random(seed).shuffle(folders)
        shuffled = [item._replace(folder=folder) for item, folder in zip(items, folders, strict=True)]
        score = score_of(shuffled)
        put_somewhere = score.right + len(score.misplaced)
        assert score.right <= 0.08 * len(items) and (put_somewhere < 60 or score.right < 0.4 * put_somewhere)


def test_a_file_that_is_tested_was_never_seen() -> None:
    """A word that only one fold has can be known by no rule that is tested on it."""
    items = sorted(tree("supplier", 200)[0])
    marked = [
        item._replace(name=f"only {item.name}", folder="Elsewhere") if at % FOLDS == 0 else item for at, item in enumerate(items)
    ]
    score = score_of(sorted(marked, key=lambda one: one.name.removeprefix("only ")))
    # `score_of` sorts by name itself; the folder is in several folds then, so that it may be learnt: only its figures must add up.
    assert (
        sum(lies for lies, _ in score.by_folder.values()) == len(items)
        and sum(right for _, right in score.by_folder.values()) == score.right
    )


def test_the_order_of_the_files_changes_nothing() -> None:
    items, _ = tree("project")
    wanted = learn(items)
    random.Random(1).shuffle(items)
    assert learn(items) == wanted and wanted


def test_the_program_writes_rules_that_put_new_files_there(folder: Path, frugal: Frugal) -> None:
    items, _ = tree("supplier")
    for item in items:
        put(folder / "Archive" / item.folder / item.name, item.name)
    put(folder / "Intake/Offer 999 Harbour Clay.pdf")
    put(folder / "Intake/0815.pdf")
    said = frugal("suggest", "Intake", "--like", "Archive", "--to", "learnt.toml").stdout
    assert "test files" in said or "not made from" in said
    text = (folder / "learnt.toml").read_text()
    found = re.search(
        r"took (\d+) of (\d+) test files .*; of these \1, (\d+) were placed correctly \(\d+%\) and (\d+) wrongly", text
    )
    assert found and int(found[3]) + int(found[4]) == int(found[1]) <= int(found[2]) == len(items)
    frugal("check", "learnt.toml")
    frugal("tidy", "learnt.toml", "--yes")
    assert (folder / "Archive/Harbour Clay/Offer 999 Harbour Clay.pdf").exists() and (folder / "Intake/0815.pdf").exists()
    page = frugal("suggest", "Intake", "--like", "Archive", "--format", "html").stdout
    assert "<svg" in page and "Harbour Clay" in page and "name has" in page


def test_a_tree_that_tells_nothing_says_so(folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    put(folder / "Archive/one/a.txt")
    assert "Cannot learn rules from" in frugal("suggest", "Intake", "--like", "Archive").stdout
    (folder / "Nothing").mkdir()
    assert "Cannot learn rules from" in frugal("suggest", "Intake", "--like", "Nothing").stdout


def test_a_rule_that_is_often_wrong_is_off() -> None:
    items = [Item(f"glaze {number}.txt", "A" if number % 6 else "B", 1, 0) for number in range(60)]
    items += [Item(f"other {number}.pdf", "B", 1, 0) for number in range(30)]
    rules = learn(items)
    unsure = [rule for rule in rules if not rule.is_sure]
    assert unsure and all(rule.wrong for rule in unsure)
    assert place_for(unsure, items[0]) is None


# What was moved by hand


def test_what_was_moved_by_hand_lately_gets_a_rule(folder: Path, frugal: Frugal) -> None:
    for number in range(5):
        put(folder / f"Desk/In/Offer {number} Quay Packaging.pdf", f"q{number}")
        put(folder / f"Desk/In/Letter {number} Harbour.pdf", f"h{number}")
    frugal("inventory", "Desk", "--save", "before")
    (folder / "Desk/Invoices/Quay").mkdir(parents=True)
    for number in range(4):
        (folder / f"Desk/In/Offer {number} Quay Packaging.pdf").rename(
            folder / f"Desk/Invoices/Quay/Offer {number} Quay Packaging.pdf"
        )
    said = frugal("suggest", "Desk", "--since", "1 day").stdout
    assert "# You moved 4 of these 5 files to Invoices/Quay. Add this rule?" in said and "# 4 files moved by hand" in said
    put(folder / "rules.toml", said)
    frugal("tidy", "rules.toml", "--yes")
    assert (folder / "Desk/Invoices/Quay/Offer 4 Quay Packaging.pdf").exists() and (
        folder / "Desk/In/Letter 1 Harbour.pdf"
    ).exists()


def test_what_a_rule_put_somewhere_and_a_person_moved_on_is_seen_too(folder: Path, frugal: Frugal) -> None:
    for number in range(6):
        put(folder / f"Desk/In/kiln {number}.log", f"k{number}")
    put(folder / "rules.toml", 'frugal = 1\n[[rule]]\nname = "logs"\nin = "Desk/In"\nwhere = "ext is log"\nmove = "../Logs"\n')
    frugal("tidy", "rules.toml", "--yes")
    assert "Cannot learn rules: according to saved" in frugal("suggest", "Desk", "--since", "1 day").stdout
    (folder / "Desk/Kiln").mkdir()
    for number in range(5):
        (folder / f"Desk/Logs/kiln {number}.log").rename(folder / f"Desk/Kiln/kiln {number}.log")
    assert "You moved 5 of these 6 files to Kiln" in frugal("suggest", "Desk", "--since", "1 day").stdout
    assert (
        "be combined with --like, --as-preview or --format"
        in frugal("suggest", "Desk", "--since", "1 day", "--like", "Desk", code=2).stderr
    )


def test_few_moves_of_files_named_alike_are_enough_and_the_rest_is_foretold(folder: Path, frugal: Frugal) -> None:
    for number in range(12):
        put(folder / f"Desk/Invoice-{1000 + number}.pdf", f"i{number}")
        put(folder / f"Desk/IMG_{number}.jpg", f"p{number}")
    frugal("inventory", "Desk", "--save", "before")
    for target, names in (("Invoices", [f"Invoice-{1000 + number}.pdf" for number in range(3)]),
                          ("A", ["IMG_1.jpg", "IMG_2.jpg", "IMG_3.jpg"]), ("B", ["IMG_4.jpg", "IMG_5.jpg", "IMG_6.jpg"])):  # fmt: skip
        (folder / "Desk" / target).mkdir()
        for name in names:
            (folder / "Desk" / name).rename(folder / "Desk" / target / name)
    said = frugal("suggest", "Desk", "--since", "1 day").stdout
    assert "# You moved 3 of these 12 files to Invoices. Add this rule?" in said
    assert "# It would move 9 files now: Invoice-1003.pdf, Invoice-1004.pdf" in said and 'stem fits "Invoice-{number}"' in said
    # Pictures went to two folders, so that their names say nothing.
    assert "IMG" not in said
    put(folder / "rules.toml", said)
    frugal("tidy", "rules.toml", "--yes")
    assert len(list((folder / "Desk/Invoices").iterdir())) == 12


BOATS = ("Gull", "Sea Otter", "Moana", "Kittiwake", "Heron", "Tern")


@pytest.mark.parametrize("form", ["{part} {rest}", "{rest} - {part}", "{first}_{part}_{rest}"])
@pytest.mark.parametrize("tail", ["", "/2026", "/{month}"])
def test_folders_named_after_a_part_of_their_names_get_one_rule(form: str, tail: str) -> None:
    chance = random.Random(5)
    items = []
    for number in range(180):
        kiln = chance.choice([one for one in BOATS if "{part} " not in form or " " not in one])
        when = BEGIN + timedelta(days=chance.randrange(150))
        name = form.format(part=kiln, rest=f"firing {number}", first="log") + ".csv"
        folder = f"Firings/{kiln}{tail.format(month=when.strftime('%Y-%m'))}"
        items.append(Item(name, folder, 900, int(when.timestamp()) * 10**9))
    rules = learn(items)
    assert len(rules) == 1 and "{part}" in rules[0].target, rules
    score = score_of(items)
    assert score.right == score.all and not score.misplaced


def test_a_family_is_written_as_one_rule_that_sorts_the_next_file(folder: Path, frugal: Frugal) -> None:
    for number in range(60):
        name = BOATS[number % 6]
        put(folder / f"Sorted/Firings/{name}/{name}_{number}.csv")
        put(folder / f"Sorted/Letters/letter {number}.pdf")
    put(folder / "Intake/Heron_99.csv")
    put(folder / "Intake/Unknown_99.csv")
    frugal("suggest", "Intake", "--like", "Sorted", "--to", "rules.toml")
    text = (folder / "rules.toml").read_text()
    assert text.count("[[rule]]") == 2 and "{part}" in text
    assert "no warnings" in frugal("check", "rules.toml").stdout
    frugal("tidy", "rules.toml", "--yes")
    assert (folder / "Sorted/Firings/Heron/Heron_99.csv").exists() and (folder / "Intake/Unknown_99.csv").exists()


def test_what_came_between_two_inventories_and_was_moved_is_seen(folder: Path, frugal: Frugal) -> None:
    put(folder / "Desk/old note.txt")
    frugal("inventory", "Desk", "--save", "before")
    for number in range(8):
        put(folder / f"Desk/Invoice-{number}.pdf")
    frugal("inventory", "Desk", "--save", "between")
    (folder / "Desk/Bills").mkdir()
    for number in range(4):
        (folder / f"Desk/Invoice-{number}.pdf").rename(folder / f"Desk/Bills/Invoice-{number}.pdf")
    assert "You moved 4 of these 8 files to Bills" in frugal("suggest", "Desk", "--since", "1 day").stdout
