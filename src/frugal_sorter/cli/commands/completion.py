"""`frugal completion`: a script that lets a shell complete commands, options, rule names and run numbers."""

from __future__ import annotations

import argparse
import sys
from importlib import resources

# docs/make_completion.py makes those of the first three from the parsers.
_SCRIPTS = {"bash": "frugal.bash", "zsh": "_frugal", "fish": "frugal.fish", "powershell": "frugal.ps1"}
EXAMPLES = """
  frugal completion bash > ~/.local/share/bash-completion/completions/frugal
  frugal completion zsh > ~/.zfunc/_frugal              with ~/.zfunc in $fpath
  frugal completion fish > ~/.config/fish/completions/frugal.fish
  frugal completion powershell >> $PROFILE
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=list(_SCRIPTS), help="for which shell")


def run(args: argparse.Namespace) -> int:
    script = resources.files("frugal_sorter.cli") / "completion" / _SCRIPTS[args.shell]
    sys.stdout.write(script.read_text("utf-8"))
    return 0
