"""What people type for what rules call otherwise, and that every answer to it is right."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from frugal_sorter.cli.options import parser_of
from frugal_sorter.filesystem.record import TYPES
from frugal_sorter.rules.conditions import parse_condition
from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.keys import KEYS
from frugal_sorter.rules.operators import OPERATOR_WORDS
from frugal_sorter.rules.source import Of, everyday_words, meant
from frugal_sorter.rules.units import InvalidValue
from tests.conftest import Frugal
from tests.support import book_of

EVERYTHING = "where = 'everything'\n"


@pytest.mark.parametrize("of", ["field", "operator", "key", "type", "placeholder"])
def test_what_is_said_instead_is_right(of: Of, folder: Path) -> None:
    for word, hint in everyday_words(of).items():
        for shown in hint.split("`")[1::2]:
            if of in ("field", "type") and shown not in ("duplicates", "type"):
                parse_condition(shown, list(TYPES))
        if of == "operator":
            shown = re.findall(r"`([^`]+)`", hint)[0]
            assert shown in ("is not", "not name has ...", ">", "<") or shown in OPERATOR_WORDS or shown in FIELDS
        elif of == "key" and hint.startswith("use `frugal "):
            assert parser_of(hint.split()[2].strip("`,"), "")
        elif of == "key":
            key = re.match(r"(?:use|write) (\[\[rule\.)?(\w+)", hint)
            assert key is not None and (key[2] in KEYS or hint.startswith("write what")), word
            if "= " in hint and key[2] not in ("where", "in", "example"):
                line = hint.removeprefix("use ").split(", or")[0].removesuffix(" to delete permanently")
                line = re.sub(r"( to switch| in a rule).*", "", line)
                ending = "" if KEYS[key[2]].ending else '\nmove = "x"'
                assert book_of(folder, EVERYTHING + line + ending).rules or key[2] == "off"
        elif of == "placeholder":
            for slot in re.findall(r"\{[^}]+\}", hint):
                assert book_of(folder, f"{EVERYTHING}{'rename' if slot.startswith('{n') else 'move'} = 'x {slot}'").rules


@pytest.mark.parametrize(("of", "known"), [("field", FIELDS), ("key", KEYS), ("operator", OPERATOR_WORDS)])
def test_no_word_of_ours_is_an_everyday_word(of: Of, known: dict[str, object]) -> None:
    assert not set(everyday_words(of)) & set(known) - {"folder"}


@pytest.mark.parametrize(
    ("where", "said"),
    [
        ("ext is zip or pdf", "`ext in (zip, pdf)`"), ("ext is zip or pdf or gz", "`ext in (zip, pdf)`"),
        ("ext is zip, pdf", "`ext in (zip, pdf)`"), ("name is *.pdf", "`name like *.pdf`"), ("ext in (zip, p*)", "like"),
        ("name contains kiln", "`has`"), ("age > 30 days", "`modified older than 30 days`"), ("kind is photo", "`type is image`"),
        ("type is photo", "`type is image`"), ("type is pdf", "`ext is pdf`"), ('name is "a "b" c"', "doubled"),
        ("older than 3 days", "`modified older than 3 days`"), ("name starts with kiln", "`name starts kiln`"),
        ("recursive", "levels = "), ("name exten kiln", "is not an operator"), ("modified newer than 3 days", "`within`"),
    ],
)  # fmt: skip
def test_what_people_write_into_conditions_gets_the_right_hint(where: str, said: str) -> None:
    with pytest.raises(InvalidValue) as wrong:
        parse_condition(where, list(TYPES))
    first = wrong.value
    assert any(said in f"{one.message}; {one.hint}" for one in (first, *first.others)), (first.message, first.hint)


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("recursive = true", 'levels = "all"'), ("confirm = true", "ask = true"), ('folder = "x"', 'in = "~/Intake"'),
        ('contains = "x"', "unknown key `contains`"), ("trash = yes", "use true"), ("hidden = No", "use false"),
        ('move = "{year}/{month}"', "{modified:%Y}"), ('tag = "a "b" c"', "single quotes"), ("extension = 'pdf'", "unknown key `extension`"),
        ("hiden = true", "did you mean `hidden`"), ("move = x", "a text needs quotes"),
    ],
)  # fmt: skip
def test_what_people_write_into_rule_files_gets_the_right_hint(line: str, said: str, folder: Path, frugal: Frugal) -> None:
    (folder / "r.toml").write_text(f'frugal = 1\n[[rule]]\nname = "a"\nin = "x"\nwhere = "everything"\n{line}\n')
    told = frugal("check", "r.toml", code=2).stderr
    assert said in told and "r.toml:6:" in told


def test_the_spelling_is_asked_after_the_words() -> None:
    assert meant("modifed", "field", FIELDS) == "did you mean `modified`?" and "older than" in meant("Age", "field", FIELDS)
    assert meant("qqqq", "key", KEYS) == ""
