"""Open folders by descriptor, without following a symbolic link anywhere on the way."""

from __future__ import annotations

from collections import OrderedDict

from frugal_sorter.filesystem.record import FileRecord, Place, is_inside
from frugal_sorter.filesystem.status import look
from frugal_sorter.platforms import disk

# How a file is made that was not there before.
NEW_FILE = disk.O_RDWR | disk.O_CREAT | disk.O_EXCL | disk.O_NOFOLLOW | disk.O_CLOEXEC
_FLAGS = disk.O_DIRECTORY | disk.O_NOFOLLOW | disk.O_CLOEXEC | disk.O_PATH


class Descriptors:
    """Keeps the descriptors of the folders used last; a step's folders are opened only once.

    A folder that is swapped for a link after it was opened does no harm: the descriptor still
    means the folder itself.
    """

    def __init__(self, most: int = 64) -> None:
        self._open: OrderedDict[str, int] = OrderedDict()
        self._most = most

    def __enter__(self) -> Descriptors:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def folder(self, path: str) -> int:
        """Return a descriptor of a folder, good until others have been asked for.

        Raises:
            OSError: it is missing, or it or a folder above it is a link (ELOOP or ENOTDIR).
        """
        # A step after the other works in the same folders: most of the way down is saved.
        descriptor = self._open.get(path)
        if descriptor is not None:
            self._open.move_to_end(path)
            return descriptor
        descriptor = disk.open(path, _FLAGS)
        self._open[path] = descriptor
        while len(self._open) > self._most:
            disk.close(self._open.popitem(last=False)[1])
        return descriptor

    def entry(self, place: Place) -> tuple[int, FileRecord]:
        """Return a descriptor of a place's folder, and the status of what stands there.

        Raises:
            OSError: as `folder`, or there is no such entry.
        """
        descriptor = self.folder(place.folder)
        return descriptor, look(place, descriptor)

    def forget(self, path: str) -> None:
        """Close a folder that is removed or moved, and those below it: on some systems they would hold it fast."""
        for one in [one for one in self._open if is_inside(one, path)]:
            disk.close(self._open.pop(one))

    def close(self) -> None:
        """Close all."""
        while self._open:
            disk.close(self._open.popitem()[1])
