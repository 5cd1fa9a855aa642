"""Which line of a TOML text a key stands on; tomllib reads values but keeps no positions."""

from __future__ import annotations

import re

KeyPath = tuple[str | int, ...]

_KEY = re.compile(r"""\s*(?:"((?:[^"\\]|\\.)*)"|'([^']*)'|([A-Za-z0-9_-]+))\s*(\.)?""")
_BLANK = re.compile(r"(?:[ \t\r\n]+|#[^\n]*)*")
_STRINGS = re.compile(
    r'"""(?:[^\\]|\\.)*?"{3,5}'
    r"|'''.*?'{3,5}"
    r'|"(?:[^"\\\n]|\\.)*"'
    r"|'[^'\n]*'"
    r"|#[^\n]*|[\[\]{}]|\n|[^\"'#\[\]{}\n]+",
    re.DOTALL,
)


def lines_of(text: str) -> dict[KeyPath, int]:
    """Return the line, from 1, of every table header and key of a well-formed TOML 1.0 text.

    Keys of inline tables are not listed: they stand where the table begins. The tables of an
    array are numbered from 0: `("rule", 0, "name")`.
    """
    found: dict[KeyPath, int] = {}
    counts: dict[KeyPath, int] = {}
    table: KeyPath = ()
    at = counted = 0
    line = 1
    while True:
        at = _skip(_BLANK, text, at)
        if at >= len(text):
            return found
        line += text.count("\n", counted, at)
        counted = at
        if text[at] == "[":
            array = text.startswith("[[", at)
            names, at = _names(text, at + (2 if array else 1))
            table = _resolve(names, counts, array)
            found.setdefault(table, line)
            at = text.index("]", at) + (2 if array else 1)
            continue
        names, at = _names(text, at)
        found.setdefault((*table, *names), line)
        at = _after_value(text, at + 1)


def line_at(lines: dict[KeyPath, int], path: KeyPath) -> int:
    """Return the line of a key, or of the nearest table around it."""
    for length in range(len(path), 0, -1):
        if path[:length] in lines:
            return lines[path[:length]]
    return 1


def _skip(pattern: re.Pattern[str], text: str, at: int) -> int:
    match = pattern.match(text, at)
    return match.end() if match else at


def _names(text: str, at: int) -> tuple[tuple[str, ...], int]:
    names = []
    while match := _KEY.match(text, at):
        names.append(next(name for name in match.groups()[:3] if name is not None))
        at = match.end()
        if not match[4]:
            break
    return tuple(names), at


def _resolve(names: tuple[str, ...], counts: dict[KeyPath, int], array: bool) -> KeyPath:
    """Return the path of a header, with the number of the current table of each array in it."""
    path: KeyPath = ()
    for index, name in enumerate(names):
        path = (*path, name)
        last = index == len(names) - 1
        if array and last:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path


def _after_value(text: str, at: int) -> int:
    depth = 0
    while match := _STRINGS.match(text, at):
        token = match[0]
        if token == "\n" and depth == 0:
            return at
        depth += (token in "[{") - (token in "]}") if len(token) == 1 else 0
        at = match.end()
    return len(text)
