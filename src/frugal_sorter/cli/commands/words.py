"""`frugal words`: what a shell completes by; no person types it."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Sequence

from frugal_sorter.cli.options import rules_file
from frugal_sorter.errors import FrugalError
from frugal_sorter.platforms.slashed import Path

KINDS = ("rules", "runs", "schedules", "types")
EXAMPLES = """
  frugal words rules tidy front-desk.toml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("kind", choices=KINDS, help="of what")
    parser.add_argument("line", metavar="WORD", nargs=argparse.REMAINDER, help="what is typed so far")


def run(args: argparse.Namespace) -> int:
    try:
        found = _WAYS[args.kind](args.line)
    except (FrugalError, OSError):
        # In the middle of a line nobody wants to read what is wrong.
        return 0
    for word in found:
        if word.isprintable():
            print(word)
    return 0


def _rules(line: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.rules.load import load_rules

    named = [Path(word) for word in line[1:] if word.endswith(".toml") or _is_known(word)]
    book = load_rules(rules_file(argparse.Namespace(rules=named[0] if named else None)))
    return [rule.name for rule in sorted((*book.rules, *book.off), key=lambda rule: rule.line)]


def _is_known(word: str) -> bool:
    from frugal_sorter.state import default_rules_file

    return word.isidentifier() and default_rules_file().with_name(f"{word}.toml").is_file()


def _runs(_: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.journal.journal import Journal
    from frugal_sorter.state import ready_state_folder

    with Journal(ready_state_folder(), write=False) as journal:
        return [str(run) for run in reversed(journal.numbers())]


def _schedules(_: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.schedule.scheduler import Remembered
    from frugal_sorter.state import ready_state_folder

    return Remembered(ready_state_folder()).names()


def _types(_: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.filesystem.record import TYPES

    return list(TYPES)


_WAYS = {"rules": _rules, "runs": _runs, "schedules": _schedules, "types": _types}
