"""The one way to count entries: files, folders, and the files inside those folders."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple


class Count(NamedTuple):
    """How many entries there are.

    Args:
        files: entries that are files, or anything else that is no folder.
        folders: entries that are folders, each taken or left as a whole.
        inside: the files inside these folders.
    """

    files: int = 0
    folders: int = 0
    inside: int = 0

    @property
    def entries(self) -> int:
        """Files and folders, without what is inside these."""
        return self.files + self.folders

    def __or__(self, other: Count) -> Count:
        """Return both together."""
        return Count(self.files + other.files, self.folders + other.folders, self.inside + other.inside)

    def without(self, other: Count) -> Count:
        """Return what is left of this without another count that is part of it."""
        return Count(
            max(self.files - other.files, 0), max(self.folders - other.folders, 0), max(self.inside - other.inside, 0)
        )


NONE = Count()
ONE_FILE = Count(1)


def total(counts: Iterable[Count]) -> Count:
    """Return several counts together."""
    found = NONE
    for one in counts:
        found |= one
    return found


def folder_of(files: int) -> Count:
    """Return one folder with so many files inside."""
    return Count(0, 1, files)
