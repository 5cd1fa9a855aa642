"""What a rule can say beyond its condition: what it takes, when, how many, where to, and its examples."""

from __future__ import annotations

import json
import os
import re
import time
import tomllib
from datetime import datetime
from pathlib import Path

import jsonschema
import pytest

from frugal_sorter.planning.misses import nearest_misses
from frugal_sorter.planning.sight import Explainer
from frugal_sorter.reasons import Outcome
from frugal_sorter.rules.fields import World
from frugal_sorter.rules.keys import json_schema
from frugal_sorter.rules.lint import run_examples, warnings_of
from frugal_sorter.rules.load import load_rules, read_rules
from frugal_sorter.rules.model import MOST_MATCHERS, RuleBook
from frugal_sorter.rules.reference import TOPICS
from frugal_sorter.rules.units import InvalidValue, Mistakes, parse_hours, parse_moment
from frugal_sorter.values import replace
from tests.conftest import Frugal
from tests.support import DAY_NS, NOW_NS, WORLD, book_of, carry_out, moves_of, plan_of, put, rules_text, snapshot, undo

ROOT = Path(__file__).resolve().parents[1]
EVERYTHING = 'where = "everything"\n'


def at(text: str) -> int:
    return int(datetime.fromisoformat(text).timestamp()) * 10**9


# Captures, counters, lists, places


def test_captures_and_counters_make_targets(folder: Path) -> None:
    for name in (
        "Scan_20261004_b.tif",
        "Scan_20261004_a.tif",
        "Scan_20261399_c.tif",
        "INV-77 Quay.pdf",
        "IMG 9.jpg",
        "IMG 4.jpg",
    ):
        put(folder / "Intake" / name)
    rules = (
        'where = \'name fits "scan_{scanned:%Y%m%d}_{page}.tif"\'\nmove = "{scanned:%Y/%m}"\nrename = "{page}-{n:03}.{ext}"',
        "where = 'name matches \"^INV-(?P<number>[0-9]+)\"'\nmove = 'Invoices {number}'",
        'where = "ext is jpg"\nmove = "Photos"\nrename = "Glaze {n:02}.jpg"',
    )
    plan = plan_of(book_of(folder, *rules))
    assert moves_of(plan, folder / "Intake") == {
        "Scan_20261004_a.tif": "2026/10/a-001.tif",
        "Scan_20261004_b.tif": "2026/10/b-001.tif",
        "INV-77 Quay.pdf": "Invoices 77/INV-77 Quay.pdf",
        "IMG 4.jpg": "Photos/Glaze 01.jpg",
        "IMG 9.jpg": "Photos/Glaze 02.jpg",
    }
    carry_out(plan)
    put(folder / "Intake/IMG 2.jpg")
    assert moves_of(plan_of(book_of(folder, *rules)), folder / "Intake") == {"IMG 2.jpg": "Photos/Glaze 03.jpg"}
    deeper = book_of(folder, 'in = "Intake/Photos"\nwhere = "ext is jpg"\nrename = "Glaze {n:02}.jpg"')
    assert not plan_of(deeper).asked  # they have such numbers already


def test_list_files_name_entries_below_in(folder: Path) -> None:
    (folder / "keep.txt").write_bytes("\ufeff# kept for Maren\n\nÉMAIL.txt\r\nsub\\a.log\n./b.log\n".encode())
    for name in ("Émail.txt", "sub/a.log", "b.log", "c.log", "a.log", "keep.txt"):
        put(folder / "Intake" / name)
    book = book_of(folder, 'where = "not listed in keep.txt"\nmove = "/' + str(folder) + '/Out"\nlevels = "all"')
    assert set(moves_of(plan_of(book), folder / "Intake")) == {"c.log", "a.log", "keep.txt"}
    with pytest.raises(Mistakes, match=r"the list .none\.txt. cannot be read"):
        book_of(folder, EVERYTHING.replace("everything", "listed in none.txt") + 'move = "x"')


def test_a_place_that_must_be_mounted_is_never_a_folder_on_the_system_disk(folder: Path) -> None:
    put(folder / "Intake/a.log")
    (folder / "store").mkdir()
    head = f'[places]\nstore = {{ path = "{folder}/store", mounted = true }}\n'
    rules = (f'{EVERYTHING}move = "{{store}}/x"', f'in = "{{store}}"\n{EVERYTHING}move = "y"')
    plan = plan_of(book_of(folder, *rules, head=head))
    if os.path.ismount(folder) or any(os.path.ismount(one) for one in folder.parents if str(one) != "/"):
        pytest.skip("the temporary folder is on a mounted volume itself")
    assert not plan.asked and plan.has_problem
    assert plan.not_touched[0].reason == "the target is not mounted" and "store is not mounted" in plan.notes[0].text


# What is taken


def test_folders_and_items_are_taken_whole(folder: Path) -> None:
    put(folder / "Scratch/run-1/melt.tmp", age_days=40)
    put(folder / "Scratch/run-2/deep/melt.tmp", age_days=2)
    put(folder / "Scratch/run-2/deep/old.tmp", age_days=90)
    put(folder / "Scratch/loose.tmp", age_days=50)
    put(folder / "Scratch/.hidden/x.tmp", age_days=50)
    aged = 'in = "Scratch"\nwhere = "modified older than 30 days"\nmove = "../Holding"\n'
    assert moves_of(plan_of(book_of(folder, aged + 'take = "folders"')), folder) == {"Scratch/run-1": "Holding/run-1"}
    assert moves_of(plan_of(book_of(folder, aged + 'take = "items"')), folder) == {
        "Scratch/run-1": "Holding/run-1",
        "Scratch/loose.tmp": "Holding/loose.tmp",
    }
    files = aged.replace("../Holding", "../Files") + 'levels = "all"'
    both = plan_of(book_of(folder, files, aged + 'take = "folders"'))
    assert moves_of(both, folder) == {  # what is inside a folder that is taken belongs to it, whatever the order
        "Scratch/run-1": "Holding/run-1",
        "Scratch/loose.tmp": "Files/loose.tmp",
        "Scratch/run-2/deep/old.tmp": "Files/old.tmp",
    }
    before = snapshot(folder / "Scratch")
    assert carry_out(both).done.steps == 3
    assert not plan_of(book_of(folder, files, aged + 'take = "folders"')).asked
    undo()
    assert snapshot(folder / "Scratch") == before


def test_a_folder_changed_below_after_the_preview_is_skipped(folder: Path) -> None:
    put(folder / "Scratch/run/deep/melt.tmp", age_days=40)
    plan = plan_of(book_of(folder, f'in = "Scratch"\n{EVERYTHING}take = "folders"\nmove = "../Holding"'))
    put(folder / "Scratch/run/deep/melt.tmp", "new", age_days=39)
    result = carry_out(plan)
    ((_, mark),) = result.not_done
    assert (mark.outcome, mark.reason) == (Outcome.SKIPPED, "changed since the plan was made")
    assert (folder / "Scratch/run/deep/melt.tmp").read_text() == "new"


def test_folders_that_rules_write_into_are_no_entries(folder: Path) -> None:
    for name in ("a.log", "b.csv", "Old/x.txt", "log/there.txt", "Holding/deep/y.txt"):
        put(folder / "Intake" / name)
    rules = ('where = "type in (log, spreadsheet)"\nmove = "{ext}"', f'{EVERYTHING}take = "items"\nmove = "Holding/deep"')
    plan = plan_of(book_of(folder, *rules))
    assert moves_of(plan, folder / "Intake") == {"a.log": "log/a.log", "b.csv": "csv/b.csv", "Old": "Holding/deep/Old"}
    assert [(left.place.name, left.reason) for left in plan.not_touched] == [
        ("log", "other changes in the plan put files into it")
    ]
    carry_out(plan)
    assert not plan_of(book_of(folder, *rules)).asked
    into_itself = plan_of(book_of(folder, 'in = "Intake"\nwhere = "name is Old"\ntake = "folders"\nmove = "Old/x"'))
    assert not into_itself.asked


# When, and how many


@pytest.mark.parametrize(
    ("text", "moment", "holds"),
    [
        ("mon-fri 08:00-18:00", "2026-11-23T08:00", True),
        ("mon-fri 08:00-18:00", "2026-11-23T18:00", False),
        ("mon-fri 08:00-18:00", "2026-11-22T12:00", False),
        ("sat, sun", "2026-11-22T23:59", True),
        ("fri-mon", "2026-11-24T00:00", False),
        ("22:00-06:00", "2026-11-23T23:00", True),
        ("mon 22:00-06:00", "2026-11-24T05:59", True),
        ("tue 22:00-06:00", "2026-11-24T05:59", False),
        ("08:30-24:00", "2026-11-23T08:29", False),
    ],
)
def test_hours(text: str, moment: str, holds: bool) -> None:
    assert parse_hours(text).hold(at(moment)) is holds


@pytest.mark.parametrize("text", ["", "monday", "mon-xyz", "25:00-26:00", "08:00", "08:61-09:00", "noon"])
def test_what_is_no_hours(text: str) -> None:
    with pytest.raises(InvalidValue):
        parse_hours(text)


def test_outside_its_hours_a_rule_claims_and_leaves(folder: Path) -> None:
    put(folder / "Intake/a.log")
    book = book_of(folder, f'{EVERYTHING}move = "x"\nduring = "sun"', f'{EVERYTHING}move = "y"')
    plan = plan_of(book)
    assert not plan.asked and plan.not_touched[0].reason == "outside the rule's `during` hours" and not plan.has_problem
    assert len(plan_of(book, World(NOW_NS - DAY_NS)).asked) == 1


def test_over_its_ceiling_a_rule_is_not_carried_out_and_the_others_are(folder: Path) -> None:
    for name in ("a.log", "b.log", "c.csv"):
        put(folder / "Intake" / name)
    rules = ('where = "ext is log"\nmove = "logs/deep"\nat_most = 1', 'where = "ext is csv"\nmove = "tables"\nat_most = 1')
    plan = plan_of(book_of(folder, *rules))
    assert moves_of(plan, folder / "Intake") == {"c.csv": "tables/c.csv"}
    assert [step.target.name for step in plan.steps if step.verb == "make-folder" and step.target] == ["tables"]
    assert plan.refused[0].rule == "rule 0" and "2 files" in plan.refused[0].reason


def test_a_rule_that_asks_is_left_where_there_is_nobody(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "Intake/b.csv")
    text = rules_text('where = "ext is log"\nmove = "x"\nask = true', 'where = "ext is csv"\nmove = "x"')
    (folder / "rules.toml").write_text(text)
    said = frugal("tidy", "rules.toml", "--yes").stdout
    assert "this rule has `ask = true`" in said and "1 file moved" in said
    assert (folder / "Intake/a.log").exists() and (folder / "Intake/x/b.csv").exists()


@pytest.mark.parametrize(
    ("text", "moment"),
    [("in 2 weeks", "2026-12-07T12:00"), ("in 3 months", "2027-02-23T12:00"), ("2026-12-24", "2026-12-24T00:00")],
)
def test_moments_to_look_at(text: str, moment: str) -> None:
    assert parse_moment(text, NOW_NS) == at(moment)


# Warnings and examples

UNWISE = [
    ([f'{EVERYTHING}move = "x"', 'where = "ext is log"\nmove = "y"'], "never acts"),
    ([f'{EVERYTHING}move = "x"\nlevels = "all"', 'where = "ext is log"\nmove = "y"\nlevels = 2'], "never acts"),
    ([f'{EVERYTHING}move = "../B"', f'in = "B"\n{EVERYTHING}move = "../Intake"'], "back and forth"),
    (['where = "ext is log"\nmove = "../B"', 'in = "B"\nwhere = "type is log"\nmove = "../Intake"'], "back and forth"),
    ([f'{EVERYTHING}move = "../B"', 'in = "B"\nwhere = "modified older than 3 days"\nmove = "../C"'], "`arrived` or `latest`"),
    ([f'{EVERYTHING}move = "{{type}}"', 'where = "ext is log"\nmove = "X"\nlevels = 3'], "on"),
    ([f'{EVERYTHING}move = "../B"', 'in = "B"\nwhere = "ext is log"\nmove = "../C"'], "on"),
    (['where = "ext is log or ext is csv and size > 1 KB"\nmove = "x"'], "add parentheses"),
    (["where = 'name has \".txt\"'\nmove = 'x'"], "did you mean `ext is txt`"),
    (['where = "ext is log"\nmove = "logs"\nlevels = "all"'], "folders that belong together"),
    (['where = "ext is log"\nmove = "{folder}/x"\nlevels = "all"\n[[rule.example]]\ngiven = { name = "a.log", folder = "s" }\n'
      'becomes = "s/x/a.log"'], "do not build the target from"),
]  # fmt: skip
FINE = [
    [f'{EVERYTHING}move = "x"', 'where = "hidden"\nmove = "y"\nhidden = true'],
    [f'{EVERYTHING}move = "x"', 'in = "B"\nwhere = "ext is log"\nmove = "y"'],
    ['where = "ext is log"\nmove = "../B"', 'in = "B"\nwhere = "type is image"\nmove = "../Intake"'],
    [f'{EVERYTHING}move = "../B/{{type}}"', 'in = "B"\nwhere = "modified older than 3 days"\nmove = "../C"'],
    ['where = "((ext is log or ext is csv) and size > 1 KB) or (hidden and empty)"\nmove = "x"'],
    ['where = "ext is log"\nmove = "logs"\nlevels = 2'],
    ['where = "ext is log"\nmove = "{type}"\nlevels = 3', 'where = "ext in (log, csv)"\nmove = "X"\nlevels = 3'],
    [f'{EVERYTHING}move = "../B"', 'in = "B"\nwhere = "arrived older than 3 days"\nmove = "../C"'],
    ['where = "ext is log"\nmove = "../B"', 'in = "B"\nwhere = "ext is csv"\nmove = "../C"'],
]


def warned(book: RuleBook) -> str:
    found = [f"{one.message}; {one.hint}" for one in warnings_of(book, WORLD)]
    return "\n".join([*book.warnings, *found])


@pytest.mark.parametrize(("rules", "said"), UNWISE, ids=[said for _, said in UNWISE])
def test_unwise_rules_are_warned_of(folder: Path, rules: list[str], said: str) -> None:
    assert said in warned(book_of(folder, *rules))


@pytest.mark.parametrize("rules", FINE)
def test_sensible_rules_are_not(folder: Path, rules: list[str]) -> None:
    assert warned(book_of(folder, *rules)) == ""


@pytest.mark.parametrize(
    ("given", "becomes", "got"),
    [
        ('name = "a.log", size = "2 MB"', '"logs/2026/a.log"', None),
        ('name = "a.log", size = "2 KB"', "false", None),
        ('name = "a.log", size = "2 KB"', '"logs/2026/a.log"', "left alone"),
        ('name = "a.log", size = "2 MB"', '"elsewhere/a.log"', "logs/2026/a.log"),
        ('name = "a.log"', '"logs/2026/a.log"', "undecided: `size > 1 MB`: the example does not say"),
        ('name = "keep.log", size = "2 MB"', '"logs/2026/keep.log"', 'taken by the rule "rule 0" above'),
        ('name = "a.log", size = "big"', "false", 'nothing: "big" is not a size; a size looks like 250 KB, 1.5 GB or 10 MiB'),
        ('name = "a.log", colour = "blue"', "false", "nothing: unknown field `colour` in `given`; see `frugal help conditions`"),
        ('name = "a.log", size = "2 MB", modified = 2025-03-04', '"logs/2025/a.log"', None),
    ],
)
def test_examples_come_out_as_written(folder: Path, given: str, becomes: str, got: str | None) -> None:
    modified = "" if "modified" in given or got else ', modified = "3 days ago"'
    modified = ', modified = "3 days ago"' if got and got.startswith("logs") else modified
    example = f"[[rule.example]]\ngiven = {{ {given}{modified} }}\nbecomes = {becomes}"
    book = book_of(
        folder,
        'where = "name is keep.log"\nleave = true',
        f'where = "ext is log and size > 1 MB"\nmove = "logs/{{modified:%Y}}"\n{example}',
    )
    failed = run_examples(book, WORLD)
    assert [one.got for one in failed] == ([] if got is None else [got])


def test_a_key_below_an_example_is_said_to_stand_in_the_wrong_place(folder: Path) -> None:
    with pytest.raises(Mistakes) as caught:
        book_of(folder, f'{EVERYTHING}move = "x"\n[[rule.example]]\ngiven = {{ name = "a" }}\nhidden = true')
    assert "`hidden` belongs to the rule, but comes after [[rule.example]]" in str(caught.value)


# Schema and reference


def toml_blocks() -> list[tuple[str, str]]:
    pages = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
    return [(page.name, block) for page in pages for block in re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL)]


def test_every_rule_file_in_the_docs_loads_and_its_examples_hold(folder: Path) -> None:
    blocks = toml_blocks()
    assert len(blocks) >= 3
    schema = json_schema()
    for page, block in blocks:
        book = read_rules(block.encode(), folder / page)
        assert (book.rules or book.saves) and not run_examples(book, WORLD), page
        jsonschema.validate(tomllib.loads(block), schema)


def test_the_schema_accepts_the_demo_and_refuses_what_the_loader_refuses(folder: Path, frugal: Frugal) -> None:
    schema = json.loads(frugal("check", "--schema").stdout)
    jsonschema.Draft202012Validator.check_schema(schema)
    demo = (ROOT / "src/frugal_sorter/demo/rules.toml").read_text()
    jsonschema.validate(tomllib.loads(demo), schema)
    good = tomllib.loads(rules_text(f'{EVERYTHING}move = "x"'))
    rule = good["rule"][0]
    strange: list[dict[str, object]] = [
        {"levels": 0}, {"levels": "deep"}, {"take": "all"}, {"hidden": "yes"}, {"clash": "ask"}, {"in": []}, {"at_most": -1},
        {"name": " "}, {"example": [{"becomes": "x"}]}, {"wher": "x"},
    ]  # fmt: skip
    wrong = [
        {}, {**good, "frugal": 2}, {**good, "rule": []}, {**good, "x": 1}, {**good, "types": {"a": "b"}},
        {**good, "defaults": {"move": "x"}}, {**good, "places": {"a": {"mounted": True}}},
        *({**good, "rule": [{**rule, **more}]} for more in strange),
        *({**good, "rule": [{key: rule[key] for key in rule if key != gone}]} for gone in ("name", "in", "where", "move")),
    ]  # fmt: skip
    for one in wrong:
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(one, schema)


CAPTURED = [
    ('name fits "Order_{day:%Y%m%d}_{who}.pdf" and day older than 3 weeks', {"Order_20260101_clay.pdf"}),
    ('day within 3 weeks and name fits "Order_{day:%Y%m%d}_{who}.pdf"', {"Order_20261112_kiln.pdf"}),
    ('name fits "Order_{day:%Y%m%d}_{who}.pdf" and (who in (clay, ash) or day on 2026-11-12)', {"Order_20260101_clay.pdf", "Order_20261112_kiln.pdf"}),
    ('name fits "plan {rev}.txt" and rev > 3', {"plan 12.txt"}), ('name fits "plan {rev}.txt" and not (rev > 3)', {"plan 2.txt"}),
    ('name fits "plan {page:01}.txt" and page <= 2', {"plan 2.txt"}), ('name matches "plan (?P<rev_no>[0-9]+)" and rev_no is 2', {"plan 2.txt"}),
    # Of a name that does not fit nothing is known.
    ('ext is txt and (name fits "plan {rev}.md" or not (rev > 3))', set()),
]  # fmt: skip


@pytest.mark.parametrize(("where", "moved"), CAPTURED, ids=[where for where, _ in CAPTURED])
def test_what_a_condition_captures_from_a_name_is_a_field_of_it(folder: Path, where: str, moved: set[str]) -> None:
    for name in (
        "Order_20260101_clay.pdf",
        "Order_20261112_kiln.pdf",
        "Order_2026_x.pdf",
        "plan 2.txt",
        "plan 12.txt",
        "plan b.txt",
    ):
        put(folder / "Intake" / name)
    book = book_of(folder, f"where = '{where}'\nmove = 'There'")
    assert {step.place.name for step in plan_of(book).asked} == moved


DOES = [
    ('where = "ext is log and modified older than 30 days"\ntrash = true', 'name = "a.log", modified = "31 days ago"', 'does = "trash"', ""),
    ('where = "ext is log and modified older than 30 days"\ntrash = true', 'name = "a.log", modified = "1 day ago"', 'does = "trash"\nwhen = "in 40 days"', ""),
    ('where = "ext is log and modified older than 30 days"\ntrash = true', 'name = "a.log", modified = "1 day ago"', 'does = "trash"', "left alone"),
    ('where = "ext is log"\ndelete = true', 'name = "a.log"', 'does = "trash"', "does delete"),
    ('where = "ext is log"\nmove = "L"\nrename = "x {name}"\ntag = "seen"', 'name = "a.log"', 'becomes = "L/x a.log"\ndoes = ["move", "rename", "tag"]\ntags = "seen"', ""),
    ('where = "ext is log"\ntag = ["{stem}", "seen"]', 'name = "a.log"', 'tags = ["seen", "a"]', ""), ('where = "ext is log"\ntag = "{stem}"', 'name = "a.log"', 'tags = "b"', "tags a"),
    ('where = "ext is log"\nleave = true', 'name = "a.log"', 'does = "leave"', ""), ('where = "ext is log"\nleave = true', 'name = "a.txt"', 'does = "leave"', "left alone"),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "given", "says", "got"), DOES)
def test_an_example_says_what_must_happen_and_when(folder: Path, rule: str, given: str, says: str, got: str) -> None:
    failed = run_examples(book_of(folder, f"{rule}\n[[rule.example]]\ngiven = {{{given}}}\n{says}"), WORLD)
    assert [one.got for one in failed] == ([got] if got else [])


def test_the_kind_of_a_captured_part_is_known_to_check(folder: Path) -> None:
    for where, told in (
        ('name fits "a{day:%Y}" and day > 3', "`day` takes is, older than"), ('name fits "a{who}" and who older than 3 days', "cannot be used with `who`"),
        ('name fits "a{who}" and woh is b', "did you mean `who`?"),
    ):  # fmt: skip
        with pytest.raises(Mistakes, match=told):
            book_of(folder, f"where = '{where}'\nleave = true")


def test_the_reference_in_the_docs_is_the_one_that_the_program_prints(frugal: Frugal) -> None:
    page = (ROOT / "docs/rules.md").read_text()
    for topic, text in TOPICS.items():
        assert f"<!-- {topic}: begin -->\n{text()}<!-- {topic}: end -->" in page, "run docs/make_reference.py"
        # What is printed is the same in words; the marks of Markdown are for the page.
        printed = re.sub(r"\W", "", frugal("help", topic).stdout)
        assert not [word for line in text().splitlines() for word in re.findall(r"\w{3,}", line) if word not in printed]
    assert "did you mean `rules`?" in frugal("help", "rule", code=2).stderr


# Explain


def test_explain_says_why_and_when(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log", age_days=5, now_ns=time.time_ns())
    text = rules_text(
        "where = 'name not like \"*.log\" and not hidden'\nmove = 'x'",
        'where = "modified older than 7 days"\nmove = "old/{type}"',
        'where = "taken before 2020"\nmove = "y"',
        'in = "Elsewhere"\nwhere = "hidden"\nmove = "y"',
    )
    (folder / "rules.toml").write_text(text)
    said = frugal("explain", "Intake/a.log", "--rules", "rules.toml").stdout
    assert 'no      name not like "*.log"' in said and "yes     not hidden" in said
    assert "5 days ago" in said and ("in 47 hours" in said or "in 2 days" in said)
    assert "rule 2: unknown" in said and "taken: none" in said
    assert "Skipped, because the rule acts on other folders: rule 3" in said and "no rule matches it" in said
    assert 'Next: rule "rule 1" will act on it on' in said
    later = frugal("explain", "Intake/a.log", "--rules", "rules.toml", "--as-of", "in 3 days").stdout
    assert "rule 1: yes  ← this rule decides" in later and "→ moved to old/log/a.log" in later
    acting = frugal("explain", "Intake", "--rules", "rules.toml").stdout
    assert "rule 1: modified older than 7 days" in acting and "rule 3:" not in acting.split("For the folder itself")[0]
    assert "found" in frugal("explain", "none", "--rules", "rules.toml", code=2).stderr
    assert "not a date or time" in frugal("explain", "Intake", "--rules", "rules.toml", "--as-of", "soon", code=2).stderr


def test_rules_acting_in_a_folder(folder: Path) -> None:
    (folder / "Intake/sub").mkdir(parents=True)
    book = book_of(
        folder, f'{EVERYTHING}move = "x"', f'{EVERYTHING}move = "x"\nlevels = 2', f'{EVERYTHING}move = "x"\ntake = "items"'
    )
    explainer = Explainer(book, WORLD, plan_of(book))
    assert [rule.name for rule, _ in explainer.rules_acting_in(f"{folder}/Intake/sub")] == ["rule 1"]


def test_preview_as_of_another_date_and_the_nearest_misses(folder: Path, frugal: Frugal) -> None:
    now_ns = time.time_ns()
    for name, age in (("Kiln_2.log", 5), ("b.csv", 1)):
        put(folder / "Intake" / name, b"x" * 950, age, now_ns)
    text = rules_text(
        'where = "name starts \'kiln 2\'"\nmove = "x"',
        'where = "ext is csv and size > 1 KB"\nmove = "x"',
        'where = "ext is log and modified older than 7 days"\nmove = "x"',
        'where = "ext is nothing"\nmove = "x"',
    )
    (folder / "rules.toml").write_text(text)
    said = frugal("preview", "rules.toml").stdout
    assert "Kiln_2.log: `name starts 'kiln 2'` does not match: check spaces" in said
    assert "b.csv: `size > 1 KB` does not match: the file has 950 bytes" in said
    assert "Kiln_2.log: not old enough; the rule will match it on" in said
    assert "rule 3 matches nothing" not in said
    assert "1 file (950 B)" in frugal("preview", "rules.toml", "--as-of", "in 3 days").stdout
    assert nearest_misses(load_rules(folder / "rules.toml"), book_of(folder, f'{EVERYTHING}move = "x"').rules, WORLD) == {}


def test_check_shows_failed_examples_and_warnings(folder: Path, frugal: Frugal) -> None:
    example = '[[rule.example]]\ngiven = { name = "a.log" }\nbecomes = "y/a.log"'
    (folder / "rules.toml").write_text(rules_text(f'{EVERYTHING}move = "x"\n{example}', 'where = "ext is log"\nmove = "y"'))
    said = frugal("check", "rules.toml", code=2).stdout
    assert "expected y/a.log" in said and "got      x/a.log" in said and "0 of 1 example passed" in said
    assert "warning: " in said and "never acts" in said and f"{folder}/Intake does not exist now" in said


def test_where_on_the_command_line(folder: Path, frugal: Frugal) -> None:
    for name, size in (("a.log", 10), ("b.log", 3_000), ("s/c.log", 4_000), ("d.csv", 5_000)):
        put(folder / name, b"x" * size)
    counted = json.loads(frugal("inventory", ".", "--where", "ext is log and size > 1 KB", "--format", "json").stdout)
    assert (counted["files"], counted["bytes"]) == (2, 7_000)
    read = json.loads(frugal("inventory", ".", "--where", "text has xxx and depth is 2", "--format", "json").stdout)
    assert read["files"] == 1
    assert "--where: unknown field or flag" in frugal("inventory", ".", "--where", "sizze > 1 KB", code=2).stderr


def test_a_missing_library_is_named_with_its_remedy(folder: Path, frugal: Frugal) -> None:
    (folder / "rules.toml").write_text(rules_text('where = "taken before 2020"\nmove = "x"'))
    (folder / "without").mkdir()
    (folder / "without/sitecustomize.py").write_text(
        "import importlib.util as u; found = u.find_spec\nu.find_spec = lambda name, *a: None if name == 'PIL' else found(name, *a)\n"
    )
    said = frugal("preview", "rules.toml", code=2, PYTHONPATH=str(folder / "without")).stderr
    assert "`taken` needs an optional library; pip install '.[media]'" in said


def test_arrived_is_when_this_tool_put_a_file_there(folder: Path) -> None:
    put(folder / "Intake/a.log", age_days=90)
    stage = (
        'where = "modified older than 3 days"\nmove = "../Holding"',
        'in = "Holding"\nwhere = "arrived older than 30 days"\nmove = "../Old"',
    )
    assert carry_out(plan_of(book_of(folder, *stage))).done.steps == 1
    assert not plan_of(book_of(folder, *stage)).asked
    real_now = World(time.time_ns() + 31 * DAY_NS)
    assert moves_of(plan_of(book_of(folder, *stage), replace(real_now)), folder) == {"Holding/a.log": "Old/a.log"}


def test_a_book_serves_a_process_that_runs_for_months(folder: Path) -> None:
    book = book_of(folder, *(f'where = "name has word{number}"\nmove = "x"' for number in range(3)))
    for minute in range(2 * MOST_MATCHERS):
        for indexes in ((0, 1, 2), (0, 1), (2,)):
            book.matcher(indexes, NOW_NS + minute)
        assert len(book._matchers) <= MOST_MATCHERS + 3
    # At the moment of now nothing is made twice.
    assert book.matcher((2,), NOW_NS + minute) is book.matcher((2,), NOW_NS + minute)
