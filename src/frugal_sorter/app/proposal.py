"""What names have in common, and rules that a folder suggests."""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence, Set
from datetime import datetime
from typing import Literal, NamedTuple

from frugal_sorter.filesystem.record import OTHER, TYPE_OF_SUFFIX, Listing, stem_of, suffix_of
from frugal_sorter.planning.guard import refused_folder, refused_whole
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.editing import Value, quoted
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.templates import escape_braces as literal
from frugal_sorter.rules.templates import parse_reading
from frugal_sorter.rules.units import DAY_NS, SECOND_NS
from frugal_sorter.trash.bins import never_entered
from frugal_sorter.values import field, frozen, mutable

PieceKind = Literal["word", "number", "date", "between"]
_MONTHS = "January|February|March|April|May|June|July|August|September|October|November|December"
# Each form of a date with what it looks like; the longer ones first.
_DATES: tuple[tuple[str, str], ...] = (
    ("%d %B %Y", rf"\d{{1,2}} (?:{_MONTHS}) \d{{4}}"),
    ("%Y-%m-%d", r"\d{4}-\d{2}-\d{2}"),
    ("%Y_%m_%d", r"\d{4}_\d{2}_\d{2}"),
    ("%Y.%m.%d", r"\d{4}\.\d{2}\.\d{2}"),
    ("%d.%m.%Y", r"\d{2}\.\d{2}\.\d{4}"),
    ("%d-%m-%Y", r"\d{2}-\d{2}-\d{4}"),
    ("%Y%m%d", r"(?<!\d)\d{8}(?!\d)"),
    ("%B %Y", rf"(?:{_MONTHS}) \d{{4}}"),
    ("%Y-%m", r"(?<!\d)\d{4}-\d{2}(?![-\d])"),
)
_OTHERS = r"(?P<number>\d+)|(?P<word>[^\W\d_]+)|(?P<between>[\W_]+)"
_TOKENS = re.compile("|".join([*(f"(?P<d{at}>{looks})" for at, (_, looks) in enumerate(_DATES)), _OTHERS]), re.IGNORECASE)
_FIRST_YEAR, _LAST_YEAR = 1990, 2199


class Token(NamedTuple):
    """A piece of a name; of a date its form."""

    kind: PieceKind
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
    kinds: dict[str, PieceKind] = {"d": "number", "w": "word"}
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
        elif first is not None and first.kind == "date" and {one and (one.kind, one.form) for one in here} == {first[::2]}:
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
    """Return for each name where the next date, number or word is that all of them have, or its end."""
    for place in range(at[0] + 1, len(names[0])):
        wanted = names[0][place]
        if wanted.kind == "between" and not wanted.text.strip(" _-."):
            continue
        found = [_first_like(tokens, begin + 1, wanted) for tokens, begin in zip(names, at, strict=True)]
        if all(found):
            # What is between belongs to the pattern, not to what varies.
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


# A pattern needs this many files, or this part of all.
FEWEST, SHARE = 5, 0.02
# Types whose files are nobody's work: half of them is still on its way, the rest is waited out.
_ON_THE_WAY, _WAITED_OUT = "partial", ("temporary", "installer")
_WAIT = {"temporary": "7 days", "installer": "30 days"}
_OLD = "1 year"
# This many names of a folder are enough to say what it is for.
_MOST_NAMES = 400
_PLURALS = {
    "image": "Images", "video": "Videos", "text": "Texts", "document": "Documents", "spreadsheet": "Spreadsheets",
    "presentation": "Presentations", "archive": "Archives", "installer": "Installers", "model": "Models", "log": "Logs",
    "contact": "Contacts", "ebook": "Books", "font": "Fonts",
}  # fmt: skip
# Names of folders for files of a type, besides the type itself.
_CALLED = {
    "image": ("photo", "picture", "image", "foto", "bild"), "document": ("document", "paper", "letter"),
    "audio": ("music", "recording"), "video": ("video", "film", "movie"), "contact": ("contact", "address"),
    "calendar": ("calendar", "booking", "appointment"), "spreadsheet": ("spreadsheet", "table"),
    "model": ("model", "drawing"), "log": ("log", "protocol"), "archive": ("archive", "backup"),
}  # fmt: skip


@frozen
class Seen:
    """A file: its name, size in bytes and modification time in ns."""

    name: str
    bytes: int
    mtime_ns: int

    @property
    def suffix(self) -> str:
        """Its suffix."""
        return suffix_of(self.name)

    @property
    def stem(self) -> str:
        """Its name without that."""
        return stem_of(self.name)

    @property
    def type(self) -> str:
        """Its type group."""
        return TYPE_OF_SUFFIX.get(self.suffix, OTHER)


@mutable
class Group:
    """Files for which one rule is proposed.

    Args:
        keys: of the rule, without `in`.
        files: that it takes, as far as names and types tell.
        why: what they have in common, in words.
        says_nothing: their names are those that a device gives.
    """

    keys: dict[str, Value]
    files: list[Seen]
    why: str
    says_nothing: bool = False


@mutable
class Folder:
    """A folder that files could go to.

    Args:
        path: where it is.
        names: of files below it, each in pieces, with its suffix.
        form: how its subfolders are named after dates; empty where they are not.
        has_files: some are directly in it.
    """

    path: str
    names: list[tuple[list[Token], str]] = field(default_factory=list)
    form: str = ""
    has_files: bool = False


def propose(folder: str, files: Iterable[Seen], around: Sequence[Folder], now_ns: int) -> list[Group]:
    """Return the groups that some files of a folder fall into, in the order of their rules; each file is in one at most.

    Args:
        folder: where they are, resolved.
        files: in any order.
        around: folders that are there already, which they could go to.
        now_ns: the moment.
    """
    left = sorted(files, key=lambda one: one.name)
    fewest = max(FEWEST, round(SHARE * len(left))) if len(left) >= FEWEST else len(left) + 1
    groups: list[Group] = []

    def take(group: Group) -> None:
        if group.files:
            groups.append(group)
            taken = {one.name for one in group.files}
            left[:] = [one for one in left if one.name not in taken]

    take(_of_type(_ON_THE_WAY, left, {"leave": True}, "still being transferred"))
    for shape, members in shapes(left, fewest):
        reading, suffixes = parse_reading(shape.pattern, False), {member.suffix for member in members}
        taken = [one for one in left if one.suffix in suffixes and reading.fits(one.stem) is True]
        if len(taken) >= fewest:
            take(_by_name(folder, shape, taken, around))
    for name in _WAITED_OUT:
        old = [one for one in left if one.type == name and now_ns - one.mtime_ns > _days(_WAIT[name]) * DAY_NS]
        if old:
            target = _waiting_place(folder, around)
            where = f"type is {name} and modified older than {_WAIT[name]}"
            keys: dict[str, Value] = {"name": f"{_plural(name)} older than {_WAIT[name]}", "where": where, "move": target}
            take(Group(keys, old, f"{_plural(name).lower()} that are usually not needed again"))
    counts = Counter(one.type for one in left)
    for name, count in sorted(counts.items(), key=lambda one: (-one[1], one[0])):
        if count >= fewest and name not in (OTHER, *_WAITED_OUT):
            group = _of_type(name, left, {}, f"of the type {name}")
            group.keys["move"] = _target(folder, around, (name,), group.files, "")
            take(group)
    old = [one for one in left if now_ns - one.mtime_ns > 366 * DAY_NS]
    if len(old) >= fewest:
        where = f"modified older than {_OLD}"
        rest: dict[str, Value] = {"name": f"Whatever else is older than {_OLD}", "where": where, "move": "Older/{modified:%Y}"}
        take(Group(rest, old, "old, but otherwise unrelated"))
    return groups


def _days(text: str) -> int:
    return int(text.split()[0])


def _plural(name: str) -> str:
    return _PLURALS.get(name, name.capitalize())


# Names


def shapes(files: Sequence[Seen], fewest: int, by_last: bool = False) -> list[tuple[Shape, list[Seen]]]:
    """Return the shapes that enough names share, those with the most files first.

    Args:
        files: whose names.
        fewest: how many must share one.
        by_last: names are alike by their last word, too, where the first is somebody's name.
    """
    by_head: dict[tuple[str, str], list[Seen]] = defaultdict(list)
    for one in files:
        for head in (*_heads(one), *(_last(one) if by_last else ())):
            by_head[head].append(one)
    found: list[tuple[Shape, list[Seen]]] = []
    for _, members in sorted(by_head.items(), key=lambda item: (-len(item[1]), item[0])):
        if len(members) < fewest:
            continue
        shape = shape_of([tokens_of(one.stem) for one in members])
        if shape is not None and all(shape.pattern != other.pattern for other, _ in found):
            found.append((shape, members))
    return found


def _heads(one: Seen) -> list[tuple[str, str]]:
    """Return what names of one shape have in common: their type, and the first word with the kinds around it."""
    tokens = tokens_of(one.stem)
    heads = []
    kinds = "".join(token.kind[0] for token in tokens[:3])
    for token in tokens[:4]:
        if token.kind == "word" and len(token.text) > 1:
            heads.append((f"{fold(token.text)} {kinds}", one.type))
            # The same word, whatever follows: what varies is found by aligning.
            heads.append((fold(token.text), one.type))
            break
    return heads


def _last(one: Seen) -> list[tuple[str, str]]:
    words = [token.text for token in tokens_of(one.stem)[-4:] if token.kind == "word" and len(token.text) > 1]
    return [(f"… {fold(words[-1])}", one.type)] if words else []


def _by_name(folder: str, shape: Shape, files: Sequence[Seen], around: Sequence[Folder]) -> Group:
    suffixes = sorted({one.suffix for one in files})
    ext = f"ext in ({', '.join(suffixes)})" if len(suffixes) > 1 else f"ext is {suffixes[0] or 'none'}"
    kind = files[0].type
    words = [word for word in dict.fromkeys(shape.words) if word not in SAYS_NOTHING]
    target = _target(folder, around, (*(words or shape.words), kind), files, shape.day)
    name = f"{_plural(kind)}: {' '.join(dict.fromkeys(shape.words))}"
    keys: dict[str, Value] = {"name": name, "where": f"{ext} and stem fits {quoted(shape.pattern)}", "move": target}
    return Group(keys, list(files), f"named like {shape.pattern}", not words)


def _of_type(name: str, files: Sequence[Seen], more: dict[str, Value], why: str) -> Group:
    keys: dict[str, Value] = {"name": _plural(name), "where": f"type is {name}", **more}
    return Group(keys, [one for one in files if one.type == name], why)


# Places


def _target(folder: str, around: Sequence[Folder], words: Sequence[str], files: Sequence[Seen], day: str) -> str:
    """Return where files go: to a folder that is there and is for them, else to a new one named after them."""
    heads = {_head(tokens_of(one.stem)) for one in files}
    suffixes = {one.suffix for one in files}
    likeness = {one.path: _likeness(one, words, heads, suffixes) for one in around}
    best = max(around, key=lambda one: (likeness[one.path], one.path), default=None)
    dated = day or "modified"
    # In a single folder what comes over years is as hard to find as before.
    months = {datetime.fromtimestamp(one.mtime_ns // SECOND_NS).strftime("%Y-%m") for one in files}
    by_month = f"/{{{dated}:%Y-%m}}" if len(files) >= 20 and len(months) > 2 else ""
    if best is not None and likeness[best.path] >= 1:
        path = literal(slashed.relpath(best.path, folder))
        return f"{path}/{{{dated}:{best.form}}}" if best.form else f"{path}{'' if best.has_files else by_month}"
    *named, kind = words
    title = " ".join(dict.fromkeys(word.capitalize() for word in named if word != kind)) or _plural(kind)
    return f"{title if title.endswith('s') else title + 's'}{by_month}"


def _likeness(folder: Folder, words: Sequence[str], heads: Set[str], suffixes: Set[str]) -> float:
    """Return how surely a folder is for some files; from 1 on it is.

    Args:
        folder: it.
        words: that the names of the files have, their type last.
        heads: the first words of their names.
        suffixes: theirs.
    """
    own = {_stem(token.text) for token in tokens_of(os.path.basename(folder.path)) if token.kind == "word"}
    named = ({_stem(word) for word in words if len(word) > 2} | {*_CALLED.get(words[-1], ())}) & own
    alike = sum(suffix in suffixes and _head(tokens) in heads for tokens, suffix in folder.names)
    same = sum(suffix in suffixes for _, suffix in folder.names)
    share = alike / len(folder.names) if folder.names else 0.0
    types = same / len(folder.names) if folder.names else 0.0
    return len(named) * 0.6 + share + (0.5 if types > 0.8 else 0) + (0.5 if named and types > 0.5 else 0)


def _head(tokens: Sequence[Token]) -> str:
    return next((fold(token.text) for token in tokens if token.kind == "word"), "")


def _stem(word: str) -> str:
    """Return a word without the end of its plural."""
    word = fold(word)
    return word[:-1] if len(word) > 3 and word.endswith("s") else word


def _waiting_place(folder: str, around: Sequence[Folder]) -> str:
    for one in around:
        if {_stem(token.text) for token in tokens_of(os.path.basename(one.path))} & {"holding", "hold", "review", "later"}:
            return literal(slashed.relpath(one.path, folder))
    return "To be asked for"


def folders_around(folder: str, read: Callable[[str], Listing | None]) -> list[Folder]:
    """Return the folders that files of another one could go to: those in it, and those beside it, with what they are for.

    Args:
        folder: resolved.
        read: returns the listing of a folder, None where it cannot be read.
    """
    parent = os.path.dirname(folder)
    # What is beside a home or a system folder belongs to others.
    places = [folder] if refused_whole(parent) or refused_folder(parent) else [folder, parent]
    found: list[Folder] = []
    for place in places:
        listing = read(place)
        for name in sorted(listing.folders) if listing is not None else ():
            path = f"{place.rstrip('/')}/{name}"
            if name[0] != "." and path != folder and not folder.startswith(f"{path}/") and not never_entered(path, name):
                found.append(_look_into(path, read))
    return found


def _look_into(path: str, read: Callable[[str], Listing | None]) -> Folder:
    found, waiting, forms = Folder(path), [(path, 0)], Counter[str]()
    while waiting and len(found.names) < _MOST_NAMES:
        at, depth = waiting.pop(0)
        listing = read(at)
        if listing is None:
            continue
        found.has_files = found.has_files or (depth == 0 and bool(listing.names))
        for name in sorted(listing.names)[: _MOST_NAMES - len(found.names)]:
            found.names.append((tokens_of(stem_of(name)), suffix_of(name)))
        for name in sorted(listing.folders):
            if depth == 0:
                forms[form_of(name)] += 1
            if depth < 2 and name[0] != ".":
                waiting.append((f"{at}/{name}", depth + 1))
    form, count = forms.most_common(1)[0] if forms else ("", 0)
    found.form = form if form and count == sum(forms.values()) else ""
    return found
