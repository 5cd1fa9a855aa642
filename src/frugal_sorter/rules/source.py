"""The text of a rule file: its lines, the line of each key, the short form of everyday rules, and lists of names."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any, Literal

from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.units import InvalidValue, Mistake, Mistakes, nearest, syntax_mistake
from frugal_sorter.state import decoded, read_input
from frugal_sorter.values import frozen

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

    Keys of inline tables are not listed: they are where the table begins. The tables of an
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


_CONTROL = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]|\t")


class Source:
    """A rule file that is being read.

    Args:
        file: its name.
        raw: its bytes.

    Raises:
        Mistakes: it is not TOML.
    """

    def __init__(self, file: str, raw: bytes) -> None:
        self.file = file
        self.mistakes: list[Mistake] = []
        try:
            self.table = self._read(raw)
            self._control_characters(self.table, ())
        except RecursionError:
            raise Mistakes([Mistake(file, 1, "", "tables are nested too deeply", "a rule file is a short text")]) from None

    def _read(self, raw: bytes) -> dict[str, Any]:
        try:
            text = decoded(raw).replace("\r\n", "\n")
        except UnicodeDecodeError as error:
            line = raw.count(b"\n", 0, error.start) + 1
            raise Mistakes([Mistake(self.file, line, "", "this is not UTF-8", "save the file as UTF-8")]) from None
        try:
            table = tomllib.loads(text)
        except ValueError as error:  # also for a number of thousands of digits
            raise Mistakes([syntax_mistake(self.file, text, str(error))]) from None
        self._lines = lines_of(text)
        return table

    def table_of(self, name: str) -> dict[str, Any]:
        """Return a table of the file, empty where it is none."""
        table = self.table.get(name, {})
        if isinstance(table, dict):
            return table
        self.wrong((name,), f"`{name}` must be a table", f"write [{name}] on a line of its own")
        return {}

    def line(self, path: KeyPath) -> int:
        """Return the line of a key."""
        return line_at(self._lines, path)

    def wrong(self, path: KeyPath, message: str, hint: str, rule: str = "") -> None:
        """Add that something is wrong at a key, and what to write instead."""
        self.mistakes.append(Mistake(self.file, self.line(path), rule, message, hint))

    @contextmanager
    def at(self, path: KeyPath, rule: str = "") -> Iterator[None]:
        """Add what is wrong with the value of a key that is read in the block."""
        try:
            yield
        except InvalidValue as first:
            for wrong in (first, *first.others):
                self.wrong(path, wrong.message, wrong.hint, rule)

    def unknown_keys(self, table: Iterable[str], known: tuple[str, ...], path: KeyPath, rule: str = "") -> None:
        """Add which keys of a table do not exist."""
        for key in table:
            if key not in known:
                hint = meant(key, "key", known) or f"choose from {', '.join(known)}"
                self.wrong((*path, key), f"unknown key `{key}`", hint, rule)

    def _control_characters(self, value: Any, path: KeyPath) -> None:
        if isinstance(value, dict):
            for key, inner in value.items():
                self._control_characters(inner, (*path, key))
        elif isinstance(value, list):
            for index, inner in enumerate(value):
                self._control_characters(inner, (*path, index))
        elif isinstance(value, str) and (match := _CONTROL.search(value)) and path[-1:] != ("where",):
            what = f'the value holds a control character ({match[0]!r}), as "C:\\new" does'
            self.wrong(path, what, "write '...' instead of \"...\", or / instead of \\", self._rule_name(path))

    def _rule_name(self, path: KeyPath) -> str:
        rules = self.table.get("rule")
        if len(path) > 1 and path[0] == "rule" and isinstance(rules, list) and isinstance(path[1], int):
            name = rules[path[1]].get("name") if isinstance(rules[path[1]], dict) else None
            return name if isinstance(name, str) else ""
        return ""


@frozen
class Keys:
    """The keys of a rule or, where it has none, those of the defaults.

    Args:
        source: the file.
        table: the rule.
        defaults: what holds for all rules.
        path: where the rule is.
        rule: its name.
    """

    source: Source
    table: Mapping[str, Any]
    defaults: Mapping[str, Any]
    path: KeyPath
    rule: str

    def read(self, key: str, make: Callable[[Any], Any], default: Any = None) -> Any:
        """Return what is made of the value of a key; the default where there is none or something is wrong with it."""
        if key in self.table:
            with self.source.at((*self.path, key), self.rule):
                return make(self.table[key])
        elif key in self.defaults:
            with self.source.at(("defaults", key)):
                return make(self.defaults[key])
        return default


Of = Literal["field", "operator", "key", "type", "placeholder"]

_AGE = "`modified older than 30 days` tells its age"
_FIELDS = {
    "extension extensions suffix filetype format": "use `ext is pdf`",
    "kind category sort": "use `type`, for example `type is image`",
    "age days date time timestamp mtime changed edited updated written": _AGE,
    "filename file title_of names": "use `name has kiln`",
    "year month": "use `modified on 2026-11`",
    "basename": "use `stem is kiln`",
    "directory dir subfolder parent": "use `folder is Intake`",
    "filesize length bytes mb gb kb": "use `size > 10 MB`",
    "accessed atime used read lastused last_access": "use `opened older than 30 days`",
    "birth born ctime creation creationdate": "use `created older than 30 days`",
    "added downloaded received came": "use `arrived older than 30 days`",
    "url website downloaded_from link": 'use `origin has "example.org"`',
    "tags label labels": "use `tag is keep`",
    "user account owned": "use `owner is maren`",
    "content contents body words": 'use `text has "kiln"`',
    "duplicate duplicates copy copies": "use `copy-named`, or use `duplicates` as the action of a rule",
    "locked protected write-protected": "use `readonly`",
    "open opened-by busy used-by": "use `in use`",
    "recursive recurse subfolders": 'that is a key of the rule: levels = "all"',
    "any anything all always every true": "use `everything`",
    "photo photos picture pictures image images": "use `type is image`",
    "movie movies film films video videos clip": "use `type is video`",
    "music song songs sound audio": "use `type is audio`",
    "pdf zip jpg jpeg png docx xlsx csv txt mp3 mp4": "use `ext is pdf`, and `ext in (zip, pdf)` for several",
    "older newer": _AGE,
}
_OPERATORS = {
    "contains contain includes include containing": "use `has`",
    "begins startswith starting beginswith": "use `starts`",
    "endswith ending": "use `ends`",
    "equals equal == === eq are": "use `is`",
    "!= <> ne isnt isn't differs": "use `is not`",
    "greater bigger larger more over above gt": "use `>`",
    "less smaller lower under below lt fewer": "use `<`",
    "newer younger since recent": "use `within`",
    "older": "use `older than`",
    "today": "use `within`, for example `modified within 1 day`",
    "yesterday": "use `within`, for example `modified within 2 days`",
    "file files folder folders": 'which entries are meant is a key of the rule: take = "folders"; an empty one is `empty`',
    "regex regexp =~ ~ ~=": "use `matches`",
    "glob wildcard wildcards": "use `like`",
    "fit": "use `fits`",
    "excludes without lacks": "use `not name has ...`",
}
_KEYS = {
    "recursive recurse subfolders deep depth": 'use levels = "all"',
    "confirm prompt interactive": "use ask = true",
    "folder folders from source path paths dir directory location watch": 'use in = "~/Intake"',
    "to target destination dest into move_to output": 'use move = "Logs"',
    "if when filter filters condition conditions match contains extension extensions kind age days pattern older_than size": (
        'use where = "ext is log and modified older than 30 days"'
    ),
    "title label description id": "use name",
    "action actions do then": "write what to do with the files: move, trash, delete, pack, leave, ...",
    "remove purge erase recycle": "use trash = true, or delete = true to delete permanently",
    "schedule hours time times at": 'use during = "mon-fri 08:00-18:00"',
    "include_hidden dotfiles": "use hidden = true",
    "conflict on_conflict exists if_exists collision": 'use clash = "number"',
    "overwrite replace": 'use clash = "replace"',
    "dry_run simulate preview test_only": "use `frugal preview`, which changes nothing",
    "keep_newest keep_last retain retention": 'use keep = "newest 5"',
    "by sort_by group_by sort_into": 'use move = "{type}"',
    "wait delay cooldown": 'use settle = "10 minutes"',
    "limit max max_files maximum": "use at_most = 100",
    "enabled disabled active enable disable": "use off = true to switch a rule off",
    "archive zip compress": 'use pack = "Old/{ext}.zip"',
    "extract unzip decompress": 'use unpack = "{stem}"',
    "dedupe duplicate dedup": 'use duplicates = {keep = "oldest", do = "trash"}',
    "command exec execute script shell program": 'use run = ["program", "{path}"]',
    "test tests examples": "use [[rule.example]]",
    "ignore skip exclude except exception": "use leave = true in a rule above",
    "tags": 'use tag = "seen"',
    "cleanup remove_empty": "use prune = true",
}
_TYPES = {
    "photo photos picture pictures images img": "use `type is image`",
    "movie movies film films clip clips videos": "use `type is video`",
    "music song songs sound sounds": "use `type is audio`",
    "pdf zip jpg jpeg png docx xlsx csv txt mp3 mp4 doc xls log": "`type` is a group; use `ext is pdf`",
    "documents doc word office": "use `type is document`",
    "excel table tables spreadsheets sheet": "use `type is spreadsheet`",
    "archives compressed zipped": "use `type is archive`",
    "app application apps software setup": "use `type is installer`, or program",
    "download downloads unfinished": "use `type is partial`",
    "folder folders directory": 'that is a key of the rule: take = "folders"',
    "file files": 'a rule takes files unless it says take = "folders"',
    "book books": "use `type is ebook`",
    "presentations slides powerpoint": "use `type is presentation`",
    "script scripts source": "use `type is code`",
    "email emails message": "use `type is mail`",
    "temp tmp": "use `type is temporary`",
}
_PLACEHOLDERS = {
    "year yyyy yr": "use {modified:%Y}",
    "month mm": "use {modified:%m}, or {modified:%Y-%m}",
    "day dd": "use {modified:%d}, or {modified:%Y-%m-%d}",
    "date today now time timestamp": "use {modified:%Y-%m-%d}",
    "extension suffix filetype": "use {ext}",
    "filename file": "use {name}, or {stem} without the extension",
    "basename title_of": "use {stem}",
    "kind category": "use {type}",
    "counter count number index i num": "use {n}, or {n:03}",
    "directory dir parent": "use {folder}",
    "account username": "use {user}",
    "host hostname computer": "use {machine}",
    "letter first": "use {initial}",
}


def _by_word(table: Mapping[str, str]) -> Mapping[str, str]:
    return {word: hint for words, hint in table.items() for word in words.split()}


_ALL: Mapping[Of, Mapping[str, str]] = {
    "field": _by_word(_FIELDS),
    "operator": _by_word(_OPERATORS),
    "key": _by_word(_KEYS),
    "type": _by_word(_TYPES),
    "placeholder": _by_word(_PLACEHOLDERS),
}


def meant(word: str, of: Of, known: Iterable[str]) -> str:
    """Return what somebody who wrote a word probably means: by everyday words, then by the spelling; or an empty text."""
    return _ALL[of].get(word.strip().lower(), "") or nearest(word, known)


def everyday_words(of: Of) -> Mapping[str, str]:
    """Return the everyday words for one kind of thing, each with what to write instead."""
    return _ALL[of]


LARGEST_LIST = 50_000_000


def read_list(name: str, path: str) -> frozenset[str]:
    """Return the folded paths that a list holds.

    Args:
        name: the list as written, for mistakes.
        path: where it is.

    Raises:
        InvalidValue: it cannot be read.
    """
    try:
        text = decoded(read_input(path, LARGEST_LIST))
    except OSError as error:
        raise InvalidValue(
            f'the list "{name}" cannot be read ({(error.strerror or "").lower()})', ("list files must be next to the rule file")
        ) from None
    except UnicodeDecodeError:
        raise InvalidValue(f'the list "{name}" is not UTF-8', "save it as UTF-8") from None
    lines = (line.strip() for line in text.splitlines())
    named = (line.replace("\\", "/").removeprefix("./") for line in lines if line and not line.startswith("#"))
    return frozenset(map(fold, named))
