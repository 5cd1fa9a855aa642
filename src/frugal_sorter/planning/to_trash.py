"""Steps that take entries away: which trash they go to, and under which name."""

from __future__ import annotations

from contextlib import suppress

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.inside import Inside
from frugal_sorter.filesystem.record import FileRecord, Identity, Place, Unknown
from frugal_sorter.filesystem.volumes import mount_at, volume_of
from frugal_sorter.platforms import disk, system
from frugal_sorter.steps.step import Details, Step, Witness
from frugal_sorter.trash.base import TrashBin
from frugal_sorter.trash.bins import bin_for, home_bin
from frugal_sorter.values import field, mutable

# Of so many entries of a plan a trash is asked whether their names are free; then it is listed, once.
_ASKED_SINGLY = 200


@mutable
class _Taken:
    """The names that are taken in a trash.

    Args:
        trash: which.
        asked: how many names it was asked for so far.
        listed: the names of entries and of info files, once both were listed.
    """

    trash: TrashBin
    asked: int = 0
    listed: tuple[frozenset[str], frozenset[str]] | None = None

    def has(self, name: str) -> bool:
        """Return True if an entry, or the info file of one, has a name there."""
        self.asked += 1
        info = self.trash.info_name(name)
        if self.asked == _ASKED_SINGLY and not volume_of(self.trash.dev, self.trash.root).ignores_case:
            with suppress(OSError):  # what cannot be listed may still be asked
                self.listed = _names_in(self.trash.files), _names_in(self.trash.info)
        if self.listed is None:
            return disk.lexists(f"{self.trash.files}/{name}") or disk.lexists(f"{self.trash.info}/{info}")
        return name in self.listed[0] or info in self.listed[1]


def _names_in(folder: str) -> frozenset[str]:
    try:
        return frozenset(disk.listdir(folder))
    except FileNotFoundError:
        return frozenset()


@mutable
class Removals:
    """Chooses for each entry its trash and a name that is free there; nothing is made yet."""

    _bins: dict[int, TrashBin | None] = field(default_factory=dict)
    _taken: dict[str, _Taken] = field(default_factory=dict)
    _given: set[Place] = field(default_factory=set)
    _next: dict[Place, int] = field(default_factory=dict)

    def trash(
        self, rule: str, rule_key: str, record: FileRecord, inside: Inside | Unknown | None = None, witness: Witness | None = None
    ) -> Step:  # fmt: skip
        """Return the step that moves an entry to the trash of its volume.

        Where none can be had there it goes, copied and checked, to the one in the home.

        Args:
            rule: the name of the rule that asks for it.
            rule_key: its digest.
            record: the entry.
            inside: what is in it, for a folder, where that is known.
            witness: what must hold the same bytes.
        """
        if not system.HAS_KNOWN_TRASH:
            raise UsageError("the trash of this system is not known", "move to a holding folder, or delete for good")
        details: Details = {}
        if isinstance(inside, Inside):
            details = {"files": inside.files, "bytes": inside.bytes}
        place = record.place
        mount = mount_at(place.folder)
        if mount not in self._bins:
            self._bins[mount] = bin_for(place.folder)
        found = self._bins[mount]
        if found is None:
            found = home_bin()
            details["across"] = True
        if found.top:
            details["top"] = found.top
        target = self._free(place, found)
        return Step(0, "trash", rule, rule_key, place, target, record.identity, details, 0, witness)

    def _free(self, place: Place, trash: TrashBin) -> Place:
        """Return where an entry of a place goes in a trash."""
        wanted = target = Place(trash.files, trash.name_for(place, 1))
        number = self._next.get(wanted, 2)
        taken = self._taken.get(trash.root) or self._taken.setdefault(trash.root, _Taken(trash))
        while target in self._given or taken.has(target.name):
            target, number = Place(trash.files, trash.name_for(place, number)), number + 1
        self._next[wanted] = number
        self._given.add(target)
        return target


def identity_inside(identity: Identity, inside: Inside) -> Identity:
    """Return the identity of a folder that also tells whether something in it changed."""
    return identity._replace(inside=inside.digest)
