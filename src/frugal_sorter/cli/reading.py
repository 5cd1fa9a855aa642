"""What commands read before they begin: the moment, the rule file, a condition."""

from __future__ import annotations

import argparse
import importlib.util

from frugal_sorter.app.session import Session
from frugal_sorter.cli.options import rules_file
from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.types import TYPES
from frugal_sorter.rules.conditions.building import parse_condition
from frugal_sorter.rules.conditions.tree import Node
from frugal_sorter.rules.fields import FIELDS, Field
from frugal_sorter.rules.file.load import load_rules
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.units import parse_moment, parse_past


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


def read_book(args: argparse.Namespace) -> RuleBook:
    """Read the rule file that the arguments name, and see that the libraries it needs are there."""
    book = load_rules(rules_file(args))
    require_libraries_of(book)
    return book


def read_where(text: str) -> Node:
    """Read a condition from the command line.

    Raises:
        UsageError: it cannot be read, or needs a library that is not installed.
    """
    try:
        node = parse_condition(text, TYPES).node
    except InvalidValue as wrong:
        raise UsageError(f"--where: {wrong.message}", wrong.hint) from None
    _require("--where", {leaf.on for leaf in node.leaves()})
    return node


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
            raise UsageError(f"{what}: `{one.name}` needs a library", "pip install 'frugal-sorter[media]'")


def require_library(what: str, module: str, extra: str) -> None:
    """Refuse to go on without a library of an extra.

    Raises:
        UsageError: it is not installed; says how it is.
    """
    if importlib.util.find_spec(module) is None:
        raise UsageError(f"{what} needs a library", f"pip install 'frugal-sorter[{extra}]'")
