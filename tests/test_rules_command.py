"""`frugal rules`: what each rule does and did, and small changes to the file, which can be taken back byte for byte."""

from __future__ import annotations

import json
import tomllib
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from frugal_sorter.errors import UsageError
from frugal_sorter.rules.editing import RuleText
from tests.conftest import Frugal
from tests.support import put

RULES = '''# Rules of the front desk.
frugal = 1

# Exceptions first.
[[rule]]
name  = "Stay"   # for good
in    = "Intake"
where = "name is keep.txt"
leave = true

[[rule]]
name = "Logs"
off = false      # on again since May
in = "Intake"
where = "ext is log"
move = "Logs"

  [[rule.example]]
  given = { name = "a.log" }
  becomes = "Logs/a.log"

[[rule]]
name = "Tables"
in = ["Intake", "Desk"]
where = """
ext is csv
"""
trash = true
'''
COMMENTS = st.sampled_from(["", "# a note\n", "\n", "  # indented\n\n", "# [[rule]]\n"])


@st.composite
def rule_files(draw: st.DrawFn) -> str:
    """Return a rule file laid out in some way."""
    parts = ["frugal = 1\n", draw(st.sampled_from(["", '[places]\nx = "X"\n\n', "[defaults]\noff = true\n"]))]
    for number in range(draw(st.integers(2, 4))):
        keys = [f'name{draw(st.sampled_from(["", " ", "  "]))}= "rule {number}"', 'in = "Intake"',
                draw(st.sampled_from(['where = "everything"', 'where = """\\\n  everything"""', "where = '''everything'''"])),
                f'move = "to {number}"']  # fmt: skip
        off = draw(st.sampled_from(["", "off = true", "off = true # why", "off=false"]))
        keys += [off] if off else []
        if draw(st.booleans()):
            keys.append("# in the rule")
        if draw(st.booleans()):
            keys += ["[[rule.example]]", 'given = {name = "x"}', "becomes = false"]
        parts.append(draw(COMMENTS) + "[[rule]]\n" + "\n".join(keys) + "\n" + draw(st.sampled_from(["", "\n", "\n\n"])))
    parts.append(draw(st.sampled_from(["", '[types]\nmine = ["m"]\n', "# the end"])))
    text = "".join(parts)
    text = text.rstrip("\n") if draw(st.booleans()) else text
    return text.replace("\n", "\r\n") if draw(st.booleans()) else text


def parsed(raw: bytes) -> dict[str, Any]:
    return tomllib.loads(raw.decode().replace("\r\n", "\n"))


def lines(raw: bytes) -> Counter[bytes]:
    return Counter(line.rstrip(b"\r") for line in raw.split(b"\n") if line.strip())


@given(rule_files(), st.integers(0, 3))
def test_a_rule_switched_differs_in_its_switch_alone_and_comes_back(text: str, number: int) -> None:
    raw = text.encode()
    file = RuleText(raw)
    name = file.names[number % len(file.names)]
    before = parsed(raw)
    rule = before["rule"][number % len(file.names)]
    is_on = not rule.get("off", before.get("defaults", {}).get("off", False))
    with pytest.raises(UsageError, match="already"):
        file.switched(name, is_on)
    other = file.switched(name, not is_on)
    changed = parsed(other)
    assert changed["rule"][number % len(file.names)].pop("off", False) is is_on
    rule.pop("off", None)
    assert changed == before
    assert sum((lines(raw) - lines(other)).values()) + sum((lines(other) - lines(raw)).values()) <= 2
    back = RuleText(other).switched(name, is_on)
    if b"off" not in raw:
        assert back == raw


@given(rule_files(), st.integers(0, 3), st.integers(0, 3), st.sampled_from(["before", "after"]))
def test_a_rule_moved_differs_in_its_place_alone(text: str, one: int, other: int, where: Any) -> None:
    raw = text.encode()
    file = RuleText(raw)
    names = file.names
    name, beside = names[one % len(names)], names[other % len(names)]
    order = [known for known in names if known != name]
    if name == beside or names.index(name) + (1 if where == "before" else -1) == names.index(beside):
        with pytest.raises(UsageError):
            file.moved(name, where, beside)
        return
    order.insert(order.index(beside) + (where == "after"), name)
    moved = file.moved(name, where, beside)
    assert RuleText(moved).names == order and lines(moved) == lines(raw)
    assert sorted(map(str, parsed(moved)["rule"])) == sorted(map(str, parsed(raw)["rule"]))


@given(rule_files(), st.booleans())
def test_a_rule_added_stands_beside_all_the_others(text: str, first: bool) -> None:
    raw = text.encode()
    new = '[[rule]]\nname = "rule 0"\nin = "Desk"\nwhere = "everything"\nleave = true'
    names = RuleText(raw).names
    added = RuleText(raw).added([new, new], first)
    both = ["rule 0 (2)", "rule 0 (3)"]
    assert RuleText(added).names == ([*both, *names] if first else [*names, *both])
    assert not lines(raw) - lines(added)


@pytest.fixture
def desk(folder: Path) -> Path:
    for name in ("a.log", "b.log", "keep.txt", "t.csv"):
        put(folder / "Intake" / name)
    (folder / "Desk").mkdir()
    return put(folder / "rules.toml", RULES)


def listed(frugal: Frugal, *words: str | Path) -> dict[str, dict[str, Any]]:
    return {row["name"]: row for row in json.loads(frugal("rules", *words, "--format", "json").stdout)["rules"]}


@pytest.mark.parametrize(("words", "order", "on"), [
    (["off", "logs"], ["Stay", "Logs", "Tables"], {"Stay", "Tables"}), (["off", "3"], ["Stay", "Logs", "Tables"], {"Stay", "Logs"}),
    (["move", "Tables", "before", "stay"], ["Tables", "Stay", "Logs"], {"Stay", "Logs", "Tables"}),
    (["move", "Stay", "after", "Tables"], ["Logs", "Tables", "Stay"], {"Stay", "Logs", "Tables"}),
    (["add", "--", "sort", "Intake", "--into", "{type}"], ["Stay", "Logs", "Tables", "Sort Intake"], {"Stay", "Logs", "Tables", "Sort Intake"}),
    (["add", "--", "purge", "Intake", "--older-than", "30d"], ["Stay", "Logs", "Tables", "Purge Intake"], {"Stay", "Logs", "Tables", "Purge Intake"}),
])  # fmt: skip
def test_a_change_is_made_shown_and_taken_back(
    desk: Path, frugal: Frugal, words: list[str], order: list[str], on: set[str]
) -> None:
    before, mode = desk.read_bytes(), desk.stat()
    at = words.index("--") if "--" in words else len(words)
    said = frugal("rules", *words[:at], "--rules", "rules.toml", *words[at:]).stdout
    assert "frugal undo 1" in said
    rows = listed(frugal, "rules.toml")
    assert list(rows) == order and {name for name, row in rows.items() if row["on"]} == on
    assert desk.stat().st_mode == mode.st_mode
    frugal("undo", "--yes")
    assert desk.read_bytes() == before and desk.stat().st_mtime_ns == mode.st_mtime_ns


@pytest.mark.parametrize(("words", "told"), [
    (["off", "Tabels"], "Tables"), (["on", "Logs"], "on already"), (["off"], "name one rule"), (["move", "Logs", "beside", "Stay"], "which rule goes where"),
    (["move", "Logs", "after", "Stay"], "already"), (["add"], "name a job"), (["add", "--", "tidy"], "name a job"), (["of", "Logs"], "choose from off"),
    (["add", "--", "sort", "Intake", "--into", "{nothing}"], "nothing"),
])  # fmt: skip
def test_what_cannot_be_changed_is_one_line_and_changes_nothing(desk: Path, frugal: Frugal, words: list[str], told: str) -> None:
    before = desk.read_bytes()
    at = words.index("--") if "--" in words else len(words)
    done = frugal("rules", *words[:at], "--rules", "rules.toml", *words[at:], code=2)
    assert told in done.stderr and len(done.stderr.splitlines()) == 1 and desk.read_bytes() == before


def test_the_list_says_what_each_rule_would_do_and_did(desk: Path, frugal: Frugal) -> None:
    said = frugal("rules", "rules.toml").stdout
    assert "never" in said and "move to Logs" in said and "to the trash" in said and "leave" in said
    assert [(row["number"], row["now"], row["done"]) for row in listed(frugal, "rules.toml").values()] == [
        (1, 0, 0),
        (2, 2, 0),
        (3, 1, 0),
    ]
    frugal("tidy", "rules.toml", "--yes")
    rows = listed(frugal, "rules.toml")
    assert [(row["now"], row["done"], bool(row["last"])) for row in rows.values()] == [(0, 0, False), (0, 2, True), (0, 1, True)]
    # An exception acts on nothing, ever; that is not the same as a rule that found nothing so far.
    plain = desk.read_bytes()
    desk.write_bytes(plain + b'\n[[rule]]\nname = "Idle"\nin = "Intake"\nwhere = "ext is mov"\ntrash = true\n')
    stay, idle = (
        next(line for line in frugal("rules", "rules.toml").stdout.splitlines() if f" {name} " in line)
        for name in ("Stay", "Idle")
    )
    assert stay.split()[-3:] == ["–"] * 3 and "0            0  never (since 20" in idle
    desk.write_bytes(plain.replace(b'"Logs"', b'"Records"', 1))
    assert "Not counted above: 2 files by `Logs`, which is no longer a rule of this file." in frugal("rules", "rules.toml").stdout
    desk.write_bytes(plain)
    assert list(listed(frugal, "rules.toml", "--in", "Desk")) == ["Tables"]
    frugal("rules", "off", "Tables", "--rules", "rules.toml")
    assert listed(frugal, "rules.toml")["Tables"]["now"] is None


def test_what_is_left_out_can_be_kept_out_for_good(desk: Path, frugal: Frugal) -> None:
    before = desk.read_bytes()
    frugal("preview", "rules.toml", "--without", "a.log", "--keep-out")
    assert next(iter(listed(frugal, "rules.toml"))) == "Leave a.log"
    frugal("tidy", "rules.toml", "--yes")
    assert (desk.parent / "Intake/a.log").exists() and not (desk.parent / "Intake/b.log").exists()
    assert "no files were left out" in frugal("preview", "rules.toml", "--keep-out", code=2).stderr
    frugal("undo", "1", "--yes")
    assert desk.read_bytes() == before


def test_a_short_name_is_that_of_a_file_among_the_settings(desk: Path, frugal: Frugal, own_home: Path) -> None:
    put(own_home / ".config/frugal-sorter/desk.toml", RULES.replace('"Intake"', f'"{desk.parent}/Intake"'))
    assert "2 files" in frugal("preview", "desk", "--rule", "logs").stdout
    done = frugal("preview", "disk", code=2).stderr
    assert "no rule file" in done and "desk" in done
    frugal("tidy", "desk", "--rule", "LOGS", "--yes")
    assert (desk.parent / "Intake/t.csv").exists() and not (desk.parent / "Intake/a.log").exists()


@pytest.mark.parametrize("command", ["preview", "tidy", "explain"])
def test_a_rule_that_is_not_there_is_named_with_the_nearest(desk: Path, frugal: Frugal, command: str) -> None:
    words = ["explain", "Intake/a.log", "--rules"] if command == "explain" else [command]
    assert "Tables" in frugal(*words, "rules.toml", "--rule", "tabels", code=2).stderr


def test_one_rule_takes_only_what_it_would_take_among_the_others(desk: Path, frugal: Frugal) -> None:
    put(desk, RULES.replace('where = "name is keep.txt"', 'where = "name is a.log"'))
    said = json.loads(frugal("preview", "rules.toml", "--rule", "Logs", "--format", "json").stdout)
    assert [step["source"][-5:] for step in said["steps"] if step["verb"] == "move"] == ["b.log"]
    text = frugal("preview", "rules.toml", "--rule", "Logs").stdout
    assert "1 file outside --rule or --only" in text and "--rule Logs" in text
    assert "Logs: yes" in frugal("explain", "Intake/b.log", "--rules", "rules.toml", "--rule", "logs").stdout


def test_rules_are_read_from_standard_input(desk: Path) -> None:
    import subprocess
    import sys

    def run(*words: str) -> subprocess.CompletedProcess[bytes]:
        command = [sys.executable, "-m", "frugal_sorter", *words]
        return subprocess.run(command, cwd=desk.parent, input=desk.read_bytes(), capture_output=True, check=False)

    assert b"3 rules, no errors" in run("check", "-").stdout
    assert run("preview", "-").stdout.count(b"Logs") and b"moved" in run("tidy", "-", "--yes").stdout
    assert (desk.parent / "Intake/Logs/a.log").exists()
    # Standard input is used up, so that nobody can answer there.
    assert run("tidy", "-").returncode in (0, 3)
