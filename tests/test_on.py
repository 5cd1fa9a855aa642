"""Rules tried by a full inventory do what they do on the machine itself."""

from __future__ import annotations

import gzip
import json
import os
import random
import shutil
from difflib import unified_diff
from pathlib import Path
from typing import Any

import pytest

from frugal_sorter.app.elsewhere import elsewhere, full_of
from frugal_sorter.app.rules import look_ahead, look_further
from frugal_sorter.app.session import Session
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.misses import nearest_misses
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import slashed
from frugal_sorter.reports.saved import SUFFIX, Saved, load, save
from frugal_sorter.rules.load import load_rules
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.values import as_dict
from tests.conftest import Frugal
from tests.support import DAY_NS, THOROUGH, aged, rules_text

pytestmark = pytest.mark.skipif(os.name == "nt", reason="extended attributes and links")
_STEMS = ("kiln log", "scan", "Order_20261004_ash", "invoice 7", "glaze", "bowl", ".hidden", "celadon (2)", "ä b", "notes")
_ENDS = (".pdf", ".log", ".jpg", ".txt", ".tmp", "", ".tar.gz", ".PDF")
_CONDITIONS = (
    "everything", "ext is pdf", "type is image", "name has log", "size > 100 B", "modified older than 30 days",
    "latest older than 2 days", "hidden", "empty", "readonly", "linked", "copy-named", "tag is urgent", "comment has glaze",
    "owner is root", "depth is 1", 'name fits "Order_{day:%Y%m%d}_{rest}.pdf" and day older than 3 weeks',
    'name matches "^k.*"', "created within 2 days", "not (ext is txt)", "folder is B", "opened older than 1 day",
)  # fmt: skip
_ENDINGS = (
    'move = "Sorted/{type}"', 'move = "{modified:%Y}/{modified:%m}"', "move = '~/Elsewhere/{ext|\"none\"}'", "trash = true",
    'move = "Sorted"\nrename = "{modified:%Y}-{name}"', "delete = true\nat_most = 3", 'move = "Sorted"\nclash = "replace"',
    'leave = true', 'pack = "{modified:%Y}.zip"', 'move = "A"\nprune = true', 'move = "/nowhere/else"',
    'keep = ["newest 2", "one a week for 3 months"]\ntrash = true', 'move = "Sorted/{owner}"\nclash = "skip"',
)  # fmt: skip


def _machine(folder: Path, dice: random.Random) -> None:
    """Make up a folder as people leave them."""
    folders = [folder]
    for name in dice.sample(["A", "B", "C d", ".cache", "Sorted", "repo"], dice.randint(1, 6)):
        made = dice.choice(folders) / name
        made.mkdir(exist_ok=True)
        folders.append(made)
        if name == "repo":
            (made / ".git").mkdir(exist_ok=True)
    files: list[Path] = []
    for _ in range(dice.randint(3, 30)):
        path = dice.choice(folders) / (dice.choice(_STEMS) + dice.choice(_ENDS))
        if path.exists():
            continue
        aged(path, dice.choice((0.5, 1, 3, 8, 29.9, 31, 90, 400)), "x" * dice.choice((0, 1, 99, 101, 5_000)))
        files.append(path)
        roll = dice.random()
        if roll < 0.1:
            path.chmod(0o444)
        elif roll < 0.2 and len(files) > 1:
            other = dice.choice(folders) / f"again{len(files)}.pdf"
            os.link(files[-2], other)
        elif roll < 0.3:
            os.symlink(path.name, path.with_name(f"link{len(files)}"))
        elif roll < 0.5:
            try:
                os.setxattr(path, "user.xdg.tags", dice.choice((b"urgent", b"urgent,done")))
                os.setxattr(path, "user.xdg.comment", b"about a glaze")
            except OSError:
                continue
    if dice.random() < 0.2:
        folders[-1].chmod(dice.choice((0o500, 0o000)))


def _rules(dice: random.Random) -> str:
    rules = []
    for _ in range(dice.randint(1, 5)):
        ending = dice.choice(_ENDINGS)
        take = 'take = "folders"' if "rename" not in ending and "keep" not in ending and dice.random() < 0.15 else ""
        levels = dice.choice(("", "levels = 2", 'levels = "all"', 'levels = "all"\nhidden = true'))
        inside = dice.choice((".", ".", ".", "A", "B", "/nowhere/at-all"))
        rules.append(f"in = \"{inside}\"\nwhere = '{dice.choice(_CONDITIONS)}'\n{levels}\n{take}\n{ending}\n")
    return rules_text(*rules)


def _told(plan: Plan) -> list[str]:
    told = as_dict(plan)
    # Where nothing is known is said in other words than that nothing is there.
    told["notes"] = sorted(note.text for note in plan.notes if "/nowhere/" not in note.text)
    told["not_touched"] = [one for one in plan.not_touched if "/nowhere/" not in one.reason]
    told.pop("steps")
    return json.dumps([told, [as_dict(step) for step in plan.steps]], default=repr, sort_keys=True, indent=0).splitlines()


def _misses(book: RuleBook, session: Session) -> list[str]:
    found = nearest_misses(book, book.rules, session.world())
    # Which of many is named first depends on the order of the folder.
    return [f"{name}: {one}" for name, misses in found.items() for one in sorted(misses)]


def _same(there: list[list[str]], here: list[list[str]]) -> None:
    for one, other in zip(there, here, strict=True):
        if differ := "\n".join(unified_diff(one, other, "there", "here", lineterm="")):
            pytest.fail(differ)


def _take(folder: Path, session: Session, path: Path, looks_inside: bool = False) -> None:
    saved = Saved(str(folder), "", session.now_ns, 0, 0)
    save(saved, slashed.Path(path), full=full_of(session, str(folder), looks_inside))


@pytest.mark.parametrize("seed", range(2_000 if THOROUGH else 40))
def test_the_same_is_planned(folder: Path, own_home: Path, seed: int) -> None:
    dice = random.Random(seed)
    # In the home half of the time, which guards more and holds the trash.
    machine = (own_home if dice.random() < 0.5 else folder) / "Desk"
    machine.mkdir()
    _machine(machine, dice)
    here = folder / "here"
    here.mkdir()
    rules = here / "rules.toml"
    rules.write_text(_rules(dice))
    shutil.copy(rules, machine / "rules.toml")
    os.utime(machine / "rules.toml", (1e9, 1e9))
    session = Session.begin()
    # Read first: that a file is opened may be noted at it.
    book = load_rules(slashed.Path(machine / "rules.toml"))
    inventory = here / f"desk{SUFFIX}"
    _take(machine, session, inventory)
    first, second = session.now_ns, session.now_ns + 40 * DAY_NS
    plans = [_told(look_ahead(session, book, now_ns=moment)) for moment in (first, second)]
    misses = _misses(book, session)
    days = None
    if not any(word in rules.read_text() for word in ("pack", "keep", "nowhere")):
        days = [_told(day.plan) for day in look_further(session, book, second)]
    # Whatever was asked of the disk after this would not be there.
    machine.rename(machine.with_name("away"))
    with elsewhere(slashed.Path(inventory)) as there:
        looking = there.session(session)
        assert looking.now_ns == session.now_ns
        book = there.book(rules.read_bytes(), rules)
        _same(plans, [_told(look_ahead(looking, book, now_ns=moment)) for moment in (first, second)])
        _same([misses], [_misses(book, looking)])
        if days is not None:
            _same(days, [_told(day.plan) for day in look_further(looking, book, second)])


def test_what_it_takes_from_files_is_told_or_said_to_be_missing(folder: Path, frugal: Frugal) -> None:
    desk = folder / "desk"
    desk.mkdir()
    aged(desk / "a.txt", 3, "celadon")
    aged(desk / "b.txt", 3, "%PDF-1.4")
    rule = rules_text(
        'in = "."\nwhere = "mime is application/pdf"\nmove = "PDF"', 'in = "."\nwhere = "text has celadon"\nmove = "Glazes"'
    )
    (folder / "rules.toml").write_text(rule)
    frugal("inventory", "desk", "--save", "./plain.inventory.gz", "--full")
    frugal("inventory", "desk", "--save", "./inside.inventory.gz", "--full", "--look-inside")
    plain = frugal("preview", "rules.toml", "--on", "plain.inventory.gz", code=None)
    assert "not in the inventory: mime, text; take it with --look-inside" in plain.stderr
    inside = frugal("preview", "rules.toml", "--on", "inside.inventory.gz", code=None)
    assert "not in the inventory: text." in inside.stderr and "b.txt" in inside.stdout
    with gzip.open(folder / "inside.inventory.gz", "rt") as file:
        assert "celadon" not in file.read()


def test_many_machines_are_a_line_each_and_each_says_what_it_says_alone(folder: Path, frugal: Frugal) -> None:
    (folder / "machines").mkdir()
    for number in range(3):
        for at in range(number + 1):
            aged(folder / f"desk-{number}/Intake/{at}.log", 3)
        frugal("inventory", f"desk-{number}", "--save", f"./machines/desk-{number}.inventory.gz", "--full")
    frugal("inventory", "desk-0", "--save", "./machines/plain.inventory.gz")
    (folder / "machines/damaged.inventory.gz").write_bytes(b"x")
    (folder / "rules.toml").write_text(rules_text('in = "Intake"\nwhere = "ext is log"\ntrash = true\nat_most = 2'))
    found = json.loads(frugal("preview", "rules.toml", "--on", "machines", "--format", "json", code=3).stdout)
    assert [(one["changes"], "limit is 2" in one["problems"]) for one in found["machines"]] == [(1, False), (2, False), (0, True)]
    assert {os.path.basename(one["path"]) for one in found["not_read"]} == {"plain.inventory.gz", "damaged.inventory.gz"}
    for number, one in enumerate(found["machines"]):
        alone = frugal("preview", "rules.toml", "--on", f"machines/desk-{number}.inventory.gz", "--format", "json", code=None)
        assert json.loads(alone.stdout)["totals"]["entries"]["files"] == one["changes"]
    said = frugal("preview", "rules.toml", "--on", "machines", code=3).stdout
    assert "On 3 machines; nothing is changed." in said and "refused: rule 0" in said and said.count("Not read: ") == 2
    assert "name one inventory" in frugal("preview", "rules.toml", "--on", "machines", "--again", code=2).stderr


def test_it_is_an_inventory_like_any(folder: Path, frugal: Frugal) -> None:
    (folder / "desk").mkdir()
    aged(folder / "desk" / "a.txt", 3)
    frugal("inventory", "desk", "--save", "./full.inventory.gz", "--full")
    assert [*load(slashed.Path(folder / "full.inventory.gz")).files] == ["a.txt"]
    aged(folder / "desk" / "b.txt", 1)
    assert "b.txt" in frugal("compare", "./full.inventory.gz", "now").stdout
    (folder / "rules.toml").write_text(rules_text('in = "."\nwhere = "everything"\nmove = "T"'))
    explained = frugal("explain", "a.txt", "--rules", "rules.toml", "--on", "full.inventory.gz").stdout
    assert "move" in explained
    assert "b.txt" in frugal("explain", "b.txt", "--rules", "rules.toml", "--on", "full.inventory.gz", code=2).stderr


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["inventory", "desk", "--full"], "--full belongs to --save"),
        (["inventory", "desk", "--save", "x", "--look-inside"], "--look-inside to --full"),
        (["preview", "rules.toml", "--on", "plain.inventory.gz"], "holds only sizes and dates"),
        (["preview", "rules.toml", "--on", "nothing"], "no saved inventory is called 'nothing'"),
        (["preview", "rules.toml", "--on", "full.inventory.gz", "--save", "x.plan"], "--on only shows"),
    ],
)
def test_what_does_not_go_together_is_refused(folder: Path, frugal: Frugal, words: list[str], said: str) -> None:
    (folder / "desk").mkdir()
    (folder / "rules.toml").write_text(rules_text('in = "."\nwhere = "everything"\nmove = "T"'))
    frugal("inventory", "desk", "--save", "./plain.inventory.gz")
    frugal("inventory", "desk", "--save", "./full.inventory.gz", "--full")
    assert said in frugal(*words, code=2).stderr


def test_a_hostile_inventory_is_refused_in_one_line(folder: Path) -> None:
    desk = folder / "desk"
    (desk / "sub").mkdir(parents=True)
    aged(desk / "sub" / "a.txt", 3)
    aged(desk / "sub" / "b.pdf", 3)
    os.symlink("a.txt", desk / "sub" / "link")
    session, path = Session.begin(), folder / f"x{SUFFIX}"
    _take(desk, session, path, looks_inside=True)
    with gzip.open(path, "rt") as file:
        lines = [json.loads(line) for line in file]
    # What else lies around is as many lines as the machine has files there.
    lines = [line for line in lines if isinstance(line, dict) or not line[0].startswith("/") or str(desk).startswith(line[0])]
    dice = random.Random(7)
    odd: tuple[object, ...] = (
        "..",
        "../../etc",
        "/",
        "a//b",
        "",
        "a/",
        7,
        -1,
        None,
        True,
        1 << 200,
        [],
        {},
        "\0",
        "x" * 300,
        {"link": 3},
        {"no": "key"},
    )
    refused = 0
    for _ in range(3_000 if THOROUGH else 120):
        changed = json.loads(json.dumps(lines))
        part: Any = changed[dice.randrange(len(changed))]
        while True:
            key = dice.choice(sorted(part)) if isinstance(part, dict) else dice.randrange(len(part))
            if not (isinstance(part[key], (dict, list)) and part[key] and dice.random() < 0.75):
                break
            part = part[key]
        part[key] = dice.choice(odd)
        if dice.random() < 0.2:
            changed.insert(dice.randrange(1, len(changed)), changed[-1])
        path.unlink()
        with gzip.open(path, "wt") as file:
            file.writelines(json.dumps(line) + "\n" for line in changed)
        try:
            with elsewhere(slashed.Path(path)) as there:
                where = "mime is text/plain or title has x or taken older than 1 day or not mislabelled"
                book = there.book(
                    rules_text(f'in = "sub"\nwhere = "{where}"\nmove = "{{title|name}}"').encode(), folder / "r.toml"
                )
                look_ahead(there.session(session), book)
        except UsageError as error:
            refused += 1
            assert "\n" not in str(error)
    assert refused > (1_500 if THOROUGH else 60)
