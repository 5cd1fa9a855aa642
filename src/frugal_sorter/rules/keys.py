"""The keys of a rule: the loader, the JSON Schema and the reference read this one table."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

TAKES = ("files", "folders", "items")
CLASHES = ("number", "skip")

_TEXT: dict[str, Any] = {"type": "string"}
_TRUTH: dict[str, Any] = {"type": "boolean"}
_TEXTS: dict[str, Any] = {
    "anyOf": [{"type": "string", "minLength": 1}, {"type": "array", "items": _TEXT, "minItems": 1}]
}
_LEVELS: dict[str, Any] = {"anyOf": [{"type": "integer", "minimum": 1}, {"const": "all"}]}
_EXAMPLES: dict[str, Any] = {
    "type": "array",
    "items": {
        "type": "object",
        "required": ["given"],
        "properties": {
            "given": {
                "type": "object",
                "required": ["name"],
                "properties": {"name": {"type": "string", "minLength": 1}},
            },
            "becomes": {"anyOf": [_TEXT, {"const": False}]},
        },
        "additionalProperties": False,
    },
}


@dataclass(frozen=True, slots=True)
class Key:
    """One key of a rule.

    Args:
        meaning: for the reference.
        default: what holds without it, for the reference.
        schema: what its value may be (JSON Schema 2020-12).
        common: whether it may stand in `[defaults]`.
        ending: whether it says what becomes of an entry.
    """

    meaning: str
    default: str
    schema: dict[str, Any]
    common: bool = False
    ending: bool = False


KEYS: dict[str, Key] = {
    "name": Key("unique", "required", {"type": "string", "pattern": "\\S"}),
    "in": Key("a folder, or a list of them", "required", _TEXTS),
    "where": Key('a condition; `"everything"` for all', "required", {"type": "string", "minLength": 1, "maxLength": 4000}),
    "take": Key('`"files"`, `"folders"`, or `"items"`: each top-level entry as one unit', '`"files"`',
                {"enum": list(TAKES)}, common=True),
    "levels": Key('how deep: 1 is the folder itself, a number, or `"all"`', "1", _LEVELS, common=True),
    "hidden": Key("hidden entries too", "`false`", _TRUTH, common=True),
    "settle": Key("leave alone what was written to within this time", '`"0 seconds"`', _TEXT, common=True),
    "clash": Key('the target name is taken: `"number"` (`name_2.ext`) or `"skip"`', '`"number"`',
                 {"enum": list(CLASHES)}, common=True),
    "during": Key('when the rule acts: `"mon-fri 08:00-18:00"`, one or a list', "always", _TEXTS, common=True),
    "at_most": Key("with more entries than this the rule is not carried out; the others are", "none",
                   {"type": "integer", "minimum": 0}, common=True),
    "ask": Key("ask for this rule by itself, even under `--yes`; unattended it is left", "`false`", _TRUTH, common=True),
    "off": Key("switched off, as if not there", "`false`", _TRUTH, common=True),
    "move": Key("the folder that entries go to", "", {"type": "string", "minLength": 1}, ending=True),
    "rename": Key("their new name; may stand beside `move`", "", {"type": "string", "minLength": 1}, ending=True),
    "leave": Key("`true`: an exception; no later rule touches these", "", _TRUTH, ending=True),
    "example": Key("what must come out, in tables `[[rule.example]]`; see below", "", _EXAMPLES),
}  # fmt: skip


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a rule file, for completion in editors."""
    endings = [{"required": [name]} for name, key in KEYS.items() if key.ending]
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
    common = {name: key.schema for name, key in KEYS.items() if key.common}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Rules of Frugal Sorter",
        "type": "object",
        "required": ["frugal", "rule"],
        "properties": {
            "frugal": {"const": 1},
            "places": {"type": "object", "additionalProperties": {"anyOf": [_TEXT, place]}},
            "types": {
                "type": "object",
                "additionalProperties": {"type": "array", "items": {"type": "string", "minLength": 1}},
            },
            "type-folders": {"type": "object", "additionalProperties": {"type": "string", "pattern": "^[^/]+$"}},
            "defaults": {"type": "object", "properties": common, "additionalProperties": False},
            "rule": {"type": "array", "items": rule, "minItems": 1},
        },
        "additionalProperties": False,
    }
