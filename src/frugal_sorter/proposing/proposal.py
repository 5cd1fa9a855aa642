"""What a folder suggests: groups of files that share the shape of their names, or a type, each with a place to go to."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence, Set
from datetime import datetime

from frugal_sorter.filesystem.record import Listing
from frugal_sorter.filesystem.types import OTHER, TYPE_OF_SUFFIX, stem_of, suffix_of
from frugal_sorter.planning.guard import never_entered, refused_folder, refused_whole
from frugal_sorter.platforms import slashed
from frugal_sorter.proposing.names import SAYS_NOTHING, Shape, Token, form_of, shape_of, tokens_of
from frugal_sorter.rules.fields import fold
from frugal_sorter.rules.file.one_rule import Value, quoted
from frugal_sorter.rules.templates.read import parse_reading
from frugal_sorter.rules.templates.written import literal
from frugal_sorter.rules.units import DAY_NS, SECOND_NS
from frugal_sorter.values import field, frozen, mutable

# A pattern needs so many files, or this part of all.
FEWEST, SHARE = 5, 0.02
# Types whose files are nobody's work: half of them is still on its way, the rest is waited out.
_ON_THE_WAY, _WAITED_OUT = "partial", ("temporary", "installer")
_WAIT = {"temporary": "7 days", "installer": "30 days"}
_OLD = "1 year"
# So many names of a folder say what it is for.
_MOST_NAMES = 400
_PLURALS = {
    "image": "Images", "video": "Videos", "text": "Texts", "document": "Documents", "spreadsheet": "Spreadsheets",
    "presentation": "Presentations", "archive": "Archives", "installer": "Installers", "model": "Models", "log": "Logs",
    "contact": "Contacts", "ebook": "Books", "font": "Fonts",
}  # fmt: skip
# What folders for files of a type are called, besides the type itself.
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
        has_files: some lie directly in it.
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

    take(_of_type(_ON_THE_WAY, left, {"leave": True}, "still on their way"))
    for shape, members in _shapes(left, fewest):
        reading, suffixes = parse_reading(shape.pattern, False), {member.suffix for member in members}
        taken = [one for one in left if one.suffix in suffixes and reading.fits(one.stem) is True]
        if len(taken) >= fewest:
            take(_by_name(folder, shape, taken, around))
    for name in _WAITED_OUT:
        old = [one for one in left if one.type == name and now_ns - one.mtime_ns > _days(_WAIT[name]) * DAY_NS]
        if old:
            target = _waiting_place(folder, around)
            where = f"type is {name} and modified older than {_WAIT[name]}"
            keys: dict[str, Value] = {
                "name": f"{_plural(name)} older than {_WAIT[name]}",
                "where": where,
                "move": target,
            }
            take(Group(keys, old, f"{_plural(name).lower()} that nobody needs twice"))
    counts = Counter(one.type for one in left)
    for name, count in sorted(counts.items(), key=lambda one: (-one[1], one[0])):
        if count >= fewest and name not in (OTHER, *_WAITED_OUT):
            group = _of_type(name, left, {}, f"of the type {name}")
            group.keys["move"] = _target(folder, around, (name,), group.files, "")
            take(group)
    old = [one for one in left if now_ns - one.mtime_ns > 366 * DAY_NS]
    if len(old) >= fewest:
        where = f"modified older than {_OLD}"
        rest: dict[str, Value] = {
            "name": f"Whatever else is older than {_OLD}",
            "where": where,
            "move": "Older/{modified:%Y}",
        }
        take(Group(rest, old, "old, and nothing else in common"))
    return groups


def _days(text: str) -> int:
    return int(text.split()[0])


def _plural(name: str) -> str:
    return _PLURALS.get(name, name.capitalize())


# Names


def _shapes(files: Sequence[Seen], fewest: int) -> list[tuple[Shape, list[Seen]]]:
    """Return the shapes that enough names share, those with the most files first."""
    by_head: dict[tuple[str, str], list[Seen]] = defaultdict(list)
    for one in files:
        for head in _heads(one):
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
        if {_stem(token.text) for token in tokens_of(os.path.basename(one.path))} & {
            "holding",
            "hold",
            "review",
            "later",
        }:
            return literal(slashed.relpath(one.path, folder))
    return "To be asked for"


def folders_around(folder: str, read: Callable[[str], Listing | None]) -> list[Folder]:
    """Return the folders that files of another one could go to: those in it, and those beside it, with what they are for.

    Args:
        folder: resolved.
        read: returns the listing of a folder, None where it cannot be read.
    """
    parent = os.path.dirname(folder)
    # Beside a home or a system folder lies what belongs to others.
    places = [folder] if refused_whole(parent) or refused_folder(parent) else [folder, parent]
    found: list[Folder] = []
    for place in places:
        listing = read(place)
        for name in sorted(listing.folders) if listing is not None else ():
            path = f"{place.rstrip('/')}/{name}"
            if (
                name[0] != "."
                and path != folder
                and not folder.startswith(f"{path}/")
                and not never_entered(path, name)
            ):
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
