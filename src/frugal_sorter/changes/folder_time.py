"""The modification time of a folder in which something was done and undone again."""

from __future__ import annotations

from contextlib import suppress

from frugal_sorter.filesystem.tree import LIST
from frugal_sorter.platforms import disk


class FolderTime:
    """Gives an open folder the time back that it had, where nobody else has been in it meanwhile.

    What fails half-way leaves a folder as it was, and it should not look as if something new had come.

    Args:
        fd: a descriptor of it.
    """

    def __init__(self, fd: int) -> None:
        self._fd = fd
        self._before = disk.fstat(fd)
        self._changed_ns: int | None = None

    def at(self, fd: int) -> FolderTime:
        """Go on with another descriptor of the same folder."""
        self._fd = fd
        return self

    def note(self) -> None:
        """Take in that something was just changed in it."""
        self._changed_ns = disk.fstat(self._fd).st_mtime_ns

    def is_ours(self) -> bool:
        """Tell, before the change is undone, whether that was the last one."""
        return self._changed_ns is not None and disk.fstat(self._fd).st_mtime_ns == self._changed_ns

    def give_back(self) -> None:
        """Set the time that it had; only its owner may."""
        with suppress(OSError):
            # A descriptor that was opened for its path alone sets no times.
            own = disk.open(".", LIST, dir_fd=self._fd)
            try:
                disk.utime(own, ns=(self._before.st_atime_ns, self._before.st_mtime_ns))
            finally:
                disk.close(own)
