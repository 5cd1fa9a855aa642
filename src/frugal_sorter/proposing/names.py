"""Names that share a shape: taken apart into words, numbers, dates and what stands between, and aligned."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from datetime import datetime
from typing import Literal, NamedTuple

from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.templates.written import literal
from frugal_sorter.values import frozen

Kind = Literal["word", "number", "date", "between"]
_MONTHS = "January|February|March|April|May|June|July|August|September|October|November|December"
# Each form of a date with what it looks like; the longer ones first.
_DATES: tuple[tuple[str, str], ...] = (
    ("%d %B %Y", rf"\d{{1,2}} (?:{_MONTHS}) \d{{4}}"), ("%Y-%m-%d", r"\d{4}-\d{2}-\d{2}"), ("%Y_%m_%d", r"\d{4}_\d{2}_\d{2}"),
    ("%Y.%m.%d", r"\d{4}\.\d{2}\.\d{2}"), ("%d.%m.%Y", r"\d{2}\.\d{2}\.\d{4}"), ("%d-%m-%Y", r"\d{2}-\d{2}-\d{4}"),
    ("%Y%m%d", r"(?<!\d)\d{8}(?!\d)"), ("%B %Y", rf"(?:{_MONTHS}) \d{{4}}"), ("%Y-%m", r"(?<!\d)\d{4}-\d{2}(?![-\d])"),
)  # fmt: skip
_OTHERS = r"(?P<number>\d+)|(?P<word>[^\W\d_]+)|(?P<between>[\W_]+)"
_TOKENS = re.compile(
    "|".join([*(f"(?P<d{at}>{looks})" for at, (_, looks) in enumerate(_DATES)), _OTHERS]), re.IGNORECASE
)
_FIRST_YEAR, _LAST_YEAR = 1990, 2199


class Token(NamedTuple):
    """A piece of a name; of a date its form."""

    kind: Kind
    text: str
    form: str = ""


def tokens_of(stem: str) -> list[Token]:
    """Return a name without its suffix in pieces."""
    found: list[Token] = []
    for match in _TOKENS.finditer(stem):
        group, text = match.lastgroup or "", match[0]
        if group.startswith("d"):
            form = _DATES[int(group[1:])][0]
            found += [Token("date", text, form)] if _is_date(text, form) else _plain(text)
        else:
            found.append(Token(group, text))  # type: ignore[arg-type]
    return found


def _plain(text: str) -> list[Token]:
    """Return pieces of what looks like a date and is none."""
    kinds: dict[str, Kind] = {"d": "number", "w": "word"}
    return [
        Token(kinds["d"] if piece.isdigit() else kinds["w"] if piece.isalpha() else "between", piece)
        for piece in re.findall(r"\d+|[^\W\d_]+|[\W_]+", text)
    ]


def form_of(folder: str) -> str:
    """Return the form of a date that a folder is named after, such as `%Y-%m`; empty where it is not.

    Args:
        folder: its name.
    """
    if len(folder) == 4 and folder.isdigit():
        return "%Y" if _FIRST_YEAR <= int(folder) <= _LAST_YEAR else ""
    tokens = tokens_of(folder)
    return tokens[0].form if len(tokens) == 1 and tokens[0].kind == "date" else ""


def _is_date(text: str, form: str) -> bool:
    try:
        return _FIRST_YEAR <= datetime.strptime(text, form).year <= _LAST_YEAR
    except ValueError:
        return False


# Words of names that say what a device made, and nothing of what is in it.
SAYS_NOTHING = frozenset("img dsc dscn dscf pict pxl scan image document doc file untitled new".split())


@frozen
class Shape:
    """A pattern that names share, as `fits` reads it.

    Args:
        pattern: with its captures in braces.
        day: the name of the first date in it; empty where it has none.
        words: the words that all the names have.
    """

    pattern: str
    day: str
    words: tuple[str, ...]


def shape_of(names: Sequence[Sequence[Token]]) -> Shape | None:
    """Return the pattern that some names share; None where that says nothing: no word in it, or nothing that varies.

    Args:
        names: each as `tokens_of` returns it.
    """
    at = [0] * len(names)
    parts: list[str] = []
    words: list[str] = []
    captured: Counter[str] = Counter()
    day = ""
    while True:
        here = [tokens[place] if place < len(tokens) else None for tokens, place in zip(names, at, strict=True)]
        if not any(here):
            break
        first = here[0]
        if first is not None and all(one is not None and fold(one.text) == fold(first.text) for one in here):
            parts.append(literal(first.text))
            words += [fold(first.text)] if first.kind == "word" else []
        elif (
            first is not None
            and first.kind == "date"
            and {one and (one.kind, one.form) for one in here} == {first[::2]}
        ):
            name = _named(captured, "day")
            day = day or name
            parts.append(f"{{{name}:{first.form}}}")
        elif all(one is not None and one.kind == "number" for one in here):
            parts.append(f"{{{_named(captured, 'number')}}}")
        else:
            ends = _next_anchor(names, at)
            # Two captures side by side could be cut anywhere.
            if parts and parts[-1].startswith("{") and not parts[-1].startswith("{{"):
                return None
            if any(end <= begin for begin, end in zip(at, ends, strict=True)):
                return None
            parts.append(f"{{{_named(captured, 'label')}}}")
            at = ends
            continue
        at = [place + 1 for place in at]
    if not words or not captured or sum(map(len, words)) < 3:
        return None
    return Shape("".join(parts), day, tuple(words))


def _named(captured: Counter[str], name: str) -> str:
    captured[name] += 1
    return name if captured[name] == 1 else f"{name}{captured[name]}"


def _next_anchor(names: Sequence[Sequence[Token]], at: Sequence[int]) -> list[int]:
    """Return for each name where the next date, number or word stands that all of them have; its end where none is."""
    for place in range(at[0] + 1, len(names[0])):
        wanted = names[0][place]
        if wanted.kind == "between" and not wanted.text.strip(" _-."):
            continue
        found = [_first_like(tokens, begin + 1, wanted) for tokens, begin in zip(names, at, strict=True)]
        if all(found):
            # What stands between belongs to the pattern, not to what varies.
            before = [tokens[one - 1] for tokens, one in zip(names, found, strict=True)]
            if all(one.kind == "between" and one.text == before[0].text for one in before) and all(
                one - 1 > begin for one, begin in zip(found, at, strict=True)
            ):
                return [one - 1 for one in found]
            return found
    return [len(tokens) for tokens in names]


def _first_like(tokens: Sequence[Token], begin: int, wanted: Token) -> int:
    for place in range(begin, len(tokens)):
        one = tokens[place]
        if wanted.kind in ("date", "number"):
            if (one.kind, one.form) == (wanted.kind, wanted.form):
                return place
        elif one.kind == wanted.kind and fold(one.text) == fold(wanted.text):
            return place
    return 0
