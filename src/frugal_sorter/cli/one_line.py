"""What jobs without a rule file have in common: the folder, the rule that stands for the job, its plan."""

from __future__ import annotations

import argparse
import tomllib
from collections.abc import Mapping

from frugal_sorter.cli.options import command_line
from frugal_sorter.cli.output.text import shown
from frugal_sorter.cli.reading import read_where, require_libraries_of
from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import disk
from frugal_sorter.rules.file.load import FORMAT, LARGEST_FILE
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.rules.file.one_rule import Value, book_of_rule, rule_text_in, types_text
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.state.inputs import read_input

SAID_AS = {
    "where": "--where", "move": "--into", "other": "--other", "settle": "--settle", "clash": "--clash",
    "levels": "--levels", "take": "--take", "at_most": "--at-most", "types": "--types",
}  # fmt: skip


def both_conditions(first: str, where: str | None, types: str = "") -> str:
    """Return two conditions as one; the second is what a person wrote, and is read by itself first.

    Raises:
        UsageError: it cannot be read.
    """
    if where is not None and not types:
        # One on types of their own is read with them.
        read_where(where)
    parts = [part for part in (first, where) if part]
    return " and ".join(f"({part})" for part in parts) if len(parts) > 1 else (parts[0] if parts else "everything")


def levels_value(args: argparse.Namespace) -> Value:
    """Return `--levels` as a rule has it."""
    return "all" if args.levels is None else int(args.levels)


def add_types(parser: argparse.ArgumentParser) -> None:
    """Add `--types`."""
    parser.add_argument(
        "--types", metavar="TYPES", default="",
        help="types of your own: 'documents = text + document', or a file with a table [types]",
    )  # fmt: skip


def own_types(args: argparse.Namespace) -> str:
    """Return `--types` as it stands in a rule file.

    Raises:
        UsageError: it cannot be read.
    """
    if not args.types:
        return ""
    try:
        if not disk.isfile(args.types):
            return types_text(args.types)
        tables = tomllib.loads(read_input(args.types, LARGEST_FILE).decode("utf-8-sig"))
    except (OSError, ValueError) as error:
        raise UsageError(f"--types: {shown(args.types)} cannot be read ({error})", "see `frugal help rules`") from None
    except InvalidValue as wrong:
        raise UsageError(f"--types: {wrong.message}", wrong.hint) from None
    text = types_text("", {name: value for name, value in tables.items() if isinstance(value, dict)})
    if not text:
        raise UsageError(f"--types: there is no table [types] in {shown(args.types)}", "name another file")
    return text


def print_as_rule(keys: Mapping[str, Value], folder: str, types: str = "") -> int:
    """Print the job as a rule to paste into a file.

    Raises:
        UsageError: the folder cannot be written down.
    """
    text = rule_text_in(folder, keys)
    print(f"frugal = {FORMAT}   # once, at the top of the file\n")
    print(text)
    if types:
        print(types)
    return 0


def book_named(keys: Mapping[str, Value], folder: str, types: str = "") -> RuleBook:
    """Return the book of the rule that stands for a job.

    Raises:
        UsageError: what is wrong with it, as it is said on the command line.
    """
    book = book_of_rule(keys, folder, SAID_AS, command_line(), types)
    require_libraries_of(book)
    return book
