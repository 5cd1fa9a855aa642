"""Trash folders as the desktop knows them: where they are, what is in them; nothing is changed.

After the freedesktop.org "Desktop Trash Specification" 1.0: one in the home, and one for each
other volume, in `.Trash/UID` if the administrator set that up and it is safe, else in `.Trash-UID`.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator
from datetime import datetime
from urllib.parse import unquote_to_bytes

from frugal_sorter.filesystem.record import Place, is_inside
from frugal_sorter.filesystem.tree import lstat
from frugal_sorter.filesystem.volumes import mount_at, mounted_tops, volume_of
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.state import for_a_session
from frugal_sorter.trash.base import TrashBin
from frugal_sorter.values import frozen

INFO_SUFFIX = ".trashinfo"
# So that the name with its suffix fits into 255 bytes.
LONGEST_NAME = 245
SIZES = "directorysizes"
# The bytes that need no escape in a path of an info file.
_RESERVED = re.compile(rb"[^A-Za-z0-9/!*'()~_.-]")
_ESCAPES = {bytes([code]): b"%%%02X" % code for code in range(256)}


@frozen
class FreedesktopBin(TrashBin):
    """A trash of the specification: entries in `files`, where they came from in `info`."""

    @property
    def files(self) -> str:
        return f"{self.root}/files"

    @property
    def info(self) -> str:
        return f"{self.root}/info"

    @property
    def sizes(self) -> str:
        return SIZES

    def info_name(self, name: str) -> str:
        return name + INFO_SUFFIX

    def is_entry(self, name: str) -> bool:
        return True

    def entry_name(self, info_name: str) -> str | None:
        return info_name.removesuffix(INFO_SUFFIX) if info_name.endswith(INFO_SUFFIX) else None

    def info_bytes(self, place: Place, deleted: datetime, size: int) -> bytes:
        return self._head(place) + f"{deleted.isoformat(timespec='seconds')}\n".encode("ascii")

    def may_begin(self, raw: bytes, place: Place) -> bool:
        return (self._head(place) + b"\n").startswith(raw)

    def _head(self, place: Place) -> bytes:
        path = f"{_encoded_start(place[0], self.top)}{encoded(place[1])}"
        return f"[Trash Info]\nPath={path}\nDeletionDate=".encode("ascii")

    def parse(self, raw: bytes) -> tuple[str, datetime | None]:
        return parse_info(raw, self)

    def name_for(self, place: Place, number: int) -> str:
        wanted = place.name
        if system.length(wanted) > LONGEST_NAME:
            wanted = os.fsdecode(os.fsencode(wanted)[: LONGEST_NAME - 10])
        return wanted if number == 1 else system.shortened(wanted, f".{number}", LONGEST_NAME)


def bin_at(folder: str, top: str) -> TrashBin:
    """Return the trash that a folder of entries belongs to.

    Args:
        folder: its `files`.
        top: the folder that its volume is mounted at; empty for the one in the home, or where that does not matter.
    """
    return FreedesktopBin(os.path.dirname(folder), top, 0)


def encoded(path: str) -> str:
    """Return a path percent-encoded after RFC 2396, everything but unreserved characters and `/`."""
    return _RESERVED.sub(lambda found: _ESCAPES[found[0]], os.fsencode(path)).decode("ascii")


@for_a_session
def _encoded_start(folder: str, top: str) -> str:
    """Return what the encoded path of an entry of a folder starts with; within a volume, from its top on."""
    named = slashed.relpath(folder, top) if top else folder.rstrip("/")
    return "" if named == "." else f"{encoded(named)}/"


def home_bin() -> TrashBin:
    """Return the trash in the home; it may not exist yet."""
    root = slashed.realpath(slashed.join(system.data_home(), "Trash"))
    return FreedesktopBin(root, "", _dev_above(root))


def _dev_above(path: str) -> int:
    """Return the device that a path is on, or will be on."""
    while True:
        try:
            return disk.stat(path).st_dev
        except OSError:
            if path == "/":
                raise
            path = os.path.dirname(path)


def bin_for(folder: str) -> TrashBin | None:
    """Return the trash that a rename leads to from a folder, or None where none is available there.

    Args:
        folder: an absolute path without symbolic links.
    """
    home, dev = home_bin(), lstat(folder).st_dev
    if home.dev == dev:
        return home if mount_at(home.root) == mount_at(folder) else None
    top = volume_of(dev, folder).top
    return next(iter(_volume_bins(top, dev, may_make=True)), None)


def _volume_bins(top: str, dev: int, may_make: bool) -> Iterator[TrashBin]:
    """Yield the usable trashes of this account on a volume, the better one first."""
    uid = accounts.user_id()
    shared = f"{top.rstrip('/')}/.Trash"
    if _is_safe_shared(shared):
        own = f"{shared}/{uid}"
        if is_own_folder(own, dev) or (may_make and not disk.lexists(own)):
            yield FreedesktopBin(own, top, dev)
    own = f"{top.rstrip('/')}/.Trash-{uid}"
    if is_own_folder(own, dev) or (may_make and not disk.lexists(own) and disk.access(top, os.W_OK)):
        yield FreedesktopBin(own, top, dev)


def _is_safe_shared(path: str) -> bool:
    """Return True if `.Trash` is a folder, not a link, and sticky, as the specification asks for."""
    try:
        found = disk.lstat(path)
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and bool(found.st_mode & stat.S_ISVTX)


def is_own_folder(path: str, dev: int) -> bool:
    """Return True if a path is a folder of this account on a device, and no link."""
    try:
        found = disk.lstat(path)
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == accounts.user_id() and found.st_dev == dev


def all_bins() -> list[TrashBin]:
    """Return every trash of this account that exists, the one in the home first."""
    home = home_bin()
    bins = [home] if disk.isdir(home.root) else []
    for top in mounted_tops():
        try:
            dev = disk.lstat(top).st_dev
        except OSError:
            continue
        bins += [one for one in _volume_bins(top, dev, may_make=False) if disk.isdir(one.root)]
    return list({slashed.realpath(one.root): one for one in bins}.values())


def parse_info(raw: bytes, trash: TrashBin) -> tuple[str, datetime | None]:
    """Read the bytes of an info file: the original path, absolute, and the local time of deletion."""
    original, deleted = "", None
    for line in raw.splitlines():
        key, _, value = line.partition(b"=")
        if key.strip() == b"Path" and not original:
            original = _original(os.fsdecode(unquote_to_bytes(value.strip())), trash.top)
        elif key.strip() == b"DeletionDate" and deleted is None:
            try:
                deleted = datetime.fromisoformat(value.strip().decode("ascii")).replace(tzinfo=None)
                deleted.timestamp()
            except (ValueError, OverflowError, OSError):
                deleted = None  # no date, or one that no clock has shown
    return original, deleted


def _original(named: str, top: str) -> str:
    """Return where an entry was, absolute; empty where the info file says what cannot be."""
    parts = named.strip("/").split("/")
    if "\0" in named or not parts[-1] or {"", ".", ".."} & set(parts):
        return ""
    if not named.startswith("/"):
        # In the trash of a home a path is whole (specification, "Path").
        return slashed.join(top, named) if top else ""
    # An account that can write to a volume must not decide where on the other ones something comes to.
    path = "/" + "/".join(parts)
    return path if not top or (is_inside(path, top) and path != top) else ""
