"""`frugal help`: the reference of the rule language and of each command, offline."""

from __future__ import annotations

import argparse
import sys

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.output.screen import in_pager
from frugal_sorter.cli.output.text import raw
from frugal_sorter.platforms.console import is_terminal
from frugal_sorter.rules.reference import MORE_TOPICS, TOPICS

EXAMPLES = """
  frugal help conditions
  frugal help placeholders
  frugal help exit-codes
  frugal help purge                         the same as frugal purge --help
  frugal help manual > frugal.1             the manual page, for man(1)
"""
_MANUAL = "manual"
_PIPED_WIDTH = 100


def add_arguments(parser: argparse.ArgumentParser) -> None:
    topics = [*TOPICS, *MORE_TOPICS, _MANUAL]
    parser.add_argument("topic", metavar="TOPIC", choices=[*topics, *COMMANDS], help=f"one of {', '.join(topics)}, or a command")


def run(args: argparse.Namespace) -> int:
    if args.topic == _MANUAL:
        from frugal_sorter.cli.manual import manual

        sys.stdout.write(manual())
        return 0
    if args.topic in COMMANDS and args.topic not in TOPICS:
        from frugal_sorter.cli.options import parser_of

        parser_of(args.topic, COMMANDS[args.topic]).print_help()
        return 0
    text = {**TOPICS, **MORE_TOPICS}[args.topic]()
    from rich.console import Console
    from rich.markdown import Markdown

    is_seen = is_terminal(sys.stdout)
    console = Console(file=raw(sys.stdout), width=None if is_seen else _PIPED_WIDTH)
    lines = ["".join(part.text for part in line).rstrip() for line in console.render_lines(Markdown(text), pad=False)]
    if not is_seen:
        print("\n".join(lines).strip("\n"))
    elif len(lines) > console.height:
        in_pager(lambda: print("\n".join(lines)))
    else:
        console.print(Markdown(text))
    return 0
