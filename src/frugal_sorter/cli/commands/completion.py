"""`frugal completion`: a script that lets a shell complete commands, options, rule names and run numbers (shtab)."""

from __future__ import annotations

import argparse
from typing import Any

from frugal_sorter.cli.options import whole_parser
from frugal_sorter.cli.reading import require_library

SHELLS = ("bash", "zsh", "fish")
EXAMPLES = """
  frugal completion bash > ~/.local/share/bash-completion/completions/frugal
  frugal completion zsh > ~/.zfunc/_frugal              with ~/.zfunc in $fpath
  frugal completion fish > ~/.config/fish/completions/frugal.fish
"""
# What is completed by which words of `frugal words`.
_FILES = frozenset({"RULES", "PLAN", "FILE", "PATH"})
_FOLDERS = frozenset({"FOLDER", "DIR"})


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=SHELLS, help="for which shell")


def run(args: argparse.Namespace) -> int:
    require_library("completion", "shtab", "shell")
    import shtab

    print(shtab.complete(whole_parser(_complete), args.shell))
    return 0


def _complete(command: str, action: Any) -> None:
    """Say how an argument is completed."""
    import shtab

    metavar = action.metavar if isinstance(action.metavar, str) else ""
    if action.choices:
        return
    if "--rule" in action.option_strings:
        action.complete = _words("rules")
    elif "--types" in action.option_strings:
        action.complete = _words("types")
    elif action.dest == "run" and command in ("history", "undo"):
        action.complete = _words("runs")
    elif command == "schedule" and metavar == "NAME":
        action.complete = _words("schedules")
    elif command == "rules" and action.dest == "what":
        action.complete = _words("rules")
    elif metavar in _FOLDERS:
        action.complete = shtab.DIRECTORY
    elif metavar in _FILES:
        action.complete = shtab.FILE


def _words(kind: str) -> dict[str, Any]:
    """Return how a shell completes by what `frugal words` prints, a line each; a name may hold anything but a line break."""
    bash = f"""_frugal_{kind}() {{
  local name typed="${{1//\\\\/}}"
  while IFS= read -r name; do
    [[ "$name" == "$typed"* ]] && printf '%q\\n' "$name"
  done < <(frugal words {kind} "${{COMP_WORDS[@]:1}}" 2>/dev/null)
}}"""
    zsh = f"""_frugal_{kind}() {{
  local -a names
  names=("${{(@f)$(frugal words {kind} "${{(@)words}}" 2>/dev/null)}}")
  compadd -a names
}}"""
    return {
        "bash": f"_frugal_{kind}",
        "zsh": f"_frugal_{kind}",
        "fish": f"(frugal words {kind} (commandline -opc)[2..-1] 2>/dev/null)",
        "preamble": {"bash": bash, "zsh": zsh},
    }
