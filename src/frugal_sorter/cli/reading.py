"""How the values of options are read, and jobs in one line as rules."""

from __future__ import annotations

import argparse
import importlib.util
import sys
import tomllib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from frugal_sorter.app.session import Session
from frugal_sorter.cli.command import tell
from frugal_sorter.cli.options import add_where, command_line, levels, rules_file
from frugal_sorter.cli.output.text import moment_text, shown
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import TYPES
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.conditions import parse_condition
from frugal_sorter.rules.editing import Value, book_of_rule, rule_text_in, types_text
from frugal_sorter.rules.fields import FIELDS, Field
from frugal_sorter.rules.load import FORMAT, LARGEST_FILE, load_rules, raw_rules, read_rules
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.tree import Node
from frugal_sorter.rules.units import InvalidValue, parse_moment, parse_past
from frugal_sorter.state import decoded, read_input


def moment_of(as_of: str | None, session: Session, option: str = "--as-of") -> int:
    """Return the moment that a plan is to be seen from: now, or the one that `--as-of` names.

    Raises:
        UsageError: the moment makes no sense.
    """
    if as_of is None:
        return session.now_ns
    try:
        return parse_moment(as_of, session.now_ns)
    except InvalidValue as wrong:
        raise UsageError(f"{option}: {wrong.message}", wrong.hint) from None


def since(text: str, now_ns: int) -> int:
    """Return the moment that `--since` names.

    Raises:
        UsageError: it names none, or one to come.
    """
    try:
        return parse_past(text, now_ns)
    except InvalidValue as wrong:
        raise UsageError(f"--since: {wrong.message}", wrong.hint) from None


_STANDARD_INPUT = "-"


def add_on(parser: argparse.ArgumentParser) -> None:
    """Add `--on`."""
    parser.add_argument(
        "--on",
        metavar="INVENTORY",
        help="show what would happen on another machine, using a full inventory of it (`frugal inventory --save NAME --full`); "
        "or on many, using a folder of them",
    )


@contextmanager
def looking_on(args: argparse.Namespace) -> Iterator[tuple[Session, RuleBook]]:
    """Yield the session and the rules that the arguments name; with `--on` those of another machine, which stands for this one.

    Raises:
        UsageError, Mistakes: as `load_rules` does, or there is no such inventory.
    """
    session: Session = args.call.begin()
    if args.on is None:
        yield session, read_book(args)
        return
    from frugal_sorter.app.elsewhere import elsewhere
    from frugal_sorter.reports.saved import saved_path

    path = Path(args.on) if disk.isfile(args.on) else saved_path(args.on)
    raw, file = raw_rules_of(args)
    with elsewhere(path) as there:
        book = there.book(raw, file)
        require_libraries_of(book)
        machine, made_ns = there.machine, there.inventory.saved.made_ns
        tell(f"On {shown(machine.name)}, {shown(machine.folder)}, as it was on {moment_text(made_ns)}.")
        for missing in there.missing(book):
            tell(f"{missing}.")
        yield there.session(session), book


def read_book(args: argparse.Namespace) -> RuleBook:
    """Read the rule file that the arguments name, and check that the libraries it needs are there."""
    book = load_named(args)
    require_libraries_of(book)
    return book


def load_named(args: argparse.Namespace) -> RuleBook:
    """Read the rule file that the arguments name; `-` is standard input, whose folders are seen from the current one.

    Raises:
        UsageError, Mistakes: as `load_rules` does.
    """
    if str(args.rules) != _STANDARD_INPUT:
        return load_rules(rules_file(args))
    return read_rules(*raw_rules_of(args))


def raw_rules_of(args: argparse.Namespace) -> tuple[bytes, Path]:
    """Return the bytes of the rule file that the arguments name, and where it is."""
    if str(args.rules) != _STANDARD_INPUT:
        path = rules_file(args)
        return raw_rules(path), path
    raw = sys.stdin.buffer.read(LARGEST_FILE + 1)
    if len(raw) > LARGEST_FILE:
        raise UsageError("standard input is too large for a rule file", "name a file")
    return raw, Path(_STANDARD_INPUT).absolute()


def read_where(text: str) -> Node:
    """Read a condition from the command line; warnings about it go to the error stream.

    Raises:
        UsageError: it cannot be read, or needs a library that is not installed.
    """
    try:
        parsed = parse_condition(text, TYPES)
    except InvalidValue as wrong:
        raise UsageError(f"--where: {wrong.message}", wrong.hint) from None
    _require("--where", {leaf.on for leaf in parsed.node.leaves()})
    for warning in parsed.warnings:
        tell(f"--where: {warning}")
    return parsed.node


def require_libraries_of(book: RuleBook) -> None:
    """Refuse to go on without a library that the rules need.

    Raises:
        UsageError: it is not installed; says how it is.
    """
    needed = {leaf.on for rule in book.rules for leaf in rule.where.leaves()}
    needed |= {FIELDS[name] for rule in book.rules for name in rule.fields}
    _require(book.file, needed)


def _require(what: str, needed: set[Field]) -> None:
    for one in sorted(needed, key=lambda one: one.name):
        if one.library and importlib.util.find_spec(one.library) is None:
            raise UsageError(
                f"{what}: the field `{one.name}` needs an optional library",
                "pip install '.[media]' where frugal was installed from",
            )


def require_library(what: str, module: str, extra: str) -> None:
    """Refuse to go on without a library of an extra.

    Raises:
        UsageError: it is not installed; says how it is.
    """
    if importlib.util.find_spec(module) is None:
        raise UsageError(f"{what} needs an optional library", f"pip install '.[{extra}]' where frugal was installed from")


SAID_AS = {
    "where": "--where", "move": "--into", "other": "--other", "settle": "--settle", "clash": "--clash",
    "levels": "--levels", "take": "--take", "at_most": "--at-most", "types": "--types",
}  # fmt: skip


def both_conditions(first: str, where: str | None, types: str = "") -> str:
    """Return two conditions as one; the second is what a person wrote, and is read on its own first.

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


def add_job_of_rule(parser: argparse.ArgumentParser) -> None:
    """Add what every job in one line that stands for a rule takes: which files, how deep, and what happens around them."""
    parser.add_argument(
        "--levels",
        type=levels,
        default=1,
        metavar="N",
        help=("how many levels of folders to include: 1 is the folder itself (default), 2 adds its subfolders, ... or all"),
    )
    parser.add_argument("--hidden", action="store_true", help="include hidden files and folders")
    add_where(parser)
    add_types(parser)
    parser.add_argument("--prune", action="store_true", help="remove subfolders that this leaves empty")
    parser.add_argument("--as-rule", action="store_true", help="change nothing; print this job as a rule for a rule file")


def add_types(parser: argparse.ArgumentParser) -> None:
    """Add `--types`."""
    parser.add_argument(
        "--types",
        metavar="TYPES",
        default="",
        help="define your own types: 'documents = text + document', or name a rule file that has a [types] table",
    )


def own_types(args: argparse.Namespace) -> str:
    """Return `--types` as written in a rule file.

    Raises:
        UsageError: it cannot be read.
    """
    if not args.types:
        return ""
    try:
        if not disk.isfile(args.types):
            return types_text(args.types)
        tables = tomllib.loads(decoded(read_input(args.types, LARGEST_FILE)))
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
    """Return the book of the rule behind a job.

    Raises:
        UsageError: what is wrong with it, in the words of the command line.
    """
    book = book_of_rule(keys, folder, SAID_AS, command_line(), types)
    require_libraries_of(book)
    return book
