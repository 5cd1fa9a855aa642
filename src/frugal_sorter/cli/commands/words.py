"""`frugal words`: what a shell completes by; no person types it."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterable, Sequence

from frugal_sorter.cli import COMMANDS
from frugal_sorter.cli.options import parser_of, rules_file
from frugal_sorter.errors import FrugalError
from frugal_sorter.platforms.slashed import Path

EXAMPLES = """
  frugal words rules tidy front-desk.toml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("kind", choices=sorted(_WAYS), help="of what")
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


def _books(_: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.state import default_rules_file

    return sorted(one.stem for one in default_rules_file().parent.glob("*.toml") if one.name != "settings.toml")


def _inventories(_: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.reports.saved import SUFFIX
    from frugal_sorter.state import ready_state_folder

    folder = ready_state_folder() / "inventories"
    return ["now", *sorted(one.name.removesuffix(SUFFIX) for one in folder.glob(f"*{SUFFIX}"))]


def _ways(_: Sequence[str]) -> Iterable[str]:
    from frugal_sorter.reports.inventory import WAYS

    return list(WAYS)


def _line(line: Sequence[str]) -> Iterable[str]:
    """Complete any line, for shells that cannot themselves: `=` and what is typed of a word, then the words before it."""
    typed, before = line[0].removeprefix("="), line[1:]
    return [word for word in _known(typed, before) if word.startswith(typed)]


def _known(typed: str, before: Sequence[str]) -> Iterable[str]:
    if not before or before[0] not in COMMANDS:
        return COMMANDS
    parser: argparse.ArgumentParser = parser_of(before[0], "")
    for word in before[1:]:
        for action in parser._actions:
            if isinstance(action, argparse._SubParsersAction) and word in action.choices:
                parser = action.choices[word]
    if typed.startswith("-"):
        return parser._option_string_actions
    asked = parser._option_string_actions.get(before[-1])
    if asked is None or asked.nargs == 0:
        asked = next((action for action in parser._actions if not action.option_strings), None)
    if asked is None:
        return ()
    if asked.choices:
        return list(map(str, asked.choices))
    kind = kind_of(before[0], asked)
    return _WAYS[kind](before) if kind else ()


def kind_of(command: str, action: argparse.Action) -> str:
    """Return by which words an argument of a command is completed; empty for none of these."""
    of_any = {"--rule": "rules", "--types": "types", "RULES": "books", "[RULES]": "books"}
    of_command = {
        ("compare", "first"): "inventories",
        ("compare", "second"): "inventories",
        ("history", "run"): "runs",
        ("inventory", "by"): "ways",
        ("rules", "what"): "rules",
        ("schedule", "name"): "schedules",
        ("undo", "run"): "runs",
        ("verify", "run"): "runs",
    }
    named = (*action.option_strings, action.metavar if isinstance(action.metavar, str) else "")
    return of_command.get((command, action.dest)) or next((of_any[one] for one in named if one in of_any), "")


_WAYS: dict[str, Callable[[Sequence[str]], Iterable[str]]] = {
    "rules": _rules,
    "runs": _runs,
    "schedules": _schedules,
    "types": _types,
    "books": _books,
    "inventories": _inventories,
    "ways": _ways,
    "line": _line,
}
