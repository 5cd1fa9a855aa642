"""Rules as text: a job in one line as a rule, and changes to a file that leave the rest of it as it is."""

from __future__ import annotations

import json
import re
import tomllib
from codecs import BOM_UTF16_BE, BOM_UTF16_LE
from collections.abc import Mapping, Sequence
from copy import deepcopy
from typing import Any, Literal

from frugal_sorter.errors import UsageError, printable
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.keys import expand
from frugal_sorter.rules.load import FORMAT, read_rules
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.rules.source import lines_of
from frugal_sorter.rules.units import InvalidValue, Mistakes, nearest
from frugal_sorter.values import replace

Value = str | int | bool


def rule_text_in(folder: str, keys: Mapping[str, Value]) -> str:
    """Return a rule that acts in a folder as written in a file.

    Args:
        folder: absolute.
        keys: the other keys, `name` among them.

    Raises:
        UsageError: the folder cannot be written down.
    """
    refuse_unwritable(folder)
    return rule_text({"name": keys["name"], "in": folder, **{key: keys[key] for key in keys if key != "name"}})


def refuse_unwritable(folder: str) -> None:
    """Refuse a folder that a rule file cannot name: it is not text, or would be read as another one, for its `$`.

    Raises:
        UsageError: it is.
    """
    try:
        folder.encode("utf-8")
        is_read_back = expand(folder, {}, "/") == folder
    except (UnicodeEncodeError, InvalidValue):
        is_read_back = False
    if not is_read_back:
        raise UsageError(f"a rule file cannot contain the name {printable(folder)}", "rename it first")


def rule_text(keys: Mapping[str, Value]) -> str:
    """Return a rule as written in a file.

    Args:
        keys: its keys in order, and their values.
    """
    return "\n".join(["[[rule]]", *(f"{key} = {as_toml(value)}" for key, value in keys.items())])


def as_toml(value: Value) -> str:
    """Return a value as written in a rule file."""
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
    """Return the user's own types as written in a rule file.

    Args:
        text: such as `documents = text + document` or `mould = stl, obj`, several with semicolons.
        tables: those of a file instead; only `types` and `type-folders` count.

    Raises:
        InvalidValue: it cannot be read.
    """
    if tables is None:
        types: dict[str, Any] = {}
        for part in text.split(";"):
            name, equals, value = part.partition("=")
            if not equals or not name.strip() or not value.strip():
                raise InvalidValue(f"unknown type {part.strip()!r}", "for example 'documents = text + document'")
            suffixes = [one.strip() for one in value.split(",") if one.strip()]
            types[name.strip()] = value.strip() if "+" in value else suffixes
        tables = {"types": types}
    lines = []
    for table in ("types", "type-folders"):
        if tables.get(table):
            lines += ["", f"[{table}]", *(f"{name} = {json.dumps(value)}" for name, value in tables[table].items())]
    return "\n".join(lines)


def book_of_rule(keys: Mapping[str, Value], folder: str, said_as: Mapping[str, str], origin: str, types: str = "") -> RuleBook:
    """Return the book of one rule.

    Args:
        keys: of the rule, without `in`.
        folder: the folder that it acts in, absolute.
        said_as: by key, its name on the command line.
        origin: used where there is no file.
        types: tables that follow the rule.

    Raises:
        UsageError: what is wrong, in the words of the command line.
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


Where = Literal["before", "after"]
_NAME = re.compile(r"(?P<indent>[ \t]*)name(?P<pad>[ \t]*)=")
_OFF = re.compile(r"(?P<head>[ \t]*off[ \t]*=[ \t]*)(?P<value>true|false)(?P<rest>.*)", re.DOTALL)


class RuleText:
    """A rule file as lines.

    Args:
        raw: its bytes, a valid rule file.

    Raises:
        UsageError: its rules are not written as tables of their own.
    """

    def __init__(self, raw: bytes) -> None:
        if raw[:2] in (BOM_UTF16_LE, BOM_UTF16_BE):
            raise UsageError("the rule file is in UTF-16, which frugal reads but does not write", "save it as UTF-8")
        text = raw.decode("utf-8")
        self._lines = text.split("\n")
        plain = text.removeprefix("\ufeff").replace("\r\n", "\n")
        self._table: dict[str, Any] = tomllib.loads(plain)
        self._keys = lines_of(plain)
        # As in the lines that are there, or of the file where it has only one.
        self._end = "\r" if self._lines[0].endswith("\r") else ""
        rules = self._table.get("rule", [])
        if any(("rule", at) not in self._keys for at in range(len(rules))):
            raise UsageError("the rules are not written as [[rule]] tables", "change this file by hand")

    @property
    def names(self) -> list[str]:
        """The names of all rules, in order, those that are off too."""
        return [str(rule.get("name", "")) for rule in self._table.get("rule", [])]

    def switched(self, name: str, on: bool) -> bytes:
        """Return the file with a rule switched on or off.

        Raises:
            UsageError: there is no such rule, or it is so already.
        """
        at = self._find(name)
        rule = self._table["rule"][at]
        is_off_by_default = bool(self._table.get("defaults", {}).get("off", False))
        if bool(rule.get("off", is_off_by_default)) is not on:
            raise UsageError(f"{name}: this rule is {'on' if on else 'off'} already", "`frugal rules` shows all")
        lines, wanted = list(self._lines), deepcopy(self._table)
        key = self._keys.get(("rule", at, "off"))
        if key is not None:
            match = _OFF.fullmatch(lines[key - 1])
            if match is None:
                raise UsageError(f"line {key}: this line cannot be changed safely", "change it by hand")
            if on and not is_off_by_default and not match["rest"].strip():
                del lines[key - 1]
                del wanted["rule"][at]["off"]
            else:
                lines[key - 1] = f"{match['head']}{'false' if on else 'true'}{match['rest']}"
                wanted["rule"][at]["off"] = not on
        else:
            line = self._keys[("rule", at, "name")]
            match = _NAME.match(lines[line - 1])
            indent, pad = (match["indent"], match["pad"]) if match else ("", " ")
            # Under its neighbour, so that the signs are below each other.
            pad = pad[:-1] + "  " if len(pad) > 1 else " "
            lines.insert(line, f"{indent}off{pad}= {'false' if on else 'true'}{self._end}")
            wanted["rule"][at]["off"] = not on
        return self._checked(lines, wanted)

    def moved(self, name: str, where: Where, other: str) -> bytes:
        """Return the file with a rule before or after another one.

        Raises:
            UsageError: there is no such rule, or it is there already.
        """
        at, beside = self._find(name), self._find(other)
        if at == beside:
            raise UsageError(f"{name}: this is the same rule", "name another one")
        order = [one for one in range(len(self.names)) if one != at]
        order.insert(order.index(beside) + (where == "after"), at)
        if order == sorted(order):
            raise UsageError(f"{name} is already {where} {other}", "`frugal rules` shows all")
        spans = self._spans()
        blocks = {one: self._lines[begin:end] for one, (begin, end) in enumerate(spans)}
        # What is between two rules, such as another table, stays where it is.
        lines, last = [], 0
        for place, (begin, end) in enumerate(spans):
            lines += self._lines[last:begin]
            block = blocks[order[place]]
            lines += block if order[place] == place else _ended(block, self._end, end == len(self._lines))
            last = end
        wanted = deepcopy(self._table)
        wanted["rule"] = [self._table["rule"][one] for one in order]
        return self._checked([*lines, *self._lines[last:]], wanted)

    def added(self, texts: Sequence[str], first: bool) -> bytes:
        """Return the file with rules added.

        Args:
            texts: each as written in a file; a name that there is gets a number.
            first: above all others, where they decide before them; else below.
        """
        names, wanted = set(map(fold, self.names)), deepcopy(self._table)
        new: list[str] = []
        rules: list[Any] = []
        for text in texts:
            (rule,) = tomllib.loads(text)["rule"]
            name, number = str(rule["name"]), 2
            while fold(rule["name"]) in names:
                rule["name"], number = f"{name} ({number})", number + 1
            names.add(fold(rule["name"]))
            lines = text.split("\n")
            at = lines_of(text)["rule", 0, "name"] - 1
            lines[at] = f"name = {as_toml(rule['name'])}"
            rules.append(rule)
            new += [line + self._end for line in [*lines, ""]]
        spans = self._spans()
        lines = list(self._lines)
        if first and spans:
            lines[spans[0][0] : spans[0][0]] = new
            wanted["rule"] = [*rules, *wanted.get("rule", [])]
        else:
            while lines and not lines[-1].strip():
                lines.pop()
            lines = [*lines, self._end, *new[:-1], ""]
            if lines[: len(self._lines)] and not self._lines[-1].endswith(self._end):
                lines[len(lines) - len(new) - 2] += self._end
            wanted["rule"] = [*wanted.get("rule", []), *rules]
        return self._checked(lines, wanted)

    def _find(self, name: str) -> int:
        """Return which rule has a name, or that number, from 1."""
        names = self.names
        for at, known in enumerate(names):
            if fold(known) == fold(name):
                return at
        if name.isascii() and name.isdigit() and 0 < int(name) <= len(names):
            return int(name) - 1
        raise UsageError(f"unknown rule {name!r}", nearest(name, names) or "`frugal rules` lists them")

    def _spans(self) -> list[tuple[int, int]]:
        """Return for each rule its lines, from 0: with the comment right above it, and all up to the next table."""
        found: list[tuple[int, int]] = []
        starts = sorted({line for path, line in self._keys.items() if path[0] == "rule" and len(path) == 2})
        others = sorted(line for path, line in self._keys.items() if path[0] != "rule")
        for at, start in enumerate(starts):
            following = [line for line in (*starts[at + 1 : at + 2], *others) if line > start]
            end = self._head(min(following) - 1) if following else len(self._lines)
            found.append((self._head(start - 1), end))
        return found

    def _head(self, at: int) -> int:
        """Return where the comment begins that is right above a line, both from 0."""
        while at > 0 and self._lines[at - 1].lstrip().startswith("#"):
            at -= 1
        # What the file says of itself at its top belongs to no table.
        return at

    def _checked(self, lines: Sequence[str], wanted: dict[str, Any]) -> bytes:
        text = "\n".join(lines)
        try:
            found = tomllib.loads(text.removeprefix("\ufeff").replace("\r\n", "\n"))
        except ValueError:
            found = {}
        if found != wanted:
            raise UsageError("the layout of this file is too unusual to edit automatically", "change it by hand")
        return text.encode("utf-8")


def _ended(lines: Sequence[str], end: str, is_last: bool) -> list[str]:
    """Return the lines of a rule with an empty one below it, unless it is the last of the file."""
    found = list(lines)
    while not found[-1].strip():
        found.pop()
    found[-1] = found[-1].removesuffix("\r") + end
    return [*found, "" if is_last else end]
