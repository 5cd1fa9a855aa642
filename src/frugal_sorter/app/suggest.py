"""A rule file to start from: learned from a sorted tree or from contents, or proposed from what is in a folder."""

from __future__ import annotations

import importlib.util
import os
import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress

from frugal_sorter.app.learning import PART, Item, LearntRule, Score, Test, learn, score_of
from frugal_sorter.app.proposal import FEWEST, Group, Seen, folders_around, propose, shapes
from frugal_sorter.app.session import Session
from frugal_sorter.filesystem.content_readers import family_of
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, Listing, Unknown, Unread, is_inside, name_order, place_of, suffix_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.walk import read_folder, walk
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.by_rules import plan_by_rules
from frugal_sorter.planning.endings import EarlierRuns
from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Outcome
from frugal_sorter.reports.saved import kept_of
from frugal_sorter.rules.editing import Value, quoted, rule_text_in
from frugal_sorter.rules.fields import FIELDS, Facts, fold
from frugal_sorter.rules.load import FORMAT, read_rules
from frugal_sorter.rules.templates import escape_braces as literal
from frugal_sorter.state import ready_state_folder
from frugal_sorter.trash.bins import never_entered
from frugal_sorter.values import frozen, mutable, replace

# Of letters, and long enough to be no filler.
_WORD = re.compile(r"[^\W\d_]{4,}")
# This many characters at the top are the heading or the letterhead, and say what the file is.
_TOP = 200
# A word that more of them have separates nothing; one that is below the top elsewhere is not a heading.
_MOST_SHARE, _AT_THE_TOP = 0.6, 0.8


def split_by_words(group: Group, texts: Mapping[str, str]) -> list[Group]:
    """Return a group in pieces: those of its files whose first lines share a word, most files first, and what is left.

    Args:
        group: whose names say nothing.
        texts: by name of a file, the text in it, folded; those that were not read are missing.
    """
    left = [one for one in group.files if one.name in texts]
    most, pieces = _MOST_SHARE * len(left), list[Group]()
    while found := _telling_word(left, texts, most):
        word, taken = found
        pieces.append(_of_word(group, word, taken))
        left = [one for one in left if one not in taken]
    gone = {one.name for piece in pieces for one in piece.files}
    rest = [one for one in group.files if one.name not in gone]
    return [*pieces, replace(group, files=rest)] if rest else pieces


def _telling_word(files: Sequence[Seen], texts: Mapping[str, str], most: float) -> tuple[str, list[Seen]] | None:
    """Return the word that heads most of some files and tells them from others, and the files that have it."""
    # Of words that head as many, the one that comes first in the text: a letterhead is above its subject.
    tops = Counter(word for one in files for word in dict.fromkeys(_WORD.findall(texts[one.name][:_TOP])))
    for word, count in tops.most_common():
        taken = [one for one in files if word in texts[one.name]]
        if count >= FEWEST and len(taken) <= most and count >= _AT_THE_TOP * len(taken):
            return word, taken
    return None


def _of_word(group: Group, word: str, taken: Sequence[Seen]) -> Group:
    keys = dict(group.keys)
    keys["name"] = f"{group.keys['name']}, {word}"
    keys["where"] = f"{group.keys['where']} and text has {quoted(word)}"
    keys["move"] = f"{group.keys['move']}/{word.capitalize()}"
    return Group(keys, list(taken), f"with the word {word} at the top", True)


# The first line of a rule file.
HEAD = f"frugal = {FORMAT}"
# From more files than these no more is learnt.
_MOST_LEARNT = 20_000
# How many files with names that say nothing are opened, evenly drawn, and how much text of each counts.
_MOST_OPENED, _MOST_TEXT = 400, 20_000
# A folder of more files than these with names of one shape is not read through for words.
_MOST_READ = 1_000
# How many files of a group are opened, and which part of them must have it.
_LOOKED_INTO, _NEARLY_ALL = 30, 0.8


@mutable
class Proposal:
    """A rule file that is proposed.

    Args:
        groups: what its rules take.
        texts: of each group, the rule as written in a file.
        plan: what they would do.
        seen: how many files were looked at.
    """

    groups: Sequence[Group]
    texts: Sequence[str]
    plan: Plan | None
    seen: int

    def taken(self, name: str) -> list[str]:
        """Return the names of what a rule would take, as the planner has it."""
        assert self.plan is not None
        return [step.place.name for step in self.plan.asked if step.rule == name]


def suggest(session: Session, folder: str) -> Proposal:
    """Return the rules that a folder suggests; nothing is changed.

    Args:
        session: of the command.
        folder: absolute, resolved.

    Raises:
        OSError: it cannot be read.
    """
    listing = read_folder(folder, True)
    files = [
        Seen(name, status.st_size, status.st_mtime_ns)
        for name, status in zip(listing.names, listing.status, strict=True)
        if name[0] != "."
    ]
    groups = propose(folder, files, folders_around(folder, _read), session.now_ns)
    if not groups:
        return Proposal([], [], None, len(files))
    groups = [found for group in groups for found in _by_words(session, folder, group)]
    for group in groups:
        _use_what_stands_inside(session, folder, group)
    for group, name in zip(groups, _distinct(str(group.keys["name"]) for group in groups), strict=True):
        group.keys["name"] = name
    texts = [rule_text_in(folder, group.keys) for group in groups]
    raw = "\n".join([HEAD, *texts]).encode("utf-8", "surrogateescape")
    plan = plan_by_rules(read_rules(raw, Path(folder) / "proposed.toml"), session.world(), EarlierRuns(), True)
    return Proposal(groups, texts, plan, len(files))


def _use_what_stands_inside(session: Session, folder: str, group: Group) -> None:
    """Name files, or the folder of recordings, after what nearly all of them have inside."""
    kind = group.files[0].type
    if kind == "audio":
        artists = _known(session, folder, group, "artist")
        # One folder for each is useless, and one for all would be a folder in a folder.
        if 1 < len(set(artists)) <= len(artists) / 2:
            group.keys["move"] = f'{group.keys["move"]}/{{artist|"Unknown artist"}}'
        if group.says_nothing and _known(session, folder, group, "title"):
            group.keys["rename"] = '{artist|"Unknown artist"} - {title}.{ext}'
    elif group.says_nothing and kind == "image":
        if _known(session, folder, group, "taken"):
            group.keys["rename"] = "{taken|modified:%Y-%m-%d} {name}"
            group.keys["move"] = str(group.keys["move"]).replace("{modified:", "{taken|modified:")
        else:
            group.why += "; neither a date taken nor text was found in them, so that they keep their names"
    elif group.says_nothing:
        titles = _known(session, folder, group, "title")
        if titles and len(set(titles)) == len(titles):
            group.keys["rename"] = "{title}.{ext}"
        else:
            _name_by_text(session, folder, group)


# The names of numbers in business papers, and the forms of dates in them; the first form that most of them have is used.
_NUMBER = (
    r"\b(?P<paper>invoice|receipt|order|quotation|delivery note|statement|contract)\s*(?:no\.?|nr\.?|number|#)?\s*:?\s*"
    r"(?P<reference>[A-Z]{0,4}[-/]?\d[\w/-]{2,20})"
)
_DAYS = (
    r"\b(?P<date>20\d\d-\d\d-\d\d)\b",
    r"\b(?P<date>\d\d?\.\d\d?\.20\d\d)\b",
    r"\b(?P<date>\d\d? (?:January|February|March|April|May|June|July|August|September|October|November|December) 20\d\d)\b",
)


def _name_by_text(session: Session, folder: str, group: Group) -> None:
    """Name papers after the number and the date in their text, where nearly all of them have these."""
    texts = list(map(str, _looked_at(session, folder, group, "text")))
    of = min(len(group.files), _LOOKED_INTO)
    if not texts:
        group.why += f"; no text was found in the {of:,} that were opened, so that they keep their names"
        return
    found = {}
    for name, expressions in (("date", _DAYS), ("paper} {reference", (_NUMBER,))):
        counts = [sum(re.search(one, text, re.IGNORECASE) is not None for text in texts) for one in expressions]
        if max(counts) >= _NEARLY_ALL * of:
            found[name] = expressions[counts.index(max(counts))], max(counts)
    if "paper} {reference" not in found:
        return
    tests = [f"text matches {quoted(expression)}" for expression, _ in found.values()]
    group.keys["where"] = " and ".join([str(group.keys["where"]), *tests])
    group.keys["rename"] = " ".join(f"{{{name}}}" for name in found) + ".{ext}"
    counts_text = ", ".join(f"{'date' if name == 'date' else 'number'} in {count:,}" for name, (_, count) in found.items())
    group.why += f"; of the {of:,} that were opened, it found the {counts_text}"


def _known(session: Session, folder: str, group: Group, field: str) -> list[object]:
    """Return what is known of a field of some files of a group; nothing where too few of them have it."""
    known = _looked_at(session, folder, group, field)
    return known if len(known) >= _NEARLY_ALL * min(len(group.files), _LOOKED_INTO) else []


def _looked_at(session: Session, folder: str, group: Group, field: str) -> list[object]:
    """Return what is known of a field of the files of a group that are opened."""
    library = FIELDS[field].library
    if library and importlib.util.find_spec(library) is None:
        return []
    looked = group.files[:_LOOKED_INTO]
    return list(_inside(session, [f"{folder}/{one.name}" for one in looked], folder, field).values())


def _by_words(session: Session, folder: str, group: Group) -> list[Group]:
    """Return a group split by what is at the top of its files."""
    # A rule that asks for words has the planner open every file.
    if not group.says_nothing or len(group.files) > _MOST_READ:
        return [group]
    readable = [f"{folder}/{one.name}" for one in group.files if _has_text(one.name)]
    texts = _inside(session, readable, folder, "text")
    return split_by_words(group, {os.path.basename(path): fold(str(text)) for path, text in texts.items()})


def _inside(session: Session, paths: Sequence[str], folder: str, field: str) -> dict[str, object]:
    """Return what is known of a field of files, by path; of very many an even part is opened."""
    known: dict[str, object] = {}
    world = session.world()
    for path in sorted(paths)[:: -(-len(paths) // _MOST_OPENED) or 1]:
        with suppress(OSError):
            found = Facts(look(place_of(path)), folder, TYPE_OF_SUFFIX, world)(field)
            if found not in (None, "") and not isinstance(found, Unknown):
                known[path] = found
    world.contents.close()
    return known


def _read(folder: str) -> Listing | None:
    try:
        return read_folder(folder, False)
    except OSError:
        return None


def _distinct(names: Iterable[str]) -> list[str]:
    """Return names of rules, no two of them alike: the second of one name is called `NAME (2)`."""
    known: list[str] = []
    for name in names:
        shown, number = name, 2
        while shown in known:
            shown, number = f"{name} ({number})", number + 1
        known.append(shown)
    return known


@mutable
class Learnt:
    """A rule file that was learnt from a tree that somebody sorted.

    Args:
        rules: in order.
        score: how good such a list is on files that it was not made from.
        text: the rule file.
        items: how many files it was learnt from.
        there: how many there are; of very many an even part is learnt from.
        unread: what could not be read.
    """

    rules: Sequence[LearntRule]
    score: Score
    text: str
    items: int
    there: int
    unread: list[Unread]


def learn_from(session: Session, folder: str, sorted_tree: str) -> Learnt:
    """Return rules that put files of a folder where somebody would put them who sorted a tree by hand; nothing is changed.

    Args:
        session: of the command.
        folder: in which the rules act, resolved.
        sorted_tree: the tree, resolved.

    Raises:
        OSError: it cannot be read.
    """
    items: list[Item] = []
    unread: list[Unread] = []

    def descend(listing: Listing, name: str, level: int) -> int | None:
        inside = never_entered(f"{listing.folder}/{name}", name) or name[0] == "." or f"{listing.folder}/{name}" == folder
        return None if inside else level + 1

    for listing, _ in walk(sorted_tree, 1, True, descend, unread.append):
        below = listing.folder[len(sorted_tree.rstrip("/")) + 1 :]
        # What is directly in the tree is not sorted yet.
        items += [
            Item(name, below, status.st_size, status.st_mtime_ns)
            for name, status in zip(listing.names, listing.status, strict=True)
            if below and name[0] != "."
        ]
    there = len(items)
    if there > _MOST_LEARNT:
        # Evenly, so that each folder keeps its part.
        items = sorted(items, key=lambda one: (one.folder, one.name))[:: -(-there // _MOST_LEARNT)]
    items = _with_text(session, sorted_tree, items)
    rules = learn(items)
    score = score_of(items) if rules else Score()
    return Learnt(rules, score, _learnt_text(folder, sorted_tree, rules), len(items), there, unread)


def _with_text(session: Session, tree: str, items: Sequence[Item]) -> list[Item]:
    """Return files with the text in those whose names say nothing."""
    silent = {
        f"{tree.rstrip('/')}/{item.folder}/{item.name}": item for item in items if item.says_nothing and _has_text(item.name)
    }
    known = {silent[path]: fold(str(text))[:_MOST_TEXT] for path, text in _inside(session, list(silent), tree, "text").items()}
    return [item._replace(inside=known[item]) if item in known else item for item in items]


def _has_text(name: str) -> bool:
    """Return True if a file of that name has text in it that can be read here."""
    suffix = suffix_of(name)
    return importlib.util.find_spec("pypdf") is not None if suffix == "pdf" else family_of(suffix) == "text"


def _learnt_text(folder: str, sorted_tree: str, rules: Sequence[LearntRule]) -> str:
    base = literal(slashed.relpath(sorted_tree, folder))
    parts = [HEAD]
    for rule, name in zip(rules, _distinct(rule.name for rule in rules), strict=True):
        target = slashed.normpath(f"{base}/{_escaped(rule.target)}")
        text = _rule_text(rule, name, folder, target, {} if rule.is_sure else {"off": True})
        parts.append(f"# correct for {rule.right:,}, wrong for {rule.wrong:,}\n{text}")
    return "\n\n".join(parts) + "\n"


def _rule_text(rule: LearntRule, name: str, folder: str, target: str, more: Mapping[str, Value]) -> str:
    return rule_text_in(folder, {"name": name, "where": rule.where, "move": target, **more})


def _escaped(target: str) -> str:
    """Return a target as a template, braces in names of folders doubled."""
    parts = [part if part.startswith("{modified:%") or part == PART else literal(part) for part in target.split("/")]
    return "/".join(parts)


@frozen
class MovedByHand:
    """Files that somebody moved by hand, and the rule that would have.

    Args:
        rule: what they have in common; its target is the folder that they went to.
        moved: how many that it takes were moved there.
        all: how many it takes.
        text: it, as written in a file.
        now: the names of those that it would move now.
    """

    rule: LearntRule
    moved: int
    all: int
    text: str
    now: Sequence[str] = ()


def learn_from_hand(folder: str, since_ns: int, note: Callable[[Unread], None]) -> tuple[list[MovedByHand], int]:
    """Return rules for what somebody moved by hand in a folder since a moment, and how many files that were.

    Args:
        folder: absolute, resolved: with all below it.
        since_ns: the moment, in ns since the epoch.
        note: called with each folder that could not be read.

    Raises:
        OSError: it cannot be read.
    """
    there: dict[tuple[int, int], tuple[str, str]] = {}
    stays: list[Item] = []
    for listing, _ in walk(folder, True, True, lambda one, name, _: None if name[0] == "." else True, note):
        below = listing.folder[len(folder.rstrip("/")) + 1 :]
        for name, status in zip(listing.names, listing.status, strict=True):
            there[status.st_dev, status.st_ino] = below, name
            stays.append(Item(name, below, status.st_size, status.st_mtime_ns))
    moved = _moved_since(folder, since_ns, there, note)
    by_name = {(item.folder, item.name): item for item in stays}
    left = {source for source, _, _ in moved}
    items = [by_name[target, name] for _, target, name in moved]
    # What is still where they came from was left there on purpose, as far as anybody knows.
    gone = {(target, name) for _, target, name in moved}
    items += [item._replace(folder=_STAYS) for item in stays if item.folder in left and (item.folder, item.name) not in gone]
    found = []
    patterns = _patterns([(source, by_name[target, name]) for source, target, name in moved])
    # A file still there that fits a pattern is what the pattern predicts; it does not count against it.
    rest = [item for item in items if not any(rule.takes(item) for rule in patterns)]
    rules = [*patterns, *(learn(rest, _STAYS) if len(rest) > len(items) - len(stays) and moved else [])]
    for rule, name in zip(rules, _distinct(rule.name for rule in rules), strict=True):
        taken = [item for item in (items if rule in patterns else rest) if rule.takes(item)]
        there_now = sum(item.folder != _STAYS and rule.place(item) == item.folder for item in taken)
        sources = Counter(source for source, target, name in moved if rule.takes(by_name[target, name]))
        ((source, _),) = sources.most_common(1)
        place = slashed.join(folder, source) if source else folder
        text = _rule_text(rule, name, place, f"{literal(folder)}/{_escaped(rule.target)}", {})
        now = sorted((item.name for item in taken if item.folder == _STAYS), key=name_order)
        found.append(MovedByHand(rule, there_now, len(taken), text, now))
    return found, len(moved)


def _patterns(moved: Sequence[tuple[str, Item]]) -> list[LearntRule]:
    """Return a rule for each pattern of names whose files went from one folder to another, and to no third one.

    Args:
        moved: the folder that each file came from, and the file where it is now.
    """
    ways: dict[tuple[str, str], list[Item]] = {}
    for source, item in moved:
        ways.setdefault((source, item.folder), []).append(item)
    found = []
    for (source, target), items in ways.items():
        covered: set[str] = set()
        for shape, files in shapes([Seen(item.name, item.bytes, item.mtime_ns) for item in items], _FEWEST_MOVED, True):
            suffix = files[0].suffix
            alike = suffix and all(one.suffix == suffix for one in files)
            kind = Test(f"ext is {suffix}", "ext", suffix) if alike else Test(f"type is {files[0].type}", "type", files[0].type)
            fits = Test(f"stem fits {quoted(shape.pattern)}", "fits", shape.pattern)
            rule = LearntRule((kind, fits), target, len(files), 0)
            elsewhere = any(rule.takes(item) for start, item in moved if start == source and item.folder != target)
            if not elsewhere and len({one.name for one in files} - covered) >= _FEWEST_MOVED:
                covered |= {one.name for one in files}
                found.append(rule)
    return found


_STAYS = "(stays)"
# This many files that are named alike and were moved the same way are enough.
_FEWEST_MOVED = 3


def _moved_since(
    folder: str, since_ns: int, there: Mapping[tuple[int, int], tuple[str, str]], note: Callable[[Unread], None]
) -> list[tuple[str, str, str]]:
    """Return what was moved by hand: the folder that it came from, the one that it is in, and its name."""
    prefix = len(folder.rstrip("/")) + 1
    was: dict[tuple[int, int], str] = {}
    for saved in kept_of(folder, note=note):
        if saved.made_ns >= since_ns:
            # Where each was when it was first seen, so that everything that came after that is known; some came in between.
            for path, one in saved.files.items():
                was.setdefault((one.dev, one.ino), os.path.dirname(path))
    with Journal(ready_state_folder(), write=False) as journal:
        for run in journal.runs():
            if run.began_ns < since_ns:
                continue
            for step, mark in journal.steps(run.id):
                if mark is None or mark.now is None or mark.outcome != Outcome.DONE or step.target is None:
                    continue
                # Where a rule put it: what is elsewhere now was moved on by hand.
                if is_inside(step.target.folder, folder) and step.verb != "trash":
                    was[mark.now.dev, mark.now.ino] = step.target.folder[prefix:]
    found = []
    for who, source in sorted(was.items(), key=lambda one: (one[1], one[0])):
        target, name = there.get(who, (source, ""))
        if target != source:
            found.append((source, target, name))
    return found
