"""Where a rule wants an entry to be, by its templates alone."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import NamedTuple

from frugal_sorter.filesystem.record import Place, size_band, suffix_of
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.fields import Facts
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates import Filling, Missing, Slot, Template, initial_of
from frugal_sorter.rules.tree import captures_of
from frugal_sorter.rules.units import local_time
from frugal_sorter.values import mutable, replace


@mutable
class Wanted:
    """Where a rule wants an entry to be, before clashes; `numbered` fills in the counter {n}."""

    place: Place
    numbered: Callable[[int], Place] | None = None

    def in_folder(self, spelled: Callable[[str], str]) -> Wanted:
        """Return the same in a folder that is spelled as the disk has it."""
        folder = spelled(self.place.folder)
        if folder == self.place.folder:
            return self
        numbered = self.numbered
        if numbered is None:
            return Wanted(Place(folder, self.place.name))

        def again(number: int) -> Place:
            return Place(folder, numbered(number).name)

        return Wanted(Place(folder, self.place.name), again)


def wanted_place(book: RuleBook, rule: Rule, facts: Facts, fixed_root: Callable[[str], str]) -> Wanted | Missing:
    """Return where a rule wants an entry to be, clashes aside, or what was missing.

    Args:
        book: the rules, for what templates are filled in from.
        rule: the one that decides.
        facts: of the entry.
        fixed_root: resolves the part of an absolute target that is the same for every entry.
    """
    around = _around(book, rule, facts)

    def place(number: int) -> Place | Missing:
        filling = replace(around, number=number)
        folder = _wanted_folder(rule, facts, filling, fixed_root)
        if isinstance(folder, Missing):
            return folder
        name = _wanted_name(rule, facts, filling)
        return name if isinstance(name, Missing) else Place(folder, name)

    first = place(1)
    if isinstance(first, Missing):
        return first
    counts = any(template is not None and template.counts for template in (rule.move, rule.other, rule.rename))
    # Of `move` and `other` the one that is taken may have no counter.
    if not counts or place(2) == first:
        return Wanted(first)

    def numbered(number: int) -> Place:
        found = place(number)
        assert not isinstance(found, Missing)
        return found

    return Wanted(first, numbered)


def _around(book: RuleBook, rule: Rule, facts: Facts) -> Filling:
    return Filling(book.type_folders, captures_of(rule.where, facts) if rule.kinds else {}, rule.kinds)


def _wanted_folder(rule: Rule, facts: Facts, filling: Filling, fixed_root: Callable[[str], str]) -> str | Missing:
    if rule.move is None:
        return facts.record.place.folder
    template, segments = rule.move, rule.move.fill(facts, filling)
    if isinstance(segments, Missing) and rule.other is not None:
        template, segments = rule.other, rule.other.fill(facts, filling)
    return segments if isinstance(segments, Missing) else target_folder(template, segments, facts.base, fixed_root)


def _wanted_name(rule: Rule, facts: Facts, filling: Filling) -> str | Missing:
    if rule.rename is None:
        return facts.name
    segments = rule.rename.fill(facts, filling)
    return segments if isinstance(segments, Missing) else segments[0]


# Files for which these agree get the same text for a placeholder; some ask of the folder what it is called, or how deep.
_ALIKE = {
    "ext": "suffix_of(name)", "type": "suffix_of(name)", "typefolder": "suffix_of(name)", "initial": "initial_of(name)",
    "sizeband": "size_band(size)", "modified": "local_time(modified).toordinal()", "folder": "folder",
    "subpath": "folder", "depth": "folder", "machine": "", "user": "",
}  # fmt: skip
_NAMES = {"suffix_of": suffix_of, "initial_of": initial_of, "size_band": size_band, "local_time": local_time}
# Codes of dates that change within a day.
_WITHIN_A_DAY = frozenset("HIMSp")


class Alike(NamedTuple):
    """What agrees for files that a rule sends to the same folder.

    Args:
        of: returns it of the index of the rule, its `in`, and of a file the folder, the name, the size in bytes and the
            modification time in ns. It raises ValueError for a time that no calendar has.
        reads_status: size or time are in it.
    """

    of: Callable[[int, str, str, str, int, int], Hashable]
    reads_status: bool


def _alike(rule: Rule) -> Alike | None:
    """Return what agrees for files that a rule sends to the same folder; None where each must be asked about separately."""
    templates = [one for one in (rule.move, rule.other) if one is not None]
    if not templates or any(one.counts for one in (*templates, rule.rename) if one is not None):
        return None
    parts: dict[str, None] = {}
    for slot in (part for one in templates for segment in one.segments for part in segment if isinstance(part, Slot)):
        for name in slot.alternatives:
            if name.startswith('"'):
                continue
            # There are about as many sizes, or hours, as files.
            if name in rule.kinds or name not in _ALIKE or _WITHIN_A_DAY & set(slot.codes):
                return None
            parts[_ALIKE[name]] = None
    parts.pop("", None)
    source = f"lambda index, base, folder, name, size, modified: (index, base, {' '.join(f'{part},' for part in parts)})"
    # Of the tables above alone: nothing of the rule file is in it.
    return Alike(eval(source, dict(_NAMES)), any("size" in part or "modified" in part for part in parts))


class Placing:
    """Where the rules of a book want entries, as `wanted_place` has it; of files that are alike one is asked about.

    Args:
        book: the rules.
        fixed_root: resolves the part of an absolute target that is the same for every entry.
    """

    def __init__(self, book: RuleBook, fixed_root: Callable[[str], str]) -> None:
        self._book, self._fixed_root = book, fixed_root
        self._alike = [_alike(rule) for rule in book.rules]
        # What has been learned.
        self.known: dict[Hashable, str | Missing] = {}

    @property
    def plain(self) -> dict[int, Alike]:
        """What agrees for files of the rules that do nothing but move them, by the index of the rule."""
        # A new name has to be made for each file, and extras are given at home, too.
        return {
            index: alike
            for index, (rule, alike) in enumerate(zip(self._book.rules, self._alike, strict=True))
            if alike is not None and rule.ending == "move" and rule.rename is None and not rule.extras and not rule.keep
        }

    def wanted(self, index: int, facts: Facts) -> Wanted | Missing:
        """Return where the rule of an index wants an entry to be, clashes aside, or what was missing."""
        rule, key = self._book.rules[index], self.key_of(index, facts)
        if key is None:
            return wanted_place(self._book, rule, facts, self._fixed_root)
        folder = self.known.get(key) or self.learn(index, key, facts)
        if isinstance(folder, Missing):
            return folder
        name = _wanted_name(rule, facts, _around(self._book, rule, facts))
        return name if isinstance(name, Missing) else Wanted(Place(folder, name))

    def key_of(self, index: int, facts: Facts) -> Hashable | None:
        """Return what agrees for entries that a rule sends to the same folder; None where one must be asked about separately."""
        alike, record = self._alike[index], facts.record
        if alike is None or record.identity.kind != "file":
            return None
        try:
            return alike.of(index, facts.base, *record.place, record.identity.size, record.mtime_ns)
        except ValueError:
            return None  # a date that no calendar has

    def learn(self, index: int, key: Hashable, facts: Facts) -> str | Missing:
        """Return the folder that a rule wants files in that are alike, and know it from now on.

        Args:
            index: of the rule.
            key: what agrees for them.
            facts: of one of them, the one that the key was made from.
        """
        rule = self._book.rules[index]
        self.known[key] = _wanted_folder(rule, facts, _around(self._book, rule, facts), self._fixed_root)
        return self.known[key]


def target_folder(target: Template, segments: list[str], base: str, fixed_root: Callable[[str], str]) -> str:
    """Return the absolute path of a filled-in target; relative ones are below `in`."""
    if not target.absolute:
        return slashed.normpath(slashed.join(base, *segments))
    root = fixed_root(slashed.join(target.top, *segments[: target.fixed]))
    return slashed.normpath(slashed.join(root, *segments[target.fixed :]))
