"""Rules as the planner knows them, the limits of the trash, and what finds the rule of each of many files."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import repeat
from typing import Any, Literal, NamedTuple

from frugal_sorter.filesystem.record import OTHER, PLAIN_SUFFIXES, Listing, may_be_double, stem_of, suffix_of
from frugal_sorter.rules.fields import FIELDS, STATUS_VARIABLES, fold, folder_name
from frugal_sorter.rules.keys import Do, Ending, Keep
from frugal_sorter.rules.templates import CaptureKind, Template, Wording
from frugal_sorter.rules.tree import Code, Node, Truth, letters_needed
from frugal_sorter.rules.units import Duration, Hours, InvalidValue, Promise
from frugal_sorter.values import field, frozen

# Facts that take longer would be read from where an entry was, not from where it is.
_DEAREST = 5
_NO_TIME = Duration(0, 0)
# What a rule file leaves in the trash unless it says otherwise: it is what an undo needs.
WEEK = Duration(0, 7 * 86_400)


@frozen
class TrashLimits:
    """What is permanently removed from the trash, the oldest first: by age, and by size.

    Args:
        older_than: what is in the trash for longer.
        shrink_to: also the oldest, until the trash has no more bytes than this.
        where: only entries for which a condition is true, with the place and name that they had. Without an
            age and a size all of that leaves.
        keep: nothing that came to the trash within this time.
        at_most: with more files than this nothing leaves; None where that is not said.
        line: where it is in a rule file; 0 in none.
    """

    older_than: Duration | None = None
    shrink_to: int | None = None
    where: Node | None = None
    keep: Duration = _NO_TIME
    at_most: int | None = None
    line: int = field(default=0, compare=False)

    @property
    def goes_by_time(self) -> bool:
        """Whether time alone can make it remove more."""
        dated = self.where is not None and any(leaf.check.changes for leaf in self.where.leaves())
        return self.older_than is not None or dated or self.keep != _NO_TIME

    @property
    def overruled(self) -> str:
        """What `keep` protects permanently of what the age would remove; empty for nothing."""
        if self.older_than is None or self.older_than.before(0) <= self.keep.before(0):
            return ""
        older, keep = self.older_than.text, self.keep.text
        return f"`older_than` is {older}, but `keep` protects everything for {keep}, so `older_than` has no effect before then"


def refuse_expensive(node: Node) -> Node:
    """Return a condition that works on the trash.

    Raises:
        InvalidValue: it asks what would have to be read from the file itself.
    """
    for leaf in node.leaves():
        if leaf.on.cost > _DEAREST:
            raise InvalidValue(
                f"`{leaf.on.name}` is not available for files in the trash", "names, types, sizes, dates and owners can"
            )
    return node


Clash = Literal["number", "skip", "replace", "newer", "same"]
Take = Literal["files", "folders", "items"]


@frozen
class Example:
    """What a technician wrote into the file, to come out as written; see `rules.examples`."""

    line: int
    given: Mapping[str, object]
    becomes: str | None
    # What is done, by the keys of rules; the tags that it gets; and the day on which it is asked.
    does: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    when: str = ""

    @property
    def says_where(self) -> bool:
        """Whether it says where the entry is afterwards: a path, or that it stays."""
        return self.becomes is not None or not (self.does or self.tags)


class DuplicatePolicy(NamedTuple):
    """What becomes of files that hold the same: by what the one that stays is chosen, and where the others go."""

    keep: tuple[Keep, ...]
    do: Do


@frozen
class Extras:
    """What a rule does to an entry in addition; all of it is optional.

    Args:
        copy: the folder for a copy.
        link: the folder for a link.
        tag: tags to add.
        untag: tags to take off.
        retag: what its tags become.
        comment: the comment to give.
        run: the program and its arguments.
        makes: the file that it makes, as seen from the folder of the entry.
    """

    copy: Template | None = None
    link: Template | None = None
    tag: tuple[Wording, ...] = ()
    untag: tuple[Wording, ...] = ()
    retag: tuple[Wording, ...] = ()
    comment: Wording | None = None
    run: tuple[Wording, ...] = ()
    makes: Wording | None = None

    @property
    def templates(self) -> list[Template]:
        """The folders among them."""
        return [template for template in (self.copy, self.link) if template is not None]

    @property
    def wordings(self) -> list[Wording]:
        """The texts among them."""
        single = [one for one in (self.comment, self.makes) if one is not None]
        return [*self.tag, *self.untag, *self.retag, *self.run, *single]

    def __bool__(self) -> bool:
        return bool(self.templates or self.wordings)


NO_EXTRAS = Extras()


@frozen
class Rule:
    """One rule as written.

    Args:
        line: where it begins in the file.
        folders: its `in`, absolute; links are not resolved.
        levels: None for all.
        key: a digest of everything that decides what the rule does, so that a changed rule is another one.
        kinds: the names that its condition captures.
        during: when it acts; empty for always.
        at_most: more entries than this and it is not carried out; None where the rule does not say.
        ending: what finally becomes of an entry; None where the rule has extras alone, and lets it go on.
        pack: the path of the zip.
        unpack: the folder for what is in an archive.
        other: the folder for entries that have no value for what `move` asks for.
        duplicates: what becomes of files that hold the same.
        keep: what nothing is done to.
        each: what makes entries one group for that; None for all of a folder.
        dated: the date that counts for that.
    """

    name: str
    line: int
    folders: tuple[str, ...]
    where: Node
    where_text: str
    levels: int | None
    hidden: bool
    settle: Duration
    clash: Clash
    move: Template | None
    rename: Template | None
    key: str
    take: Take = "files"
    during: tuple[Hours, ...] = ()
    at_most: int | None = None
    ask: bool = False
    kinds: Mapping[str, CaptureKind] = field(default_factory=dict)
    examples: tuple[Example, ...] = ()
    ending: Ending | None = "leave"
    pack: Template | None = None
    unpack: Template | None = None
    extras: Extras = NO_EXTRAS
    prune: bool = False
    other: Template | None = None
    duplicates: DuplicatePolicy | None = None
    keep: tuple[Promise, ...] = ()
    each: Wording | None = None
    dated: str = "modified"

    @property
    def targets(self) -> list[Template]:
        """The paths that it puts something at, a new name aside."""
        return [one for one in (self.move, self.other, self.pack, self.unpack, *self.extras.templates) if one is not None]

    @property
    def fields(self) -> set[str]:
        """The fields that its targets and texts are filled in from."""
        renames = [self.rename] if self.rename is not None else []
        found = {name for template in (*self.targets, *renames) for name in template.fields}
        wordings = [*self.extras.wordings, *([self.each] if self.each is not None else [])]
        return found | {name for wording in wordings for name in wording.fields}


@frozen
class RuleBook:
    """All rules of a file, in order; those that are off are left out.

    Args:
        types: suffix to type group.
        warnings: what is probably not meant, though valid; each with its line.
        off: the rules that are switched off; their targets are still no entries.
        lists: the list files that its conditions read, resolved.
        unmounted: folders that cannot be looked at, each with why, such as `is not mounted`.
        trash: what leaves the trash with every run.
        log: the file that says what was done, for the owner of the machine; empty for none.
        systems: that it is written for; empty for the one that it is read on.
        saves: after how many days an inventory is saved anew; 0 for never.
        saved: the folders of that inventory, links not resolved.
    """

    file: str
    rules: tuple[Rule, ...]
    types: Mapping[str, str]
    type_folders: Mapping[str, str]
    warnings: tuple[str, ...] = ()
    off: tuple[Rule, ...] = ()
    lists: tuple[str, ...] = ()
    unmounted: Mapping[str, str] = field(default_factory=dict)
    trash: tuple[TrashLimits, ...] = ()
    log: str = ""
    systems: tuple[str, ...] = ()
    saves: int = 0
    saved: tuple[str, ...] = ()
    _matchers: dict[tuple[tuple[int, ...], int], Matcher] = field(default_factory=dict)

    @property
    def has_room(self) -> bool:
        """Whether more matchers may be kept; there could be one for every subset of the rules."""
        return len(self._matchers) < MOST_MATCHERS

    def matcher(self, indexes: tuple[int, ...], now_ns: int) -> Matcher:
        """Return what finds, for each file, the first of some rules that is true.

        Args:
            indexes: which rules act in a folder, in the order of the file.
            now_ns: the moment that ages are counted from.
        """
        known = self._matchers.get((indexes, now_ns))
        if known is None:
            if not self.has_room:
                # A process that runs for long asks at one moment after the other; those of the past are of no use.
                for key in [key for key in self._matchers if key[1] != now_ns]:
                    del self._matchers[key]
            known = self._matchers[indexes, now_ns] = Matcher(self, indexes, now_ns)
        return known


def selection(where: Node, hidden: bool, types: Mapping[str, str]) -> RuleBook:
    """Return a book of one rule that selects files and does nothing, for `--where`."""
    rule = Rule("selected", 0, (), where, "", None, hidden, Duration(0, 0), "number", None, None, "")
    return RuleBook("", (rule,), types, {})


# Many files at once

# Hits of a listing: the index of the file, and of the rules that match it: those with extras alone, in
# order, and at the end the one that decides, if there is one.
Hits = list[tuple[int, tuple[int, ...]]]


# Of a matcher and of a book.
MOST_MATCHERS = 300
_MOST_SUFFIXES = 5_000


class Matcher:
    """Finds, for each file, the first of some rules that is true, with functions made for it.

    For each suffix there are two functions of their own, made when the suffix is first met. With
    the suffix known most rules fall away: their tests on `ext` and `type` are false before any
    other is asked. `pick` asks names alone which files a rule could claim; only those are looked
    at singly. Calling the matcher then finds the rule that decides.

    Args:
        book: the rules.
        indexes: which of them act, in the order of the file.
        now_ns: the moment that ages are counted from.
    """

    def __init__(self, book: RuleBook, indexes: tuple[int, ...], now_ns: int) -> None:
        self._book = book
        self._indexes = indexes
        self._now_ns = now_ns
        self._hidden = any(book.rules[index].hidden for index in indexes)
        self._could: dict[str, Callable[..., bool] | None] = {}
        self._decide: dict[str, Callable[..., tuple[int, ...] | None]] = {}
        code, names_only = Code(now_ns), Code(now_ns, possible=True)
        for index in indexes:
            book.rules[index].where.source(True, code)
        self.needs_status = bool(code.variables & STATUS_VARIABLES)
        self._letters = [letters_needed(book.rules[index].where) for index in indexes]
        self._texts = sorted(frozenset().union(*self._letters))
        self._kept: dict[tuple[str, ...], list[int]] = {}
        self._suffixes = dict(PLAIN_SUFFIXES)
        # Where some rule rules nothing out by name, no name needs to be looked at.
        self._pick_all = any(book.rules[index].where.source(True, names_only) == "True" for index in indexes)

    def pick(self, listing: Listing, depths: Sequence[int]) -> Sequence[int]:
        """Return the indexes of the files that a rule could claim, as far as their names tell."""
        if self._pick_all:
            return range(len(listing.names))
        fewer, depths = self._fewer(listing, depths)
        return () if fewer is None else fewer._pick_singly(listing, depths)

    def _fewer(self, listing: Listing, depths: Sequence[int]) -> tuple[Matcher | None, Sequence[int]]:
        """Return a matcher of the rules that the letters in a folder's names allow, and their depths; None for no rule."""
        if not self._texts:
            return self, depths
        # One look at all names together tells which rules have no letters here to match.
        together = fold("\0".join(listing.names))
        missing = tuple([text for text in self._texts if text not in together])
        is_new = missing not in self._kept
        kept = self._kept.get(missing) or [at for at, letters in enumerate(self._letters) if letters.isdisjoint(missing)]
        if is_new and len(self._kept) < MOST_MATCHERS:
            self._kept[missing] = kept
        if not kept:
            return None, ()
        # Making functions for fewer rules pays where the same ones come again.
        if is_new or len(kept) == len(self._indexes) or not self._book.has_room:
            return self, depths
        return self._book.matcher(tuple([self._indexes[at] for at in kept]), self._now_ns), [depths[at] for at in kept]

    def _pick_singly(self, listing: Listing, depths: Sequence[int]) -> Sequence[int]:
        """Do what `pick` does, by looking at each name."""
        if self._pick_all:
            return range(len(listing.names))
        prefix, folder = listing.folder.rstrip("/") + "/", folder_name(listing.folder)
        found: list[int] = []
        add = found.append
        functions, hidden = self._could, self._hidden
        known = self._suffixes
        for i, name in enumerate(listing.names):
            # The quick half of suffix_of, without the call: this runs for every file there is.
            head, _, last = name.rpartition(".")
            suffix = known.get(last)
            if suffix is None or not head or head[0] == ".":
                suffix = suffix_of(name)
                if head and head[0] != "." and len(known) < _MOST_SUFFIXES and not may_be_double(last):
                    known[last] = suffix
            try:
                could = functions[suffix]
            except KeyError:
                could = functions[suffix] = self._make_could(suffix)
            if could is None or (name[0] == "." and not hidden):
                continue
            if could is _always or could(name, prefix, folder, depths):
                add(i)
        return found

    def __call__(self, listing: Listing, depths: Sequence[int], ask: Callable[[int, Node], Truth]) -> Hits:
        """Return the files of a listing that some rule matches, with those rules.

        Args:
            listing: one folder.
            depths: for each rule of the matcher, how deep below its `in` the listing is.
            ask: tests a condition on the file at an index, for what no column holds.
        """
        fewer, depths = self._fewer(listing, depths)
        return [] if fewer is None else fewer._decide_singly(listing, depths, ask)

    def _decide_singly(self, listing: Listing, depths: Sequence[int], ask: Callable[[int, Node], Truth]) -> Hits:
        """Find the rules of each file."""
        prefix, folder = listing.folder.rstrip("/") + "/", folder_name(listing.folder)
        hits: Hits = []
        functions = self._decide
        sizes, times = (listing.size, listing.mtime_ns) if self.needs_status else (repeat(0), repeat(0))
        for i, (name, size, modified) in enumerate(zip(listing.names, sizes, times, strict=False)):
            suffix = suffix_of(name)
            try:
                decide = functions[suffix]
            except KeyError:
                decide = functions[suffix] = self._make_decide(suffix)
            rules = decide(i, name, size, modified, prefix, folder, depths, ask)
            if rules:
                hits.append((i, rules))
        return hits

    def _code(self, suffix: str, possible: bool) -> Code:
        known: dict[str, object] = {"ext": suffix, "type": self._book.types.get(suffix, OTHER)}
        if not self._hidden:
            known["hidden"] = False  # others do not get this far
        return Code(self._now_ns, possible, known)

    def _tests(self, code: Code) -> list[tuple[int, str]]:
        """Return the rules that can be true at all, each with its test."""
        tests = []
        for at, index in enumerate(self._indexes):
            code.depth = f"depths[{at}]"
            test = self._book.rules[index].where.source(True, code)
            if test != "False":
                tests.append((index, test))
        return tests

    def _make_could(self, suffix: str) -> Callable[..., bool] | None:
        code = self._code(suffix, possible=True)
        tests = [test for _, test in self._tests(code)]
        if not tests:
            return None
        if "True" in tests:
            return _always
        lines = ["def could(name, prefix, folder_name, depths):", *_assignments(code), f"    return {' or '.join(tests)}"]
        function: Callable[..., bool] = _compiled(lines, "could", code)
        return function

    def _make_decide(self, suffix: str) -> Callable[..., tuple[int, ...] | None]:
        code = self._code(suffix, possible=False)
        tests = self._tests(code)
        rules = self._book.rules
        # Rules with extras alone let an entry go on to the next rule.
        go_on = any(rules[index].ending is None for index, _ in tests)
        lines = ["def decide(i, name, size, modified, prefix, folder_name, depths, ask):", *_assignments(code)]
        if not self._hidden:
            lines.insert(1, "    if name[0] == '.':\n        return None")
        if go_on:
            lines.append("    found = ()")
        for index, test in tests:
            shown = "" if rules[index].hidden or not self._hidden else "name[0] != '.' and "
            lines.append(f"    if {shown}{test}:")
            if rules[index].ending is None:
                lines.append(f"        found = (*found, {index})")
            else:
                lines.append(f"        return {f'(*found, {index})' if go_on else f'({index},)'}")
        lines.append(f"    return {'found or None' if go_on else 'None'}")
        function: Callable[..., tuple[int, ...] | None] = _compiled(lines, "decide", code)
        return function


def _always(*_: object) -> bool:
    return True


def _compiled(lines: list[str], name: str, code: Code) -> Any:
    """Return a function made of source, which holds nothing of the rule file but names of constants."""
    names: dict[str, object] = {**code.constants, "fold": fold, "stem_of": stem_of}
    exec(compile("\n".join(lines), "<rules>", "exec"), names)  # noqa: S102
    return names[name]


def _assignments(code: Code) -> list[str]:
    """Return the lines that set the variables of an entry, each after those that it needs."""
    cut = _suffix_length(code)
    lines = []
    for one in FIELDS.values():
        plain, folded = one.name in code.variables, f"low_{one.name}" in code.variables
        source = f"name[:-{cut}]" if one.name == "stem" and cut else one.source
        if plain and source != one.name and one.name != "depth":
            lines.append(f"    {one.name} = {source}")
        if folded and one.name == "stem" and cut and "low_name" in code.variables:
            # In ASCII a letter in lower case is as long, so that the folded name can be cut.
            lines.append(f"    low_stem = low_name[:-{cut}] if name.isascii() else fold({source})")
        elif folded:
            value = one.name if plain or source == one.name else f"({source})"
            lines.append(f"    low_{one.name} = {value}.lower() if {value}.isascii() else fold({value})")
    return lines


def _suffix_length(code: Code) -> int:
    """Return how many letters the suffix and its dot take, 0 where that is not sure."""
    suffix = str(code.known["ext"])
    return len(suffix) + 1 if suffix and suffix.isascii() else 0
