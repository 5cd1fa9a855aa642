"""The recycle bin of Windows: what it keeps on the disk, and nothing is changed.

After what Windows itself writes since version 10: in `X:/$Recycle.Bin/SID` an entry is called `$R`, six letters or
digits, and the suffix that it had; beside it is `$I` with the same letters, which says how large it was, when it was
deleted and where it was. Seen as files; that Explorer shows them was not seen.
"""

from __future__ import annotations

import struct
from datetime import UTC, datetime

from frugal_sorter.filesystem.record import Place, is_inside
from frugal_sorter.filesystem.tree import lstat
from frugal_sorter.filesystem.volumes import mounted_tops, volume_of
from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.state import for_a_session
from frugal_sorter.trash.base import TrashBin
from frugal_sorter.values import frozen

_FOLDER = "$Recycle.Bin"
_ENTRY, _INFO = "$R", "$I"
# Version, size in bytes, FILETIME of the deletion; then in version 2 how many letters the path has, with a NUL.
_HEAD, _LETTERS = struct.Struct("<QQQ"), struct.Struct("<I")
_VERSION = 2
_PATH_OF_VERSION_1 = 520
_EPOCH = 116_444_736_000_000_000
_SIGNS = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"


@frozen
class RecycleBin(TrashBin):
    """The recycle bin of one account on one drive: entries and info files are in one folder."""

    @property
    def files(self) -> str:
        return self.root

    @property
    def info(self) -> str:
        return self.root

    @property
    def desktop_ini(self) -> bytes:
        # By this Explorer takes the folder for a recycle bin.
        return b"[.ShellClassInfo]\r\nCLSID={645FF040-5081-101B-9F08-00AA002F954E}\r\n"

    def info_name(self, name: str) -> str:
        return _INFO + name.removeprefix(_ENTRY)

    def is_entry(self, name: str) -> bool:
        return name.startswith(_ENTRY)

    def entry_name(self, info_name: str) -> str | None:
        return _ENTRY + info_name.removeprefix(_INFO) if info_name.startswith(_INFO) else None

    def info_bytes(self, place: Place, deleted: datetime, size: int) -> bytes:
        path = place.path.replace("/", "\\") + "\0"
        raw = path.encode("utf-16-le", "surrogatepass")
        moment = int(deleted.timestamp()) * 10_000_000 + _EPOCH
        return _HEAD.pack(_VERSION, size, moment) + _LETTERS.pack(len(raw) // 2) + raw

    def may_begin(self, raw: bytes, place: Place) -> bool:
        # Only its beginning: what is whole says itself where the entry was.
        return len(raw) < _HEAD.size + _LETTERS.size and raw[:8] == _HEAD.pack(_VERSION, 0, 0)[: len(raw[:8])]

    def parse(self, raw: bytes) -> tuple[str, datetime | None]:
        if len(raw) < _HEAD.size:
            return "", None
        version, _, moment = _HEAD.unpack_from(raw)
        if version == 1:
            path = raw[_HEAD.size : _HEAD.size + _PATH_OF_VERSION_1]
        elif version == _VERSION and len(raw) >= _HEAD.size + _LETTERS.size:
            (letters,) = _LETTERS.unpack_from(raw, _HEAD.size)
            path = raw[_HEAD.size + _LETTERS.size :][: 2 * letters]
        else:
            return "", None
        text = path.decode("utf-16-le", "surrogatepass" if len(path) % 2 == 0 else "ignore").partition("\0")[0]
        try:
            deleted = datetime.fromtimestamp((moment - _EPOCH) // 10_000_000, UTC).astimezone().replace(tzinfo=None)
        except (ValueError, OverflowError, OSError):
            deleted = None  # a moment that no clock has shown
        return self._original(slashed.slashed(text)), deleted

    def _original(self, path: str) -> str:
        """Return where an entry was; empty where the info file says what cannot be.

        Only the bin of the home, to which nobody else can write, may name another drive than its own.
        """
        top = "" if self.top == _home_top() else self.top
        if not slashed.is_absolute(path) or slashed.normpath(path) != path or not is_inside(path, top or path):
            return ""
        return "" if slashed.is_top(path) else path

    def name_for(self, place: Place, number: int) -> str:
        digest = int.from_bytes(blake2b(f"{number}:{place.path}".encode("utf-8", "surrogatepass"), digest_size=8).digest())
        letters = "".join(_SIGNS[digest // len(_SIGNS) ** at % len(_SIGNS)] for at in range(6))
        # The suffix as it was spelled, unless it has a blank in it (PathFindExtensionW).
        _, dot, suffix = place.name.rpartition(".")
        return f"{_ENTRY}{letters}.{suffix}" if dot and suffix and " " not in suffix else f"{_ENTRY}{letters}"


def bin_at(folder: str, top: str) -> TrashBin:
    """Return the recycle bin that a folder of entries belongs to.

    Args:
        folder: it.
        top: the drive, such as `C:/`.
    """
    return RecycleBin(folder, top or slashed.top_and_names(folder)[0], 0)


@for_a_session
def _home_top() -> str:
    return slashed.top_and_names(slashed.realpath(accounts.own_home()))[0]


def home_bin() -> TrashBin:
    """Return the recycle bin of the drive that the home is on; it may not exist yet."""
    top = _home_top()
    return _bin_of(top, disk.stat(top).st_dev)


def _bin_of(top: str, dev: int) -> RecycleBin:
    return RecycleBin(f"{top}{_FOLDER}/{accounts.account_key()}", top, dev)


def bin_for(folder: str) -> TrashBin | None:
    """Return the recycle bin on the drive of a folder, or None where it has none, as over a network.

    Args:
        folder: absolute, resolved.
    """
    dev = lstat(folder).st_dev
    volume = volume_of(dev, folder)
    return None if volume.is_shared or volume.top not in mounted_tops() else _bin_of(volume.top, dev)


def all_bins() -> list[TrashBin]:
    """Return every recycle bin of this account that exists."""
    found: list[TrashBin] = []
    for top in mounted_tops():
        try:
            one = _bin_of(top, disk.lstat(top).st_dev)
        except OSError:
            continue
        if disk.isdir(one.root):
            found.append(one)
    return found
