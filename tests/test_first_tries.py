"""What people type before they have read anything: each is accepted, or answered with what to type instead."""

from __future__ import annotations

import argparse
from pathlib import Path

import pytest

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.options import _CALLED, _INSTEAD, parser_of
from frugal_sorter.filesystem.record import TYPES
from frugal_sorter.rules.conditions import parse_condition
from frugal_sorter.rules.lint import warnings_of
from frugal_sorter.rules.load import read_rules
from frugal_sorter.rules.units import InvalidValue, Mistakes
from tests.conftest import Frugal
from tests.support import WORLD, put, rules_text

# A line, and what its answer must have in it.
LINES = {
    "clean Intake": "did you mean `purge`?", "delete Intake": "did you mean `purge`?", "rm Intake": "did you mean `purge`?",
    "run rules.toml": "did you mean `tidy`?", "organize Intake": "did you mean `tidy`?", "list": "did you mean `inventory`?",
    "ls Intake": "did you mean `inventory`?", "stats Intake": "did you mean `inventory`?", "tree": "did you mean `inventory --tree`?",
    "find x.pdf": "did you mean `inventory --listing`?", "save": "did you mean `inventory --save`?",
    "dedupe Intake": "did you mean `duplicates`?", "restore a.log": "did you mean `trash --restore`?",
    "revert": "did you mean `undo`?", "empty": "did you mean `trash`?", "log": "did you mean `history`?",
    "status": "did you mean `schedule check`?", "cron": "did you mean `schedule`?", "validate rules.toml": "did you mean `check`?",
    "why Intake": "did you mean `explain`?", "diff": "did you mean `compare`?", "copy a b": "did you mean `gather`?",
    "move a b": "did you mean `sort`?", "rename a b": "did you mean `help rules`?", "unzip a.zip": "did you mean `help rules`?",
    "config": "did you mean `help files`?", "init": "did you mean `suggest`?", "man": "did you mean `help manual`?",
    "/?": "did you mean `--help`?", "-v": "did you mean `--version`?", "histroy": "did you mean `history`?",
    "tidi": "did you mean `tidy`?", "schedule delete x": "did you mean `remove`?", "schedule lsit": "did you mean `list`?",
    "schedule status": "did you mean `show`?", "help conditons": "did you mean `conditions`?", "completion bsh": "did you mean `bash`?",
    "tidy rules.toml -q": "did you mean `--short`?", "tidy rules.toml --dryrun": "did you mean `--dry-run`?",
    "tidy rules.toml --simulate": "did you mean `--dry-run`?", "tidy rules.toml --whatif": "did you mean `--dry-run`?",
    "tidy rules.toml --force": "did you mean `--yes`?", "preview rules.toml --verbose": "did you mean `--list-all`?",
    "preview --config rules.toml": "name the rule file without an option", "tidy Intake": "is a folder, not a rule file",
    "preview rule.toml": "did you mean `rules.toml`?", "watch Intake": "frugal sort Intake --into '{type}'",
    "explain Intake/a.log rules.toml": "name a rule file with --rules", "rules list": "`frugal rules` lists the rules",
    "rules remove x": "did you mean `off`?", "tidy rules.toml --exclude a": "did you mean `--without`?",
    "purge Intake -r": "did you mean `--levels all`?", "purge Intake --recursive": "did you mean `--levels all`?",
    "purge Intake --days 30": "did you mean `--older-than 30d`?", "purge Intake 30d": "did you mean `--older-than 30d`?",
    "purge Intake --older-than 30 days": 'put the value in quotes: --older-than "30 days"',
    "purge Intake --older-than 30d --where ext is log": 'put the value in quotes: --where "ext is log"',
    "purge Intake --older-than=1d --delete": "did you mean `--permanent`?", "purge Intake --older-than 1d --trash": "that is what it does",
    "purge Intake --older-than 1d --by modifed": "did you mean `modified`?", "purge Intake --keep 5": "did you mean `--keep-newest 5`?",
    "purge Intake --min-size 1GB": "use --where 'size > 1 GB'", "purge Intake --ext log": "use --where 'ext is pdf'",
    "purge Intake --name x": "use --where 'name like *.pdf'", "purge Intake/a.log --older-than 30d": "choose its files with --where",
    "purge Intake/*.log --older-than 30d": "choose its files with --where", "inventory My Folder": "put a name with blanks in quotes",
    "sort Intake": "add it, such as --into '{type}'", "sort Intake --by type": "did you mean `--into '{type}'`?",
    "sort Intake --to x": "did you mean `--into`?", "sort Intake --into {year}": "use {modified:%Y}",
    "sort Intake --into {extension}": "use {ext}", "sort Intake --into %Y/%m": "write {modified:%Y/%m}",
    "sort Intake --into %ext%": "use {ext}", "sort Intake --into '{type}'": "write {type} without them",
    "duplicates Intake --delete": "did you mean `--do delete`?", "duplicates Intake --trash": "did you mean `--do trash`?",
    "duplicates Intake --remove": "did you mean `--do trash`?", "trash --empty": "did you mean `--older-than 0d`?",
    "trash empty": "did you mean `--older-than 0d`?", "undo last": "`frugal undo` without a number undoes the last run",
    "undo --all": "did you mean `--since 2000-01-01`?", "history --all": "did you mean `--since 2000-01-01`?",
    "inventory --json": "did you mean `--format json`?", "inventory --csv": "did you mean `--format csv`?",
    "inventory --format jsn": "did you mean `json`?", "inventory --by extension": "did you mean `ext`?",
    "inventory --by month": "did you mean `age`?", "inventory --depth 2": "did you mean `--levels 2`?",
    "inventory --biggest 9": "did you mean `--largest`?", "inventory --output x.csv": "add > FILE",
    "inventory --exclude a": "did you mean `--where 'not name like *.log'`?", "report --html": "did you mean `--format html`?",
    "schedule add x --at 2am -- tidy": "use daily 02:00", "schedule add x --at nightly -- tidy": "use daily 02:00",
    "schedule add x tidy": "add it, such as --at 'daily 02:00'", "schedule add x --at mondays -- tidy": "use mon 08:00",
}  # fmt: skip
# What is no option or command, and what must not be guessed for it.
NO_GUESS = ["backup", "purge Intake --zzz", "tidy rules.toml --empty", "preview rules.toml --trash", "history --larger"]
ACCEPTED = [
    "tidy rules.toml -n", "tidy rules.toml --dry-run", "sort Intake --into {type} -n", "purge Intake --older-than 30d -n",
    "duplicates Intake --do trash -n", "trash --older-than 0d -n", "trash --shrink-to 0 -n", "purge Intake --older-than 2w -n",
    "purge Intake --older-than 1month -n", "-V", "--version", "help", "purge --help",
]  # fmt: skip

CONDITIONS = {
    "created today": "use `created on today`", "modified today": "use `modified on today`", "modified in 2026": "use `modified on 2026`",
    "modified > 30 days": "use `modified older than 30 days`", "latest > 3d": "use `latest older than 3d`",
    "modified < 30 days": "use `modified within 30 days`", "created > 2026-01-01": "use `created after 2026-01-01`",
    "modified since 2026-11-01": "use `modified after 2026-11-01`", "modified last 7 days": "use `modified within 7 days`",
    "last 7 days": "use `modified within 7 days`", "older than 30 days": "use `modified older than 30 days`",
    "age > 30": "`modified older than 30 days`", "year is 2026": "use `modified on 2026-11`",
    "ext in pdf, docx": "use `ext in (pdf, docx)`", "ext is pdf, docx": "use `ext in (pdf, docx)`",
    "ext is jpg|png": "use `ext in (jpg, png)`", "ext is jpg or png": "`ext in (jpg, png)`", "ext = pdf": "use `ext is pdf`",
    "ext: pdf": "use `ext is pdf`", "ext == pdf": "use `is`", "extension is pdf": "use `ext is pdf`",
    "ext is pdf && size > 1MB": "use `and`", "ext is pdf || ext is doc": "use `or`", "!empty": "use `not`", "ext != pdf": "use `is not`",
    "(ext is pdf": '")" is missing', "ext is pdf)": 'unexpected ")"', "kind is movie": "use `type`", "type is movie": "use `type is video`",
    "type is folder": 'take = "folders"', "type is file": 'unless it says take = "folders"', "type is pdf": "use `ext is pdf`",
    "empty folder": 'take = "folders"', "is empty": "use `empty`", "hidden = true": "use `hidden`", "empty is true": "use `empty` alone",
    "name is *.pdf": "use `name like *.pdf`", "name contains invoice": "use `has`", "name starts with inv": "write `name starts inv`",
    "name startswith inv": "use `starts`", "name =~ x": "use `name matches x`", 'fits "pic*"': 'use `name fits "pic*"`',
    "like *.pdf": "use `name like *.pdf`", "*.pdf": "use `ext is pdf`", ".pdf": "use `ext is pdf`", "*": "use `everything`",
    "inv*": 'use `name like "inv*"`', "size > 1": "use 1 KB", "size over 1 GB": "use `>`", "larger than 1 GB": "use `size > 1 GB`",
    "content contains invoice": "use `text has invoice`", "filename like x": "use `name", "tags has red": "use `tag",
    "duplicate": "use `copy-named`", "all": "use `everything`", "true": "use `everything`", "name like x and *.pdf": "use `ext is pdf`",
}  # fmt: skip
# Valid, and seldom meant: what is said about it.
WARNED = {
    'name is "*.pdf"': 'did you mean `name like "*.pdf"`?', 'name fits "pic*"': 'did you mean `name like "pic*"`?',
    "name matches /x/": "did you mean `name matches 'x'`?", "name has .pdf": "did you mean `ext is pdf`?",
    "ext is not pdf or ext is not doc": "did you mean `and` in place of `or`?", "not empty or not hidden": "did you mean `and`",
}  # fmt: skip

KEYS = {
    "unpack = true": "put it in quotes", 'trash = "yes"': "write it without quotes", "dry_run = true": "use `frugal preview`",
    "overwrite = true": 'use clash = "replace"', "replace = true": 'use clash = "replace"', "keep_newest = 5": 'use keep = "newest 5"',
    "recursive = true": 'use levels = "all"', 'older_than = "30 days"': "use where = ", 'to = "Logs"': 'use move = "Logs"',
    'by = "type"': 'use move = "{type}"', "enabled = false": "use off = true", 'exclude = "*.tmp"': "use leave = true in a rule above",
    'clash = "overwrite"': "choose from number", "settle = 10": "put it in quotes", 'run = "echo x"': "`run` is a list",
    "duplicates = true": 'duplicates = {keep = "oldest", do = "trash"}', 'move = "Old\\x"': "write '...' instead",
    "move = 'Old\\x'": 'write "Old/x"', 'move = "C:/Temp"': "name a folder of this system", 'move = "%ext%"': "use {ext}",
    'move = "<type>"': "use {type}", "move = \"'{type}'\"": "write {type} without them", 'move = "%Y/%m"': "write {modified:%Y/%m}",
    'move = "{year}"': "use {modified:%Y}", 'Move = "Logs"': "did you mean `move`?",
}  # fmt: skip
# A whole rule, and what `check` says about it.
CHECKED = {
    'where = "ext is log"\nmove = "type"': "did you mean {type}?", 'where = "ext is log"\nmove = "year"': "use {modified:%Y}",
    'where = "ext is log"\nmove = "{modified:%Y-%M}"': "use `%m` for the month",
    'where = "ext is log"\ntake = "folders"\nmove = "x"': "folders rarely have an extension",
    'where = "ext is log"\nrun = ["no-such-program-here", "{path}"]': "is not on this machine",
    'where = "ext is not a or ext is not b"\ntrash = true': "matches every file, and removes it",
    'where = "size >= 0 B"\ndelete = true': "matches every file, and removes it",
}  # fmt: skip


def test_the_table_is_long() -> None:
    assert sum(map(len, (LINES, ACCEPTED, CONDITIONS, WARNED, KEYS, CHECKED))) >= 200


@pytest.mark.parametrize("line", LINES)
def test_a_line_is_answered_in_one_line(line: str, folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    said = frugal(*line.split(" "), code=2).stderr
    assert LINES[line] in said and said.count("\n") == 1 and "Traceback" not in said


@pytest.mark.parametrize("line", NO_GUESS)
def test_what_nobody_can_guess_is_not_guessed(line: str, folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    assert "did you mean" not in frugal(*line.split(), code=2).stderr


@pytest.mark.parametrize("line", ACCEPTED)
def test_a_line_is_taken_as_it_is(line: str, folder: Path, frugal: Frugal) -> None:
    put(folder / "Intake/a.log", age_days=400)
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    frugal(*line.split())
    assert (folder / "Intake/a.log").exists()


@pytest.mark.parametrize("text", CONDITIONS)
def test_a_condition_is_answered_with_what_to_write(text: str) -> None:
    with pytest.raises(InvalidValue) as wrong:
        parse_condition(text, [*TYPES])
    assert CONDITIONS[text] in f"{wrong.value.message}; {wrong.value.hint}"


@pytest.mark.parametrize("text", WARNED)
def test_a_condition_that_is_seldom_meant_is_told_of(text: str) -> None:
    assert WARNED[text] in "\n".join(parse_condition(text, [*TYPES]).warnings)


def _read(folder: Path, rule: str) -> list[str]:
    text = f'frugal = 1\n[[rule]]\nname = "one"\nin = "Intake"\n{rule}\n'
    (folder / "Intake").mkdir(exist_ok=True)
    return [f"{one.message}; {one.hint}" for one in warnings_of(read_rules(text.encode(), folder / "rules.toml"), WORLD)]


@pytest.mark.parametrize("key", KEYS)
def test_a_key_is_answered_with_what_to_write(key: str, folder: Path) -> None:
    with pytest.raises(Mistakes) as wrong:
        _read(folder, f'where = "ext is log"\n{key}')
    assert any(KEYS[key] in f"{one.message}; {one.hint}" for one in wrong.value.all)


@pytest.mark.parametrize("rule", CHECKED)
def test_check_tells_of_a_rule_that_is_seldom_meant(rule: str, folder: Path) -> None:
    assert CHECKED[rule] in "\n".join(_read(folder, rule))


def test_all_mistakes_of_a_condition_are_told_at_once(folder: Path) -> None:
    with pytest.raises(Mistakes) as wrong:
        _read(folder, 'where = "nmae is x and size > big and modified older than soon"\nleave = true')
    assert len(wrong.value.all) == 3


def test_what_a_first_try_is_answered_with_exists() -> None:
    known = {*COMMANDS, "--help", "--version", "ext", "age", "type", "owner", "folder"}

    def walk(parser: argparse.ArgumentParser) -> None:
        known.update(parser._option_string_actions)
        for action in parser._actions:
            if isinstance(action, argparse._SubParsersAction):
                known.update(action.choices)
                for inner in action.choices.values():
                    walk(inner)

    for name in COMMANDS:
        walk(parser_of(name, ""))
    assert {word.split()[0] for called in _CALLED.values() for word in called} <= known
    assert {needs for needs, _ in _INSTEAD.values()} <= {*known, ""}
