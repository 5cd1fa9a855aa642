"""The trash of macOS: `~/.Trash` in the home, and `.Trashes/UID` on each other volume; nothing is changed.

Where an entry was, Finder keeps in a form that is not published. So our own notes of it are in the state folder, in the form
of the other desktops, and what Finder put there has none: it can be emptied, and is restored by Finder.
"""

from __future__ import annotations

import os

from frugal_sorter.filesystem.tree import lstat
from frugal_sorter.filesystem.volumes import mount_at, mounted_tops, volume_of
from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.state import state_folder
from frugal_sorter.trash.base import TrashBin
from frugal_sorter.trash.freedesktop import FreedesktopBin, is_own_folder
from frugal_sorter.values import frozen

# How Finder arranges the icons.
_NO_ENTRY = ".DS_Store"


@frozen
class MacBin(FreedesktopBin):
    """A trash of macOS: entries are in it directly, and our notes of them elsewhere."""

    @property
    def files(self) -> str:
        return self.root

    @property
    def info(self) -> str:
        digest = blake2b(self.root.encode("utf-8", "surrogateescape"), digest_size=6).hexdigest()
        return f"{state_folder()}/trash-{digest}"

    @property
    def sizes(self) -> str:
        return ""

    @property
    def notes_all(self) -> bool:
        return False

    def is_entry(self, name: str) -> bool:
        return name != _NO_ENTRY


def bin_at(folder: str, top: str) -> TrashBin:
    """Return the trash that a folder of entries is.

    Args:
        folder: it.
        top: the folder that its volume is mounted at; empty for the one in the home, or where that does not matter.
    """
    return MacBin(folder, top, 0)


def _home() -> str:
    return slashed.realpath(slashed.expanduser("~"))


def home_bin() -> TrashBin:
    """Return the trash in the home; it may not exist yet."""
    home = _home()
    return MacBin(f"{home}/.Trash", "", disk.stat(home).st_dev)


def _bin_on(top: str, dev: int) -> TrashBin:
    return MacBin(f"{top.rstrip('/')}/.Trashes/{accounts.user_id()}", top, dev)


def bin_for(folder: str) -> TrashBin | None:
    """Return the trash that a rename leads to from a folder, or None where the volume has none: the system makes `.Trashes`.

    Args:
        folder: an absolute path without symbolic links.
    """
    home, dev = home_bin(), lstat(folder).st_dev
    if home.dev == dev:
        return home if mount_at(_home()) == mount_at(folder) else None
    found = _bin_on(volume_of(dev, folder).top, dev)
    above = os.path.dirname(found.root)
    if disk.islink(above) or not disk.isdir(above):
        return None
    return found if is_own_folder(found.root, dev) or not disk.lexists(found.root) else None


def all_bins() -> list[TrashBin]:
    """Return every trash of this account that exists, the one in the home first."""
    home = home_bin()
    bins = [home] if disk.isdir(home.root) else []
    for top in mounted_tops():
        try:
            found = _bin_on(top, disk.lstat(top).st_dev)
        except OSError:
            continue
        bins += [found] if is_own_folder(found.root, found.dev) else []
    return bins
