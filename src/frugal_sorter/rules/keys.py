"""The keys of a rule file, and what each section may hold."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping
from typing import Any, Literal

from frugal_sorter.platforms import slashed, system
from frugal_sorter.rules.units import Duration, InvalidValue, nearest
from frugal_sorter.values import frozen

TAKES = ("files", "folders", "items")
CLASHES = ("number", "skip", "replace", "newer", "same")
# Which of several files with the same contents stays, and what becomes of the others.
Keep = Literal["unmarked", "oldest", "newest", "shortest-path"]
KEEPS: tuple[Keep, ...] = ("unmarked", "oldest", "newest", "shortest-path")
DEFAULT_KEEP: tuple[Keep, ...] = ("unmarked", "oldest", "shortest-path")
Do = Literal["trash", "delete", "hardlink"]
DOS: tuple[Do, ...] = ("trash", "delete", "hardlink")
Ending = Literal["move", "trash", "delete", "pack", "unpack", "duplicates", "leave"]
# By these an entry is no longer where a person left it.
REMOVALS: frozenset[str] = frozenset({"trash", "delete", "pack", "unpack", "duplicates"})
# Without `at_most` a rule may take away no more entries than this.
MOST_REMOVALS = 1_000

_TEXT: dict[str, Any] = {"type": "string"}
_TRUTH: dict[str, Any] = {"type": "boolean"}
# Types together, such as `text + document`.
_UNION: dict[str, Any] = {"type": "string", "pattern": "^[^+]+(\\+[^+]+)+$"}
_TEXTS: dict[str, Any] = {"anyOf": [{"type": "string", "minLength": 1}, {"type": "array", "items": _TEXT, "minItems": 1}]}
_LEVELS: dict[str, Any] = {"anyOf": [{"type": "integer", "minimum": 1}, {"const": "all"}]}
_EXAMPLES: dict[str, Any] = {
    "type": "array",
    "items": {
        "type": "object",
        "required": ["given"],
        "properties": {
            "given": {"type": "object", "required": ["name"], "properties": {"name": {"type": "string", "minLength": 1}}},
            "becomes": {"anyOf": [_TEXT, {"const": False}]},
            "does": _TEXTS,
            "tags": _TEXTS,
            "when": _TEXT,
        },
        "additionalProperties": False,
    },
}


_KEEP: dict[str, Any] = {"enum": list(KEEPS)}
_OF_SAME: dict[str, Any] = {
    "type": "object",
    "required": ["do"],
    "additionalProperties": False,
    "properties": {"keep": {"anyOf": [_KEEP, {"type": "array", "minItems": 1, "items": _KEEP}]}, "do": {"enum": list(DOS)}},
}


@frozen
class Key:
    """One key of a rule.

    Args:
        meaning: for the reference.
        default: what holds without it, for the reference.
        schema: what its value may be (JSON Schema 2020-12).
        reader: which method of `readers.Readers` reads its value; empty for one that the loader reads itself.
        value: what holds without it.
        common: whether it may be in `[defaults]`.
        ending: whether it says what becomes of an entry.
        extra: whether it is something done in addition.
        needs: the key without which it makes no sense, and what to do where that is missing.
        only_files: why it goes with files alone; empty where it goes with folders, too.
        numbered: whether taken names are numbered anyway, so that it may have no `{n}`.
    """

    meaning: str
    default: str
    schema: dict[str, Any]
    reader: str = ""
    value: Any = None
    common: bool = False
    ending: bool = False
    extra: bool = False
    needs: tuple[str, str] = ("", "")
    only_files: str = ""
    numbered: bool = False


KEYS: dict[str, Key] = {
    "name": Key("unique", "required", {"type": "string", "pattern": "\\S"}, reader="name"),
    "in": Key("a folder, or a list of them", "required", _TEXTS, reader="folders", value=()),
    "where": Key('a condition; `"everything"` for all', "required", {"type": "string", "minLength": 1, "maxLength": 4000},
                reader="condition"),
    "take": Key('`"files"`, `"folders"`, or `"items"`: each top-level entry as one unit', '`"files"`',
                {"enum": list(TAKES)}, common=True, reader="take", value="files"),
    "levels": Key('how deep: 1 is the folder itself, a number, or `"all"`', "1", _LEVELS, common=True,
                reader="levels", value=1),
    "hidden": Key("include hidden files and folders", "`false`", _TRUTH, common=True, reader="truth", value=False),
    "settle": Key("skip files written to within this time", '`"0 seconds"`', _TEXT, common=True,
                reader="duration", value=Duration(0, 0)),
    "clash": Key('the target name is taken: `"number"` (`name_2.ext`), `"skip"`, `"replace"` (what stood there goes to '
                 'the trash), `"newer"` (the newer one stays, the other goes to the trash; equal times: number), '
                 '`"same"` (identical contents: the newcomer goes to the trash; else number)', '`"number"`',
                 {"enum": list(CLASHES)}, common=True, reader="clash", value="number"),
    "during": Key('when the rule acts: `"mon-fri 08:00-18:00"`, one or a list', "always", _TEXTS, common=True,
                reader="hours", value=()),
    "at_most": Key("skip this rule, but not the others, if it would act on more than this many files and folders; "
                   "files inside removed folders count", f"{MOST_REMOVALS:,} for removals, none otherwise",
                   {"type": "integer", "minimum": 0}, common=True, reader="count"),
    "ask": Key("confirm this rule separately, even with `--yes`; skip it in unattended runs", "`false`", _TRUTH, common=True,
                reader="truth", value=False),
    "prune": Key("remove folders that this rule left empty", "`false`", _TRUTH, common=True,
                reader="truth", value=False),
    "keep": Key('do nothing to what these keep, one or a list: `"newest 5"`, `"all for 2 weeks"`, `"one a week for 3 months"` '
                '(of each day, week, month or year the first)', "", _TEXTS, reader="promises", value=()),
    "each": Key("with `keep`: a text with placeholders; entries for which it is the same are one group, in each folder",
                "all in a folder", {"type": "string", "minLength": 1}, reader="wording", needs=("keep", "add `keep`")),
    "dated": Key("with `keep`: the date that counts, a field or what `where` captures", '`"modified"`',
                 {"type": "string", "minLength": 1}, reader="dated", value="modified", needs=("keep", "add `keep`")),
    "off": Key("ignore this rule", "`false`", _TRUTH, common=True, reader="truth", value=False),
    "move": Key("the folder that entries go to", "", {"type": "string", "minLength": 1}, ending=True, reader="target"),
    "other": Key("with `move`: the folder for files that have no value for a placeholder in `move`", "they are left",
                 {"type": "string", "minLength": 1}, reader="target", needs=("move", "add `move`")),
    "rename": Key("the new name; can be combined with `move`", "", {"type": "string", "minLength": 1}, ending=True,
                reader="new_name"),
    "trash": Key("`true`: to the trash of the desktop", "", _TRUTH, ending=True),
    "delete": Key("`true`: delete permanently; this cannot be undone", "", _TRUTH, ending=True),
    "pack": Key("the path of a new zip: all entries of a run with the same path go into one, they themselves to the trash",
                "", {"type": "string", "pattern": "\\.[zZ][iI][pP]$"}, ending=True, reader="zip_path", numbered=True),
    "unpack": Key("a new folder for what is in a zip or tar archive, which itself goes to the trash", "",
                  {"type": "string", "minLength": 1}, ending=True,
                reader="target", only_files="only files are unpacked"),
    "duplicates": Key('of the files of the rule that hold the same bytes one stays, and the others go: '
                      '`{keep = "oldest", do = "trash"}`; `keep` is ' + ", ".join(f'`"{one}"`' for one in KEEPS)
                      + ' or a list of these, `do` is `"trash"`, `"delete"` or `"hardlink"`', "",
                      _OF_SAME, ending=True, reader="duplicates", only_files="only files are compared"),
    "leave": Key("`true`: leave these files alone; later rules do not see them", "", _TRUTH, ending=True),
    "copy": Key("a folder that gets a copy", "", {"type": "string", "minLength": 1}, extra=True,
                reader="target", numbered=True),
    "link": Key("the folder to create a symbolic link in, pointing to the file's final location", "",
                {"type": "string", "minLength": 1}, extra=True, reader="target", numbered=True),
    "tag": Key("tags to add, one or a list, as desktop programs keep them", "", _TEXTS, extra=True,
                reader="wordings", value=()),
    "untag": Key("tags to remove, one or a list", "", _TEXTS, extra=True, reader="wordings", value=()),
    "retag": Key("replace all its tags with these: one or a list", "", _TEXTS, extra=True,
                reader="wordings", value=()),
    "comment": Key("the comment to set, as stored by desktop programs", "", {"type": "string", "minLength": 1}, extra=True,
                reader="wording"),
    "run": Key("a program and its arguments as a list, never a shell line; it gets the path in `$FRUGAL_FILE`, "
               "runs in the root folder rather than beside the file, and has 60 seconds", "",
               {"type": "array", "items": {"type": "string"}, "minItems": 1}, extra=True, reader="command", value=()),
    "makes": Key("beside `run`: the file that the program makes, such as `\"{stem}.jpg\"`, below the folder of the entry; it "
                "belongs to the run, and undo removes it if nobody changed it", "", {"type": "string", "minLength": 1},
                extra=True, reader="wording", needs=("run", "add `run`")),
    "example": Key("what must come out, in tables `[[rule.example]]`; see below", "", _EXAMPLES),
}  # fmt: skip

# The keys of `[trash]`; those of an ending say what leaves it.
TRASH: dict[str, Key] = {
    "older_than": Key("permanently delete what has been in the trash longer than this", "", _TEXT, reader="duration",
                      ending=True),
    "shrink_to": Key('permanently delete the oldest until the trash is no larger than this, such as `"5 GB"`', "", _TEXT,
                     reader="size", ending=True),
    "where": Key("only what this is true of: a condition on the name, place, type, size, dates and owner that an entry "
                 "had; `arrived` is when it came to the trash", '`"everything"`', {"type": "string", "minLength": 1},
                 reader="of_trash", ending=True),
    "keep": Key("never delete what was trashed within this time, because `frugal undo` needs it",
                '`"1 week"`', _TEXT, reader="duration"),
    "at_most": Key("delete nothing if more files than this would be deleted", f"{MOST_REMOVALS:,}",
                   {"type": "integer", "minimum": 0}, reader="count"),
}  # fmt: skip


# How often a rule file saves an inventory: after how many days the next one is due.
SAVES = {"weekly": 7, "monthly": 30}
# The keys of `[inventory]`.
INVENTORY: dict[str, Key] = {
    "save": Key(
        "save an inventory of each folder when the last one is older than a week or 30 days, for `frugal forecast` and "
        "`frugal compare`; like all saved inventories they are kept for `keep_days` of the settings",
        "required",
        {"enum": [*SAVES]},
        reader="saves",
    ),
    "in": Key("the folders", "those of all rules", _TEXTS, reader="folders"),
}


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a rule file, for completion in editors."""
    endings = [{"required": [name]} for name, key in KEYS.items() if key.ending or key.extra]
    rule = {
        "type": "object",
        "required": [name for name, key in KEYS.items() if key.default == "required"],
        "properties": {name: {"description": key.meaning, **key.schema} for name, key in KEYS.items()},
        "additionalProperties": False,
        "anyOf": endings,
    }
    place = {
        "type": "object",
        "required": ["path"],
        "properties": {"path": _TEXT, "mounted": _TRUTH},
        "additionalProperties": False,
    }
    limits = {
        "type": "object",
        "properties": {name: {"description": key.meaning, **key.schema} for name, key in TRASH.items()},
        "additionalProperties": False,
        "anyOf": [{"required": [name]} for name, key in TRASH.items() if key.ending],
    }
    common = {name: key.schema for name, key in KEYS.items() if key.common}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Rules of Frugal Sorter",
        "type": "object",
        "required": ["frugal"],
        "anyOf": [{"required": [name]} for name in ("rule", "trash", "inventory")],
        "properties": {
            "frugal": {"const": 1},
            "for": {"type": "array", "items": {"enum": ["linux", "macos", "windows"]}},
            "places": {"type": "object", "additionalProperties": {"anyOf": [_TEXT, place]}},
            "types": {
                "type": "object",
                "additionalProperties": {"anyOf": [{"type": "array", "items": {"type": "string", "minLength": 1}}, _UNION]},
            },
            "log": {"type": "string", "minLength": 1},
            "type-folders": {"type": "object", "additionalProperties": {"type": "string", "pattern": "^[^/]+(/[^/]+)*$"}},
            "defaults": {"type": "object", "properties": common, "additionalProperties": False},
            "trash": {"anyOf": [limits, {"type": "array", "items": limits}]},
            "inventory": {
                "type": "object",
                "required": ["save"],
                "properties": {name: {"description": key.meaning, **key.schema} for name, key in INVENTORY.items()},
                "additionalProperties": False,
            },
            "rule": {"type": "array", "items": rule, "minItems": 1},
        },
        "additionalProperties": False,
    }


_LEAD = re.compile(r"\{([^{}]*)\}")
_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")


class Places(Mapping[str, str]):
    """Folders with a name: those that every rule file can name (XDG user directories on Linux), and those that one adds.

    Where the system has a folder is found out when it is named: few rule files name more than one or two.
    """

    def __init__(self) -> None:
        self._known: dict[str, str | None] = dict.fromkeys(system.NAMED)

    def __getitem__(self, name: str) -> str:
        folder = self._known[name]
        if folder is None:
            folder = self._known[name] = system.named_folder(name)
        return folder

    def __setitem__(self, name: str, folder: str) -> None:
        self._known[name] = folder

    def __iter__(self) -> Iterator[str]:
        return iter(self._known)

    def __contains__(self, name: object) -> bool:
        return name in self._known

    def __len__(self) -> int:
        return len(self._known)


def expand(text: str, places: Mapping[str, str], beside: str) -> str:
    """Return the absolute path that a folder in a rule file means; links are not resolved.

    Args:
        text: as written; may start with `{place}` or `~` and hold environment variables.
        places: known places.
        beside: the folder of the rule file, which relative paths are below.

    Raises:
        InvalidValue: a place, a user or a variable is not known.
    """
    if not text.strip():
        raise InvalidValue("the folder is empty", "name a folder")
    if "\x00" in text:
        raise InvalidValue("the folder name contains a NUL character", "take it out")
    lead = _LEAD.match(text)
    if lead:
        if lead[1] not in places:
            hint = nearest(lead[1], places) or f"choose from {', '.join(places)}"
            raise InvalidValue(f"unknown place {{{lead[1]}}}", hint)
        text = places[lead[1]] + text[lead.end() :]
    else:
        text = expand_user(slashed.slashed(_VARIABLE.sub(_variable, text)))
    if instead := slashed.unclear(text):
        raise InvalidValue(f"{text} depends on the current drive or its current folder", f'write "{instead}"')
    return slashed.normpath(slashed.join(beside, text))


def expand_user(text: str) -> str:
    """Return a path with a leading `~` or `~user` filled in.

    Raises:
        InvalidValue: there is no such user.
    """
    expanded = slashed.expanduser(text)
    if expanded.startswith("~") and text.split("/")[0] == expanded.split("/")[0]:
        raise InvalidValue(f"unknown user {text.split('/')[0][1:]}", "write the full folder path")
    return expanded


def _variable(match: re.Match[str]) -> str:
    name = match[1] or match[2]
    value = os.environ.get(name)
    if value is None:
        raise InvalidValue(f"the environment variable {name} is not set", "write the full folder path")
    return value
