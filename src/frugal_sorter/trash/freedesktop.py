"""Trash folders as the desktop knows them: where they are, what lies in them; nothing is changed.

After the freedesktop.org "Desktop Trash Specification" 1.0: one in the home, and one for each
other volume, in `.Trash/UID` if the administrator set that up and it is safe, else in `.Trash-UID`.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import unquote_to_bytes

import platformdirs

from frugal_sorter.filesystem.record import Place, is_inside
from frugal_sorter.filesystem.volumes import mounted_tops, volume_of
from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.remembered import for_a_session

INFO_SUFFIX = ".trashinfo"
# So that the name with its suffix fits into 255 bytes.
LONGEST_NAME = 245
SIZES = "directorysizes"
# The bytes that may not stand in a path of an info file as they are.
_RESERVED = re.compile(rb"[^A-Za-z0-9/!*'()~_.-]")
_ESCAPES = {bytes([code]): b"%%%02X" % code for code in range(256)}


@dataclass(frozen=True, slots=True)
class TrashBin:
    """One trash folder.

    Args:
        root: its path, without symbolic links.
        top: the folder that its volume is mounted at; empty for the one in the home.
        dev: the device it is on, or will be on.
    """

    root: str
    top: str
    dev: int

    @property
    def files(self) -> str:
        """The folder that holds what was trashed."""
        return f"{self.root}/files"

    @property
    def info(self) -> str:
        """The folder that holds where each came from."""
        return f"{self.root}/info"

    def info_text(self, place: Place, deleted: str) -> str:
        """Return what the info file of an entry holds.

        Args:
            place: where it was.
            deleted: the local time of its deletion, to the second, after ISO 8601.
        """
        return f"[Trash Info]\nPath={_encoded_start(place[0], self.top)}{encoded(place[1])}\nDeletionDate={deleted}\n"


@dataclass(frozen=True, slots=True)
class Trashed:
    """One entry of a trash.

    Args:
        bin: where it lies.
        name: its name there, which is its number for a person, too.
        original: where it was, absolute; empty where the info does not say.
        deleted: the local time of its deletion, None where the info does not say.
        orphan: `info` where the file is missing, `file` where the info is; empty otherwise.
    """

    bin: TrashBin
    name: str
    original: str
    deleted: datetime | None
    orphan: str = ""

    @property
    def place(self) -> Place:
        """Where it lies now."""
        return Place(self.bin.files, self.name)


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
    root = slashed.realpath(Path(platformdirs.user_data_dir()) / "Trash")
    return TrashBin(root, "", _dev_above(root))


def _dev_above(path: str) -> int:
    """Return the device that a path is on, or will be on."""
    while True:
        try:
            return disk.stat(path).st_dev
        except OSError:
            if path == "/":
                raise
            path = os.path.dirname(path)


def bin_for(folder: str, dev: int) -> TrashBin | None:
    """Return the trash on the volume of a folder, or None where none can be had there.

    Args:
        folder: an absolute path without symbolic links.
        dev: its device.
    """
    home = home_bin()
    if home.dev == dev:
        return home
    top = volume_of(dev, folder).top
    return next(iter(_volume_bins(top, dev, may_make=True)), None)


def _volume_bins(top: str, dev: int, may_make: bool) -> Iterator[TrashBin]:
    """Yield the usable trashes of this account on a volume, the better one first."""
    uid = accounts.user_id()
    shared = f"{top.rstrip('/')}/.Trash"
    if _is_safe_shared(shared):
        own = f"{shared}/{uid}"
        if _is_own_folder(own, dev) or (may_make and not disk.lexists(own)):
            yield TrashBin(own, top, dev)
    own = f"{top.rstrip('/')}/.Trash-{uid}"
    if _is_own_folder(own, dev) or (may_make and not disk.lexists(own) and disk.access(top, os.W_OK)):
        yield TrashBin(own, top, dev)


def _is_safe_shared(path: str) -> bool:
    """Tell whether `.Trash` is a folder, not a link, and sticky, as the specification asks for."""
    try:
        found = disk.lstat(path)
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and bool(found.st_mode & stat.S_ISVTX)


def _is_own_folder(path: str, dev: int) -> bool:
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


def contents_of(trash: TrashBin) -> list[Trashed]:
    """Return what lies in a trash, by name.

    Raises:
        OSError: it cannot be read.
    """
    files = set(_names(trash.files))
    infos = {name.removesuffix(INFO_SUFFIX) for name in _names(trash.info) if name.endswith(INFO_SUFFIX)}
    found = []
    for name in sorted(files | infos):
        original, deleted = read_info(trash, name) if name in infos else ("", None)
        orphan = "" if name in files and name in infos else "info" if name in infos else "file"
        found.append(Trashed(trash, name, original, deleted, orphan))
    return found


def _names(folder: str) -> list[str]:
    try:
        return disk.listdir(folder)
    except FileNotFoundError:
        return []


def read_info(trash: TrashBin, name: str) -> tuple[str, datetime | None]:
    """Return where a trashed entry was and when it was deleted, as far as its info file says."""
    try:
        descriptor = disk.open(f"{trash.info}/{name}{INFO_SUFFIX}", disk.O_RDONLY | disk.O_NOFOLLOW | disk.O_NONBLOCK)
        try:
            raw = os.read(descriptor, 65_536)
        finally:
            disk.close(descriptor)
    except OSError:
        return "", None
    return parse_info(raw, trash)


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
    # Whoever can write to a volume must not say where on the other ones something comes to.
    path = "/" + "/".join(parts)
    return path if not top or (is_inside(path, top) and path != top) else ""
