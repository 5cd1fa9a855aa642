"""Every entry of a folder, one after the other, with sizes and dates."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from frugal_sorter.filesystem.record import Listing, Unread
from frugal_sorter.filesystem.walk import reason_of, walk
from frugal_sorter.platforms import disk, slashed


class Entry(NamedTuple):
    """An entry: path, kind, bytes (apparent and on the disk), modification time in ns, owner."""

    path: str
    kind: str
    bytes: int
    disk: int
    mtime_ns: int
    uid: int


SORTS: Mapping[str, Callable[[Entry], Any]] = {
    "name": lambda one: one.path,
    "size": lambda one: (-one.bytes, one.path),
    "modified": lambda one: (one.mtime_ns, one.path),
    "newest": lambda one: (-one.mtime_ns, one.path),
}


def list_entries(
    folders: Sequence[str], levels: int | None, hidden: bool, unread: Callable[[Unread], None]
) -> Iterator[Entry]:  # fmt: skip
    """Yield what is below some folders as it is found; nothing is held but one folder.

    Args:
        folders: absolute, resolved paths.
        levels: how deep; 1 is the folder itself, None all levels.
        hidden: hidden files and folders too.
        unread: told of each path that could not be read.

    Raises:
        OSError: one of the folders cannot be read at all.
    """

    def descend(_: Listing, name: str, level: int) -> int | None:
        if name[0] == "." and not hidden:
            return None
        return level + 1 if levels is None or level < levels else None

    for folder in folders:
        for listing, _ in walk(folder, 1, True, descend, unread):
            for kind, names in (("folder", listing.folders), ("link", listing.links), ("other", listing.others)):
                for name in names:
                    if name[0] == "." and not hidden:
                        continue
                    path = slashed.join(listing.folder, name)
                    try:
                        status = disk.lstat(path)
                    except OSError as error:
                        unread(Unread(path, reason_of(error)))
                        continue
                    size = status.st_size if kind == "link" else 0
                    yield Entry(path, kind, size, disk.used_bytes(status), status.st_mtime_ns, status.st_uid)
            for name, status in zip(listing.names, listing.status, strict=True):
                if name[0] != "." or hidden:
                    path = slashed.join(listing.folder, name)
                    yield Entry(
                        path, "file", status.st_size, disk.used_bytes(status), status.st_mtime_ns, status.st_uid
                    )
