"""What each operator asks, written once as expressions over a value `v`."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Sequence
from functools import lru_cache, partial
from math import inf
from typing import Any, Final, Literal, NamedTuple

from frugal_sorter.rules.fields import FieldKind, fold
from frugal_sorter.rules.templates import CaptureKind, Stopped, check_capture_name, parse_reading, parts_of_like, where_stopped
from frugal_sorter.rules.units import InvalidValue, Span, parse_duration, parse_size, parse_span
from frugal_sorter.values import frozen

TEXT: Final[CaptureKind] = "text"
TEXTS: tuple[FieldKind, ...] = ("text", "word", "texts")

OPERATOR_WORDS = ("is", "in", "has", "starts", "ends", "like", "fits", "matches", "older than", "within", "before", "after", "on")
EXAMPLES: dict[FieldKind, str] = {
    "text": 'has "kiln"',
    "word": "is log",
    "texts": "is keep",
    "size": "> 10 MB",
    "number": "> 1",
    "date": "older than 30 days",
}
_GOES_WITH: dict[FieldKind, str] = {
    "text": "is, in, has, starts, ends, like, fits, matches",
    "word": "is, in, has, starts, ends, like, matches",
    "texts": "is, in, has, starts, ends, like, matches",
    "size": "is, in, >, <, >=, <=",
    "number": "is, in, >, <, >=, <=",
    "date": "is, older than, within, before, after, on",
}


# Both ends of an interval; the second number is 1 for what is just above an end, and -1 for just below.
Bounds = tuple[tuple[float, int], tuple[float, int]]


class Expressions(NamedTuple):
    """When a check is surely true and when surely false; `{v}` is the value, `{c0}` a constant.

    `decided` says that it is one of the two for every value.
    """

    true: str
    false: str
    constants: tuple[object, ...] = ()
    decided: bool = False


@frozen(eq=False)
class Check:
    """One question to a value. Dates depend on now, so its expressions are made for a moment."""

    at: Callable[[int], Expressions]
    folded: bool = False
    asks_absence: bool = False
    cost: int = 0
    # Letters, folded, that must be in the text for the check to be true.
    letters: str = ""
    # When, after a moment, the answer to a date may change on its own.
    changes: Callable[[int, int], int | None] | None = None
    # What a text that passes gives to placeholders, and its kind.
    capture: Callable[[str], dict[str, Any] | None] | None = None
    captured: tuple[tuple[str, CaptureKind], ...] = ()
    # Whether a text would pass without spaces, marks and the case of letters.
    alike: Callable[[str], bool] | None = None
    # Where a text that does not pass stops fitting.
    stops: Callable[[str], Stopped | None] | None = None
    # The only texts that pass, where these can be listed; folded where the check is.
    values: frozenset[str] | None = None
    # The letters that a text must start with, end with or have, where that is all.
    part: tuple[Literal["starts", "ends", "has"], str] | None = None
    # Between which bounds, at a moment, the check is true, and between which it is false; None for all others.
    spans: Callable[[int], tuple[Bounds, Bounds | None]] | None = None


def _decided(true: str, *constants: object, folded: bool = False, cost: int = 0, letters: str = "", **more: Any) -> Check:
    """Return a check that is false wherever it is not true."""
    found = Expressions(true, f"not ({true})", constants, decided=True)
    # What is compared letter by letter may hold other letters once it is folded.
    return Check(lambda _: found, folded, cost=cost, letters=letters if folded else "", **more)


def _squash(text: str) -> str:
    return re.sub(r"[\s_.\-]+", "", fold(text))


def _long_enough(squashed: str) -> bool:
    """Return True if a text that is alike says anything; nearly everything is alike to two letters."""
    return len(squashed) >= 3


def among(paths: frozenset[str]) -> Check:
    """Return the check whether a path is one of a list's."""
    return _decided("{v} in {c0}", paths, folded=True)


def flag() -> Check:
    """Return the check of a bare flag."""
    return _decided("{v}")


def absent(kind: FieldKind) -> Check:
    """Return the check whether an entry has no such fact; a text is absent when it is empty."""
    true = "not {v}" if kind in TEXTS else "{v} is None"
    return Check(lambda _: Expressions(true, f"not ({true})"), asks_absence=True)


def one_of(texts: Sequence[str], exactly: bool, word: bool) -> Check:
    """Return the check whether a text is one of some, in any case unless `exactly`."""
    folded = not exactly and not word
    values = frozenset(texts if exactly else map(fold, texts))
    squashed = frozenset(filter(_long_enough, map(_squash, texts)))

    def alike(text: str) -> bool:
        return _squash(text) in squashed

    if len(values) == 1:
        (value,) = values
        return _decided("{v} == {c0}", value, folded=folded, letters=value, alike=alike, values=values)
    return _decided("{v} in {c0}", values, folded=folded, alike=alike, values=values)


def equal(kind: FieldKind, text: str) -> Check:
    """Return the check `is` for a size, a number or a date."""
    if kind == "date":
        return _by_day("on", text)
    number = _number(kind, text)
    return _decided("{v} == {c0}", number, spans=lambda _: (((number, 0), (number, 0)), None))


def compare(name: str, kind: FieldKind, operator: str, text: str, exactly: bool) -> Check:
    """Return the check of an operator other than `is` and `in`.

    Raises:
        InvalidValue: the operator cannot be used with the field, or the value with the operator.
    """
    if operator in (">", "<", ">=", "<=") and kind in ("size", "number"):
        number = _number(kind, text)
        bounds: dict[str, Bounds] = {
            ">": ((number, 1), (inf, 0)),
            ">=": ((number, 0), (inf, 0)),
            "<": ((-inf, 0), (number, -1)),
            "<=": ((-inf, 0), (number, 0)),
        }
        return _decided(f"{{v}} {operator} {{c0}}", number, spans=lambda _: (bounds[operator], None))
    if operator in ("older than", "within") and kind == "date":
        return _by_age(operator, text)
    if operator in ("before", "after", "on") and kind == "date":
        return _by_day(operator, text)
    if operator in _TEXTUAL and kind in TEXTS and not (operator == "fits" and kind != "text"):
        if not text:
            raise InvalidValue(
                f"`{name} {operator}` has an empty value", (f"to match files without a value, write `{name} is none`")
            )
        return _TEXTUAL[operator](text, exactly)
    hint = f"`{name}` takes {_GOES_WITH[kind]}"
    if kind == "date" and operator in (">", "<", ">=", "<=") and re.match(r"\d+ ?[a-z]", text):
        hint = f"use `{name} {'older than' if operator[0] == '>' else 'within'} {text}`"
    if kind == "date" and operator in (">", "<", ">=", "<=") and re.fullmatch(r"[0-9]{4}(-[0-9-]*)?", text):
        hint = f"use `{name} {'after' if operator[0] == '>' else 'before'} {text}`"
    raise InvalidValue(f"`{operator}` cannot be used with `{name}`", hint)


def _number(kind: FieldKind, text: str) -> float:
    if kind == "size":
        return parse_size(text)
    if not re.fullmatch(r"[0-9]{1,15}(\.[0-9]+)?", text):
        raise InvalidValue(f'"{text}" is not a number', "a number looks like 2")
    return float(text)


def _by_age(operator: str, text: str) -> Check:
    duration = parse_duration(text)

    def at(now_ns: int) -> Expressions:
        # A date in the future is neither old nor recent: both expressions are false of it.
        constants = (duration.before(now_ns), now_ns)
        older, recent = "{v} < {c0}", "{c0} <= {v} <= {c1}"
        return Expressions(older, recent, constants) if operator != "within" else Expressions(recent, older, constants)

    def changes(value: int, now_ns: int) -> int | None:
        if value > now_ns:
            return value
        turns = duration.after(value)
        return turns if turns > now_ns else None

    def spans(now_ns: int) -> tuple[Bounds, Bounds]:
        limit = duration.before(now_ns)
        older: Bounds = ((-inf, 0), (limit, -1))
        recent: Bounds = ((limit, 0), (now_ns, 0))
        return (older, recent) if operator != "within" else (recent, older)

    return Check(at, changes=changes, spans=spans)


def _by_day(operator: str, text: str) -> Check:
    span = parse_span(text)

    def at(now_ns: int) -> Expressions:
        first, end = span.bounds(now_ns)
        true = {"on": "{c0} <= {v} < {c1}", "before": "{v} < {c0}", "after": "{v} >= {c1}"}[operator]
        return Expressions(true, f"not ({true})", (first, end))

    def changes(_: int, now_ns: int) -> int | None:
        # Only today and yesterday mean another day tomorrow.
        return Span(None, 3).bounds(now_ns)[1] if span.first is None else None

    def spans(now_ns: int) -> tuple[Bounds, None]:
        first, end = span.bounds(now_ns)
        within: dict[str, Bounds] = {
            "on": ((first, 0), (end, -1)),
            "before": ((-inf, 0), (first, -1)),
            "after": ((end, 0), (inf, 0)),
        }
        return within[operator], None

    return Check(at, changes=changes, spans=spans)


# Where a text is in another one: as an expression over both, and as a test.
_PARTS: dict[str, tuple[str, Callable[[str, str], bool]]] = {
    "has": ("{c0} in {v}", lambda one, part: part in one),
    "starts": ("{v}.startswith({c0})", str.startswith),
    "ends": ("{v}.endswith({c0})", str.endswith),
}


def _part(where: str, text: str, exactly: bool) -> Check:
    written, squashed = text if exactly else fold(text), _squash(text)
    expression, stands = _PARTS[where]

    def alike(one: str) -> bool:
        return _long_enough(squashed) and stands(_squash(one), squashed)

    return _decided(expression, written, folded=not exactly, letters=written, alike=alike, part=(where, written))


def _like(text: str, exactly: bool) -> Check:
    """Shell wildcards, after the pattern matching notation of POSIX.1-2017, section 2.13."""
    written = text if exactly else fold(text)
    match = re.compile(fnmatch.translate(written)).match
    head = re.split(r"[*?\[]", written)[0]
    part = _plain_part(written)
    parts = parts_of_like(text)

    def stops(one: str) -> Stopped | None:
        return where_stopped(parts, one, exactly)

    # Most names fail at the first letters, which are cheaper to compare than a pattern.
    if head:
        true = "{v}.startswith({c1}) and {c0}({v}) is not None"
        return _decided(true, match, head, folded=not exactly, cost=1, letters=head, stops=stops, part=part)
    tail = "" if "[" in written else re.split(r"[*?]", written)[-1]
    return _decided("{c0}({v}) is not None", match, folded=not exactly, cost=1, letters=tail, stops=stops, part=part)


def _plain_part(pattern: str) -> tuple[Literal["starts", "ends", "has"], str] | None:
    """Return what a pattern with one or two stars alone at its ends asks for."""
    letters = pattern.strip("*")
    if not letters or re.search(r"[*?\[]", letters):
        return None
    before, after = pattern.startswith("*"), pattern.endswith("*")
    return ("has" if after else "ends", letters) if before else ("starts", letters) if after else None


class TimedSearch:
    """A regular expression that gives up: some take longer than the universe lasts.

    Calling it returns whether the expression is found in a text, None where that took too long.
    """

    _ONE_SECONDS = 0.2
    _ALL_SECONDS = 2.0

    def __init__(self, text: str, exactly: bool) -> None:
        import regex

        try:
            self._pattern = regex.compile(text, 0 if exactly else regex.IGNORECASE)
        except regex.error as error:
            raise InvalidValue(f'"{text}" is not a regular expression ({error})', "`like` takes simple wildcards") from None
        self._left = self._ALL_SECONDS
        self.groups: tuple[str, ...] = tuple(self._pattern.groupindex)
        for group in self.groups:
            check_capture_name(group)

    def capture(self, text: str) -> dict[str, str] | None:
        """Return the named groups of the first place where it is found."""
        try:
            found = self._pattern.search(text, timeout=self._ONE_SECONDS)
        except TimeoutError:
            return None
        return None if found is None else {name: value or "" for name, value in found.groupdict().items()}

    def __call__(self, text: str) -> bool | None:
        if self._left <= 0:
            return None
        try:
            return self._pattern.search(text, timeout=self._ONE_SECONDS) is not None
        except TimeoutError:
            self._left -= self._ONE_SECONDS
            return None


def _kept_by_folding(text: str) -> str:
    """Return letters, folded, that are in each folded text that has this text in any case; empty for none."""
    # A mark that follows can join the last letter. An `I` in an expression also matches a dotless one, which folds to itself.
    runs = re.findall(r"[A-HJ-Za-z0-9_ -]*[0-9_ -]|[A-HJ-Za-z0-9_ -]+(?=[A-HJ-Za-z])", text)
    return fold(max(runs, key=len, default=""))


def _head_of(expression: str) -> str:
    """Return the letters that a regular expression begins with, as far as these are certain."""
    if "|" in expression or "(?" in expression:
        return ""  # another branch, or flags that change the meaning of letters
    head, quantity = re.findall(r"^\^?([A-Za-z0-9_ -]*)([?*+{]?)", expression)[0]
    return str(head[:-1] if quantity else head)


def _matches(text: str, exactly: bool) -> Check:
    search = TimedSearch(text, exactly)
    found = Expressions("{c0}({v}) is True", "{c0}({v}) is False", (search,))
    captured = tuple((group, TEXT) for group in search.groups)
    letters = _kept_by_folding(_head_of(text))
    return Check(lambda _: found, cost=3, letters=letters, capture=search.capture if captured else None, captured=captured)


def _fits(text: str, exactly: bool) -> Check:
    reading = parse_reading(text, exactly)
    found = Expressions("{c0}({v}) is True", "{c0}({v}) is False", (reading.fits,))
    captured = tuple(reading.kinds.items())
    letters = max((_kept_by_folding(part.letters) for part in reading.parts), key=len, default="")
    return Check(lambda _: found, cost=2, letters=letters, capture=reading.read, captured=captured, stops=reading.stops)


_TEXTUAL: dict[str, Callable[[str, bool], Check]] = {
    "has": partial(_part, "has"),
    "starts": partial(_part, "starts"),
    "ends": partial(_part, "ends"),
    "like": _like,
    "fits": _fits,
    "matches": _matches,
}


@lru_cache(maxsize=2_000)
def asker(check: Check, now_ns: int) -> Callable[[object], bool | None]:
    """Return a check as a function of the value, made of the same expressions as the matcher."""
    found = check.at(now_ns)
    names: dict[str, object] = {f"c{i}": constant for i, constant in enumerate(found.constants)}
    shown = {name: name for name in names}
    true, false = (part.format(v="v", **shown) for part in (found.true, found.false))
    code = f"lambda v: True if {true} else False if {false} else None"
    asked: Callable[[object], bool | None] = eval(code, names)
    return asked
