"""From a TOML file to a `RuleBook`: every mistake in one go, each with its line."""

from __future__ import annotations

import hashlib
import os
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any, cast

from frugal_sorter.errors import UsageError
from frugal_sorter.files.record import is_inside
from frugal_sorter.files.types import TYPE_OF_SUFFIX, TYPES
from frugal_sorter.files.volumes import is_on_mounted_volume
from frugal_sorter.rules.book import REMOVALS, Ending, Example, Extras, Rule, RuleBook
from frugal_sorter.rules.building import parse_condition
from frugal_sorter.rules.condition import Node, capture_kinds
from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.keys import CLASHES, KEYS, TAKES, TRASH
from frugal_sorter.rules.lists import read_list
from frugal_sorter.rules.mistakes import Mistake, Mistakes, Wrong, nearest, syntax_mistake
from frugal_sorter.rules.patterns import (
    EXTRAS,
    CaptureKind,
    Slot,
    Template,
    Wording,
    parse_template,
    parse_wording,
)  # fmt: skip
from frugal_sorter.rules.places import built_in_places, expand
from frugal_sorter.rules.positions import Path as KeyPath
from frugal_sorter.rules.positions import line_at, lines_of
from frugal_sorter.rules.trash_limits import WEEK, TrashLimits, refuse_dear
from frugal_sorter.rules.units import Duration, parse_duration, parse_hours, parse_size
from frugal_sorter.rules.values import count, levels, of_same, one_of, one_text, rule_name, texts, truth
from frugal_sorter.state.folders import others_can_write, refuse_writable_by_others

FORMAT = 1
LARGEST_FILE = 4_000_000
TOP_KEYS = ("frugal", "places", "types", "type-folders", "defaults", "trash", "rule")
TRASH_KEYS = tuple(TRASH)
RULE_KEYS = tuple(KEYS)
DEFAULT_KEYS = tuple(name for name, key in KEYS.items() if key.common)
EXAMPLE_KEYS = ("given", "becomes")
KEYS_SHOWN = {"move": "`move` or `rename`"}
_CONTROL = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]|\t")


def load_rules(path: Path) -> RuleBook:
    """Read a rule file.

    Raises:
        UsageError: there is no such file or it cannot be read.
        Mistakes: something in it is wrong; all of it is listed.
        StateError: root runs it and others could have written it.
    """
    try:
        raw = path.read_bytes() if path.stat().st_size <= LARGEST_FILE else None
    except OSError as error:
        raise UsageError(
            f"{path}: the rule file cannot be read ({(error.strerror or 'unknown error').lower()})",
            "name another one, or see `frugal demo FOLDER` for one to start from",
        ) from error
    if raw is None:
        raise UsageError(f"{path}: larger than {LARGEST_FILE:,} bytes", "a rule file is a short text")
    refuse_writable_by_others(path)
    return read_rules(raw, path)


def read_rules(raw: bytes, path: Path) -> RuleBook:
    """Read the bytes of a rule file; `path` is where its relative folders start from.

    Raises:
        Mistakes: something in it is wrong.
    """
    return _Loader(path, raw).load()


class _Loader:
    def __init__(self, path: Path, raw: bytes) -> None:
        self.file = str(path)
        self.beside = os.path.dirname(os.path.abspath(path))
        self.mistakes: list[Mistake] = []
        self.warnings: list[str] = []
        self.lists: list[str] = []
        self.mounted: list[str] = []
        self.table = self._read(raw)
        self.types: dict[str, str] = dict(TYPE_OF_SUFFIX)
        self.type_names: list[str] = list(TYPES)

    def _read(self, raw: bytes) -> dict[str, Any]:
        try:
            text = raw.decode("utf-8-sig").replace("\r\n", "\n")
        except UnicodeDecodeError as error:
            line = raw.count(b"\n", 0, error.start) + 1
            raise Mistakes([Mistake(self.file, line, "", "this is not UTF-8", "save the file as UTF-8")]) from None
        try:
            table = tomllib.loads(text)
        except (tomllib.TOMLDecodeError, RecursionError) as error:
            raise Mistakes([syntax_mistake(self.file, text, str(error))]) from None
        self.lines = lines_of(text)
        return table

    def load(self) -> RuleBook:
        self._control_characters(self.table, ())
        self._unknown_keys(self.table, TOP_KEYS, (), "")
        self._version()
        self.places = self._places()
        self._types()
        type_folders = self._type_folders()
        defaults = self._table("defaults")
        self._unknown_keys(defaults, DEFAULT_KEYS, ("defaults",), "")
        trash = self._trash()
        rules, off = self._rules(defaults)
        if self.mistakes:
            raise Mistakes(dict.fromkeys(self.mistakes))
        return RuleBook(
            self.file, tuple(rules), self.types, type_folders, tuple(self.warnings), tuple(off), tuple(self.lists),
            self._unmounted(rules), trash,
        )  # fmt: skip

    def _unmounted(self, rules: list[Rule]) -> frozenset[str]:
        """Return the folders of rules that are below a place whose volume is not mounted now."""
        away = [place for place in self.mounted if not is_on_mounted_volume(place)]
        used = [folder for rule in rules for folder in rule.folders]
        used += ["/" + "/".join(target.head) for rule in rules for target in rule.targets if target.absolute]
        return frozenset(folder for folder in used for place in away if is_inside(folder, place))

    # Places in the text

    def _wrong(self, path: KeyPath, what: str, instead: str, rule: str = "") -> None:
        self.mistakes.append(Mistake(self.file, line_at(self.lines, path), rule, what, instead))

    @contextmanager
    def _at(self, path: KeyPath, rule: str = "") -> Iterator[None]:
        try:
            yield
        except Wrong as first:
            for wrong in (first, *first.others):
                self._wrong(path, wrong.what, wrong.instead, rule)

    def _unknown_keys(self, table: Mapping[str, Any], known: tuple[str, ...], path: KeyPath, rule: str) -> None:
        for key in table:
            if key not in known:
                hint = nearest(key, known) or f"known are {', '.join(known)}"
                self._wrong((*path, key), f"there is no key `{key}`", hint, rule)

    def _control_characters(self, value: Any, path: KeyPath) -> None:
        if isinstance(value, dict):
            for key, inner in value.items():
                self._control_characters(inner, (*path, key))
        elif isinstance(value, list):
            for index, inner in enumerate(value):
                self._control_characters(inner, (*path, index))
        elif isinstance(value, str) and (match := _CONTROL.search(value)) and path[-1:] != ("where",):
            what = f'the value holds a control character ({match[0]!r}), as "C:\\new" does'
            self._wrong(path, what, "write '...' instead of \"...\", or / instead of \\", self._rule_name(path))

    def _rule_name(self, path: KeyPath) -> str:
        rules = self.table.get("rule")
        if len(path) > 1 and path[0] == "rule" and isinstance(rules, list) and isinstance(path[1], int):
            name = rules[path[1]].get("name") if isinstance(rules[path[1]], dict) else None
            return name if isinstance(name, str) else ""
        return ""

    # The tables before the rules

    def _version(self) -> None:
        version = self.table.get("frugal")
        if version is None:
            self._wrong((), "the format version is missing", f"the first line is `frugal = {FORMAT}`")
        elif version != FORMAT or isinstance(version, bool):
            self._wrong(("frugal",), f"this is format {version!r}", f"this version reads format {FORMAT}")

    def _table(self, name: str) -> dict[str, Any]:
        table = self.table.get(name, {})
        if isinstance(table, dict):
            return table
        self._wrong((name,), f"`{name}` must be a table", f"write [{name}] on a line of its own")
        return {}

    def _places(self) -> dict[str, str]:
        places = built_in_places()
        for name, value in self._table("places").items():
            path = ("places", name)
            if name in FIELDS or name in EXTRAS:
                self._wrong(path, f"{{{name}}} is a placeholder already", "give the place another name")
            elif isinstance(value, str) or _is_mounted_place(value):
                written, mounted = (
                    (value, False) if isinstance(value, str) else (value["path"], value.get("mounted", False))
                )
                with self._at(path):
                    places[name] = expand(written, places, self.beside)
                    if mounted:
                        self.mounted.append(places[name])
            else:
                hint = f'such as {name} = "~/Intake", or {{ path = "/srv/store", mounted = true }}'
                self._wrong(path, f"the place {name} must be a text", hint)
        return places

    def _types(self) -> None:
        for group, suffixes in self._table("types").items():
            path = ("types", group)
            if not re.fullmatch(r"[a-z][a-z0-9]*(-[a-z0-9]+)*", group):
                self._wrong(path, f'"{group}" is no name for a type', "use small letters, digits and hyphens")
            elif not isinstance(suffixes, list) or not all(isinstance(one, str) and one for one in suffixes):
                self._wrong(path, f"the type {group} must be a list of suffixes", f'such as {group} = ["stl", "obj"]')
            else:
                if group not in self.type_names:
                    self.type_names.append(group)
                self.types.update({suffix.removeprefix(".").lower(): group for suffix in suffixes})

    def _type_folders(self) -> dict[str, str]:
        folders = {}
        for group, folder in self._table("type-folders").items():
            path = ("type-folders", group)
            if group not in self.type_names:
                hint = nearest(group, self.type_names) or f"known are {', '.join(self.type_names)}"
                self._wrong(path, f"there is no type `{group}`", hint)
            elif not isinstance(folder, str) or not folder.strip() or "/" in folder:
                self._wrong(path, "a type folder is the name of one folder", f'such as {group} = "Photos"')
            else:
                folders[group] = folder
        return folders

    def _trash(self) -> TrashLimits | None:
        if "trash" not in self.table:
            return None
        table = self._table("trash")
        self._unknown_keys(table, TRASH_KEYS, ("trash",), "")
        if not any(key in table for key in ("older_than", "shrink_to", "where")):
            self._wrong(("trash",), "this says nothing of what leaves the trash", 'such as older_than = "30 days"')
        made: dict[str, Any] = {"keep": WEEK}
        for key, make in (
            ("older_than", lambda value: parse_duration(one_text(value))),
            ("shrink_to", lambda value: parse_size(one_text(value))),
            ("where", lambda value: refuse_dear(self._condition(value, "", ("trash", "where")))),
            ("keep", lambda value: parse_duration(one_text(value))),
            ("at_most", count),
        ):
            if key in table:
                with self._at(("trash", key)):
                    made[key] = make(table[key])
        return TrashLimits(**made)

    # The rules

    def _rules(self, defaults: Mapping[str, Any]) -> tuple[list[Rule], list[str]]:
        tables = self.table.get("rule", [])
        if not isinstance(tables, list) or not all(isinstance(one, dict) for one in tables):
            self._wrong(("rule",), "a rule must be a table of its own", "write [[rule]], with two brackets")
            return [], []
        if not tables and not self.mistakes:
            self._wrong((), "there is no rule in this file", "write [[rule]] and its keys below it")
        rules, off = [], []
        seen: dict[str, int] = {}
        for index, table in enumerate(tables):
            path = ("rule", index)
            before = len(self.mistakes)
            rule = self._rule(table, defaults, path)
            name = table.get("name")
            if isinstance(name, str) and name in seen:
                self._wrong((*path, "name"), f"another rule has this name (line {seen[name]})", "choose another", name)
            elif isinstance(name, str):
                seen[name] = line_at(self.lines, (*path, "name"))
            if rule is not None and len(self.mistakes) == before:
                if table.get("off", defaults.get("off", False)) is True:
                    off.append(rule.name)
                else:
                    rules.append(rule)
        return rules, off

    def _rule(self, table: dict[str, Any], defaults: Mapping[str, Any], path: KeyPath) -> Rule | None:
        name = table.get("name")
        shown = name if isinstance(name, str) else ""
        self._unknown_keys(table, RULE_KEYS, path, shown)
        self._required(table, path, shown)

        def read(key: str, make: Callable[[Any], Any], default: Any = None) -> Any:
            if key in table:
                where: KeyPath = (*path, key)
            elif key in defaults:
                where = ("defaults", key)
            else:
                return default
            with self._at(where, shown if key in table else ""):
                return make(table[key] if key in table else defaults[key])
            return default

        read("name", rule_name)
        folders = read("in", lambda value: tuple(expand(one, self.places, self.beside) for one in texts(value)), ())
        where_node = read("where", lambda value: self._condition(value, shown, (*path, "where")))
        read("off", truth, False)
        kinds = self._captures(where_node, shown, (*path, "where"))

        def target(value: Any) -> Template:
            return self._target(value, kinds)

        def wordings(value: Any) -> tuple[Wording, ...]:
            return tuple(parse_wording(one, self.places, kinds) for one in texts(value))

        rule = Rule(
            name=shown,
            line=line_at(self.lines, path),
            folders=tuple(dict.fromkeys(folders)),
            where=cast(Node, where_node),
            where_text=str(table.get("where")),
            levels=read("levels", levels, 1),
            hidden=read("hidden", truth, False),
            settle=read("settle", lambda value: parse_duration(one_text(value)), Duration(0, 0)),
            clash=read("clash", lambda value: one_of(value, CLASHES), "number"),
            move=read("move", target),
            rename=read(
                "rename", lambda value: parse_template(one_text(value), self.places, rename=True, captures=kinds)
            ),
            key=_digest({**defaults, **table}),
            take=read("take", lambda value: one_of(value, TAKES), "files"),
            during=read("during", lambda value: tuple(parse_hours(one) for one in texts(value)), ()),
            at_most=read("at_most", count),
            ask=read("ask", truth, False),
            kinds=kinds,
            examples=self._examples(table, path, shown),
            ending=self._ending(table, path, shown),
            pack=read("pack", lambda value: _zip_path(target(value))),
            unpack=read("unpack", target),
            extras=Extras(
                read("copy", target),
                read("link", target),
                read("tag", wordings, ()),
                read("untag", wordings, ()),
                read("comment", lambda value: parse_wording(one_text(value), self.places, kinds)),
                read("run", lambda value: _command(wordings(value) if isinstance(value, list) else ()), ()),
            ),
            prune=read("prune", truth, False),
            other=read("other", target),
            duplicates=read("duplicates", of_same),
        )
        self._fit(rule, table, path)
        return rule if where_node is not None else None

    def _ending(self, table: Mapping[str, Any], path: KeyPath, rule: str) -> Ending | None:
        """Return the one ending that a rule has, None where it has extras alone."""
        named = []
        for key in (name for name, one in KEYS.items() if one.ending and name in table):
            with self._at((*path, key), rule):
                if KEYS[key].schema.get("type") != "boolean" or truth(table[key]):
                    named.append("move" if key == "rename" else key)
        endings = list(dict.fromkeys(named))
        if len(endings) > 1:
            first, second = (KEYS_SHOWN.get(one, f"`{one}`") for one in endings[:2])
            self._wrong((*path, endings[1]), f"{second} does not go with {first}", "a rule has one ending", rule)
        misspelt = any(key not in RULE_KEYS for key in table)  # then that is said already
        if not endings and not misspelt and not any(KEYS[key].extra for key in table):
            known = ", ".join(name for name, one in KEYS.items() if one.ending and name != "leave")
            what = f"say what becomes of the entries: {known} or leave"
            self._wrong(path, "the rule has no ending", what, rule)
        return cast(Ending, endings[0]) if endings else None

    def _fit(self, rule: Rule, table: Mapping[str, Any], path: KeyPath) -> None:
        """Say which keys of a rule do not go together."""
        if rule.take == "items" and rule.levels != 1:
            self._wrong((*path, "take"), "items are the top level of a folder", "leave `levels` out", rule.name)
        if rule.extras.link is not None and rule.ending in REMOVALS:
            self._wrong(
                (*path, "link"), "a link does not go with a removal", "there would be nothing behind it", rule.name
            )
        if rule.other is not None and rule.move is None:
            self._wrong((*path, "other"), "`other` goes with `move` only", "say where the rest goes", rule.name)
        if rule.extras and rule.ending in ("leave", "duplicates"):
            extra = next(key for key in table if KEYS[key].extra)
            what = f"`{extra}` does not go with `{rule.ending}`"
            self._wrong((*path, extra), what, f"leave `{rule.ending}` out", rule.name)
        for ending, what in (("unpack", "only files are unpacked"), ("duplicates", "only files are compared")):
            if rule.ending == ending and rule.take != "files":
                self._wrong((*path, ending), what, 'leave `take` out, or say "files"', rule.name)
        for key, template in (("copy", rule.extras.copy), ("link", rule.extras.link), ("pack", rule.pack)):
            if template is not None and template.counts:
                self._wrong(
                    (*path, key), f"{{n}} cannot stand in `{key}`", "taken names are numbered anyway", rule.name
                )
        if rule.extras.run and others_can_write(self.file):
            what = "other accounts can write to this file, so that no program is run from it"
            self._wrong((*path, "run"), what, f"chmod go-w {self.file}", rule.name)

    def _required(self, table: Mapping[str, Any], path: KeyPath, rule: str) -> None:
        examples = {"name": 'name = "Photos by month"', "in": 'in = "~/Intake"', "where": 'where = "type is image"'}
        for key, example in examples.items():
            if key not in table:
                self._wrong(path, f"the key `{key}` is missing", f"such as {example}", rule)

    def _condition(self, value: Any, rule: str, path: KeyPath) -> Node:
        parsed = parse_condition(one_text(value), self.type_names, self._read_list)
        line = line_at(self.lines, path)
        self.warnings.extend(f'{self.file}:{line}: rule "{rule}": {warning}' for warning in parsed.warnings)
        return parsed.node

    def _captures(self, where: Node | None, rule: str, path: KeyPath) -> Mapping[str, CaptureKind]:
        kinds = capture_kinds(where) if where is not None else {}
        for name in kinds:
            if name in self.places:
                self._wrong(path, f"{{{name}}} is a place already", "give what is captured another name", rule)
        return kinds

    def _read_list(self, name: str) -> frozenset[str]:
        path = expand(name, self.places, self.beside)
        names = read_list(name, path)
        self.lists.append(os.path.realpath(path))
        return names

    def _target(self, value: Any, kinds: Mapping[str, CaptureKind]) -> Template:
        text = one_text(value)
        head, _, rest = text.partition("/")
        if head.startswith(("~", "$")):
            root = expand(head, self.places, self.beside)
            return parse_template(rest, self.places, root=root, captures=kinds)
        return parse_template(text, self.places, captures=kinds)

    def _examples(self, table: Mapping[str, Any], path: KeyPath, rule: str) -> tuple[Example, ...]:
        examples = []
        tables = table.get("example", [])
        if not isinstance(tables, list) or not all(isinstance(one, dict) for one in tables):
            self._wrong((*path, "example"), "an example must be a table of its own", "write [[rule.example]]", rule)
            return ()
        for index, one in enumerate(tables):
            here = (*path, "example", index)
            for key in one:
                if key in RULE_KEYS and key not in EXAMPLE_KEYS:
                    what = f"`{key}` is a key of the rule, but stands below [[rule.example]]"
                    self._wrong((*here, key), what, "move it up, above the examples", rule)
            self._unknown_keys({key: one[key] for key in one if key not in RULE_KEYS}, EXAMPLE_KEYS, here, rule)
            given, becomes = one.get("given"), one.get("becomes", False)
            if not isinstance(given, dict) or not isinstance(given.get("name"), str) or not given["name"]:
                self._wrong(here, "an example needs a name to begin with", 'such as given = { name = "a.log" }', rule)
            elif becomes is not False and not isinstance(becomes, str):
                self._wrong(here, "`becomes` is a path below `in`", "or false where the rule does not match", rule)
            else:
                examples.append(Example(line_at(self.lines, here), given, becomes or None))
        return tuple(examples)


def _is_mounted_place(value: Any) -> bool:
    return (
        isinstance(value, dict)
        and set(value) <= {"path", "mounted"}
        and isinstance(value.get("path"), str)
        and isinstance(value.get("mounted", False), bool)
    )


def _digest(table: Mapping[str, Any]) -> str:
    telling = {key: value for key, value in table.items() if key not in ("name", "off", "example")}
    return hashlib.blake2b(repr(sorted(telling.items())).encode("utf-8", "surrogatepass"), digest_size=12).hexdigest()


def _zip_path(template: Template) -> Template:
    if not template.text.lower().endswith(".zip"):
        raise Wrong(f'"{template.text}" is no path of a zip', 'such as "Packed/{modified:%Y-%m}.zip"')
    return template


def _command(words: tuple[Wording, ...]) -> tuple[Wording, ...]:
    if not words or not words[0].text.strip():
        raise Wrong("`run` is a list: the program, then its arguments", 'such as ["lp", "-d", "office", "{path}"]')
    if any(isinstance(part, Slot) for part in words[0].parts):
        raise Wrong("which program is run may not depend on a file", "write its name out")
    return words
