"""Which rules act in a folder, and from which `in` each of them comes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from frugal_sorter.rules.fields import depth_below
from frugal_sorter.rules.model import Rule


class Acting(NamedTuple):
    """A rule in a folder: the `in` folder it comes from, and the levels left below here."""

    base: str
    levels: int | None


class Scope:
    """The rules that act in a folder, by their index; the same object serves many folders."""

    def __init__(self, acting: dict[int, Acting], rules: Sequence[Rule]) -> None:
        self.acting = acting
        self._rules = rules
        takes = [(index, rules[index].take) for index in sorted(acting)]
        self.on_files = tuple(index for index, take in takes if take != "folders")
        self.on_folders = tuple(index for index, take in takes if take != "files")
        self.sees_hidden = any(rules[index].hidden for index in acting)
        self._bases = {one.base for one in acting.values()}
        self._below: dict[bool, Scope | None] = {}

    @property
    def deepest(self) -> int | None:
        """How many levels the rules have left below here, None for all."""
        levels = [one.levels for one in self.acting.values()]
        return None if None in levels else max(level or 0 for level in levels)

    def base(self, index: int) -> str:
        """Return the `in` folder from which a rule acts here."""
        return self.acting[index].base

    def depths(self, folder: str, indexes: Sequence[int]) -> list[int]:
        """Return for some rules how deep below their `in` a folder's entries lie."""
        depths = {base: depth_below(base, folder) for base in self._bases}
        return [depths[self.acting[index].base] for index in indexes]

    def below(self, hidden: bool) -> Scope | None:
        """Return the rules that still act in a subfolder, or None where none does."""
        if hidden not in self._below:
            acting = {
                index: Acting(one.base, None if one.levels is None else one.levels - 1)
                for index, one in self.acting.items()
                if one.levels != 1 and (not hidden or self._rules[index].hidden)
            }
            same = acting == self.acting
            self._below[hidden] = self if same else Scope(acting, self._rules) if acting else None
        return self._below[hidden]

    def only(self, base: str) -> Scope:
        """Return those of the rules whose `in` is one folder."""
        return Scope({index: one for index, one in self.acting.items() if one.base == base}, self._rules)

    def joined(self, nearer: Scope) -> Scope:
        """Return these rules and others whose `in` is nearer; relative targets are below the nearer one."""
        acting = dict(self.acting)
        for index, one in nearer.acting.items():
            levels = [one.levels, acting.get(index, one).levels]
            acting[index] = Acting(one.base, None if None in levels else max(level or 0 for level in levels))
        return Scope(acting, self._rules)
