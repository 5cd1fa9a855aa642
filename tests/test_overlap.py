"""Rules that can never match, and rules that never get what they match: found, and none found among live ones."""

from __future__ import annotations

import itertools
import re
from pathlib import Path

import pytest
from hypothesis import assume, given

from frugal_sorter.rules.lint import warnings_of
from frugal_sorter.rules.load import load_rules, read_rules
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.overlap import Overlap
from tests.conftest import IS_WINDOWS, Frugal
from tests.support import NOW_NS, WORLD, book_of, facts_of, put, rules_text
from tests.test_conditions import FILES, conditions, studio  # noqa: F401 - the fixture

ROOT = Path(__file__).parent.parent


def dead(book: RuleBook) -> list[str]:
    return [
        one.message
        for one in warnings_of(book, WORLD)
        if re.match("this rule never|this rule can never|this rule's extras never", one.message)
    ]


def rule_of(where: str, more: str = "") -> str:
    return f"where = '''{where}'''\nmove = 'x'\n{more}"


@pytest.mark.parametrize(
    ("where", "told"),
    [
        ("size > 2 MB and size < 1 MB", "`size > 2 MB` and `size < 1 MB` contradict each other"),
        ("size > 2 MB and size <= 2 MB", "contradict each other"),
        ("size < 0 B", "`size < 0 B` is never true here"),
        ("modified older than 30 days and modified within 3 days", "contradict each other"),
        ("modified before 2020 and modified within 3 days", "contradict each other"),
        ("modified before 2020 and modified after 2021", "contradict each other"),
        ("ext is zip and ext is pdf", "`ext is zip` and `ext is pdf` contradict each other"),
        ("ext is zip and type is image", "contradict each other"),
        ("ext in (zip, jpg) and type is document", "contradict each other"),
        ("name is 'a.log' and ext is txt", "contradict each other"),
        ("name is 'a.log' and stem starts b", "contradict each other"),
        ("name is exactly 'A' and name is exactly 'a'", "contradict each other"),
        ("ext is log and not type is log", "contradict each other"),
        ("empty and not empty", "contradict each other"),
        ("hidden", "`hidden` is never true here"),
        ("depth > 1", "`depth > 1` is never true here"),
        ("name starts kiln and not name starts k", "contradict each other"),
        ("name like '*.log' and not name ends '.log'", "contradict each other"),
        ("title is none and title is none and not title is none", "contradict each other"),
        ("everything and not everything", "is never true"),
        ("(ext is a and ext is b) or (size > 2 B and size < 2 B)", "its tests contradict each other"),
    ],
)  # fmt: skip
def test_what_can_never_be_true_is_told(where: str, told: str, folder: Path) -> None:
    (found,) = dead(book_of(folder, rule_of(where)))
    assert found.startswith("this rule can never match") and told in found


@pytest.mark.parametrize(
    "where",
    [
        "size > 2 MB and size < 3 MB", "modified older than 3 days and modified within 30 days", "not size > 2 MB",
        "modified after 2030", "modified after 2030 and modified older than 30 days", "ext is zip and name has kiln",
        "name is 'A' and name is exactly 'a'", "name starts kiln and not name starts 'kiln 2'", "type is other and ext is qqq",
        "tag is a and tag is b", "tag is a and not tag is b", "taken is none and modified within 1 day",
        "title is none and not title has x", "name like 'a*' and name like '*b'", "created before 1980", "in use and mislabelled",
        "ext is zip or ext is pdf", "not (ext is zip and ext is pdf)", "name ends '.tar.gz' and ext is 'tar.gz'",
        "folder is Intake and folder has take", "size is 5 B", "size not in (1 KB, 2 KB)", "empty", "not everything or size > 1 B",
    ],
)  # fmt: skip
def test_what_can_be_true_is_left_in_peace(where: str, folder: Path) -> None:
    assert dead(book_of(folder, rule_of(where))) == []


WIDER = [
    ("ext is log", "ext is log"), ("ext in (log, txt)", "ext is log"), ("type is log", "ext is log and name has kiln"),
    ("size > 1 MB", "size > 2 MB"), ("modified older than 7 days", "modified older than 30 days"),
    ("modified before 2024", "modified on 2023-05-01"), ("name has kiln", "name starts 'kiln 2'"),
    ("name ends '.log'", "ext is log"), ("name like '*.log'", "name is 'a.log'"), ("not hidden", "ext is log"),
    ("ext is log or size > 1 MB", "size > 5 MB and ext is csv"), ("everything", "in use"), ("tag in (a, b)", "tag is a"),
    ("name fits 'Kiln {k}.log'", "name fits 'Kiln {k}.log' and size > 1 B"), ("depth < 5", "ext is log"),
]  # fmt: skip
NOT_WIDER = [
    ("ext is log", "ext in (log, txt)"), ("size > 2 MB", "size > 1 MB"), ("modified older than 30 days", "modified older than 7 days"),
    ("name has 'kiln 2'", "name has kiln"), ("taken before 2020", "ext is jpg"), ("title is none", "ext is pdf"),
    ("name is exactly 'A.log'", "name is 'a.log'"), ("not tag is a", "tag is b"), ("ext is log", "name ends '.log'"),
    ("modified within 30 days", "modified after 2026-01-01"), ("not in use", "ext is log"), ("type is image", "ext is log"),
]  # fmt: skip


@pytest.mark.parametrize(("above", "below"), WIDER)
def test_a_narrower_rule_below_a_wider_one_is_told(above: str, below: str, folder: Path) -> None:
    assert dead(book_of(folder, rule_of(above), rule_of(below))) == [
        f'this rule never acts: rule "rule 0" above handles {"everything" if above == "everything" else "everything this rule matches"}'
    ]
    extras = book_of(folder, rule_of(above), f"where = '''{below}'''\ntag = 't'")
    assert dead(extras)[0].startswith("this rule's extras never run")


@pytest.mark.parametrize(("above", "below"), NOT_WIDER)
def test_a_wider_rule_below_a_narrower_one_is_left_in_peace(above: str, below: str, folder: Path) -> None:
    assert dead(book_of(folder, rule_of(above), rule_of(below))) == []


@pytest.mark.parametrize(
    ("above", "below", "is_dead"),
    [
        ('take = "items"', "", True), ("", 'take = "items"', False), ('take = "items"', 'take = "folders"', True),
        ('levels = "all"', "levels = 3", True), ("", "levels = 2", False), ("", "hidden = true", False),
        ("hidden = true", "hidden = true", True), ('in = "Elsewhere"', "", False), ('during = "mon"', "", True),
        ("off = true", "", False), ("tag = 't'", "", True),
        ('in = ".."\nlevels = "all"', "", True),
    ],
)  # fmt: skip
def test_only_a_rule_that_is_asked_about_the_same_entries_can_take_them(
    above: str, below: str, is_dead: bool, folder: Path
) -> None:
    assert bool(dead(book_of(folder, rule_of("ext is log", above), rule_of("ext is log", below)))) is is_dead


@pytest.mark.parametrize(
    ("above", "below"),
    [
        # A folder has no suffix; and what is in it may not be known.
        ("ext is none", "name is 'a.log'"), ("size > 1 MB or not size > 1 MB", "name is a"),
    ],
)  # fmt: skip
def test_of_folders_less_is_certain(above: str, below: str, folder: Path) -> None:
    take = 'take = "folders"'
    assert dead(book_of(folder, rule_of(above, take), rule_of(below, take))) == []
    assert dead(book_of(folder, rule_of("name is 'a.log' and ext is none", take))) == []


def test_depth_is_another_fact_from_another_folder(folder: Path) -> None:
    above = rule_of("depth < 3", f'in = "{folder}"\nlevels = "all"')
    assert dead(book_of(folder, above, rule_of("ext is log", f'in = "{folder}/Intake/sub"'))) == []
    assert dead(book_of(folder, above, rule_of("ext is log", f'in = "{folder}"'))) != []


def test_rules_above_take_all_together(folder: Path) -> None:
    two = [rule_of("ext is log"), rule_of("size > 5 MB")]
    assert dead(book_of(folder, *two, rule_of("ext is log or size > 6 MB"))) == [
        "this rule never acts: the rules above handle everything it matches"
    ]
    assert dead(book_of(folder, *two, rule_of("ext is log or size > 4 MB"))) == []


@given(text=conditions, more=conditions)
def test_what_is_called_impossible_or_covered_is_so_for_every_file(studio: Path, text: str, more: str) -> None:  # noqa: F811
    one, other = read_rules(
        rules_text(*(rule_of(where, 'hidden = true\nlevels = "all"') for where in (text, more))).encode(), studio / "rules.toml"
    ).rules
    overlap = Overlap(load_types(studio), NOW_NS)
    facts = [facts_of(studio / name, studio) for name in FILES]
    if not overlap.can_hold(one):
        assert not any(one.where.test(fact) is True for fact in facts)
    if overlap.is_covered(one, [other]):
        assert all(other.where.test(fact) is True for fact in facts if one.where.test(fact) is True)


def load_types(studio: Path) -> dict[str, str]:  # noqa: F811
    return dict(book_of(studio, rule_of("everything")).types)


@given(wider=conditions, more=conditions)
def test_a_condition_made_narrower_is_found_below_the_wider_one(studio: Path, wider: str, more: str) -> None:  # noqa: F811
    assume(len(wider) + len(more) < 200)
    book = book_of(studio, rule_of(wider, "hidden = true"), rule_of(f"({wider}) and ({more})", "hidden = true"))
    overlap = Overlap(book.types, NOW_NS)
    above, below = book.rules
    assert overlap.is_covered(below, [above]) or not overlap.can_hold(below)


@pytest.mark.parametrize(("files", "warned"), [(3, True), (2, False)])
def test_a_rule_that_gets_none_of_what_is_there_is_told(files: int, warned: bool, folder: Path, frugal: Frugal) -> None:
    for number in range(files):
        put(folder / f"Intake/kiln {number} a.log", "x")
    put(folder / "Intake/other.log", "x")
    put(folder / "rules.toml", rules_text(rule_of("name has ' a'"), rule_of("name starts kiln"), rule_of("ext is log")))
    said = " ".join(frugal("check", "rules.toml").stdout.split())
    assert ('it matches 3 files now, but rule "rule 0" above handles them all' in said) is warned
    assert "1 warning" in said if warned else "no warnings" in said


def test_no_rule_of_the_docs_and_of_the_demo_is_called_dead(folder: Path, frugal: Frugal) -> None:
    frugal("demo", "tw")
    for name in ("rules.toml", "ageing.toml"):
        assert dead(load_rules(folder / "tw" / name)) == []
        assert "this rule never" not in frugal("check", f"tw/{name}").stdout
    blocks = list(itertools.chain.from_iterable(
        re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL) for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]
    ))  # fmt: skip
    whole = [block for block in blocks if block.startswith("frugal = 1") and "[[rule]]" in block and "listed in" not in block]
    assert len(whole) >= 3
    for block in whole:
        # A path that begins with a slash names no drive, and is refused there.
        if IS_WINDOWS and '= "/' in block:
            continue
        assert dead(read_rules(block.encode(), folder / "rules.toml")) == [], block
