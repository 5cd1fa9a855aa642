"""Writes the completion scripts of the program anew, from its parsers (shtab); a test compares them."""

from __future__ import annotations

import argparse
import importlib
from pathlib import Path
from typing import Any

import shtab

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.commands.words import kind_of
from frugal_sorter.cli.options import Parser

SCRIPTS = {"bash": "frugal.bash", "zsh": "_frugal", "fish": "frugal.fish"}
# What is completed by which words of `frugal words`.
_FILES = frozenset({"RULES", "PLAN", "FILE", "PATH"})
_FOLDERS = frozenset({"FOLDER", "DIR"})


def script(shell: str) -> str:
    """Return the script of a shell."""
    whole = Parser(prog="frugal", description="Sort, clean up and report on folders by rules you write.", allow_abbrev=False)
    commands = whole.add_subparsers(dest="command", metavar="COMMAND")
    for name, summary in COMMANDS.items():
        module = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
        one = commands.add_parser(name, help=summary.replace("%", "%%"), description=summary, allow_abbrev=False)
        module.add_arguments(one)
        _walk(one, name)
    text: str = shtab.complete(whole, shell)
    return f"{text.rstrip()}\n"


def _walk(parser: argparse.ArgumentParser, name: str) -> None:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in action.choices.values():
                _walk(inner, name)
        else:
            _complete(name, action)


def _complete(command: str, action: Any) -> None:
    """Say how an argument is completed."""
    metavar = action.metavar if isinstance(action.metavar, str) else ""
    if action.choices:
        return
    if kind := kind_of(command, action):
        action.complete = _words(kind)
    elif metavar in _FOLDERS:
        action.complete = shtab.DIRECTORY
    elif metavar in _FILES:
        action.complete = shtab.FILE


def _words(kind: str) -> dict[str, Any]:
    """Return how a shell completes by what `frugal words` prints, a line each; a name may hold anything but a line break."""
    # The name of an inventory and that of a rule file are two ways to say it, and a path is the other one.
    paths = kind in ("inventories", "books")
    bash = f"""_frugal_{kind}() {{
  local name typed="${{1//\\\\/}}"
  while IFS= read -r name; do
    [[ "$name" == "$typed"* ]] && printf '%q\\n' "$name"
  done < <(frugal words {kind} "${{COMP_WORDS[@]:1}}" 2>/dev/null)
{'  compgen -f -- "$1"' if paths else ""}
}}"""
    zsh = f"""_frugal_{kind}() {{
  local -a names
  names=("${{(@f)$(frugal words {kind} "${{(@)words}}" 2>/dev/null)}}")
  compadd -a names
{"  _files" if paths else ""}
}}"""
    return {
        "bash": f"_frugal_{kind}",
        "zsh": f"_frugal_{kind}",
        "fish": f"(frugal words {kind} (commandline -opc)[2..-1] 2>/dev/null)",
        "preamble": {"bash": bash, "zsh": zsh},
    }


if __name__ == "__main__":
    for shell, name in SCRIPTS.items():
        folder = Path(__file__).parent.parent / "src/frugal_sorter/cli/completion"
        (folder / name).write_text(script(shell))
