"""A rule that was not written into a file: the text of it, and the book that it makes."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from frugal_sorter.errors import UsageError, printable
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.file.load import FORMAT, read_rules
from frugal_sorter.rules.file.mistakes import InvalidValue, Mistakes
from frugal_sorter.rules.file.places import expand
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.values import replace

Value = str | int | bool


def rule_text_in(folder: str, keys: Mapping[str, Value]) -> str:
    """Return a rule that acts in a folder as it stands in a file.

    Args:
        folder: absolute.
        keys: the other keys, `name` among them.

    Raises:
        UsageError: the folder cannot be written down.
    """
    refuse_unwritable(folder)
    return rule_text({"name": keys["name"], "in": folder, **{key: keys[key] for key in keys if key != "name"}})


def refuse_unwritable(folder: str) -> None:
    """Refuse a folder that a rule file cannot name: it is no text, or would be read as another one, for its `$`.

    Raises:
        UsageError: it is such a one.
    """
    try:
        folder.encode("utf-8")
        is_read_back = expand(folder, {}, "/") == folder
    except (UnicodeEncodeError, InvalidValue):
        is_read_back = False
    if not is_read_back:
        raise UsageError(f"{printable(folder)}: this name cannot stand in a rule file", "rename it first")


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


def types_text(text: str, tables: Mapping[str, Mapping[str, Any]] | None = None) -> str:
    """Return types of one's own as they stand in a rule file.

    Args:
        text: such as `documents = text + document` or `mould = stl, obj`, several with semicolons.
        tables: those of a file instead, of which `types` and `type-folders` count.

    Raises:
        InvalidValue: it cannot be read.
    """
    if tables is None:
        types: dict[str, Any] = {}
        for part in text.split(";"):
            name, equals, value = part.partition("=")
            if not equals or not name.strip() or not value.strip():
                raise InvalidValue(f"{part.strip()!r} is no type", "such as 'documents = text + document'")
            suffixes = [one.strip() for one in value.split(",") if one.strip()]
            types[name.strip()] = value.strip() if "+" in value else suffixes
        tables = {"types": types}
    lines = []
    for table in ("types", "type-folders"):
        if tables.get(table):
            lines += ["", f"[{table}]", *(f"{name} = {json.dumps(value)}" for name, value in tables[table].items())]
    return "\n".join(lines)


def book_of_rule(
    keys: Mapping[str, Value], folder: str, said_as: Mapping[str, str], origin: str, types: str = ""
) -> RuleBook:  # fmt: skip
    """Return the book of one rule.

    Args:
        keys: of the rule, without `in`.
        folder: the folder that it acts in, absolute.
        said_as: by key, how it is said on the command line.
        origin: stands for the file that there is none of.
        types: tables that follow the rule.

    Raises:
        UsageError: what is wrong, as it is said on the command line.
    """
    # The folder itself is not written down: its name may be no text at all.
    text = f"frugal = {FORMAT}\n{rule_text({'in': '.', **keys})}\n{types}\n"
    try:
        book = read_rules(text.encode("utf-8", "surrogateescape"), Path(folder) / "rule.toml")
    except Mistakes as mistakes:
        first = next(iter(mistakes.all))
        key = list(keys)[first.line - 4] if 4 <= first.line < 4 + len(keys) else "types" if types else ""
        raise UsageError(f"{said_as.get(key, key or 'the rule')}: {first.message}", first.hint) from None
    return replace(book, file=origin)
