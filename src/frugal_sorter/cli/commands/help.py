"""`frugal help`: the reference of the rule language, offline."""

from __future__ import annotations

import argparse
import sys

from frugal_sorter.cli.output.printable import raw
from frugal_sorter.rules.reference import TOPICS

EXAMPLES = """
  frugal help conditions
  frugal help placeholders
  frugal help rules
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("topic", metavar="TOPIC", choices=TOPICS, help=f"one of {', '.join(TOPICS)}")


def run(args: argparse.Namespace) -> int:
    text = TOPICS[args.topic]()
    if not sys.stdout.isatty():
        sys.stdout.write(text)
        return 0
    from rich.console import Console
    from rich.markdown import Markdown

    Console(file=raw(sys.stdout)).print(Markdown(text))
    return 0
