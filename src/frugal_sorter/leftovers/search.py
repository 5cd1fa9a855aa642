"""Where programs keep what is theirs, and what there is of one of them."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator

from frugal_sorter.filesystem.inside import Inside, look_inside
from frugal_sorter.filesystem.record import FileRecord, Unread, place_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.walk import unread_for
from frugal_sorter.leftovers import installed
from frugal_sorter.leftovers.installed import likeness
from frugal_sorter.platforms import disk, programs
from frugal_sorter.state.inputs import read_input
from frugal_sorter.values import frozen

_LARGEST_TEXT = 100_000
Note = Callable[[Unread], None]
# Of the desktop itself: nobody's leftovers.
_OF_THE_DESKTOP = frozenset(
    "autostart applications icons mime menus fontconfig dconf systemd user-dirs.dirs user-dirs.locale mimeapps.list environment.d"
    " pulse gtk-2.0 gtk-3.0 gtk-4.0 trash keyrings recently-used.xbel themes fonts sounds backgrounds desktop-directories"
    " microsoft .config .cache .local .ssh .gnupg .bashrc .profile .bash_history .bash_logout .zshrc .var .pki .dbus .lesshst"
    " .viminfo .selected_editor .wget-hsts .sudo_as_admin_successful .python_history frugal-sorter".split()
)


@frozen
class Found:
    """An entry that a program may have left behind.

    Args:
        record: it.
        inside: what is in it, for a folder.
        why: it is taken for the program's.
        is_sure: it is; one that is not is listed apart and never taken.
    """

    record: FileRecord
    inside: Inside | None
    why: str
    is_sure: bool

    @property
    def path(self) -> str:
        """Where it is."""
        return self.record.place.path

    @property
    def bytes(self) -> int:
        """How much it is."""
        return self.record.identity.size if self.inside is None else self.inside.bytes

    @property
    def used_ns(self) -> int:
        """When something of it was last written."""
        return self.record.mtime_ns if self.inside is None else max(self.inside.newest_ns or 0, 0)


def search(program: str, home: str, is_root: bool, note: Note) -> list[Found]:
    """Return what a program has left behind, the sure ones first, each by its path.

    Args:
        program: its name.
        home: of the account.
        is_root: places of the whole machine are looked at, too.
        note: told of each folder that could not be read.
    """
    found: dict[str, Found] = {}
    for path, name in _entries(home, is_root, note):
        how, why = likeness(name, program)
        if not how and (starts := _by_what_it_starts(path, name, program)):
            how, why = "sure", starts
        if how and path not in found and (one := _found(path, why, how == "sure")) is not None:
            found[path] = one
    # What lies in one that is taken whole belongs to it.
    inner = [path for path in found if any(path.startswith(f"{other}/") for other in found if found[other].is_sure)]
    for path in inner:
        del found[path]
    return sorted(found.values(), key=lambda one: (not one.is_sure, one.path))


def _entries(home: str, is_root: bool, note: Note) -> Iterator[tuple[str, str]]:
    """Yield the path and the name of what lies in the places of programs, and one level further below makers of several."""
    for folder, only_hidden in programs.places(home, is_root):
        for name in _names(folder, note):
            path = f"{folder}/{name}"
            if only_hidden and not name.startswith("."):
                continue
            yield path, name
            # Some keep their programs together, in a folder that is all of theirs.
            if not only_hidden and disk.isdir(path) and not disk.islink(path) and name not in _OF_THE_DESKTOP:
                for inner in _names(path, note):
                    if disk.isdir(f"{path}/{inner}"):
                        yield f"{path}/{inner}", inner


def _by_what_it_starts(path: str, name: str, program: str) -> str:
    """Return why an entry of a desktop, or a unit, is a program's: it starts it; empty where it does not."""
    keys = {".desktop": "Exec", ".service": "ExecStart"}
    key = next((key for suffix, key in keys.items() if name.endswith(suffix)), "")
    if not key or disk.islink(path):
        return ""
    try:
        text = read_input(path, _LARGEST_TEXT).decode("utf-8", "replace")
    except OSError:
        return ""
    return "starts it" if likeness(installed.command_of(text, key), program)[0] == "sure" else ""


def _found(path: str, why: str, is_sure: bool) -> Found | None:
    try:
        record = look(place_of(path))
    except OSError:
        return None
    kind = record.identity.kind
    inside = look_inside(path) if kind == "folder" else None
    if kind not in ("file", "folder"):
        return Found(record, None, f"{why}, but is a link", False)
    if inside is not None and not isinstance(inside, Inside):
        return Found(record, None, f"{why}, but {inside.reason}", False)
    if is_sure and path.startswith(programs.SYSTEM_PLACES) and (owner := installed.owner_of(path)):
        return Found(record, inside, f"belongs to the installed package {owner}", False)
    if inside is not None and inside.version_control:
        return Found(record, inside, f"{why}, but holds a tree under version control", False)
    return Found(record, inside, why, is_sure)


def unclaimed(home: str, note: Note) -> list[Found]:
    """Return what is configured below a home and belongs to no installed program that is known, the largest first.

    Args:
        home: of the account.
        note: told of each folder that could not be read.
    """
    found = []
    for folder, only_hidden in programs.places(home, False):
        if os.path.basename(folder) in ("autostart", "user", "applications"):
            continue
        for name in _names(folder, note):
            if name.lower() in _OF_THE_DESKTOP or (only_hidden and not name.startswith(".")):
                continue
            bare = name.lstrip(".").partition(".")[0] if name.count(".") < 2 else name.rpartition(".")[2]
            if installed.where_installed(bare):
                continue
            one = _found(f"{folder}/{name}", "no installed program has its name", False)
            found += [] if one is None else [one]
    return sorted(found, key=lambda one: (-one.bytes, one.path))


def _names(folder: str, note: Note) -> list[str]:
    try:
        return sorted(disk.listdir(folder))
    except (FileNotFoundError, NotADirectoryError):
        return []
    except OSError as error:
        note(unread_for(folder, error))
        return []
