"""Every command on each system, with the disk looked at after it; `test_other_systems.py` runs this there."""

from __future__ import annotations

from pathlib import Path

import pytest

from frugal_sorter.cli import COMMANDS, UNLISTED
from frugal_sorter.platforms import slashed
from tests.conftest import IS_WINDOWS, Frugal, in_this_process
from tests.support import Seen, snapshot

# One name of the demo machine is none on Windows.
_MOVED = 131 if IS_WINDOWS else 132


@pytest.fixture(scope="module")
def read_only(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[bytes, Seen]]:
    """A demo machine that no command may change, in a folder of its own, and what is on it."""
    folder = slashed.Path(tmp_path_factory.mktemp("shared").resolve())
    in_this_process(["demo", "desk"], folder, {}, 0)
    return folder, snapshot(folder / "desk")


# Each command: words, what must be said, and whether it may change what is in the demo machine.
LINES: dict[str, list[tuple[tuple[str, ...], str, bool]]] = {
    "inventory": [(("desk",), "Also 22 subfolders", False), (("desk", "--by", "ext", "--format", "json"), '"rows"', False)],
    "compare": [(("desk", "desk/Intake"), "files", False)], "forecast": [(("desk",), "files", False)],
    "suggest": [(("desk/Intake",), "[[rule]]", False)], "check": [(("desk/rules.toml",), "no warnings", False)],
    "preview": [(("desk/rules.toml",), "This would move {} files", False)], "rules": [(("desk/rules.toml",), "Moulds", False)],
    "explain": [(("desk/Intake/README", "--rules", "desk/rules.toml"), "README", False)],
    "tidy": [(("desk/rules.toml", "--yes"), "{} files moved", True)],
    "sort": [(("desk/Intake", "--into", "{type}", "--yes"), "moved", True)],
    "purge": [(("desk/Intake", "--older-than", "20d", "--by", "modified", "--yes"), "to the trash", True)],
    "gather": [(("--list", "list.txt", "--from", "desk/Intake", "--to", "desk/Out", "--yes"), "copied", True)],
    "duplicates": [(("desk", "--do", "trash", "--keep", "oldest", "--yes"), "11 files moved to the trash", True)],
    "leftovers": [(("glaze-calculator",), "glaze", False)], "history": [((), "No runs yet", False)],
    "verify": [((), "no runs to verify", False)],
    "report": [((), "No files were moved", False)], "undo": [(("--yes",), "nothing to undo", False)], "trash": [((), "trash", False)],
    "watch": [(("desk/rules.toml", "--once"), "moved", True)],
    "schedule": [(("list",), "No schedules yet", False), (("add", "night", "--at", "daily 02:00", "--print", "--with", "windows", "--", "tidy", "desk/rules.toml"), "<Task", False)],
    "help": [(("rules",), "rule", False)], "completion": [(("powershell",), "Register-ArgumentCompleter", False)], "demo": [((), "End of the demo", False)],
    "words": [(("types",), "image", False)], "visit": [],
}  # fmt: skip
EXIT_CODES = {"compare": None, "undo": 2, "verify": 2, "leftovers": None, "schedule": None, "purge": None, "watch": None}


def test_every_command_is_in_the_table() -> None:
    assert set(LINES) == set(COMMANDS) | set(UNLISTED)


@pytest.mark.parametrize(
    ("command", "words", "told", "changes"), [(name, *line) for name, lines in LINES.items() for line in lines]
)
def test_a_command_does_what_it_says_and_nothing_else(
    read_only: tuple[Path, dict[bytes, Seen]],
    folder: Path,
    frugal: Frugal,
    command: str,
    words: tuple[str, ...],
    told: str,
    changes: bool,
) -> None:
    if changes:
        frugal("demo", "desk")
        (folder / "list.txt").write_text("scan005.TIFF\n", encoding="utf-8")
        before = snapshot(folder / "desk")
    else:
        folder, before = read_only
    desk = folder / "desk"
    done = in_this_process([command, *words], folder, {}, EXIT_CODES.get(command, 0))
    said = done.stdout + done.stderr
    assert told.format(_MOVED) in said and "Traceback" not in said and "\\desk" not in said, said
    assert (snapshot(desk) != before) is changes, said
    if changes:
        in_this_process(["undo", "--yes"], folder, {}, 0)
        assert snapshot(desk) == before
