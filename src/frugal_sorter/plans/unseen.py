"""What a plan did not look at: what is hidden, or lies deeper than it goes."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import NamedTuple

from frugal_sorter.plans.guard import never_entered

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
    for root, most in levels.items():
        todo = [(root, 1)]
        while todo:
            folder, level = todo.pop()
            try:
                with os.scandir(folder) as entries:
                    for entry in entries:
                        looked += 1
                        if looked > _MOST:
                            return Unseen(out_of_sight, deeper, True)
                        is_hidden = entry.name[0] == "."
                        if entry.is_dir(follow_symlinks=False):
                            if not is_hidden and entry.path not in levels and not never_entered(entry.path, entry.name):
                                todo.append((entry.path, level + 1))
                        elif not entry.is_file(follow_symlinks=False):
                            continue
                        elif most is not None and level > most:
                            deeper += not is_hidden
                        else:
                            out_of_sight += is_hidden and not hidden
            except OSError:
                continue
    return Unseen(out_of_sight, deeper)
