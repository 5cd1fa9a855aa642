"""Reading templates of targets and names."""

from __future__ import annotations

import fnmatch
import os
import re
import unicodedata
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import TYPE_CHECKING, Literal, NamedTuple

from frugal_sorter.filesystem.record import LARGEST_BAND, SIZE_BANDS, Unknown, size_band
from frugal_sorter.platforms import slashed, system
from frugal_sorter.reasons import Reason, Why
from frugal_sorter.rules.fields import FIELDS, Fact, Facts
from frugal_sorter.rules.source import meant
from frugal_sorter.rules.units import SECOND_NS, InvalidValue, local_time
from frugal_sorter.values import field, frozen

if TYPE_CHECKING:
    import regex


# Parts without a format may end anywhere; a name made for it could keep that search busy for ever.
_SECONDS = 0.2
_END = "the end of the name"


class Part(NamedTuple):
    """One part of a pattern.

    Args:
        looks: a regular expression, without groups.
        says: what it stands for, in everyday words.
        open: it takes any length of any text.
        letters: what it is, letter by letter, if it is that.
    """

    looks: str
    says: str
    open: bool = False
    letters: str = ""


def literal(letters: str) -> Part:
    """Return the part that is just these letters."""
    return Part(re.escape(letters), f"`{letters}`", letters=letters)


class Stopped(NamedTuple):
    """How far a name was read, what would have had to follow, and what does."""

    read: str
    expected: str
    found: str

    @property
    def text(self) -> str:
        """The same as a sentence."""
        read = f"read `{self.read}`, then expected" if self.read else "expected"
        return f"{read} {self.expected}, but found {(f'`{self.found}`' if self.found else 'the end of the name')}"


def where_stopped(parts: Sequence[Part], text: str, exactly: bool) -> Stopped | None:
    """Return where a text stops fitting the parts of a pattern; None where it fits, or that takes too long.

    Args:
        parts: of the pattern, in order.
        text: what should fit.
        exactly: letters must agree in case.
    """
    import regex

    flags = regex.DOTALL | (0 if exactly else regex.IGNORECASE)
    fitting = 0
    ends = [0]
    try:
        while fitting < len(parts):
            expression = "".join(f"({part.looks})" for part in parts[: fitting + 1])
            found = regex.match(expression, text, flags, timeout=_SECONDS)
            if found is None:
                break
            fitting += 1
            ends = [0, *(found.end(group) for group in range(1, fitting + 1))]
        if fitting == len(parts) and regex.fullmatch("".join(part.looks for part in parts), text, flags, timeout=_SECONDS):
            return None
    except TimeoutError:
        return None
    at = ends[-1]
    expected = parts[fitting].says if fitting < len(parts) else _END
    if fitting and parts[fitting - 1].open:
        return Stopped(text[: ends[-2]], f"{expected} further on", text[ends[-2] :])
    if fitting < len(parts) and (letters := parts[fitting].letters):
        while letters and text[at : at + 1] and _same(letters[0], text[at], exactly):
            letters, at = letters[1:], at + 1
        expected = f"`{letters}`"
    return Stopped(text[:at], expected, text[at:])


def _same(one: str, other: str, exactly: bool) -> bool:
    return one == other or (not exactly and one.casefold() == other.casefold())


def parts_of_like(pattern: str) -> list[Part]:
    """Return the parts of a pattern with shell wildcards."""
    parts = []
    for stars, one, group, letters in re.findall(r"(\*+)|(\?)|(\[!?+\]?+[^\]]*\])|([^*?\[]+|\[)", pattern):
        if stars:
            parts.append(Part(".*?", "some text", True))
        elif one:
            parts.append(Part(".", "one letter"))
        elif group:
            looks = re.sub(r"^\(\?s:(.*)\)\\[zZ]$", r"\1", fnmatch.translate(group), flags=re.DOTALL)
            parts.append(Part(looks, f"one of {group}"))
        else:
            parts.append(literal(letters))
    return parts


# What each date code looks like in a name that is read.
_CODE_LOOKS = {
    "Y": r"\d{4}", "y": r"\d{2}", "m": r"\d{2}", "d": r"\d{2}", "H": r"\d{2}", "I": r"\d{2}", "M": r"\d{2}",
    "S": r"\d{2}", "j": r"\d{3}", "p": "[AaPp][Mm]", "b": "[A-Za-z]{3}", "B": "[A-Za-z]+", "a": "[A-Za-z]{3}",
    "A": "[A-Za-z]+", "%": "%",
}  # fmt: skip
# A day or a month that may have one digit.
_ONE_OR_TWO = r"(?:\d{2}|(?<!\d)\d(?!\d))"
_LIKE = datetime(2026, 3, 14, 15, 9, 26)


def check_capture_name(name: str) -> None:
    """Refuse a name for a captured part that means something else already.

    Raises:
        InvalidValue: it is a field or a placeholder, or no name at all.
    """
    if name in FIELDS or name in EXTRAS:
        raise InvalidValue(f"{{{name}}} is a placeholder already", "give what is captured another name")
    if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name):
        raise InvalidValue(f"{{{name}}} is not a name for a captured part", "use letters and digits")


@frozen(eq=False)
class Reading:
    """A pattern that takes whole names apart.

    Args:
        expression: what a name must look like; its groups are numbered in order.
        parts: the same, part by part.
        exactly: letters must agree in case.
        names: the captured parts, in the same order.
        codes: for dates their format.
        kinds: what each part is.
    """

    expression: regex.Pattern[str]
    parts: tuple[Part, ...]
    exactly: bool
    names: tuple[str, ...]
    codes: Mapping[str, str]
    kinds: Mapping[str, CaptureKind]

    def fits(self, text: str) -> bool | None:
        """Return whether a name fits, None where that took too long."""
        try:
            return self._parts(text) is not None
        except TimeoutError:
            return None

    def read(self, text: str) -> dict[str, str | int] | None:
        """Return the parts of a name, dates in ns since the epoch, or None where it does not fit."""
        try:
            return self._parts(text)
        except TimeoutError:
            return None

    def stops(self, text: str) -> Stopped | None:
        """Return where a name stops fitting."""
        text = unicodedata.normalize("NFC", text)
        stopped = where_stopped(self.parts, text, self.exactly)
        if stopped is None and (match := self.expression.fullmatch(text, timeout=_SECONDS)) is not None:
            # Every part looks right, so that one of them looks like a date and is none.
            for at, (name, part) in enumerate(zip(self.names, match.groups(), strict=True), start=1):
                if self.kinds[name] == "date" and _moment(part, self.codes[name]) is None:
                    return Stopped(text[: match.start(at)], "a date that the calendar knows", part)
        return stopped

    def _parts(self, text: str) -> dict[str, str | int] | None:
        text = text if text.isascii() else unicodedata.normalize("NFC", text)
        match = self.expression.fullmatch(text, timeout=_SECONDS)
        if match is None:
            return None
        found: dict[str, str | int] = {}
        for name, part in zip(self.names, match.groups(), strict=True):
            kind = self.kinds[name]
            if kind == "text":
                found[name] = part
            elif kind == "number":
                found[name] = int(part)
            else:
                moment_ns = _moment(part, self.codes[name])
                if moment_ns is None:
                    return None  # looks like a date, and is none
                found[name] = moment_ns
        return found


def _moment(text: str, form: str) -> int | None:
    try:
        return int(datetime.strptime(text, form).timestamp()) * SECOND_NS
    except (ValueError, OverflowError, OSError):
        return None


def parse_reading(text: str, exactly: bool) -> Reading:
    """Read a pattern for `fits`.

    Raises:
        InvalidValue: a brace or a name in it makes no sense.
    """
    expression, names, codes, kinds = "", [], {}, {}
    parts: list[Part] = []
    for brace, slot, slash, alone, plain in TOKEN.findall(unicodedata.normalize("NFC", text)):
        if alone:
            raise InvalidValue(
                f'unmatched brace in "{text}"', "write captured parts like {page}; to use a brace as text, double it"
            )
        if slash or plain or brace:
            letters = slash or plain or brace[:1]
            expression += re.escape(letters)
            parts.append(literal(letters))
            continue
        name, colon, form = slot.partition(":")
        if "|" in name or '"' in name:
            raise InvalidValue(
                f"{{{slot}}} has alternatives", ("alternatives are allowed only in targets; give this part one name")
            )
        check_capture_name(name)
        if name in names:
            raise InvalidValue(f"{{{name}}} is used twice", "give each part a name of its own")
        names.append(name)
        looks, kinds[name] = _looks_of(slot, form if colon else "")
        codes[name] = form
        parts.append(Part(looks, _says(kinds[name], form), kinds[name] == "text"))
        expression += f"({looks})"
    import regex

    flags = regex.DOTALL | (0 if exactly else regex.IGNORECASE)
    return Reading(regex.compile(expression, flags), tuple(parts), exactly, tuple(names), codes, kinds)


def _stands_alone(form: str, code: re.Match[str]) -> bool:
    """Return True if no digits can be right beside a code, so that its own need no zero in front."""
    before, after = form[: code.start()], form[code.end() :]
    return not (re.search(r"(\d|%[^BbAap%])$", before) or re.match(r"\d|%[^BbAap%]", after))


def _says(kind: CaptureKind, form: str) -> str:
    """Return what a part stands for in everyday words."""
    if kind == "date":
        return f"a date like {_LIKE.strftime(form)}"
    digits = int(form[-1]) if kind == "number" else 0
    return "some text" if not digits else "a number" if digits == 1 else f"a number of {digits} digits or more"


def _looks_of(slot: str, form: str) -> tuple[str, CaptureKind]:
    if not form:
        return ".+?", "text"
    if re.fullmatch(r"0?[1-9]", form):
        return rf"[0-9]{{{form[-1]},15}}", "number"
    looks, at = "", 0
    for match in re.finditer(r"%(.?)", form):
        if match[1] not in _CODE_LOOKS:
            raise InvalidValue(f"%{match[1]} cannot be read in {{{slot}}}", f"choose from %{', %'.join(_CODE_LOOKS)}")
        looks += re.escape(form[at : match.start()])
        looks += _ONE_OR_TWO if match[1] in "dm" and _stands_alone(form, match) else _CODE_LOOKS[match[1]]
        at = match.end()
    if not at:
        raise InvalidValue(f"{{{slot}}} has a format without codes", "dates take one, as {day:%Y-%m-%d}, numbers, as {page:03}")
    return looks + re.escape(form[at:]), "date"


_DATE_CODES = frozenset("aAbBdHIjmMpSUwWyYGVu%")
CaptureKind = Literal["text", "number", "date"]
NO_CAPTURES: Mapping[str, CaptureKind] = MappingProxyType({})
_UNSAFE = re.compile(r"[/\\\x00-\x1f\x7f]")
_SLOT = re.compile(r'\{((?:[^{}"]|"[^"]*")*)\}')
TOKEN = re.compile(r'(\{\{|\}\})|\{((?:[^{}"]|"[^"]*")*)\}|(/)|([{}])|([^{}/]+)')


@frozen
class Missing:
    """A placeholder had no value, and which."""

    reason: Reason


@frozen
class Slot:
    """One placeholder: alternatives, the first that has a value is taken, and a date format."""

    written: str
    alternatives: tuple[str, ...]
    codes: str


@frozen
class Template:
    """A target as written: for each path segment its literal texts and slots."""

    text: str
    segments: tuple[tuple[str | Slot, ...], ...]
    # Where an absolute one begins, such as `/`; empty where it is below a folder.
    top: str = ""

    @property
    def absolute(self) -> bool:
        """Whether it says itself where it begins."""
        return bool(self.top)

    @property
    def fixed(self) -> int:
        """How many segments at the start are the same for every entry."""
        for index, segment in enumerate(self.segments):
            if any(isinstance(part, Slot) for part in segment):
                return index
        return len(self.segments)

    @property
    def head(self) -> list[str]:
        """The segments at the start that are the same for every entry."""
        return ["".join(map(str, segment)) for segment in self.segments[: self.fixed]]

    @property
    def fields(self) -> set[str]:
        """The fields that it is filled in from."""
        return _fields_of(part for segment in self.segments for part in segment)

    @property
    def counts(self) -> bool:
        """Whether it holds the counter {n}."""
        return any(_is_counter(part) for segment in self.segments for part in segment)

    def fill(self, facts: Facts, around: Filling) -> list[str] | Missing:
        """Return the path segments for one entry, or what was missing.

        The counter {n} is filled in with `around.number`.
        """
        filled: list[str] = []
        for segment in self.segments:
            pieces = _fill_segment(segment, facts, around)
            if isinstance(pieces, Missing):
                return pieces
            filled.extend(pieces)
        return filled


@frozen
class Wording:
    """A text with placeholders, such as a tag or one argument of a program; values are put in it as they are."""

    text: str
    parts: tuple[str | Slot, ...]

    @property
    def fields(self) -> set[str]:
        """The fields that it is filled in from."""
        return _fields_of(self.parts)

    def fill(self, facts: Facts, around: Filling) -> str | Missing:
        """Return the text for one entry, or what was missing."""
        filled = ""
        for part in self.parts:
            value = part if isinstance(part, str) else _value(part, facts, around)
            if isinstance(part, Slot) and (value in (None, "") or isinstance(value, Unknown)):
                return _missing(part, value)
            filled += str(value)
        return filled


def _fields_of(parts: Iterable[str | Slot]) -> set[str]:
    return {name for part in parts if isinstance(part, Slot) for name in part.alternatives if name in FIELDS}


def _missing(slot: Slot, value: Fact) -> Missing:
    why = f" ({value.reason})" if isinstance(value, Unknown) else ""
    return Missing(Why.NO_VALUE(slot.written, why))


@frozen
class Filling:
    """What a template is filled in from, beside the facts of the entry.

    Args:
        type_folders: what {typefolder} says.
        captures: what the condition captured; dates in ns.
        kinds: the kinds of the captures.
        number: the counter {n}.
    """

    type_folders: Mapping[str, str] = field(default_factory=dict)
    captures: Mapping[str, Fact] = field(default_factory=dict)
    kinds: Mapping[str, CaptureKind] = field(default_factory=dict)
    number: int = 1


def initial_of(name: str) -> str | None:
    """Return the first letter or digit of a name, in upper case."""
    letter = next((letter for letter in name if letter.isalnum()), None)
    return None if letter is None else letter.upper()[:1]


def _type_folder(facts: Facts, around: Filling) -> str:
    kind = str(facts("type"))
    return around.type_folders.get(kind, kind.capitalize())


def _size_band(facts: Facts, _: Filling) -> Fact:
    size = facts("size")
    return size_band(size) if isinstance(size, int) else size


EXTRAS: dict[str, tuple[str, Callable[[Facts, Filling], Fact]]] = {
    "initial": ("the first letter or digit of the name, in upper case", lambda facts, _: initial_of(facts.name)),
    "typefolder": ("what `[type-folders]` says for the type, else its name, capitalised", _type_folder),
    "sizeband": ("the size, roughly: " + ", ".join(name for _, name in SIZE_BANDS) + ", " + LARGEST_BAND, _size_band),
    "subpath": ("the folder of the entry below `in`, as one name", lambda facts, _: os.path.dirname(facts.below)),
    "n": ("a counter, the first that makes the name free; `{n:03}` has three digits", lambda _, around: around.number),
    "machine": ("the name of this machine", lambda facts, _: facts.world.machine),
    "user": ("the account that acts", lambda facts, _: facts.world.user),
}
PLACEHOLDER_FIELDS = tuple(name for name, one in FIELDS.items() if one.kind != "flag")


_MOST_DIGITS = 15


def _is_counter(part: str | Slot) -> bool:
    return isinstance(part, Slot) and "n" in part.alternatives


def _value(slot: Slot, facts: Facts, around: Filling) -> Fact:
    found: Fact = None
    for alternative in slot.alternatives:
        if alternative.startswith('"'):
            return alternative[1:-1]
        if alternative in around.kinds:
            found, dated = around.captures.get(alternative), around.kinds[alternative] == "date"
        elif alternative in EXTRAS:
            found, dated = EXTRAS[alternative][1](facts, around), False
        else:
            found, dated = facts(alternative), FIELDS[alternative].kind == "date"
        if isinstance(found, int) and dated:
            try:
                return local_time(found).strftime(slot.codes or "%Y-%m-%d")
            except ValueError as error:
                found = Unknown(str(error))
        if isinstance(found, tuple):
            found = ", ".join(found)
        if isinstance(found, int) and slot.codes.isdigit():
            return f"{found:{slot.codes}d}"
        if isinstance(found, str) and found and slot.codes.isdigit():
            # What a pattern without a format has captured is a text, and may be no number.
            if not (found.isascii() and found.isdigit() and len(found) <= _MOST_DIGITS):
                found = Unknown(f"{found!r} is not a number")
                continue
            return f"{int(found):{slot.codes}d}"
        if found not in (None, "") and not isinstance(found, Unknown):
            return str(found)
    return found


def _fill_segment(segment: Sequence[str | Slot], facts: Facts, around: Filling) -> list[str] | Missing:
    if len(segment) == 1 and isinstance(segment[0], Slot) and segment[0].alternatives == ("name",):
        return [facts.record.place.name]  # a name that exists is one that may exist
    if all(isinstance(part, str) for part in segment):
        return ["".join(map(str, segment))]  # the technician's own words, `..` among them
    pieces = [""]
    for part in segment:
        if isinstance(part, str):
            pieces[-1] += part
            continue
        value = _value(part, facts, around)
        if value in (None, "") or isinstance(value, Unknown):
            return _missing(part, value)
        # The slashes of a date format and of a type folder are the technician's own; those of a value are not.
        own = "/" in part.codes or part.alternatives == ("typefolder",)
        texts = str(value).split("/") if own else [str(value)]
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
    if system.is_device(text):
        stem, dot, rest = text.partition(".")
        text = f"{stem}_{dot}{rest}"
    return system.shortened(text)


def escape_braces(text: str) -> str:
    """Return a text as written in a template or a pattern, where its braces are not placeholders."""
    return text.replace("{", "{{").replace("}", "}}")


def parse_template(
    text: str, places: Mapping[str, str], rename: bool = False, root: str = "", captures: Mapping[str, CaptureKind] = NO_CAPTURES
) -> Template:
    """Read a target.

    Args:
        text: the target as written; it may start with a place.
        places: the folders that `{place}` stands for.
        rename: it is a name, so that it may hold no separator.
        root: an absolute folder that the target is below; without one a place may lead.
        captures: what the condition of the rule captures.

    Raises:
        InvalidValue: a placeholder does not exist or cannot be used there.
    """
    if not text.strip() and not root:
        raise InvalidValue("the target is empty", "name a folder")
    if not root:
        _refuse_slip(text, captures)
    rest = slashed.slashed(text)
    lead = _SLOT.match(text)
    if lead and lead[1] in places and not root:
        root, rest = places[lead[1]], rest[lead.end() :]
        if rest and not rest.startswith("/"):
            raise InvalidValue(f"put a / after {{{lead[1]}}}", f'for example "{{{lead[1]}}}/Sorted"')
    if root:
        top, above = slashed.top_and_names(root)
    else:
        (top, rest), above = slashed.split_top(rest), []
        if not rename and not top and rest.startswith("/"):
            raise InvalidValue("the target begins with a / and names no drive", 'for example "C:/Sorted"')
    segments = [(part,) for part in above] + _segments(rest, places, captures)
    dated = any("/" in part.codes for parts in segments for part in parts if isinstance(part, Slot))
    if rename and (len(segments) != 1 or dated or top or rest.startswith("/")):
        raise InvalidValue("a new name cannot contain a /", "use `move` for folders")
    return Template(text, tuple(segments), top)


# What people write for a placeholder elsewhere: %ext%, <ext>, $ext.
_FOREIGN = re.compile(r"%(\w{2,})%|<(\w{2,})>|\$(\w{2,})")
_CODES = re.compile(r"%[YymdHMSBbjAa](?:[-/_. ]?%[YymdHMSBbjAa])*")


def _refuse_slip(text: str, captures: Mapping[str, CaptureKind]) -> None:
    """Refuse a target that is written for another program, or came through a shell with its quotes.

    Raises:
        InvalidValue: it is; says what to write instead.
    """
    if quoted := re.fullmatch(r"""(['"])(.*)\1""", text):
        raise InvalidValue(f"the quotes around {text} would be part of the name", f"write {quoted[2]} without them")
    has_drives = bool(slashed.split_top("C:/")[0])
    if not has_drives and re.match(r"[A-Za-z]:[\\/]", text):
        raise InvalidValue(f'"{text}" is a path of Windows', "name a folder of this system, such as ~/Sorted")
    if not has_drives and "\\" in text:
        raise InvalidValue(f"a backslash does not separate folders here: {text}", f'write "{text.replace(chr(92), "/")}"')
    plain = _SLOT.sub("", text)
    for found in _FOREIGN.finditer(plain):
        word = next(filter(None, found.groups())).lower()
        if hint := f"{{{word}}}" if word in (*captures, *PLACEHOLDER_FIELDS, *EXTRAS) else meant(word, "placeholder", ()):
            raise InvalidValue(f"`{found[0]}` is not a placeholder", f"use {hint.removeprefix('use ')}")
    if codes := _CODES.search(plain):
        raise InvalidValue(f"`{codes[0]}` is outside braces", f"write {{modified:{codes[0]}}}")


def parse_wording(text: str, places: Mapping[str, str], captures: Mapping[str, CaptureKind] = NO_CAPTURES) -> Wording:
    """Read a text with placeholders.

    Raises:
        InvalidValue: a placeholder does not exist.
    """
    parts: list[str | Slot] = []
    for brace, slot, slash, alone, plain in TOKEN.findall(text):
        if alone:
            raise InvalidValue(
                f'unmatched brace in "{text}"', ("write placeholders like {type}; to use a brace as text, double it")
            )
        parts.append(brace[:1] or slash or plain or _slot(slot, places, captures))
    return Wording(text, tuple(parts))


def _segments(text: str, places: Mapping[str, str], captures: Mapping[str, CaptureKind]) -> list[tuple[str | Slot, ...]]:
    """Split at the slashes outside braces, and each piece into literal texts and slots."""
    segments: list[list[str | Slot]] = [[]]
    for brace, slot, slash, alone, plain in TOKEN.findall(text):
        parts = segments[-1]
        if slash:
            segments.append([])
        elif alone:
            raise InvalidValue(
                f'unmatched brace in "{text}"', ("write placeholders like {type}; to use a brace as text, double it")
            )
        elif brace or plain:
            text = brace[:1] or plain
            if parts and isinstance(parts[-1], str):
                parts[-1] += text
            else:
                parts.append(text)
        else:
            parts.append(_slot(slot, places, captures))
    return [tuple(parts) for parts in segments if parts and parts != ["."]]


def _slot(written: str, places: Mapping[str, str], captures: Mapping[str, CaptureKind]) -> Slot:
    names, colon, codes = _outside_quotes(written)
    # Between single quotes, too: a shell may leave no others.
    found = (part.strip() for part in re.findall(r'"[^"]*"|\'[^\']*\'|[^|"\']+', names))
    alternatives = tuple(f'"{part[1:-1]}"' if part[0] == "'" else part for part in found if part)
    kinds: set[str] = set()
    for alternative in alternatives:
        if alternative.startswith('"'):
            continue
        if alternative in captures:
            kinds.add("captured" if captures[alternative] == "text" else captures[alternative])
        elif alternative in EXTRAS:
            kinds.add("number" if alternative == "n" else "text")
        elif alternative in PLACEHOLDER_FIELDS:
            kind = FIELDS[alternative].kind
            kinds.add("number" if kind in ("size", "number") else kind)
        else:
            _unknown_placeholder(alternative, places, captures)
    if not alternatives:
        raise InvalidValue("a placeholder is empty", "a placeholder looks like {type}")
    if colon:
        _check_codes(written, codes, kinds)
    return Slot(written, alternatives, codes)


def _unknown_placeholder(name: str, places: Mapping[str, str], captures: Mapping[str, CaptureKind]) -> None:
    if name in places:
        raise InvalidValue(f"the place {{{name}}} is allowed only at the start", "write the full folder path")
    known = [*captures, *PLACEHOLDER_FIELDS, *EXTRAS]
    raise InvalidValue(
        f"unknown placeholder {{{name}}}", meant(name, "placeholder", [*known, *places]) or (f"choose from {', '.join(known)}")
    )


def _outside_quotes(written: str) -> tuple[str, str, str]:
    match = re.fullmatch(r'((?:[^":]|"[^"]*")*)(:?)(.*)', written)
    assert match is not None
    return match[1], match[2], match[3]


def _check_codes(written: str, codes: str, kinds: set[str]) -> None:
    if re.fullmatch(r"0?[1-9]", codes) and kinds & {"number", "captured"}:
        return
    if "date" not in kinds:
        raise InvalidValue(
            f"{{{written}}} has a date format but is not a date", "dates take one, as {modified:%Y-%m}, and numbers, as {n:03}"
        )
    found = re.findall(r"%(.?)", codes)
    if not found:
        raise InvalidValue(f"{{{written}}} has a format without codes", "for example {modified:%Y-%m}")
    for code in found:
        if code not in _DATE_CODES or not code:
            raise InvalidValue(f"%{code} is not a date code", "%Y is the year, %m the month, %d the day, %B the month's name")
