"""Where a rule wants an entry to be, by its templates alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from frugal_sorter.filesystem.record import Place
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.conditions.tree import captures_of
from frugal_sorter.rules.fields import Facts
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates.written import Filling, Missing, Template


@dataclass
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

    around = Filling(book.type_folders, captures_of(rule.where, facts), rule.kinds)

    def place(number: int) -> Place | Missing:
        filling = replace(around, number=number)
        folder, name = facts.record.place
        if rule.move is not None:
            template, segments = rule.move, rule.move.fill(facts, filling)
            if isinstance(segments, Missing) and rule.other is not None:
                template, segments = rule.other, rule.other.fill(facts, filling)
            if isinstance(segments, Missing):
                return segments
            folder = target_folder(template, segments, facts.base, fixed_root)
        if rule.rename is not None:
            segments = rule.rename.fill(facts, filling)
            if isinstance(segments, Missing):
                return segments
            name = segments[0]
        return Place(folder, name)

    first = place(1)
    if isinstance(first, Missing):
        return first
    if not any(template is not None and template.counts for template in (rule.move, rule.other, rule.rename)):
        return Wanted(first)

    def numbered(number: int) -> Place:
        found = place(number)
        assert not isinstance(found, Missing)
        return found

    return Wanted(first, numbered)


def target_folder(target: Template, segments: list[str], base: str, fixed_root: Callable[[str], str]) -> str:
    """Return the absolute path of a filled-in target; relative ones are below `in`."""
    if not target.absolute:
        return slashed.normpath(slashed.join(base, *segments))
    root = fixed_root(slashed.join(target.top, *segments[: target.fixed]))
    return slashed.normpath(slashed.join(root, *segments[target.fixed :]))
