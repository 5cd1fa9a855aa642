from __future__ import annotations

import itertools
import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, TYPES
from frugal_sorter.filesystem.walk import read_folder
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.conditions import parse_condition
from frugal_sorter.rules.fields import depth_below, fold
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.operators import asker
from frugal_sorter.rules.tree import Leaf, Negation, Node, Several
from frugal_sorter.rules.units import InvalidValue
from tests.support import THOROUGH, WORLD, book_of, condition, facts_of, put

# One folder with these files; ages in days, sizes in bytes.
FILES: dict[str, tuple[float, int]] = {
    "KILN 2 2026-10-04.log": (50, 1_500),
    "Émail.txt": (0.5, 0),
    "photo.JPG": (400, 2_000_000),
    "logs.tar.gz": (3, 100),
    ".hidden": (1, 10),
    "sub/deep.csv": (2, 300),
    "tomorrow.pdf": (-1, 5),
}
CASES: list[tuple[str, set[str]]] = [
    ("everything", set(FILES)),
    ("not everything", set()),
    ("name is 'photo.jpg'", {"photo.JPG"}),
    ("name is exactly 'photo.jpg'", set()),
    ("name is exactly photo.JPG", {"photo.JPG"}),
    ("name is 'E\u0301MAIL.TXT'", {"Émail.txt"}),
    ("name in (photo.jpg, 'deep.csv')", {"photo.JPG", "sub/deep.csv"}),
    ("name not in (photo.jpg, deep.csv) and ext in (jpg, csv)", set()),
    ("name is not photo.jpg and type is image", set()),
    ("ext has ar", {"logs.tar.gz"}),
    ("ext ends g", {"KILN 2 2026-10-04.log", "photo.JPG"}),
    ("ext like '?s?'", {"sub/deep.csv"}),
    ("ext matches '^(log|csv)$'", {"KILN 2 2026-10-04.log", "sub/deep.csv"}),
    ("ext not in (log, csv, jpg, txt, pdf)", {"logs.tar.gz", ".hidden"}),
    ("type is not log and type not in (image, archive, other, text)", {"sub/deep.csv", "tomorrow.pdf"}),
    ("type has sheet", {"sub/deep.csv"}),
    ("type starts doc", {"tomorrow.pdf"}),
    ("type ends ive", {"logs.tar.gz"}),
    ("type like 'i*e'", {"photo.JPG"}),
    ("type not matches 'o|i'", {"Émail.txt", "sub/deep.csv"}),
    ("type is none", set()),
    ("size <= 10 B", {"Émail.txt", ".hidden", "tomorrow.pdf"}),
    ("size is 2 MB", {"photo.JPG"}),
    ("size not in (0 B, 5 B, 10 B)", {"KILN 2 2026-10-04.log", "photo.JPG", "logs.tar.gz", "sub/deep.csv"}),
    ("size is not none and size > 1.9 MB", {"photo.JPG"}),
    ("depth is 1 and ext is csv", set()),
    ("depth is not 1", {"sub/deep.csv"}),
    ("depth < 2 and type is image", {"photo.JPG"}),
    ("depth >= 2", {"sub/deep.csv"}),
    ("depth not in (1, 3)", {"sub/deep.csv"}),
    ("depth is none", set()),
    ("modified is not 2026-10 and modified before 2026-11", {"photo.JPG"}),
    ("modified in (2026-10-04, today)", {"KILN 2 2026-10-04.log", "Émail.txt"}),
    ("modified not in (2026-10-04, today) and ext is log", set()),
    ("modified after 2026-11-20 and modified before today", {".hidden", "sub/deep.csv"}),
    ("modified not on today and modified after 2026-11-21", {".hidden", "tomorrow.pdf"}),
    ("modified is today", {"Émail.txt"}),
    ("modified older than 1 month", {"KILN 2 2026-10-04.log", "photo.JPG"}),
    ("modified within 1 week and modified older than 30 hours", {"logs.tar.gz", "sub/deep.csv"}),
    ("folder is not none and folder has sub", {"sub/deep.csv"}),
    ("path is none", set()),
    ("stem is exactly photo", {"photo.JPG"}),
    ("name fits 'KILN {kiln} {fired:%Y-%m-%d}.log'", {"KILN 2 2026-10-04.log"}),
    ("name fits exactly 'kiln {k} {fired:%Y-%m-%d}.log'", set()),
    ("name fits 'kiln {k:02} {fired:%Y-%m-%d}.log'", set()),
    ("name fits '{any}.{x}' and size < 10 B", {"Émail.txt", "tomorrow.pdf"}),
    ("name not fits '{any}.{x}.{y}' and ext is tar.gz", set()),
    ("stem fits 'lo{x}'", {"logs.tar.gz"}),
    ("name fits 'KILN {kiln} {fired:%Y-%d-%m}.log'", {"KILN 2 2026-10-04.log"}),
    ("name fits 'KILN {kiln} {fired:%Y-%j}.log'", set()),
    ("path fits '{above}/sub/{name_of}.csv'", {"sub/deep.csv"}),
    ("name has 'iln 2'", {"KILN 2 2026-10-04.log"}),
    ("name has exactly kiln", set()),
    ("name starts kiln", {"KILN 2 2026-10-04.log"}),
    ("name not starts kiln and ext is log", set()),
    ("name ends .gz", {"logs.tar.gz"}),
    ("stem is logs", {"logs.tar.gz"}),
    ("stem ends exactly AIL", set()),
    ("name like '*.JPG'", {"photo.JPG"}),
    ("name like exactly '*.jpg'", set()),
    ("name like '[kp]*'", {"KILN 2 2026-10-04.log", "photo.JPG"}),
    ("name not like '*.*'", set()),
    ("name matches '^kiln \\d+'", {"KILN 2 2026-10-04.log"}),
    ("name matches exactly '^kiln'", set()),
    ("name matches '(?P<day>\\d{2})\\.log$'", {"KILN 2 2026-10-04.log"}),
    ("ext is .LOG", {"KILN 2 2026-10-04.log"}),
    ("ext is tar.gz", {"logs.tar.gz"}),
    ("ext is none", {".hidden"}),
    ("ext is not none and depth is 2", {"sub/deep.csv"}),
    ("ext starts j", {"photo.JPG"}),
    ("type is image", {"photo.JPG"}),
    ("type in (log, archive)", {"KILN 2 2026-10-04.log", "logs.tar.gz"}),
    ("type is other", {".hidden"}),
    ("folder is SUB", {"sub/deep.csv"}),
    ("path ends sub/deep.csv", {"sub/deep.csv"}),
    ("path like '*/sub/*'", {"sub/deep.csv"}),
    ("depth > 1", {"sub/deep.csv"}),
    ("depth <= 1 and type is spreadsheet", set()),
    ("depth in (2, 3)", {"sub/deep.csv"}),
    ("size > 1 MB", {"photo.JPG"}),
    ("size >= 2 MB", {"photo.JPG"}),
    ("size < 10 B", {"Émail.txt", "tomorrow.pdf"}),
    ("size is 10 bytes", {".hidden"}),
    ("size is not 10 bytes and hidden", set()),
    ("size in (10 B, 100 B)", {".hidden", "logs.tar.gz"}),
    ("size is none", set()),
    ("empty", {"Émail.txt"}),
    ("not empty and name starts ém", set()),
    ("hidden", {".hidden"}),
    ("modified older than 30 days", {"KILN 2 2026-10-04.log", "photo.JPG"}),
    ("modified not older than 30 days", {"Émail.txt", "logs.tar.gz", ".hidden", "sub/deep.csv"}),  # not the future one
    ("modified within 36 hours", {"Émail.txt", ".hidden"}),
    ("modified not within 36 hours", {"KILN 2 2026-10-04.log", "photo.JPG", "logs.tar.gz", "sub/deep.csv"}),
    ("not (modified within 36 hours or modified older than 36 hours)", set()),  # unknown stays unknown
    ("modified within 23 hours or name is tomorrow.pdf", {"Émail.txt", "tomorrow.pdf"}),
    ("modified on today", {"Émail.txt"}),
    ("modified on yesterday", {".hidden"}),
    ("modified after today", {"tomorrow.pdf"}),
    ("modified before 2026", {"photo.JPG"}),
    ("modified not before 2026-11", {"Émail.txt", "logs.tar.gz", ".hidden", "sub/deep.csv", "tomorrow.pdf"}),
    ("modified is 2026-10", {"KILN 2 2026-10-04.log"}),
    ("modified on 2026-10-04", {"KILN 2 2026-10-04.log"}),
    ("modified is none", set()),
    ("ext is log or ext is csv and size < 1 KB", {"KILN 2 2026-10-04.log", "sub/deep.csv"}),
    ("(ext is log or ext is csv) and size < 1 KB", {"sub/deep.csv"}),
    ("not ext is log and not type is other and size < 1 KB and not hidden and modified before today",
     {"logs.tar.gz", "sub/deep.csv"}),
    ("NAME STARTS kiln AND Size > 1 KB", {"KILN 2 2026-10-04.log"}),
    ("name is KILN 2 2026-10-04.log", {"KILN 2 2026-10-04.log"}),
    ('name has "\'" or name has """"', set()),
]  # fmt: skip


@pytest.fixture(scope="module")
def studio(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = slashed.Path(tmp_path_factory.mktemp("studio").resolve())
    for name, (age_days, size) in FILES.items():
        put(root / name, b"c" * size, age_days)
    return root


def matched(book: RuleBook, studio: Path) -> set[str]:
    """Return what the generated functions find."""
    return {name for folder in (studio, studio / "sub") for name in _matched_in(book, studio, folder)}


def _matched_in(book: RuleBook, studio: Path, folder: Path) -> set[str]:
    listing = read_folder(str(folder), status=True)
    matcher = book.matcher((0,), WORLD.now_ns)
    depths = [depth_below(str(studio), str(folder))]

    def ask(at: int, node: Node) -> bool | None:
        return node.test(facts_of(folder / listing.names[at], studio))

    hits = {at for at, _ in matcher(listing, depths, ask)}
    assert hits <= set(matcher.pick(listing, depths)), "a file that matches was dropped by its name"
    return {slashed.relpath(listing.place(at).path, str(studio)) for at in hits}


@pytest.mark.parametrize(("text", "expected"), CASES, ids=[text for text, _ in CASES])
def test_conditions(studio: Path, text: str, expected: set[str]) -> None:
    node = condition(text)
    assert {name for name in FILES if node.test(facts_of(studio / name, studio)) is True} == expected
    book = book_of(studio, f"where = '''{text}'''\nleave = true\nhidden = true\nlevels = 'all'")
    assert matched(book, studio) == expected


MISTAKES = [
    ("", "empty", "everything"),
    ("nmae is x", 'unknown field or flag "nmae"', "did you mean `name`"),
    ("name", "needs an operator", "has"),
    ("hidden is true", "takes no value", "alone"),
    ("name = x", "not an operator", "is"),
    ("name contains x", '"contains"', ""),
    ("size > 10", "no unit", "10 KB"),
    ("size > banana", "not a size", "250 KB"),
    ("size older than 3 days", "`older than` cannot be used with `size`", ">"),
    ("modified > 2026", "`>` cannot be used with `modified`", "after"),
    ("modified older than 30", "not a duration", "30 days"),
    ("modified > 30 days", "`>` cannot", "use `modified older than 30 days`"),
    ("latest < 3d", "`<` cannot", "use `latest within 3d`"),
    ("ext in pdf, docx", "needs parentheses", "use `ext in (pdf, docx)`"),
    ("size > 1 KB and ext not in pdf or everything", "needs parentheses", "use `ext not in (pdf)`"),
    ("ext is jpg|png", "`|` is not part", "use `ext in (jpg, png)`"),
    ("!ext is pdf", "`!` at column 1", "use `not`"),
    ("type is folder", 'unknown type "folder"', 'take = "folders"'),
    ("kind is movie", '"kind"', "use `type`"),
    ("empty folder", '"folder"', 'take = "folders"'),
    ("modified on 2026-02-31", "not a valid date", ""),
    ("type is imaeg", 'unknown type "imaeg"', "did you mean `image`"),
    ("name like ''", "empty value", "none"),
    ("name matches '('", "not a regular expression", "like"),
    ("name fits 'a{b'", "brace", "{page}"),
    ("name fits '{name}'", "placeholder already", "another name"),
    ("name fits '{a}{a}'", "is used twice", "name of its own"),
    ("name fits '{a|b}'", "alternatives", "targets"),
    ("name fits '{d:%Q}'", "%Q cannot be read", "%Y"),
    ("name fits '{d:x}'", "format without codes", "%Y"),
    ("type fits '{a}'", "`fits` cannot be used with `type`", "has"),
    ("name matches '(?P<ext>x)'", "placeholder already", "another name"),
    ("listed in keep.txt", 'file "keep.txt"', "rule file"),
    ("depth is two", "not a number", ""),
    ("size is exactly 2 KB", "`exactly` cannot be used with `size`", ""),
    ("type is exactly image", "`exactly` cannot be used with `type`", ""),
    ("name in (none, a)", "is not allowed in a list", ""),
    ("name has none", "cannot be used with `none", ""),
    ("name is 'open", "not closed", "double it"),
    ("(name is a", 'is incomplete: ")" is missing', ""),
    ("name is '(' and", "is incomplete: name", ""),
    ("name is a && size > 1 MB", "`&&` at column 11 is not part", "use `and`"),
    ("ext == pdf", "`==`", "use `is`"),
    ("ext is a || ext is b", "`||` at column 10", "use `or`"),
    ("ext != pdf", "`!=`", "use `is not`"),
    ("name is '&&' and size >", "is incomplete", ""),
    ("name is a)", 'unexpected ")"', ""),
    ("name is a and", "is incomplete", ""),
    ("(" * 150 + "hidden" + ")" * 150 + " and " + "not " * 150 + "hidden", "nested too deeply", "100"),
    ("hidden " * 700, "characters", "4,000"),
]


@pytest.mark.parametrize(("text", "what", "instead"), MISTAKES, ids=[text[:30] for text, _, _ in MISTAKES])
def test_mistakes_say_what_is_wrong_and_what_would_be_right(text: str, what: str, instead: str) -> None:
    with pytest.raises(InvalidValue) as caught:
        condition(text)
    assert what in caught.value.message
    assert instead in caught.value.hint


_words = st.sampled_from(
    r"""and or not ( ) , name size modified type hidden everything is in none exactly has like older than within > < 10 KB
    days 'x' "y" on today image tar.gz * in use listed é \ ' " end""".split()
)


@given(st.one_of(st.text(max_size=60), st.lists(_words, max_size=25).map(" ".join)))
@example("name is \x00")
@example("not" * 40)
def test_any_text_is_a_condition_or_a_clear_mistake(text: str) -> None:
    try:
        parsed = parse_condition(text, TYPES)
    except InvalidValue as wrong:
        assert wrong.message and "\n" not in wrong.message[:60].replace(text[:40], "")
    else:
        assert isinstance(parsed.node, Node)


_leaves = st.sampled_from([text for text, _ in CASES if " and " not in text and " or " not in text])


def _trees(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    joined = st.tuples(inner, st.sampled_from([" and ", " or "]), inner).map("".join)
    return joined.map("({})".format) | inner.map("not ({})".format)


conditions = st.recursive(_leaves, _trees, max_leaves=7)


def _shuffled(node: Node, chance: random.Random) -> Node:
    if isinstance(node, Several):
        parts = [_shuffled(part, chance) for part in node.parts]
        chance.shuffle(parts)
        return Several(tuple(parts), node.every)
    return Negation(_shuffled(node.part, chance)) if isinstance(node, Negation) else node


def _plain(node: Node, facts: Any) -> bool | None:
    """Kleene's tables, written down naively, with no order and no short cut."""
    if isinstance(node, Negation):
        inner = _plain(node.part, facts)
        return None if inner is None else not inner
    if isinstance(node, Several):
        all_parts = [_plain(part, facts) for part in node.parts]
        decisive = not node.every
        return decisive if decisive in all_parts else None if None in all_parts else node.every
    return node.test(facts)


@given(text=conditions, seed=st.integers(0, 99))
def test_every_way_of_evaluating_gives_the_same_answer(studio: Path, text: str, seed: int) -> None:
    node = condition(text)
    other = _shuffled(node, random.Random(seed))
    facts = {name: facts_of(studio / name, studio) for name in FILES}
    truths = {name: _plain(node, facts[name]) for name in FILES}
    assert {name: node.test(facts[name]) for name in FILES} == truths
    assert {name: other.test(facts[name]) for name in FILES} == truths
    book = book_of(studio, f"where = '''{text}'''\nleave = true\nhidden = true\nlevels = 'all'")
    assert matched(book, studio) == {name for name, truth in truths.items() if truth is True}


_SOME = st.sampled_from([
    "name has zebra", "name matches '^zebra'", "depth is 1", "depth is 2 and type is log", "name has kiln", "modified older than 1 day",
    "name fits 'zebra {number}'", "name has kiln or depth is 2",
])  # fmt: skip


@settings(max_examples=2_000 if THOROUGH else 300)
@given(rules=st.lists(st.tuples(_SOME | conditions, st.booleans()), min_size=2, max_size=4))
def test_several_rules_decide_in_a_folder_as_each_decides_alone(studio: Path, rules: list[tuple[str, bool]]) -> None:
    """Those that the letters of its names rule out are left out there, whatever the others ask for."""
    book = book_of(studio, *(f"where = '''{text}'''\nleave = true\nhidden = true" for text, _ in rules))
    listing, bases = read_folder(str(studio), status=True), [studio.parent if is_far else studio for _, is_far in rules]
    facts = [[facts_of(studio / name, base) for base in (studio, studio.parent)] for name in listing.names]

    def first(at: int) -> tuple[int, ...]:
        true = [n for n, rule in enumerate(book.rules) if rule.where.test(facts[at][bases[n] != studio]) is True]
        return tuple(true[:1])

    matcher, depths = book.matcher(tuple(range(len(rules))), WORLD.now_ns), [1 + is_far for _, is_far in rules]
    # Fewer rules are tried only where the same ones come again.
    for _ in range(2):
        hits = dict(matcher(listing, depths, lambda at, node: node.test(facts[at][0])))
        assert [hits.get(at, ()) for at in range(len(listing.names))] == [first(at) for at in range(len(listing.names))]
        assert set(hits) <= set(matcher.pick(listing, depths))


# What can stand in a pattern, with texts that it may be true of: other cases, letters that fold to it, marks that join it.
_LETTERS = {
    "s": "sS\u017f",
    "k": "kK\u212a",
    "i": "iI\u0130",
    "I": "iI\u0131\u0130",
    "n": "nN",
    "-": "-",
    "_": "_",
    "7": "7",
    " ": " ",
    "é": "éÉ",
}
_ANY = ["", "\u0301", "\u0303x", "-", "ſs", "ß"]
_PIECES: dict[str, dict[str, list[str]]] = {
    "like": {"*": _ANY, "?": ["s", "\u0301"], "[sk]": ["s", "K"]},
    "fits": {"{rest}": ["x", *_ANY[1:]], "{page:number}": ["7"]},
    "matches": {".*": _ANY, "s?": ["", "s"], "n{0}": [""], "k*": ["", "kk"], "[ks]": ["s"], "(?:n|k)": ["n", "k"], "|": ["", "-"],
                "(?x)": [""], "^": [""], "\\b": [""], "(nnn){e<=1}": ["nn", "nnn"]},
}  # fmt: skip


@settings(max_examples=2_000 if THOROUGH else 300)
@given(st.data(), st.sampled_from([*_PIECES, "has", "starts", "ends", "is"]), st.booleans())
def test_letters_that_a_test_asks_for_first_stand_in_every_name_that_passes(
    data: st.DataObject, operator: str, exactly: bool
) -> None:
    pieces = {letter: list(forms) for letter, forms in _LETTERS.items()} | _PIECES.get(operator, {})
    chosen = data.draw(st.lists(st.sampled_from(sorted(pieces)), min_size=1, max_size=7))
    name = "".join(data.draw(st.sampled_from(pieces[one])) for one in chosen) + data.draw(
        st.sampled_from(["", "\u0301", "\u0303"])
    )
    try:
        node = condition(f"name {operator} {'exactly ' if exactly else ''}'{''.join(chosen)}'")
    except InvalidValue:
        return
    assert isinstance(node, Leaf)
    if asker(node.check, WORLD.now_ns)(fold(name) if node.check.folded else name) is True:
        assert node.check.letters in fold(name)


def test_a_test_asks_first_for_the_letters_that_its_pattern_begins_with_or_holds() -> None:
    for text, letters in (
        ("matches '^INV-[0-9]+'", "nv-"), ("matches 'sno2?'", "sn"), ("matches 'sno|b'", ""), ("matches 's n -o(?x)'", ""),
        ("fits '{day}_snow-{rest}'", "_snow-"), ("fits '{a}é{b}'", ""), ("like 'kiln*'", "kiln"),
    ):  # fmt: skip
        node = condition(f"name {text}")
        assert isinstance(node, Leaf) and node.check.letters == letters, text


def test_the_first_rule_that_matches_decides(studio: Path) -> None:
    for first, second in itertools.permutations(["type is log", "name starts kiln"]):
        book = book_of(studio, f"where = '{first}'\nleave = true", f"where = '{second}'\nleave = true")
        listing = read_folder(str(studio), status=True)
        hits = book.matcher((0, 1), WORLD.now_ns)(listing, [1, 1], lambda _at, _node: None)
        assert [rules for at, rules in hits if listing.names[at].startswith("KILN")] == [(0,)]


def test_sizes_and_times_are_only_read_where_a_rule_asks(studio: Path) -> None:
    by_name = book_of(studio, "where = 'ext is log and name has kiln'\nleave = true")
    assert not by_name.matcher((0,), WORLD.now_ns).needs_status
    assert len(read_folder(str(studio), status=False).size) == 0


def test_a_regular_expression_that_explodes_is_unknown_in_bounded_time(studio: Path) -> None:
    node = condition(r"name matches '^(?:(?:[a-z ]+)+)+[0-9]+x$' or name matches '(a|aa)+$x'")
    facts = facts_of(put(studio / "elsewhere" / ("a" * 200 + "!"), now_ns=WORLD.now_ns), studio)
    assert node.test(facts) is not True


def test_types_of_the_technician_are_known(studio: Path) -> None:
    assert TYPE_OF_SUFFIX.get("glz") is None
    book = book_of(studio, "where = 'type is glaze'\nleave = true", head="[types]\nglaze = ['glz', '.LOG']\n")
    assert matched(book, studio) == {"KILN 2 2026-10-04.log"}
