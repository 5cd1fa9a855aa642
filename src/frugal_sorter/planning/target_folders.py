"""Target folders: whether they can be used, and which of them must be made first."""

from __future__ import annotations

import os
import stat

from frugal_sorter.filesystem.foreseen import lstat
from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.planning.guard import refused_folder, version_control_root
from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.values import frozen


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
        """Tell whether the volume of a folder takes `A` and `a` for the same name."""
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
