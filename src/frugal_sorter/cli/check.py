"""`frugal check`: mistakes in a rule file, with their lines."""

from __future__ import annotations

import argparse
import os

from frugal_sorter.cli.options import add_rules, rules_file
from frugal_sorter.cli.text import count_text, shown
from frugal_sorter.rules.load import load_rules

EXAMPLES = """
  frugal check
  frugal check front-desk.toml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_rules(parser)


def run(args: argparse.Namespace) -> int:
    from frugal_sorter.cli.screen import Screen

    screen = Screen()
    path = rules_file(args)
    book = load_rules(path)
    warnings = list(book.warnings)
    for rule in book.rules:
        for folder in rule.folders:
            if not os.path.isdir(folder):
                warnings.append(f'{book.file}:{rule.line}: rule "{rule.name}": {folder} is not there now')
    for warning in warnings:
        screen.line(f"warning: {shown(warning)}", style="yellow")
    off = f", {len(book.off)} switched off" if book.off else ""
    warned = count_text(len(warnings), "warning") if warnings else "nothing to warn of"
    screen.line(f"{shown(book.file)}: {count_text(len(book.rules), 'rule')}{off}, no mistakes, {warned}.")
    return 0
