"""Where rules send entries: the places that templates name, and whether they can be used."""

from __future__ import annotations

import os

from frugal_sorter.filesystem.record import Identity, Place, is_inside
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.planning.matched import Kept
from frugal_sorter.planning.target_folders import TargetFolders
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.conditions.tree import captures_of
from frugal_sorter.rules.fields import Facts
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates.placing import target_folder
from frugal_sorter.rules.templates.written import Filling, Missing, Template
from frugal_sorter.values import field, mutable


@mutable
class Destinations:
    """Makes places of templates, and looks whether an entry can go there.

    Args:
        book: the rules.
        folders: the target folders, with those that have to be made.
    """

    book: RuleBook
    folders: TargetFolders
    _resolved: dict[str, str] = field(default_factory=dict)

    def filling(self, rule: Rule, facts: Facts) -> Filling:
        """Return what the templates of a rule are filled with besides the facts of an entry."""
        return Filling(self.book.type_folders, captures_of(rule.where, facts), rule.kinds)

    def path(self, rule: Rule, template: Template | None, facts: Facts) -> Place:
        """Return the place that a template of a rule names for an entry.

        Raises:
            Kept: a value is missing.
        """
        assert template is not None
        segments = template.fill(facts, self.filling(rule, facts))
        if isinstance(segments, Missing):
            raise Kept(segments.reason, problem=True)
        folder, name = os.path.split(target_folder(template, segments, facts.base, self.resolve))
        return Place(self.folders.spelled(folder), name)

    def usable(self, folder: str, base: str) -> None:
        """See that entries of a base folder can go into a folder.

        Raises:
            Kept: they cannot, and why.
        """
        if any(is_inside(folder, self.resolve(away)) for away in self.book.unmounted):
            raise Kept("the target is not mounted", problem=True)
        if problem := self.folders.usable(folder, base):
            raise Kept(problem, problem=True)

    def legal(self, target: Place, identity: Identity) -> None:
        """See that the volume of a target can hold an entry under that name.

        Raises:
            Kept: it cannot, and why.
        """
        volume = volume_of(self.folders.device(target.folder), self.folders.existing(target.folder))
        if why := volume.illegal(target.name, identity.size):
            raise Kept(why, problem=True)

    def resolve(self, path: str) -> str:
        """Return a path of the technician's without symbolic links, looked up once."""
        if path not in self._resolved:
            self._resolved[path] = slashed.realpath(path)
        return self._resolved[path]
