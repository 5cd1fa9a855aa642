"""What a plan did not look at: what is hidden, or lies deeper than it goes."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import NamedTuple

from frugal_sorter.filesystem.record import Listing
from frugal_sorter.filesystem.walk import walk
from frugal_sorter.planning.guard import never_entered
from frugal_sorter.platforms import slashed

# More entries are not looked at only to say how many there are.
_MOST = 20_000


class Unseen(NamedTuple):
    """Files that were not looked at.

    Args:
        hidden: hidden ones, as deep as was looked.
        deeper: ones in subfolders that were not gone into.
        more: there are more than were counted.
    """

    hidden: int = 0
    deeper: int = 0
    more: bool = False


def unseen(levels: Mapping[str, int | None], hidden: bool) -> Unseen:
    """Count the files in some folders that were not looked at.

    Args:
        levels: the folders, resolved, each with how deep was looked, None for all levels.
        hidden: hidden files were looked at.
    """
    looked, out_of_sight, deeper = 0, 0, 0

    def descend(listing: Listing, name: str, level: int) -> int | None:
        path = slashed.join(listing.folder, name)
        return None if name[0] == "." or path in levels or never_entered(path, name) else level + 1

    for root, most in levels.items():
        with suppress(OSError):  # the plan has named what cannot be read
            for listing, level in walk(root, 1, False, descend, lambda _: None):
                looked += len(listing.names) + len(listing.folders)
                if looked > _MOST:
                    return Unseen(out_of_sight, deeper, True)
                unshown = sum(name[0] == "." for name in listing.names)
                if most is not None and level > most:
                    deeper += len(listing.names) - unshown
                elif not hidden:
                    out_of_sight += unshown
    return Unseen(out_of_sight, deeper)
