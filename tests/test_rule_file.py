from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.cli.reading import both_conditions
from frugal_sorter.errors import StateError, UsageError
from frugal_sorter.rules.editing import book_of_rule, rule_text
from frugal_sorter.rules.load import load_rules, read_rules
from frugal_sorter.rules.source import lines_of
from frugal_sorter.rules.units import Mistakes
from tests.conftest import IS_ROOT, Frugal
from tests.support import put, rules_text

GOOD = """frugal = 1
[[rule]]
name = "a"
in = "x"
where = "everything"
move = "y"
"""
FIVE = """frugal = 1
[places]
intake = "Intake"
[[rule]]
name = "Logs"
in = "{intak}"
wehre = "ext is log"
where = "size > 10 or type is lgo and size older than 3 days"
move = "{modfied:%Y}"
[[rule]]
name = "Photos"
in = "{intake}"
where = '''
type is
  imaeg'''
levels = 0
"""


def mistakes_of(text: str | bytes) -> list[tuple[int, str, str, str]]:
    raw = text if isinstance(text, bytes) else text.encode()
    with pytest.raises(Mistakes) as caught:
        read_rules(raw, Path("/studio/rules.toml"))
    return [(one.line, one.rule, one.message, one.hint) for one in caught.value.all]


def test_all_mistakes_come_at_once_with_their_lines() -> None:
    found = mistakes_of(FIVE)
    assert [(line, rule) for line, rule, _, _ in found] == [
        (6, "Logs"), (7, "Logs"), (8, "Logs"), (8, "Logs"), (8, "Logs"), (9, "Logs"), (10, "Photos"), (13, "Photos"), (16, "Photos"),
    ]  # fmt: skip
    assert [hint for *_, hint in found if "did you mean" in hint] == [
        "did you mean `intake`?", "did you mean `where`?", "did you mean `log`?", "did you mean `modified`?", "did you mean `image`?",
    ]  # fmt: skip


def rule(line: str, *without: str) -> str:
    kept = [one for one in GOOD.splitlines() if not any(one.startswith(f"{key} =") for key in without)]
    return "\n".join([*kept, line, ""])


@pytest.mark.parametrize(
    ("text", "line", "what", "instead"),
    [
        ("frugal = 1\n[[rule]\n", 2, "not TOML", ""),
        ("frugal = 1\nx = \n", 2, "not TOML", "quotes"),
        ("frugal = 1\n[places]\na = \"C:\\Kiln\"\n", 3, "not TOML", "backslashes"),
        ("frugal = 1\nfrugal = 1\n", 2, "not TOML", "once"),
        (b"frugal = 1\n# \xff\n", 2, "not UTF-8", "UTF-8"),
        (GOOD.replace("frugal = 1\n", ""), 1, "format version is missing", "frugal = 1"),
        (GOOD.replace("frugal = 1", "frugal = 9"), 1, "format 9", "reads format 1"),
        ("frugal = 1\n", 1, "no rule", "[[rule]]"),
        ("frugal = 1\n[rule]\nname = 'a'\n", 2, "its own table", "two brackets"),
        ("frugal = 1\nplaces = 3\n" + GOOD[11:], 2, "must be a table", "[places]"),
        ("frugal = 1\n[places]\nsize = 'x'\n" + GOOD[11:], 3, "placeholder already", "another name"),
        ("frugal = 1\n[places]\nbin = 3\n" + GOOD[11:], 3, "must be a text", "Intake"),
        ("frugal = 1\n[types]\nMould = ['stl']\n" + GOOD[11:], 3, "not a valid type", ""),
        ("frugal = 1\n[types]\nmould = 'stl'\n" + GOOD[11:], 3, "list of extensions", ""),
        ("frugal = 1\n[type-folders]\nimag = 'x'\n" + GOOD[11:], 3, "unknown type `imag`", "image"),
        ("frugal = 1\n[type-folders]\nimage = '/a/b'\n" + GOOD[11:], 3, "path", "Media/Photos"),
        ("frugal = 1\n[type-folders]\nimage = 'a/../b'\n" + GOOD[11:], 3, "path", ""),
        ("frugal = 1\n[types]\ndocs = 'text + dokument'\n" + GOOD[11:], 3, "unknown type `dokument`", "document"),
        ("frugal = 1\n[types]\ntext = 'text + document'\n" + GOOD[11:], 3, "unknown type `text`", ""),
        ("frugal = 1\n[defaults]\nmove = 'x'\n" + GOOD[11:], 3, "unknown key `move`", "choose from"),
        ("frugal = 1\n[defaults]\nlevels = 'deep'\n" + GOOD[11:], 3, "not a number of levels", "all"),
        (rule("", "name"), 2, "`name` is missing", "Photos"),
        (rule("", "in"), 2, "`in` is missing", "Intake"),
        (rule("", "where"), 2, "`where` is missing", "image"),
        (rule("", "move"), 2, "no action", "duplicates or leave"),
        (rule("leave = true"), 7, "cannot be combined with", "exactly one action"),
        (rule("hidden = 'yes'"), 7, "true or false", "quotes"),
        (rule("levels = true"), 7, "not a number of levels", ""),
        (rule("settle = 5"), 7, "must be a text", ""),
        (rule("settle = 'a while'"), 7, "not a duration", ""),
        (rule("clash = 'numbr'"), 7, "is not allowed here", "did you mean `number`"),
        (rule("in = []", "in"), 6, "list is empty", ""),
        (rule("in = ''", "in"), 6, "folder is empty", ""),
        (rule("in = '$NO_SUCH_VARIABLE/x'", "in"), 6, "NO_SUCH_VARIABLE is not set", ""),
        (rule("in = '~nosuchuser0/x'", "in"), 6, "unknown user nosuchuser0", ""),
        (rule('in = "C:\\new"', "in"), 6, "control character", "'...'"),
        (rule("name = ' '", "name"), 6, "name is empty", ""),
        (rule("rename = 'a/b'"), 7, "cannot contain a /", "move"),
        (GOOD + GOOD[11:], 8, "the rule on line 3 already has this name", "another"),
    ],
)  # fmt: skip
def test_single_mistakes(text: str | bytes, line: int, what: str, instead: str) -> None:
    found = mistakes_of(text)
    assert any(one == line and what in said and instead in hint for one, _, said, hint in found), found


def test_what_a_good_file_says(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("STUDIO", "/srv/studio")
    head = '[places]\nintake = "Intake"\nlogs = "{intake}/Logs"\n[defaults]\nlevels = 3\nsettle = "1 minute"\n'
    text = rules_text(
        'in = ["{logs}", "~/x", "$STUDIO/y"]\nwhere = "everything"\nmove = "~/Sorted/{type}"\nlevels = "all"',
        'in = "/abs"\nwhere = "hidden"\nleave = true\noff = true',
        'in = "/abs"\nwhere = "hidden"\nrename = "{stem}.x"\nclash = "skip"\nhidden = true',
        head=head,
    )
    book = read_rules(b"\xef\xbb\xbf" + text.replace("\n", "\r\n").encode(), folder / "rules.toml")
    first, last = book.rules
    home = os.environ["HOME"]
    assert first.folders == (f"{folder}/Intake/Logs", f"{home}/x", "/srv/studio/y")
    assert (first.levels, first.hidden, first.settle.seconds) == (None, False, 60)
    assert first.move is not None and first.move.absolute and first.move.segments[0] == (home.split("/")[1],)
    assert (last.levels, last.hidden, last.clash, last.ending) == (3, True, "skip", "move")
    assert [rule.name for rule in book.off] == ["rule 1"]


def test_a_rule_is_another_one_when_what_it_does_changes() -> None:
    def key(text: str) -> str:
        return read_rules(text.encode(), Path("/r.toml")).rules[0].key

    assert key(GOOD) == key(GOOD.replace('"a"', '"b"') + "# remark\n")
    assert len({key(GOOD), key(rule("hidden = true")), key(GOOD.replace('"y"', '"z"'))}) == 3


def test_a_file_that_is_not_there_or_too_large(folder: Path) -> None:
    with pytest.raises(UsageError, match="cannot be read"):
        load_rules(folder / "none.toml")
    (folder / "large.toml").write_bytes(b"#" * 5_000_000)
    with pytest.raises(UsageError, match="larger"):
        load_rules(folder / "large.toml")


@pytest.mark.skipif(not IS_ROOT, reason="only root refuses files of others")
def test_root_refuses_rules_that_others_can_write(folder: Path) -> None:
    path = folder / "rules.toml"
    path.write_text(GOOD)
    for mode, owner in ((0o666, 0), (0o644, 12345)):
        path.chmod(mode)
        os.chown(path, owner, 0)
        with pytest.raises(StateError, match="other users can write"):
            load_rules(path)


@given(st.one_of(st.text(max_size=200), st.lists(st.sampled_from(GOOD.splitlines() + FIVE.splitlines() + [
    "[rule.x]", "rule = 3", "[[rule.example]]", "in = [[]]", "where = 3", "x.y = 1", "'''", '"""', "]", "move = '{'", "\x00",
])).map("\n".join)))  # fmt: skip
def test_any_text_is_rules_or_clear_mistakes(text: str) -> None:
    try:
        read_rules(text.encode("utf-8", "replace"), Path("/studio/rules.toml"))
    except Mistakes as mistakes:
        assert mistakes.all
        assert all(one.line >= 1 and one.message and len(str(one).splitlines()) == 1 for one in mistakes.all)


def test_positions_of_keys() -> None:
    text = '''# remark [x]
a = "[[no]]" # b = 1
"q.r" = { z = 1 }
m = """
[no]
x = 1
""" 
l = [ "]", # ]
  "x = 1",
]
[t]
c.d = 'C:\\'
[[r]]
n = 1
[[r.s]]
[r.s.u]
[[ r ]]
n = 2
'''
    assert lines_of(text) == {
        ("a",): 2, ("q.r",): 3, ("m",): 4, ("l",): 8, ("t",): 11, ("t", "c", "d"): 12, ("r", 0): 13, ("r", 0, "n"): 14,
        ("r", 0, "s", 0): 15, ("r", 0, "s", 0, "u"): 16, ("r", 1): 17, ("r", 1, "n"): 18,
    }  # fmt: skip


def test_a_rule_as_text_holds_every_text_and_names_the_option_of_a_mistake(folder: Path) -> None:
    keys: dict[str, str | int | bool] = {
        "name": 'it\'s "so" \\ far',
        "where": "name has 'é\"'",
        "move": "x",
        "levels": "all",
        "hidden": True,
    }
    (rule,) = book_of_rule(keys, str(folder), {}, "here").rules
    assert (rule.name, rule.where_text, rule.levels, rule.hidden, rule.folders) == (
        keys["name"], keys["where"], None, True, (str(folder),),
    )  # fmt: skip
    assert rule_text({"name": "a", "at_most": 3, "trash": True}) == '[[rule]]\nname = "a"\nat_most = 3\ntrash = true'
    with pytest.raises(UsageError, match="--into: unknown placeholder"):
        book_of_rule({"name": "a", "where": "everything", "move": "{nope}"}, str(folder), {"move": "--into"}, "here")


def test_two_conditions_are_both_asked_whatever_their_words() -> None:
    assert both_conditions("size > 1 B", "name has a or name has b") == "(size > 1 B) and (name has a or name has b)"
    assert (both_conditions("", None), both_conditions("", "empty"), both_conditions("empty", None)) == (
        "everything",
        "empty",
        "empty",
    )
    with pytest.raises(UsageError, match="--where"):
        both_conditions("", "size > 1 B) or (everything")


@pytest.mark.parametrize("encoding", ["utf-16", "utf-8-sig"])
def test_rules_and_lists_are_read_as_programs_of_windows_write_them(folder: Path, frugal: Frugal, encoding: str) -> None:
    put(folder / "Intake/Tür.log")
    put(folder / "Intake/kept.log")
    rules = rules_text('where = "ext is log and not listed in \\"keep.txt\\""\nmove = "Öfen"').replace("\n", "\r\n")
    (folder / "rules.toml").write_bytes(rules.encode(encoding))
    (folder / "keep.txt").write_bytes("kept.log\r\n".encode(encoding))
    frugal("tidy", "rules.toml", "--yes")
    assert (folder / "Intake/Öfen/Tür.log").exists() and (folder / "Intake/kept.log").exists()
    # What cannot be written back as it was is not changed.
    before = (folder / "rules.toml").read_bytes()
    done = frugal("rules", "off", "rule 0", "--rules", "rules.toml", code=None)
    assert encoding == "utf-8-sig" or ("UTF-16" in done.stderr and (folder / "rules.toml").read_bytes() == before)


def test_a_text_in_a_placeholder_may_stand_between_single_quotes(folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/README")
    put(folder / "Intake/a.log")
    frugal("sort", "Intake", "--into", "{ext|'no extension'}", "--yes")
    assert (folder / "Intake/no extension/README").exists() and (folder / "Intake/log/a.log").exists()
