"""What is refused whatever a rule says, and which folders are never entered."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

import platformdirs

from frugal_sorter.files.record import is_inside
from frugal_sorter.files.walk import VERSION_CONTROL
from frugal_sorter.state.folders import state_folder

# With all that is below them.
_SYSTEM_TREES = (
    "/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/run", "/sbin", "/sys",
    "/usr", "/var/lib", "/snap", "/System", "/Library", "/Applications", "/private/etc", "/private/var/db",
)  # fmt: skip
# Places inside those trees where people do keep files.
_OPEN_TREES = ("/dev/shm", "/run/media", "/run/user", "/usr/local/share")
# The folder itself, but not what is below it.
_SYSTEM_FOLDERS = ("/", "/home", "/var", "/Users", "/private", "/private/var", "/Volumes")


@lru_cache(maxsize=1)
def _own_folders() -> tuple[str, ...]:
    return (os.path.realpath(state_folder().parent),)


def refused_folder(path: str) -> str | None:
    """Return why nothing may be sorted in or into a folder, or None where it may.

    Args:
        path: an absolute path without symbolic links.
    """
    if path in _SYSTEM_FOLDERS:
        return "a system folder"
    if any(is_inside(path, tree) for tree in _SYSTEM_TREES) and not any(is_inside(path, tree) for tree in _OPEN_TREES):
        return "inside a system folder"
    if any(is_inside(path, own) for own in _own_folders()):
        return "the tool's own folder"
    if any(part == ".Trash" or part.startswith(".Trash-") for part in path.split("/")) or is_inside(path, _trash()):
        return "a trash"
    return None


@lru_cache(maxsize=1)
def _trash() -> str:
    return os.path.realpath(Path(platformdirs.user_data_dir()) / "Trash")


def never_entered(path: str, name: str) -> bool:
    """Tell whether a walk leaves a subfolder alone: a trash or the tool's own state."""
    if name == ".Trash" or name.startswith(".Trash-"):
        return True
    return path == _trash() or path in _own_folders()


def version_control_root(folder: str) -> str | None:
    """Return the root of the tree under version control that a folder lies in, if there is one."""
    while True:
        if any(os.path.lexists(os.path.join(folder, mark)) for mark in VERSION_CONTROL):
            return folder
        parent = os.path.dirname(folder)
        if parent == folder:
            return None
        folder = parent
