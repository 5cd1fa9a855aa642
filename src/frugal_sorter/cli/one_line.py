"""What jobs without a rule file have in common: the folder, the rule that stands for the job, its plan."""

from __future__ import annotations

import argparse
from collections.abc import Mapping

from frugal_sorter.cli.options import command_line
from frugal_sorter.cli.output.text import shown
from frugal_sorter.cli.reading import read_where, require_libraries_of
from frugal_sorter.errors import UsageError
from frugal_sorter.rules.file.load import FORMAT
from frugal_sorter.rules.file.one_rule import Value, book_of_rule, rule_text
from frugal_sorter.rules.model import RuleBook

SAID_AS = {
    "where": "--where", "move": "--into", "other": "--other", "settle": "--settle", "clash": "--clash",
    "levels": "--levels", "take": "--take", "at_most": "--at-most",
}  # fmt: skip


def both_conditions(first: str, where: str | None) -> str:
    """Return two conditions as one; the second is what a person wrote, and is read by itself first.

    Raises:
        UsageError: it cannot be read.
    """
    if where is not None:
        read_where(where)
    parts = [part for part in (first, where) if part]
    return " and ".join(f"({part})" for part in parts) if len(parts) > 1 else (parts[0] if parts else "everything")


def levels_value(args: argparse.Namespace) -> Value:
    """Return `--levels` as a rule has it."""
    return "all" if args.levels is None else int(args.levels)


def print_as_rule(keys: Mapping[str, Value], folder: str) -> int:
    """Print the job as a rule to paste into a file.

    Raises:
        UsageError: the name of the folder is no text, which a rule file must be.
    """
    try:
        folder.encode("utf-8")
    except UnicodeEncodeError:
        raise UsageError(f"{shown(folder)}: this name cannot stand in a rule file", "use the command itself") from None
    name = keys["name"]
    print(f"frugal = {FORMAT}   # once, at the top of the file\n")
    print(rule_text({"name": name, "in": folder, **{key: value for key, value in keys.items() if key != "name"}}))
    return 0


def book_named(keys: Mapping[str, Value], folder: str) -> RuleBook:
    """Return the book of the rule that stands for a job.

    Raises:
        UsageError: what is wrong with it, as it is said on the command line.
    """
    book = book_of_rule(keys, folder, SAID_AS, command_line())
    require_libraries_of(book)
    return book
