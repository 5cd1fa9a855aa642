"""Reading templates of targets and names."""

from __future__ import annotations

import fnmatch
import re
import unicodedata
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from frugal_sorter.rules.fields import FIELDS
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.rules.templates.written import EXTRAS, TOKEN, CaptureKind
from frugal_sorter.rules.units import SECOND_NS
from frugal_sorter.values import frozen

if TYPE_CHECKING:
    import regex


_SECONDS = 0.2
_END = "the end of the name"


class Part(NamedTuple):
    """One part of a pattern.

    Args:
        looks: a regular expression, without groups.
        says: what it stands for, as a person says it.
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
        return f"{read} {self.expected}, found {f'`{self.found}`' if self.found else 'nothing more'}"


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
        if fitting == len(parts) and regex.fullmatch(
            "".join(part.looks for part in parts), text, flags, timeout=_SECONDS
        ):
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
# Parts without a format may end anywhere; a name made for it could keep that search busy for ever.
_READ_SECONDS = 0.2
_LIKE = datetime(2026, 3, 14, 15, 9, 26)


def check_capture_name(name: str) -> None:
    """Refuse a name for a captured part that means something else already.

    Raises:
        InvalidValue: it is a field or a placeholder, or no name at all.
    """
    if name in FIELDS or name in EXTRAS:
        raise InvalidValue(f"{{{name}}} is a placeholder already", "give what is captured another name")
    if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name):
        raise InvalidValue(f"{{{name}}} is no name for what is captured", "use letters and digits")


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
        if stopped is None and (match := self.expression.fullmatch(text, timeout=_READ_SECONDS)) is not None:
            # Every part looks right, so that one of them looks like a date and is none.
            for at, (name, part) in enumerate(zip(self.names, match.groups(), strict=True), start=1):
                if self.kinds[name] == "date" and _moment(part, self.codes[name]) is None:
                    return Stopped(text[: match.start(at)], "a date that the calendar knows", part)
        return stopped

    def _parts(self, text: str) -> dict[str, str | int] | None:
        text = text if text.isascii() else unicodedata.normalize("NFC", text)
        match = self.expression.fullmatch(text, timeout=_READ_SECONDS)
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
                f'a brace stands alone in "{text}"', "a captured part looks like {page}; a brace itself is doubled"
            )
        if slash or plain or brace:
            letters = slash or plain or brace[:1]
            expression += re.escape(letters)
            parts.append(literal(letters))
            continue
        name, colon, form = slot.partition(":")
        if "|" in name or '"' in name:
            raise InvalidValue(f"{{{slot}}} has alternatives", "they go into targets; here a part has one name")
        check_capture_name(name)
        if name in names:
            raise InvalidValue(f"{{{name}}} stands twice", "give each part a name of its own")
        names.append(name)
        looks, kinds[name] = _looks_of(slot, form if colon else "")
        codes[name] = form
        parts.append(Part(looks, _says(kinds[name], form), kinds[name] == "text"))
        expression += f"({looks})"
    import regex

    flags = regex.DOTALL | (0 if exactly else regex.IGNORECASE)
    return Reading(regex.compile(expression, flags), tuple(parts), exactly, tuple(names), codes, kinds)


def _stands_alone(form: str, code: re.Match[str]) -> bool:
    """Return True if no digits can stand right beside a code, so that its own need no zero in front."""
    before, after = form[: code.start()], form[code.end() :]
    return not (re.search(r"(\d|%[^BbAap%])$", before) or re.match(r"\d|%[^BbAap%]", after))


def _says(kind: CaptureKind, form: str) -> str:
    """Return what a part stands for, as a person says it."""
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
            raise InvalidValue(f"%{match[1]} cannot be read in {{{slot}}}", f"known are %{', %'.join(_CODE_LOOKS)}")
        looks += re.escape(form[at : match.start()])
        looks += _ONE_OR_TWO if match[1] in "dm" and _stands_alone(form, match) else _CODE_LOOKS[match[1]]
        at = match.end()
    if not at:
        raise InvalidValue(
            f"{{{slot}}} has a format without codes", "dates take one, as {day:%Y-%m-%d}, numbers, as {page:03}"
        )
    return looks + re.escape(form[at:]), "date"
