"""Every command on terminals of 60, 80 and 120 columns: no line too long, no word broken, no column missing that decides."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.output.text import columns
from tests.conftest import Frugal
from tests.support import THOROUGH, on_terminal, put

# Each with what must be there at any width; what asks is answered with no.
LINES: dict[str, tuple[str, ...]] = {
    "inventory Intake": ("type", "files", "size", "share"), "inventory . --tree": ("folder", "files", "size", "share", "newest"),
    "inventory . --by type,age": ("all",), "inventory Intake --listing": (), "inventory Intake --largest 3": ("modified", "file"),
    "compare monday now": ("new", "gone", "difference"), "forecast Intake": (), "suggest Intake": (), "check rules.toml": (),
    "preview rules.toml": (), "preview rules.toml --tree": ("Now", "Then"), "preview ageing.toml --until tomorrow": (),
    "rules rules.toml": ("rule", "action", "last"), "explain Intake/README --rules rules.toml": (), "tidy rules.toml": ("[yes/no",),
    "sort Intake --into {type}": ("into", "files", "size"), "purge Intake --older-than 30d --by modified": ("oldest", "newest"),
    "gather --list list.txt --from Intake --to Out": (), "duplicates Intake": ("keep",), "leftovers glaze-calculator": (),
    "history": ("run", "started", "command", "changes", "result"), "history 1": (), "history --file *.jpg": (), "verify 1": (), "report": (),
    "undo 1": ("[yes/no",), "trash": (), "schedule list": (), "schedule check": (), "watch rules.toml --once": (),
    "help rules": (), "help conditions": (), "help files": (), "purge --help": (), "completion bash": (), "demo": (),
}  # fmt: skip
# What they print is a script, a page of its own for another width, or a name to a line.
NOT_WRAPPED = ("completion", "demo", "help", "purge --help", "inventory Intake --listing")
# What differs from one time to the next, or is told in full only where it is narrow.
CHANGING = ("watch rules.toml --once", "trash", "history")


@pytest.fixture
def desk(folder: Path, frugal: Frugal, own_home: Path) -> Iterator[Path]:
    frugal("demo", folder)
    put(folder / "list.txt", "Price list.csv\nno such file.csv\n")
    put(own_home / ".cache/glaze-calculator/cache")
    frugal("inventory", "Intake", "--save", "monday")
    frugal("tidy", "rules.toml", "--rule", "Moulds", "--yes")
    frugal("purge", "Glaze Calculator/scratch", "--older-than", "30d", "--by", "modified", "--levels", "all", "--yes")
    yield folder


def words_of(lines: list[str]) -> set[str]:
    # A cell that is cut shows it.
    return set(re.findall(r"[A-Za-z]{2,}", re.sub(r"\S*…\S*", " ", "\n".join(lines))))


def test_all_commands_are_here() -> None:
    assert {line.split()[0] for line in LINES} >= set(COMMANDS)


@pytest.mark.parametrize("at", range(4))
def test_a_command_fits_any_terminal(at: int, desk: Path) -> None:
    for line in list(LINES)[at::4]:
        whole: set[str] = set()
        for width in (120, 80, 60) if THOROUGH else (120, 60):
            _, shown = on_terminal(desk, *line.split(), answers="n\n", columns=width, COLUMNS=str(width), PAGER="cat")
            lines = [one.rsplit("\r", 1)[-1] for one in re.sub(r"\x1b\[[0-9;]*m", "", shown).splitlines()]
            assert not [word for word in LINES[line] if word not in shown], f"{line}: missing at {width}"
            if line.startswith(NOT_WRAPPED):
                continue
            # A path, or a command in quotes, stands whole on a line of its own.
            long = [one for one in lines if columns(one) > width and not re.search(r"[/`]|frugal ", one)]
            assert not long, f"{line}: too long at {width}"
            whole = whole or words_of(lines)
            if line not in CHANGING:
                assert words_of(lines) <= whole | {"files", "file"}, f"{line}: broken at {width}"
