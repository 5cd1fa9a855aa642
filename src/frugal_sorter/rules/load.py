"""Reading the rules of a file: the values of its keys, and what they mean together."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any, cast

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, TYPES, is_inside
from frugal_sorter.filesystem.volumes import is_on_mounted_volume
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.rules.conditions import parse_condition
from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.keys import (
    CLASHES,
    DEFAULT_KEEP,
    DOS,
    INVENTORY,
    KEEPS,
    KEYS,
    REMOVALS,
    SAVES,
    TAKES,
    TRASH,
    Do,
    Ending,
    Keep,
    Places,
    expand,
)
from frugal_sorter.rules.model import WEEK, DuplicatePolicy, Example, Extras, Rule, RuleBook, TrashLimits, refuse_expensive
from frugal_sorter.rules.source import KeyPath, Keys, Source, read_list
from frugal_sorter.rules.templates import EXTRAS, CaptureKind, Slot, Template, Wording, parse_template, parse_wording
from frugal_sorter.rules.tree import Node, capture_kinds
from frugal_sorter.rules.units import (
    Duration,
    Hours,
    InvalidValue,
    Mistakes,
    Promise,
    nearest,
    parse_duration,
    parse_hours,
    parse_moment,
    parse_promise,
    parse_size,
)
from frugal_sorter.state import distrusted, read_input, refuse_distrusted


def one_text(value: Any) -> str:
    """Return a text."""
    if not isinstance(value, str):
        raise InvalidValue(f"the value must be a text, not {value!r}", "put it in quotes")
    return value


def rule_name(value: Any) -> str:
    """Return the name of a rule."""
    text = one_text(value)
    if not text.strip():
        raise InvalidValue("the name is empty", "describe what the rule does; every preview shows the name")
    return text


def texts(value: Any) -> list[str]:
    """Return a text or a list of texts as a list."""
    values = value if isinstance(value, list) else [value]
    if not values:
        raise InvalidValue("the list is empty", "name a folder")
    return [one_text(one) for one in values]


def truth(value: Any) -> bool:
    """Return true or false."""
    if not isinstance(value, bool):
        raise InvalidValue(f"the value must be true or false, not {value!r}", "write it without quotes")
    return value


def levels(value: Any) -> int | None:
    """Return a number of levels, None for all."""
    if value == "all":
        return None
    if isinstance(value, bool) or not isinstance(value, int) or value < 1:
        raise InvalidValue(f"{value!r} is not a number of levels", 'use 1 for the folder itself, a higher number, or "all"')
    return value


def one_of(value: Any, known: tuple[str, ...]) -> str:
    """Return one of some words."""
    text = one_text(value)
    if text not in known:
        raise InvalidValue(f'"{text}" is not allowed here', nearest(text, known) or f"choose from {', '.join(known)}")
    return text


def count(value: Any) -> int:
    """Return a number of entries."""
    if isinstance(value, bool) or not isinstance(value, int) or value < 0:
        raise InvalidValue(f"{value!r} is not a whole number", "write it without quotes, such as 500")
    return value


def of_same(value: Any) -> DuplicatePolicy:
    """Return what becomes of files that hold the same."""
    example = 'for example duplicates = {keep = "oldest", do = "trash"}'
    if not isinstance(value, dict) or "do" not in value:
        raise InvalidValue("write what to do with files that have the same contents", example)
    for key in value:
        if key not in ("keep", "do"):
            raise InvalidValue(f"unknown key `{key}` in it", nearest(key, ("keep", "do")) or example)
    keep = tuple(one_of(one, KEEPS) for one in texts(value["keep"])) if "keep" in value else DEFAULT_KEEP
    return DuplicatePolicy(cast("tuple[Keep, ...]", keep), cast(Do, one_of(value["do"], DOS)))


class Readers:
    """Reads the values of one rule; each raises `InvalidValue` where one does not fit.

    Args:
        places: the folders with a name.
        beside: the folder of the rule file.
        condition: reads a condition.
        captures: the names that the condition captures, by what they hold.
    """

    def __init__(self, places: Mapping[str, str], beside: str, condition: Callable[[Any], Node]) -> None:
        self._places, self._beside = places, beside
        self.condition = condition
        self.captures: Mapping[str, CaptureKind] = {}

    name = staticmethod(rule_name)
    truth = staticmethod(truth)
    levels = staticmethod(levels)
    count = staticmethod(count)
    duplicates = staticmethod(of_same)

    def folders(self, value: Any) -> tuple[str, ...]:
        """Return folders, with places and `~` filled in."""
        return tuple(expand(one, self._places, self._beside) for one in texts(value))

    def take(self, value: Any) -> str:
        """Return what is taken as one entry."""
        return one_of(value, TAKES)

    def clash(self, value: Any) -> str:
        """Return what happens where a name is taken."""
        return one_of(value, CLASHES)

    def size(self, value: Any) -> int:
        """Return a number of bytes."""
        return parse_size(one_text(value))

    def saves(self, value: Any) -> int:
        """Return after how many days an inventory is due."""
        return SAVES[one_of(value, tuple(SAVES))]

    def of_trash(self, value: Any) -> Node:
        """Return a condition on what is in the trash."""
        return refuse_expensive(self.condition(value))

    def duration(self, value: Any) -> Duration:
        """Return a length of time."""
        return parse_duration(one_text(value))

    def hours(self, value: Any) -> tuple[Hours, ...]:
        """Return times of the week."""
        return tuple(parse_hours(one) for one in texts(value))

    def target(self, value: Any) -> Template:
        """Return the template of a folder."""
        text = one_text(value)
        head, _, rest = text.partition("/")
        if head.startswith(("~", "$")):
            root = expand(head, self._places, self._beside)
            return parse_template(rest, self._places, root=root, captures=self.captures)
        return parse_template(text, self._places, captures=self.captures)

    def new_name(self, value: Any) -> Template:
        """Return the template of a name."""
        return parse_template(one_text(value), self._places, rename=True, captures=self.captures)

    def zip_path(self, value: Any) -> Template:
        """Return the template of the path of a zip."""
        template = self.target(value)
        if not template.text.lower().endswith(".zip"):
            raise InvalidValue(f'"{template.text}" is not a path to a zip file', 'for example "Packed/{modified:%Y-%m}.zip"')
        return template

    def wording(self, value: Any) -> Wording:
        """Return a text with placeholders."""
        return parse_wording(one_text(value), self._places, self.captures)

    def promises(self, value: Any) -> tuple[Promise, ...]:
        """Return what is kept."""
        return tuple(map(parse_promise, texts(value)))

    def dated(self, value: Any) -> str:
        """Return the name of a date: of a field, or of what the condition captures."""
        name = one_text(value)
        if self.captures.get(name) != "date" and (name not in FIELDS or FIELDS[name].kind != "date"):
            known = [*(one.name for one in FIELDS.values() if one.kind == "date"), *self.captures]
            raise InvalidValue(f"`{name}` is not a date", nearest(name, known) or f"choose from {', '.join(known)}")
        return name

    def wordings(self, value: Any) -> tuple[Wording, ...]:
        """Return one or several texts with placeholders."""
        return tuple(parse_wording(one, self._places, self.captures) for one in texts(value))

    def command(self, value: Any) -> tuple[Wording, ...]:
        """Return a program and its arguments."""
        words = self.wordings(value) if isinstance(value, list) else ()
        if not words or not words[0].text.strip():
            raise InvalidValue("`run` is a list: the program, then its arguments", 'for example ["lp", "-d", "office", "{path}"]')
        if any(isinstance(part, Slot) for part in words[0].parts):
            raise InvalidValue("the program in `run` cannot come from a placeholder", "write the program's name")
        return words


_SHOWN = {"move": "`move` or `rename`"}


def ending_of(source: Source, table: Mapping[str, Any], path: KeyPath, rule: str) -> Ending | None:
    """Return the one ending that a rule has, None where it has extras alone."""
    named = []
    for key in (name for name, one in KEYS.items() if one.ending and name in table):
        with source.at((*path, key), rule):
            if KEYS[key].schema.get("type") != "boolean" or truth(table[key]):
                named.append("move" if key == "rename" else key)
    endings = list(dict.fromkeys(named))
    if len(endings) > 1:
        first, second = (_SHOWN.get(one, f"`{one}`") for one in endings[:2])
        source.wrong((*path, endings[1]), f"{second} cannot be combined with {first}", "a rule has exactly one action", rule)
    misspelt = any(key not in KEYS for key in table)  # then that is said already
    if not endings and not misspelt and not any(KEYS[key].extra for key in table):
        known = ", ".join(name for name, one in KEYS.items() if one.ending and name != "leave")
        what = f"add one of: {known} or leave"
        source.wrong(path, "the rule has no action", what, rule)
    return cast(Ending, endings[0]) if endings else None


def refuse_unfit(source: Source, rule: Rule, table: Mapping[str, Any], path: KeyPath) -> None:
    """Add which keys of a rule do not go together."""
    if rule.take == "items" and rule.levels != 1:
        source.wrong((*path, "take"), '`take = "items"` always works on the top level', "remove `levels`", rule.name)
    if rule.extras.retag and (rule.extras.tag or rule.extras.untag):
        other = "tag" if rule.extras.tag else "untag"
        source.wrong(
            (*path, "retag"),
            f"`retag` cannot be combined with `{other}`",
            ("`retag` already sets the complete list of tags"),
            rule.name,
        )
    if rule.extras.link is not None and rule.ending in REMOVALS:
        source.wrong(
            (*path, "link"), "`link` cannot be combined with removing the file", "the link would point to nothing", rule.name
        )
    for key, one in KEYS.items():
        needed, hint = one.needs
        if key in table and needed and needed not in table:
            source.wrong((*path, key), f"`{key}` needs `{needed}`", hint, rule.name)
        if one.only_files and rule.ending == key and rule.take != "files":
            source.wrong((*path, key), one.only_files, 'remove `take`, or use "files"', rule.name)
        template = getattr(rule.extras if one.extra else rule, key, None)
        if one.numbered and template is not None and template.counts:
            source.wrong(
                (*path, key),
                f"{{n}} is not allowed in `{key}`",
                ("remove {n}; frugal numbers taken names automatically"),
                rule.name,
            )
    if rule.keep and rule.ending not in ("move", "trash", "delete", "pack"):
        source.wrong((*path, "keep"), "`keep` needs an action for what is not kept", "add trash, delete, move or pack", rule.name)
    if rule.extras and rule.ending in ("leave", "duplicates"):
        extra = next(key for key in table if KEYS[key].extra)
        what = f"`{extra}` cannot be combined with `{rule.ending}`"
        source.wrong((*path, extra), what, f"remove `{rule.ending}`", rule.name)
    if rule.extras.run and (who := distrusted(source.file)):
        what = f"other accounts can change this rule file, so `run` is not allowed in it: {who}"
        source.wrong((*path, "run"), what, "chmod go-w what is named", rule.name)


FORMAT = 1
LARGEST_FILE = 4_000_000
SYSTEMS = ("linux", "macos", "windows")
TOP_KEYS = ("frugal", "for", "log", "places", "types", "type-folders", "defaults", "trash", "inventory", "rule")
RULE_KEYS = tuple(KEYS)
DEFAULT_KEYS = tuple(name for name, key in KEYS.items() if key.common)
EXAMPLE_KEYS = ("given", "becomes", "does", "tags", "when")


def load_rules(path: Path) -> RuleBook:
    """Read a rule file.

    Raises:
        UsageError: there is no such file or it cannot be read.
        Mistakes: something in it is wrong; all of it is listed.
        StateError: root runs it and others could have written it.
    """
    return read_rules(raw_rules(path), path)


def raw_rules(path: Path) -> bytes:
    """Return the bytes of a rule file.

    Raises:
        UsageError, StateError: as `load_rules`.
    """
    try:
        return read_input(path, LARGEST_FILE, lambda _: refuse_distrusted(path))
    except OSError as error:
        raise UsageError(
            f"{path}: the rule file cannot be read ({(error.strerror or 'unknown error').lower()})",
            "name another one, or see `frugal demo FOLDER` for one to start from",
        ) from error


def read_rules(raw: bytes, path: Path, beside: str = "") -> RuleBook:
    """Read the bytes of a rule file.

    Args:
        raw: the bytes.
        path: of the file.
        beside: the folder that relative folders are below; empty for the one of the file.

    Raises:
        Mistakes: something in it is wrong.
    """
    return _Loader(path, raw, beside).load()


class _Loader:
    def __init__(self, path: Path, raw: bytes, beside: str) -> None:
        self.source = Source(str(path), raw)
        self.beside = beside or os.path.dirname(slashed.abspath(path))
        self.warnings: list[str] = []
        self.lists: list[str] = []
        self.mounted: list[str] = []
        self.types: dict[str, str] = dict(TYPE_OF_SUFFIX)
        self.type_names: list[str] = list(TYPES)

    def load(self) -> RuleBook:
        self.source.unknown_keys(self.source.table, TOP_KEYS, ())
        self._version()
        self.places = self._places()
        self._types()
        type_folders = self._type_folders()
        defaults = self.source.table_of("defaults")
        self.source.unknown_keys(defaults, DEFAULT_KEYS, ("defaults",))
        trash = self._trash()
        rules, off = self._rules(defaults)
        saves = self._inventory(rules)
        log = self._log()
        systems = self._systems()
        if self.source.mistakes:
            raise Mistakes(dict.fromkeys(self.source.mistakes))
        return RuleBook(
            self.source.file,
            tuple(rules),
            self.types,
            type_folders,
            tuple(self.warnings),
            tuple(off),
            tuple(self.lists),
            self._unmounted(rules),
            trash,
            log,
            systems,
            *saves,
        )

    def _unmounted(self, rules: list[Rule]) -> dict[str, str]:
        """Return the folders of rules that are below a place whose volume is not mounted now."""
        away = [place for place in self.mounted if not is_on_mounted_volume(place)]
        used = [folder for rule in rules for folder in rule.folders]
        used += [slashed.join(target.top, *target.head) for rule in rules for target in rule.targets if target.absolute]
        return {folder: "is not mounted" for folder in used for place in away if is_inside(folder, place)}

    # The tables before the rules

    def _version(self) -> None:
        version = self.source.table.get("frugal")
        if version is None:
            self.source.wrong((), "the format version is missing", f"start the file with `frugal = {FORMAT}`")
        elif version != FORMAT or isinstance(version, bool):
            self.source.wrong(("frugal",), f"this is format {version!r}", f"this version reads format {FORMAT}")

    def _systems(self) -> tuple[str, ...]:
        """Return the systems that the file is written for; empty for the one that it is read on."""
        systems = self.source.table.get("for", [])
        if not isinstance(systems, list) or not set(map(str, systems)) <= set(SYSTEMS):
            self.source.wrong(("for",), "not a list of systems", f"for example for = {[*SYSTEMS]}".replace("'", '"'))
            return ()
        return tuple(map(str, systems))

    def _log(self) -> str:
        """Return the log for the owner of the machine; empty for none."""
        log = self.source.table.get("log")
        if log is None:
            return ""
        with self.source.at(("log",)):
            return expand(one_text(log), self.places, self.beside)
        return ""

    def _places(self) -> Places:
        places = Places()
        for name, value in self.source.table_of("places").items():
            path = ("places", name)
            if name in FIELDS or name in EXTRAS:
                self.source.wrong(path, f"{{{name}}} is a placeholder already", "give the place another name")
            elif isinstance(value, str) or _is_mounted_place(value):
                written, mounted = (value, False) if isinstance(value, str) else (value["path"], value.get("mounted", False))
                with self.source.at(path):
                    places[name] = expand(written, places, self.beside)
                    if mounted:
                        self.mounted.append(places[name])
            else:
                hint = f'for example {name} = "~/Intake", or {{ path = "/srv/store", mounted = true }}'
                self.source.wrong(path, f"the place {name} must be a text", hint)
        return places

    def _types(self) -> None:
        for group, suffixes in self.source.table_of("types").items():
            path = ("types", group)
            if not re.fullmatch(r"[a-z][a-z0-9]*(-[a-z0-9]+)*", group):
                self.source.wrong(path, f'"{group}" is not a valid type name', "use lowercase letters, digits and hyphens")
            elif isinstance(suffixes, str) and "+" in suffixes:
                with self.source.at(path):
                    self._union(group, suffixes)
            elif not isinstance(suffixes, list) or not all(isinstance(one, str) and one for one in suffixes):
                hint = f'for example {group} = ["stl", "obj"], or {group} = "text + document" for types together'
                self.source.wrong(path, f"the type {group} must be a list of extensions", hint)
            else:
                if group not in self.type_names:
                    self.type_names.append(group)
                self.types.update({suffix.removeprefix(".").lower(): group for suffix in suffixes})

    def _union(self, group: str, text: str) -> None:
        """Put all suffixes of some types into one, which is then their only type.

        Raises:
            InvalidValue: there is no such type.
        """
        names = [name.strip() for name in text.split("+")]
        for name in names:
            if name not in self.type_names or name == group:
                known = [one for one in self.type_names if one != group]
                raise InvalidValue(f"unknown type `{name}`", nearest(name, known) or f"choose from {', '.join(known)}")
        for suffix, name in list(self.types.items()):
            if name in names:
                self.types[suffix] = group
        # A condition on one of these would never be true: it is reported as a type that does not exist.
        self.type_names = [*(one for one in self.type_names if one not in names), group]

    def _type_folders(self) -> dict[str, str]:
        folders = {}
        for group, folder in self.source.table_of("type-folders").items():
            path = ("type-folders", group)
            if group not in self.type_names:
                hint = nearest(group, self.type_names) or f"choose from {', '.join(self.type_names)}"
                self.source.wrong(path, f"unknown type `{group}`", hint)
            elif not isinstance(folder, str) or not all(part.strip(" .") for part in folder.split("/")):
                what = "a type folder must be a relative path"
                self.source.wrong(path, what, f'for example {group} = "Photos" or {group} = "Media/Photos"')
            else:
                folders[group] = folder
        return folders

    def _trash(self) -> tuple[TrashLimits, ...]:
        """Read `[trash]`, or each of several `[[trash]]`."""
        tables = self.source.table.get("trash", [])
        if not isinstance(tables, list):
            return (self._limits(self.source.table_of("trash"), ("trash",)),)
        if not all(isinstance(one, dict) for one in tables):
            self.source.wrong(("trash",), "`trash` must be a table", "write [trash] on a line of its own")
            return ()
        return tuple(self._limits(table, ("trash", at)) for at, table in enumerate(tables))

    def _limits(self, table: Mapping[str, Any], path: KeyPath) -> TrashLimits:
        self.source.unknown_keys(table, tuple(TRASH), path)
        if not any(key.ending for name, key in TRASH.items() if name in table):
            self.source.wrong(path, "[trash] has no limit", 'for example older_than = "30 days"')
        made: dict[str, Any] = {"keep": WEEK, "line": self.source.line(path)}
        readers = Readers(self.places, self.beside, lambda value: self._condition(value, "", (*path, "where")))
        for name, key in TRASH.items():
            if name in table:
                with self.source.at((*path, name)):
                    made[name] = getattr(readers, key.reader)(table[name])
        return TrashLimits(**made)

    def _inventory(self, rules: Sequence[Rule]) -> tuple[int, tuple[str, ...]]:
        """Read `[inventory]`: how often one is due, in days, and the folders that it covers."""
        table, path = self.source.table_of("inventory"), ("inventory",)
        if "inventory" not in self.source.table:
            return 0, ()
        self.source.unknown_keys(table, tuple(INVENTORY), path)
        readers = Readers(self.places, self.beside, lambda value: self._condition(value, "", path))
        made: dict[str, Any] = {"save": 0, "in": tuple(dict.fromkeys(folder for rule in rules for folder in rule.folders))}
        if "save" not in table:
            self.source.wrong(path, "the key `save` is missing", 'for example save = "weekly"')
        for name, key in INVENTORY.items():
            if name in table:
                with self.source.at((*path, name)):
                    made[name] = getattr(readers, key.reader)(table[name])
        if made["save"] and not made["in"] and not self.source.mistakes:
            self.source.wrong(path, "no folder is named", 'add in = ["~/Intake"]')
        return made["save"], made["in"]

    # The rules

    def _rules(self, defaults: Mapping[str, Any]) -> tuple[list[Rule], list[Rule]]:
        tables = self.source.table.get("rule", [])
        if not isinstance(tables, list) or not all(isinstance(one, dict) for one in tables):
            self.source.wrong(("rule",), "each rule must be its own table", "write [[rule]], with two brackets")
            return [], []
        if not tables and not {"trash", "inventory"} & self.source.table.keys() and not self.source.mistakes:
            self.source.wrong((), "this file contains no rules", "write [[rule]] and its keys below it")
        rules, off = [], []
        seen: dict[str, int] = {}
        for index, table in enumerate(tables):
            path = ("rule", index)
            before = len(self.source.mistakes)
            rule = self._rule(table, defaults, path)
            name = table.get("name")
            if isinstance(name, str) and name in seen:
                self.source.wrong((*path, "name"), f"the rule on line {seen[name]} already has this name", "choose another", name)
            elif isinstance(name, str):
                seen[name] = self.source.line((*path, "name"))
            if rule is not None and len(self.source.mistakes) == before:
                if table.get("off", defaults.get("off", False)) is True:
                    off.append(rule)
                else:
                    rules.append(rule)
        return rules, off

    def _rule(self, table: dict[str, Any], defaults: Mapping[str, Any], path: KeyPath) -> Rule | None:
        name = table.get("name")
        shown = name if isinstance(name, str) else ""
        self.source.unknown_keys(table, RULE_KEYS, path, shown)
        self._required(table, path, shown)

        readers = Readers(self.places, self.beside, lambda value: self._condition(value, shown, (*path, "where")))
        keys, values = Keys(self.source, table, defaults, path, shown), dict[str, Any]()
        for key, one in KEYS.items():
            if one.reader:
                values[key] = keys.read(key, getattr(readers, one.reader), one.value)
            if key == "where":
                # What it captures can be used in the keys below.
                readers.captures = self._captures(values[key], shown, (*path, key))
        extras = Extras(*(values.pop(key) for key, one in KEYS.items() if one.extra))
        where, folders = values.pop("where"), values.pop("in")
        values.pop("off")
        rule = Rule(
            **{**values, "name": shown},
            line=self.source.line(path),
            folders=tuple(dict.fromkeys(folders)),
            where=where,
            where_text=str(table.get("where")),
            key=_digest({**defaults, **table}),
            kinds=readers.captures,
            examples=self._examples(table, path, shown),
            ending=ending_of(self.source, table, path, shown),
            extras=extras,
        )
        refuse_unfit(self.source, rule, table, path)
        return rule if where is not None else None

    def _required(self, table: Mapping[str, Any], path: KeyPath, rule: str) -> None:
        examples = {"name": 'name = "Photos by month"', "in": 'in = "~/Intake"', "where": 'where = "type is image"'}
        for key, example in examples.items():
            if key not in table:
                self.source.wrong(path, f"the key `{key}` is missing", f"for example {example}", rule)

    def _condition(self, value: Any, rule: str, path: KeyPath) -> Node:
        parsed = parse_condition(one_text(value), self.type_names, self._read_list)
        line = self.source.line(path)
        self.warnings.extend(f'{self.source.file}:{line}: rule "{rule}": {warning}' for warning in parsed.warnings)
        return parsed.node

    def _captures(self, where: Node | None, rule: str, path: KeyPath) -> Mapping[str, CaptureKind]:
        kinds = capture_kinds(where) if where is not None else {}
        for name in kinds:
            if name in self.places:
                self.source.wrong(path, f"{{{name}}} is a place already", "give what is captured another name", rule)
        return kinds

    def _read_list(self, name: str) -> frozenset[str]:
        path = expand(name, self.places, self.beside)
        names = read_list(name, path)
        self.lists.append(slashed.realpath(path))
        return names

    def _examples(self, table: Mapping[str, Any], path: KeyPath, rule: str) -> tuple[Example, ...]:
        examples = []
        tables = table.get("example", [])
        if not isinstance(tables, list) or not all(isinstance(one, dict) for one in tables):
            self.source.wrong((*path, "example"), "an example must be a table of its own", "write [[rule.example]]", rule)
            return ()
        for index, one in enumerate(tables):
            here = (*path, "example", index)
            for key in one:
                if key in RULE_KEYS and key not in EXAMPLE_KEYS:
                    what = f"`{key}` belongs to the rule, but comes after [[rule.example]]"
                    self.source.wrong((*here, key), what, "move it above the first [[rule.example]]", rule)
            self.source.unknown_keys({key: one[key] for key in one if key not in RULE_KEYS}, EXAMPLE_KEYS, here, rule)
            given, becomes = one.get("given"), one.get("becomes", False)
            if not isinstance(given, dict) or not isinstance(given.get("name"), str) or not given["name"]:
                self.source.wrong(here, "an example needs a name to begin with", 'for example given = { name = "a.log" }', rule)
            elif becomes is not False and not isinstance(becomes, str):
                self.source.wrong(
                    here, "`becomes` must be a path relative to `in`", "or use false if the rule must not match", rule
                )
            else:
                with self.source.at(here, rule):
                    examples.append(Example(self.source.line(here), given, becomes or None, *_more_of(one)))
        return tuple(examples)


def _more_of(example: Mapping[str, Any]) -> tuple[tuple[str, ...], tuple[str, ...], str]:
    """Return what else an example says: what is done, which tags there are then, and when."""
    does = tuple(texts(example["does"])) if "does" in example else ()
    known = [name for name, one in KEYS.items() if one.ending or one.extra]
    for word in does:
        if word not in known:
            raise InvalidValue(
                f"`does` names what a rule does, not `{word}`", nearest(word, known) or f"choose from {', '.join(known)}"
            )
    when = one_text(example["when"]) if "when" in example else ""
    if when:
        parse_moment(when, time.time_ns())
    return does, tuple(texts(example["tags"])) if "tags" in example else (), when


def _is_mounted_place(value: Any) -> bool:
    return (
        isinstance(value, dict)
        and set(value) <= {"path", "mounted"}
        and isinstance(value.get("path"), str)
        and isinstance(value.get("mounted", False), bool)
    )


def _digest(table: Mapping[str, Any]) -> str:
    telling = {key: value for key, value in table.items() if key not in ("name", "off", "example")}
    return blake2b(repr(sorted(telling.items())).encode("utf-8", "surrogatepass"), digest_size=12).hexdigest()
