"""Placeholders in targets: `{modified:%Y-%m}` and what may be filled in for it.

A template is read once, then filled in for each entry. A filled-in value never leaves its path
segment, whatever the file was called.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from frugal_sorter.rules.fields import FIELDS, Fact, Facts, Unknown
from frugal_sorter.rules.mistakes import Wrong, nearest
from frugal_sorter.rules.units import local_time

NAME_BYTES = 255
_DATE_CODES = frozenset("aAbBdHIjmMpSUwWyYGVu%")
_UNSAFE = re.compile(r"[/\\\x00-\x1f\x7f]")
_SLOT = re.compile(r'\{((?:[^{}"]|"[^"]*")*)\}')
_TOKEN = re.compile(r'(\{\{|\}\})|\{((?:[^{}"]|"[^"]*")*)\}|(/)|([{}])|([^{}/]+)')
_RESERVED = frozenset(
    ["CON", "PRN", "AUX", "NUL", *(f"{port}{n}" for port in ("COM", "LPT") for n in range(1, 10))]
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Missing:
    """A placeholder had no value, and which."""

    reason: str


@dataclass(frozen=True, slots=True)
class Slot:
    """One placeholder: alternatives, the first that has a value is taken, and a date format."""

    written: str
    alternatives: tuple[str, ...]
    codes: str


@dataclass(frozen=True, slots=True)
class Template:
    """A target as written: for each path segment its literal texts and slots."""

    text: str
    segments: tuple[tuple[str | Slot, ...], ...]
    absolute: bool

    @property
    def fixed(self) -> int:
        """How many segments at the start are the same for every entry."""
        for index, segment in enumerate(self.segments):
            if any(isinstance(part, Slot) for part in segment):
                return index
        return len(self.segments)

    def fill(self, facts: Facts, type_folders: Mapping[str, str]) -> list[str] | Missing:
        """Return the path segments for one entry, or what was missing."""
        filled: list[str] = []
        for segment in self.segments:
            pieces = _fill_segment(segment, facts, type_folders)
            if isinstance(pieces, Missing):
                return pieces
            filled.extend(pieces)
        return filled


def _initial(facts: Facts) -> str | None:
    """Return the first letter or digit of the name, in upper case."""
    letter = next((letter for letter in facts.record.place.name if letter.isalnum()), None)
    return None if letter is None else letter.upper()[:1]


EXTRAS: dict[str, tuple[str, Callable[[Facts, Mapping[str, str]], str | None]]] = {
    "initial": ("the first letter or digit of the name, in upper case", lambda facts, _: _initial(facts)),
    "typefolder": (
        "the folder name of the type group",
        lambda facts, folders: folders.get(kind := str(facts("type")), kind.capitalize()),
    ),
}


def _value(slot: Slot, facts: Facts, type_folders: Mapping[str, str]) -> Fact:
    found: Fact = None
    for alternative in slot.alternatives:
        if alternative.startswith('"'):
            return alternative[1:-1]
        if alternative in EXTRAS:
            found = EXTRAS[alternative][1](facts, type_folders)
        else:
            found = facts(alternative)
            if isinstance(found, int) and FIELDS[alternative].kind == "date":
                try:
                    return local_time(found).strftime(slot.codes or "%Y-%m-%d")
                except ValueError as error:
                    found = Unknown(str(error))
        if found not in (None, "") and not isinstance(found, Unknown):
            return str(found)
    return found


def _fill_segment(segment: Sequence[str | Slot], facts: Facts, type_folders: Mapping[str, str]) -> list[str] | Missing:
    if len(segment) == 1 and isinstance(segment[0], Slot) and segment[0].alternatives == ("name",):
        return [facts.record.place.name]  # a name that exists is one that may exist
    if all(isinstance(part, str) for part in segment):
        return ["".join(map(str, segment))]  # the technician's own words, `..` among them
    pieces = [""]
    for part in segment:
        if isinstance(part, str):
            pieces[-1] += part
            continue
        value = _value(part, facts, type_folders)
        if value in (None, "") or isinstance(value, Unknown):
            why = f" ({value.reason})" if isinstance(value, Unknown) else ""
            return Missing(f"no value for {{{part.written}}}{why}")
        # The slashes of a date format are the technician's own; those of a value are not.
        texts = str(value).split("/") if "/" in part.codes else [str(value)]
        for index, text in enumerate(texts):
            if index:
                pieces.append("")
            clean = _UNSAFE.sub("_", text)
            if not pieces[-1] and clean.startswith("."):
                clean = "_" + clean[1:]
            pieces[-1] += clean
    return [safe_segment(piece) for piece in pieces]


def safe_segment(text: str) -> str:
    """Return a path segment that every usual file system accepts.

    No trailing dots or spaces, no device name of Windows ("Naming Files, Paths, and Namespaces",
    Microsoft Learn), at most 255 bytes.
    """
    text = text.rstrip(". ") or "_"
    stem, dot, rest = text.partition(".")
    if stem.upper() in _RESERVED:
        text = f"{stem}_{dot}{rest}"
    return shortened(text)


def shortened(name: str, mark: str = "") -> str:
    """Return a name with a mark before its suffix, cut so that it has at most 255 bytes."""
    stem, dot, suffix = name.rpartition(".")
    if not stem.strip(".") or len(os.fsencode(suffix)) > 32:
        stem, dot, suffix = name, "", ""
    double = stem.rpartition(".")
    if double[1] and double[2].lower() == "tar" and double[0]:
        stem, suffix = double[0], f"{double[2]}.{suffix}"
    tail = f"{mark}{dot}{suffix}"
    room = NAME_BYTES - len(os.fsencode(tail))
    raw = os.fsencode(stem)
    if len(raw) > room:
        raw = raw[:room]
        # Not in the middle of a letter: drop the bytes of one that was cut.
        stem = (
            raw.decode("utf-8", "ignore") if os.fsencode(stem).decode("utf-8", "ignore") == stem else os.fsdecode(raw)
        )
    return stem + tail


def parse_template(text: str, places: Mapping[str, str], rename: bool = False, root: str = "") -> Template:
    """Read a target.

    Args:
        text: the target as written; a place may stand at its start.
        places: the folders that `{place}` stands for.
        rename: it is a name, so that it may hold no separator.
        root: an absolute folder that the target is below; without one a place may lead.

    Raises:
        Wrong: a placeholder does not exist or cannot stand there.
    """
    if not text.strip() and not root:
        raise Wrong("the target is empty", "name a folder")
    rest = text
    lead = _SLOT.match(text)
    if lead and lead[1] in places and not root:
        root, rest = places[lead[1]], text[lead.end() :]
        if rest and not rest.startswith("/"):
            raise Wrong(f"after {{{lead[1]}}} must come a /", f'such as "{{{lead[1]}}}/Sorted"')
    segments = [(part,) for part in root.split("/") if part] + _segments(rest, places)
    dated = any("/" in part.codes for parts in segments for part in parts if isinstance(part, Slot))
    if rename and (len(segments) != 1 or dated or text.startswith("/")):
        raise Wrong("a new name cannot hold a /", "use `move` for folders")
    return Template(text, tuple(segments), bool(root) or text.startswith("/"))


def _segments(text: str, places: Mapping[str, str]) -> list[tuple[str | Slot, ...]]:
    """Split at the slashes outside braces, and each piece into literal texts and slots."""
    segments: list[list[str | Slot]] = [[]]
    for brace, slot, slash, alone, plain in _TOKEN.findall(text):
        parts = segments[-1]
        if slash:
            segments.append([])
        elif alone:
            raise Wrong(
                f'a brace stands alone in "{text}"',
                "a placeholder looks like {type}; a brace itself is doubled",
            )
        elif brace or plain:
            literal = brace[:1] or plain
            if parts and isinstance(parts[-1], str):
                parts[-1] += literal
            else:
                parts.append(literal)
        else:
            parts.append(_slot(slot, places))
    return [tuple(parts) for parts in segments if parts and parts != ["."]]


def _slot(written: str, places: Mapping[str, str]) -> Slot:
    names, colon, codes = written.partition(":")
    if '"' in names:
        names, colon, codes = _outside_quotes(written)
    alternatives = tuple(part.strip() for part in re.findall(r'"[^"]*"|[^|]+', names))
    dated = False
    for alternative in alternatives:
        if alternative.startswith('"') or alternative in EXTRAS:
            continue
        known = FIELDS.get(alternative)
        if known is None or known.kind == "flag":
            if alternative in places:
                raise Wrong(f"the place {{{alternative}}} can only stand at the start", "write the folder out")
            names_known = [*(name for name, one in FIELDS.items() if one.kind != "flag"), *EXTRAS]
            raise Wrong(
                f"there is no placeholder {{{alternative}}}",
                nearest(alternative, [*names_known, *places]) or f"known are {', '.join(names_known)}",
            )
        dated = dated or known.kind == "date"
    if not alternatives:
        raise Wrong("a placeholder is empty", "a placeholder looks like {type}")
    if colon:
        _check_codes(written, codes, dated)
    return Slot(written, alternatives, codes)


def _outside_quotes(written: str) -> tuple[str, str, str]:
    match = re.fullmatch(r'((?:[^":]|"[^"]*")*)(:?)(.*)', written)
    assert match is not None
    return match[1], match[2], match[3]


def _check_codes(written: str, codes: str, dated: bool) -> None:
    if not dated:
        raise Wrong(f"{{{written}}} has a format but no date", "only dates take a format, such as {modified:%Y-%m}")
    found = re.findall(r"%(.?)", codes)
    if not found:
        raise Wrong(f"{{{written}}} has a format without codes", "such as {modified:%Y-%m}")
    for code in found:
        if code not in _DATE_CODES or not code:
            raise Wrong(f"%{code} is not a date code", "%Y is the year, %m the month, %d the day, %B the month's name")
