"""Where entries go: folders that are there or will be, and names that are free."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable

from frugal_sorter.filesystem.foreseen import lexists, lstat
from frugal_sorter.filesystem.inside import look_inside
from frugal_sorter.filesystem.record import FileRecord, Place, Unknown, is_inside
from frugal_sorter.filesystem.status import look_or_none, same_contents, with_sample
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.planning.guard import UNDER_VERSION_CONTROL, refused_entry, refused_folder, version_control_root
from frugal_sorter.planning.to_trash import Removals, identity_inside
from frugal_sorter.platforms import accounts, disk, names, slashed
from frugal_sorter.rules.model import Rule
from frugal_sorter.steps.step import Step, Witness
from frugal_sorter.values import field, frozen


@frozen
class TargetFolder:
    """What is known of a folder that files are to go to.

    Args:
        exists: it is there; otherwise it can be made.
        dev: the device it is on, or will be on.
        problem: why nothing can go there; empty where it can.
        version_control: the root of the tree under version control that it lies in.
        through_link: the way to it leads through a symbolic link.
    """

    exists: bool
    dev: int
    problem: str = ""
    version_control: str | None = None
    through_link: bool = False


class TargetFolders:
    """Looks at each target folder once; folders that are missing are made by the plan."""

    def __init__(self) -> None:
        self._known: dict[str, TargetFolder] = {}
        self._made: set[str] = set()
        self._ignoring: dict[str, bool] = {}
        self._spelling: dict[str, str] = {}

    def usable(self, folder: str, base: str) -> str:
        """Return why nothing can go to a folder, or an empty text.

        Args:
            folder: an absolute, normal path.
            base: the `in` folder that the entries were found in.
        """
        known = self._look(folder)
        if known.problem:
            return known.problem
        tree = known.version_control
        if tree is not None and not is_inside(base, tree):
            return f"{tree} is under version control and is left whole"
        return ""

    def device(self, folder: str) -> int:
        """Return the device that a folder is on, or will be on."""
        return self._look(folder).dev

    def existing(self, folder: str) -> str:
        """Return a folder, or the nearest one above it that exists."""
        while not self._look(folder).exists:
            folder = os.path.dirname(folder)
        return folder

    def ignores_case(self, folder: str) -> bool:
        """Return True if the volume of a folder takes `A` and `a` for the same name."""
        known = self._ignoring.get(folder)
        if known is None:
            known = self._ignoring[folder] = volume_of(self.device(folder), self.existing(folder)).ignores_case
        return known

    def spelled(self, folder: str) -> str:
        """Return a folder in the letters that the disk has, or that this plan gave it first, where their case does not count."""
        if not self.ignores_case(folder):
            return folder
        known = self._spelling.get(key := folder.casefold())
        if known is None:
            above, name = os.path.split(folder)
            if name:
                above = self.spelled(above)
                name = next((one for one in self._names(above) if one.casefold() == name.casefold()), name)
            known = self._spelling[key] = slashed.join(above, name) if name else folder
        return known

    def _names(self, folder: str) -> list[str]:
        try:
            return disk.listdir(folder) if self._look(folder).exists else []
        except OSError:
            return []

    def to_make(self, folder: str) -> list[str]:
        """Return the folders that must be made before a file can go to one, the outermost first.

        Each is returned once: whoever asks makes them.
        """
        missing: list[str] = []
        while folder not in self._made and not self._look(folder).exists:
            self._made.add(folder)
            missing.append(folder)
            folder = os.path.dirname(folder)
        return missing[::-1]

    def _look(self, folder: str) -> TargetFolder:
        known = self._known.get(folder)
        if known is None:
            known = self._known[folder] = self._inspect(folder)
        return known

    def _inspect(self, folder: str) -> TargetFolder:
        refused = refused_folder(folder)
        parent = os.path.dirname(folder)
        above = self._look(parent) if parent != folder else None
        if above is not None and above.through_link:
            return above
        try:
            found = lstat(folder)
        except FileNotFoundError:
            assert above is not None
            problem = refused or above.problem
            if not problem and (why := volume_of(above.dev, self.existing(parent)).illegal(os.path.basename(folder))):
                problem = f"{folder} cannot be made: {why}"
            return TargetFolder(False, above.dev, problem, above.version_control)
        except OSError as error:
            return TargetFolder(False, 0, f"{folder}: {(error.strerror or 'cannot be looked at').lower()}")
        if stat.S_ISLNK(found.st_mode):
            linked = f"{folder} is a symbolic link of {accounts.owner_name(found.st_uid)}, and it is not followed"
            return TargetFolder(True, found.st_dev, linked, through_link=True)
        if not stat.S_ISDIR(found.st_mode):
            return TargetFolder(True, found.st_dev, f"{folder} is a file, where a folder is needed")
        problem = f"{folder} is {refused}" if refused else ""
        return TargetFolder(True, found.st_dev, problem, version_control_root(folder))


_NUMBERED = re.compile(r"_(\d+)(?=\.|$)")


def is_numbered_form(name: str, plain: str) -> bool:
    """Return True if a name is what numbering made of a plain one: `name_2.ext` of `name.ext`."""
    return any(
        not match[1].startswith("0") and int(match[1]) > 1 and names.shortened(plain, f"_{match[1]}") == name
        for match in _NUMBERED.finditer(name)
        if len(match[1]) < 10
    )


class Names:
    """Names that are free in target folders: not on the disk, and not given out in this plan.

    A name that a step of the plan will free is not free: steps may fail.

    Args:
        ignores_case: tells of a folder whether its volume takes `A` and `a` for the same name.
    """

    def __init__(self, ignores_case: Callable[[str], bool] = lambda _folder: False) -> None:
        self._given: set[Place] = set()
        self._next: dict[Place, int] = {}
        self.ignores_case = ignores_case

    def on_disk(self, place: Place) -> bool:
        """Return True if something of that name stands there now."""
        return lexists(place.path)

    def give(self, wanted: Place) -> Place:
        """Return a free place, the wanted one or the first free number of it, and keep it."""
        place = wanted
        if not self.is_free(place):
            number = self._next.get(wanted, 2)
            while not self.is_free(place):
                place = Place(wanted.folder, names.shortened(wanted.name, f"_{number}"))
                number += 1
            self._next[wanted] = number
        self._given.add(self._key(place))
        return place

    def take(self, place: Place) -> Place:
        """Keep a place that is taken now and will be free when its turn comes."""
        self._given.add(self._key(place))
        return place

    def is_given(self, place: Place) -> bool:
        """Return True if this plan gave a place out."""
        return self._key(place) in self._given

    def is_free(self, place: Place) -> bool:
        """Return True if nothing of that name stands there, or will by this plan."""
        return not self.is_given(place) and not self.on_disk(place)

    def _key(self, place: Place) -> Place:
        return Place(place.folder, place.name.casefold()) if self.ignores_case(place.folder) else place


@frozen
class Room:
    """Where a newcomer goes, and what must make room for it first."""

    place: Place
    before: list[Step] = field(default_factory=list)


@frozen
class Discard:
    """The newcomer goes to the trash: what stands there is newer, or the same as the witness shows."""

    witness: Witness | None


class Clashes:
    """Decides, after the `clash` of a rule, where a newcomer goes whose name is taken.

    Args:
        removals: makes the steps to the trash.
        folders: knows the target folders.
        protected: what is never taken away to make room.
    """

    def __init__(self, removals: Removals, folders: TargetFolders, protected: frozenset[str]) -> None:
        self.names = Names(folders.ignores_case)
        self._removals = removals
        self._protected = protected

    def room(self, rule: Rule, target: Place, newcomer: FileRecord, compare: bool = True) -> Room | Discard | str:
        """Return where a newcomer goes, that it is not wanted, or why it stays.

        Args:
            rule: whose `clash` decides.
            target: where it wants to go.
            newcomer: the entry, or what will be made.
            compare: whether it may go to the trash instead.
        """
        # Newcomers of one run are numbered among themselves; the rest looks at what stood there before.
        if self.names.is_given(target):
            return Room(self.names.give(target))
        if _differ_in_case_alone(target, newcomer.place) and self.names.ignores_case(target.folder):
            return Room(self.names.take(target))  # both names are one there
        if rule.clash == "number":
            return Room(self.names.give(target))
        there = look_or_none(target)
        if there is None:
            return Room(self.names.take(target))
        if rule.clash == "skip":
            return f"{target.name} is there already"
        if rule.clash == "same":
            return self._same(target, there, newcomer, compare)
        if rule.clash == "newer" and there.mtime_ns == newcomer.mtime_ns:
            return Room(self.names.give(target))
        if rule.clash == "newer" and there.mtime_ns > newcomer.mtime_ns:
            return Discard(None) if compare else f"{target.name} there is newer"
        return self._replace(rule, target, there)

    def _same(self, target: Place, there: FileRecord, newcomer: FileRecord, compare: bool) -> Room | Discard | str:
        one, other = there.identity, newcomer.identity
        if compare and one.kind == other.kind == "file" and one.size == other.size:
            try:
                if same_contents(newcomer.place, target):
                    return Discard(Witness(target, with_sample(there).identity))
            except OSError as error:
                return f"{target.name} there cannot be compared ({(error.strerror or 'unreadable').lower()})"
        return Room(self.names.give(target))

    def _replace(self, rule: Rule, target: Place, there: FileRecord) -> Room | str:
        if there.identity.kind not in ("file", "folder"):
            return f"{target.name} there is neither a file nor a folder, and is not replaced"
        there = with_sample(there)
        if there.identity.kind == "folder":
            refused = refused_entry(target.path)
            if refused or target.path in self._protected:
                return f"{target.path} is {refused or 'used by a rule'}, and is not replaced"
            inside = look_inside(target.path)
            if isinstance(inside, Unknown):
                return f"{target.name} there cannot be looked into: {inside.reason}"
            if inside.version_control:
                return f"{target.name} there is not replaced: {UNDER_VERSION_CONTROL}"
            there = there._replace(identity=identity_inside(there.identity, inside))
        old = self._removals.trash(rule.name, rule.key, there)
        return Room(self.names.take(target), [old])


def _differ_in_case_alone(one: Place, other: Place) -> bool:
    return one.folder == other.folder and one.name.casefold() == other.name.casefold()
