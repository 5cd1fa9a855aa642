"""Help of each command and topic, completion in three shells, and the manual page: all from the same tables."""

from __future__ import annotations

import os
import re
import runpy
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from frugal_sorter.cli import COMMANDS, UNLISTED
from frugal_sorter.cli.commands.words import _WAYS
from frugal_sorter.cli.manual import manual, rules_manual
from frugal_sorter.cli.options import parser_of
from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.reference import EXIT_CODES, MORE_TOPICS, TOPICS
from tests.conftest import Frugal
from tests.support import put, rules_text

ROOT = Path(__file__).parents[1]
_MADE = runpy.run_path(str(ROOT / "docs/make_completion.py"))


@pytest.mark.parametrize("topic", [*TOPICS, *MORE_TOPICS, "manual"])
def test_each_topic_says_something(frugal: Frugal, topic: str) -> None:
    assert len(frugal("help", topic).stdout.splitlines()) > 5


@pytest.mark.parametrize("command", [name for name in COMMANDS if name not in TOPICS])
def test_the_help_of_a_command_is_its_own(frugal: Frugal, command: str) -> None:
    assert frugal("help", command).stdout == frugal(command, "--help").stdout


def test_topics_have_every_field_and_every_exit_code_that_the_program_ends_with(frugal: Frugal) -> None:
    assert not [name for name in FIELDS if f" {name} " not in frugal("help", "fields").stdout]
    assert " spreadsheet " in frugal("help", "types").stdout and " csv " in frugal("help", "types").stdout
    text = "\n".join(path.read_text() for path in (ROOT / "src/frugal_sorter/cli").rglob("*.py"))
    known = {code for code, _ in EXIT_CODES}
    assert {int(code) for code in re.findall(r"^\s+return (\d+)$", text, re.MULTILINE)} <= known


def test_the_manual_page_in_the_docs_is_the_one_that_the_program_prints() -> None:
    assert (ROOT / "docs/frugal.1").read_text() == manual(), "run docs/make_reference.py"
    for name, summary in COMMANDS.items():
        for action in parser_of(name, summary)._actions:
            for option in action.option_strings:
                assert option.replace("-", "\\-") in manual() or option in ("-h", "--help"), option


def test_the_page_of_the_rule_file_in_the_docs_is_the_one_of_the_reference() -> None:
    assert (ROOT / "docs/frugal-rules.5").read_text() == rules_manual(), "run docs/make_reference.py"


@pytest.mark.skipif(not shutil.which("man"), reason="man-db is not installed")
@pytest.mark.parametrize(("page", "said"), [("frugal.1", "frugal purge"), ("frugal-rules.5", "at_most")])
def test_the_manual_pages_can_be_read(page: str, said: str) -> None:
    env = {**os.environ, "MANWIDTH": "80", "LC_ALL": "C.UTF-8"}
    done = subprocess.run(["man", "--warnings", "-l", ROOT / "docs" / page], capture_output=True, text=True, env=env, check=True)
    assert said in done.stdout and not [line for line in done.stderr.splitlines() if "cannot adjust" not in line]


@pytest.fixture
def desk(folder: Path, frugal: Frugal, own_home: Path) -> Path:
    put(folder / "Intake/a.log")
    put(folder / "rules.toml", rules_text('where = "ext is log"\nmove = "Logs"').replace("rule 0", "Kiln logs (May)"))
    frugal("tidy", "rules.toml", "--yes")
    frugal("inventory", "Intake", "--save", "monday")
    put(own_home / ".config/frugal-sorter/desk.toml", rules_text('where = "ext is log"\nmove = "Logs"'))
    for shell in ("bash", "zsh", "fish"):
        put(own_home / f"frugal.{shell}", frugal("completion", shell).stdout)
    (own_home / "bin").mkdir()
    put(own_home / "bin/frugal", f'#!/bin/sh\nexec {sys.executable} -m frugal_sorter "$@"\n').chmod(0o755)
    return folder


def by_shell(shell: str, line: str, desk: Path, home: Path) -> list[str]:
    """Return what a shell offers for the last word of a line."""
    env = {**os.environ, "PATH": f"{home}/bin:{os.environ['PATH']}", "HOME": str(home)}
    if shell == "fish":
        script = f"source {home}/frugal.fish; complete -C '{line}'"
    else:
        words = line.split(" ")
        script = f"""source {home}/frugal.bash; COMP_WORDS=({" ".join(f"'{word}'" for word in words)}); COMP_CWORD={len(words) - 1}
            compopt() {{ :; }}; _shtab_frugal; printf '%s\\n' "${{COMPREPLY[@]}}" """
    done = subprocess.run([shell, "-c", script], cwd=desk, env=env, capture_output=True, text=True, check=False, timeout=60)
    assert not done.stderr, done.stderr
    return [line.split("\t")[0].replace("\\", "") for line in done.stdout.splitlines()]


@pytest.mark.parametrize("shell", ["bash", "fish"])
@pytest.mark.parametrize(("line", "offered"), [
    ("frugal ti", "tidy"), ("frugal tidy --wit", "--without"), ("frugal tidy rules.toml --rule ", "Kiln logs (May)"), ("frugal undo ", "1"),
    ("frugal sort --clash ", "replace"), ("frugal schedule re", "resume"), ("frugal inventory --by ", "folder"),
    ("frugal compare ", "monday"), ("frugal preview ", "desk"),
])  # fmt: skip
def test_a_shell_offers_what_there_is(desk: Path, own_home: Path, shell: str, line: str, offered: str) -> None:
    if not shutil.which(shell):
        pytest.skip(f"{shell} is not installed")
    assert offered in by_shell(shell, line, desk, own_home)


@pytest.mark.parametrize(("line", "offered"), [
    ("=ti", "tidy"), ("=--wit tidy", "--without"), ("= tidy rules.toml --rule", "Kiln logs (May)"), ("= undo", "1"),
    ("= sort --clash", "replace"), ("=re schedule", "resume"), ("= inventory --by", "folder"), ("=mo compare", "monday"),
    ("= preview", "desk"),
])  # fmt: skip
def test_a_shell_that_cannot_complete_itself_is_told_what_there_is(desk: Path, frugal: Frugal, line: str, offered: str) -> None:
    """As the script for PowerShell asks, which is not run here."""
    typed, *before = line.split(" ")
    assert offered in frugal("words", "line", typed, *before).stdout.splitlines()


@pytest.mark.parametrize("shell", _MADE["SCRIPTS"])
def test_the_completion_scripts_are_those_of_the_parsers(shell: str, frugal: Frugal) -> None:
    assert frugal("completion", shell).stdout == _MADE["script"](shell), "run docs/make_completion.py"


@pytest.mark.skipif(not shutil.which("zsh"), reason="zsh is not installed")
def test_the_script_for_zsh_is_one(desk: Path, own_home: Path) -> None:
    done = subprocess.run(["zsh", "-n", own_home / "frugal.zsh"], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    script = f"autoload -U compinit && compinit -u; source {own_home}/frugal.zsh; whence -w _shtab_frugal _frugal_rules"
    done = subprocess.run(["zsh", "-fc", script], capture_output=True, text=True, check=False)
    assert done.stdout.count("function") == 2, done.stdout + done.stderr


def test_what_a_shell_asks_for_is_never_an_error(folder: Path, frugal: Frugal) -> None:
    for kind in _WAYS.keys() - {"line"}:
        frugal("words", kind, "tidy", "missing.toml", "--rule")
    put(folder / "broken.toml", "frugal = ")
    assert frugal("words", "rules", "tidy", "broken.toml").stdout == ""
    assert set(UNLISTED) == {"words", "visit"}
