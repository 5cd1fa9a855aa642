"""Moves within a volume to a name that is free: what files with the same target share is found out once.

Most of a plan is made of these. Whatever is not as plain is left to `endings`, which would plan the same for these.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import NamedTuple

from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.volumes import mount_at, volume_of
from frugal_sorter.planning.destinations import Destinations
from frugal_sorter.planning.matched import Kept, step_of
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.target_names import Names
from frugal_sorter.rules.fields import Facts
from frugal_sorter.rules.model import Rule
from frugal_sorter.rules.templates.placing import Placing


class _Route(NamedTuple):
    """The way to a folder that is as good as any: on which mount it is, or will be, and whether it is there."""

    folder: str
    mount: int
    exists: bool


class PlainMoves:
    """Plans what is plain.

    Args:
        rules: by index.
        placing: where they want files.
        destinations: whether files can go there.
        names: which names are taken.
        plan: gets the steps.
        hold_back: raises Kept where a rule may not act on an entry now.
    """

    def __init__(
        self, rules: tuple[Rule, ...], placing: Placing, destinations: Destinations, names: Names, plan: Plan,
        hold_back: Callable[[int, Rule, Facts], None],
    ) -> None:  # fmt: skip
        self._rules, self._placing, self._destinations = rules, placing, destinations
        self._names, self._plan, self._hold_back = names, plan, hold_back
        self._plain = frozenset(index for index in placing.plain if rules[index].clash == "number")
        self._routes: dict[Hashable, _Route | None] = {}

    def add(self, index: int, facts: Facts) -> bool:
        """Plan the move of an entry by the rule of an index; return False, with nothing planned, where it is not plain."""
        key = self._placing.key_of(index, facts) if index in self._plain else None
        if key is None:
            return False
        place, identity = facts.record.place, facts.record.identity
        if key not in self._routes:
            self._routes[key] = self._route(index, key, facts)
        route = self._routes[key]
        if route is None or route.mount != mount_at(place.folder) or route.folder == place.folder:
            return False
        target = Place(route.folder, place.name)
        if self._names.is_given(target) or (route.exists and self._names.on_disk(target)):
            return False
        rule = self._rules[index]
        try:
            self._hold_back(index, rule, facts)
        except Kept:
            return False
        self._plan.matched.add(rule.name)
        self._plan.add_group([step_of(rule, "move", place, self._names.take(target), identity)])
        return True

    def _route(self, index: int, key: Hashable, facts: Facts) -> _Route | None:
        folder = self._placing.known.get(key) or self._placing.learn(index, key, facts)
        folders = self._destinations.folders
        if not isinstance(folder, str) or folders.ignores_case(folder):
            return None
        try:
            self._destinations.usable(folder, facts.base)
        except Kept:
            return None
        there = folders.existing(folder)
        lasts = volume_of(folders.device(folder), there).inodes_last
        return _Route(folder, mount_at(there), there == folder) if lasts else None
