"""The trash of the system that this runs on, and the folders that no walk enters."""

from __future__ import annotations

from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.walk import VERSION_CONTROL
from frugal_sorter.platforms import disk, slashed, system
from frugal_sorter.state import for_a_session, state_folder
from frugal_sorter.trash.base import TrashBin, Trashed

if system.NAME == "windows":
    from frugal_sorter.trash.recycle_bin import all_bins, bin_at, bin_for, home_bin
elif system.NAME == "macos":
    from frugal_sorter.trash.macos import all_bins, bin_at, bin_for, home_bin
else:
    from frugal_sorter.trash.freedesktop import all_bins, bin_at, bin_for, home_bin

__all__ = ["all_bins", "bin_at", "bin_for", "contents_of", "home_bin", "info_place", "never_entered", "own_folders", "own_trash"]
# More than any info file holds.
_LONGEST_INFO = 65_536


def info_place(target: Place) -> Place:
    """Return where the info file of an entry of a trash is."""
    trash = bin_at(target.folder, "")
    return Place(trash.info, trash.info_name(target.name))


def contents_of(trash: TrashBin) -> list[Trashed]:
    """Return what is in a trash, by name.

    Raises:
        OSError: it cannot be read.
    """
    files = {name for name in _names(trash.files) if trash.is_entry(name)}
    infos = {name for one in _names(trash.info) if (name := trash.entry_name(one)) is not None}
    found = []
    for name in sorted(files | infos):
        original, deleted = trash.parse(_info_of(trash, name)) if name in infos else ("", None)
        is_whole = name in files and (name in infos or not trash.notes_all)
        orphan = "" if is_whole else "info" if name in infos else "file"
        found.append(Trashed(trash, name, original, deleted, orphan))
    return found


def _names(folder: str) -> list[str]:
    try:
        return disk.listdir(folder)
    except FileNotFoundError:
        return []


def _info_of(trash: TrashBin, name: str) -> bytes:
    """Return the bytes of an info file, none where it cannot be read."""
    path = f"{trash.info}/{trash.info_name(name)}"
    try:
        descriptor = disk.open(path, disk.O_RDONLY | disk.O_NOFOLLOW | disk.O_NONBLOCK | disk.O_CLOEXEC)
    except OSError:
        return b""
    try:
        return disk.pread(descriptor, _LONGEST_INFO, 0)
    except OSError:
        return b""
    finally:
        disk.close(descriptor)


@for_a_session
def own_folders() -> tuple[str, ...]:
    """Return the folders in which the tool keeps what is its own, resolved."""
    return (slashed.realpath(state_folder().parent),)


@for_a_session
def _library() -> str:
    """Return the folder in which macOS keeps what belongs to the programs of an account; empty elsewhere."""
    return slashed.realpath(slashed.join(slashed.expanduser("~"), "Library")) if system.NAME == "macos" else ""


@for_a_session
def own_trash() -> str:
    """Return the folder of this account's own trash."""
    return home_bin().root


def never_entered(path: str, name: str) -> bool:
    """Return True if a walk leaves a subfolder alone: a trash, the tool's own state, what a version control or a system keeps."""
    if name in (".Trash", ".Trashes") or name.startswith(".Trash-") or name in VERSION_CONTROL or system.is_package(name):
        return True
    return path == own_trash() or path in own_folders() or path == _library()
