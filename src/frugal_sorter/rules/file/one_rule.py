"""A rule that was not written into a file: the text of it, and the book that it makes."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from frugal_sorter.errors import UsageError
from frugal_sorter.rules.file.load import FORMAT, read_rules
from frugal_sorter.rules.file.mistakes import Mistakes
from frugal_sorter.rules.model import RuleBook

Value = str | int | bool


def rule_text(keys: Mapping[str, Value]) -> str:
    """Return a rule as it stands in a file.

    Args:
        keys: its keys in order, and their values.
    """
    return "\n".join(["[[rule]]", *(f"{key} = {as_toml(value)}" for key, value in keys.items())])


def as_toml(value: Value) -> str:
    """Return a value as it stands in a rule file."""
    if isinstance(value, str):
        # Single quotes hold everything as it is; what they cannot hold is escaped as in JSON.
        plain = "'" not in value and value.isprintable()
        return f"'{value}'" if plain and ('"' in value or "\\" in value) else json.dumps(value, ensure_ascii=False)
    return json.dumps(value)


def quoted(text: str) -> str:
    """Return a text as a value of a condition."""
    doubled = text.replace('"', '""')
    return f'"{doubled}"'


def book_of_rule(keys: Mapping[str, Value], folder: str, said_as: Mapping[str, str], origin: str) -> RuleBook:
    """Return the book of one rule.

    Args:
        keys: of the rule, without `in`.
        folder: the folder that it acts in, absolute.
        said_as: by key, how it is said on the command line.
        origin: stands for the file that there is none of.

    Raises:
        UsageError: what is wrong, as it is said on the command line.
    """
    # The folder itself is not written down: its name may be no text at all.
    text = f"frugal = {FORMAT}\n{rule_text({'in': '.', **keys})}\n"
    try:
        book = read_rules(text.encode("utf-8", "surrogateescape"), Path(folder) / "rule.toml")
    except Mistakes as mistakes:
        first = next(iter(mistakes.all))
        key = list(keys)[first.line - 4] if 4 <= first.line < 4 + len(keys) else ""
        raise UsageError(f"{said_as.get(key, key or 'the rule')}: {first.message}", first.hint) from None
    return replace(book, file=origin)
