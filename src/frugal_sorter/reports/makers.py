"""What the files of a folder say about who makes them: owners and name patterns, and how many an hour."""

from __future__ import annotations

import re
from collections.abc import Iterable

from frugal_sorter.reports.inventory import owner_name
from frugal_sorter.reports.listing import Entry
from frugal_sorter.values import mutable

_HOUR_NS = 3_600_000_000_000
# What changes from one file of a series to the next: numbers, also long ones in hexadecimal.
_SERIAL = re.compile(r"(?i)\b(?=[0-9a-f]*[0-9])[0-9a-f]{8,}\b|\d+")
_MARK = "#"


@mutable
class Maker:
    """Files of one owner whose names follow one pattern.

    Args:
        pattern: the name with `#` for what changes.
        owner: the account they belong to.
        files: how many.
        bytes: and their bytes.
        first_ns: when the first was last written, in ns since the epoch.
        last_ns: and the last.
    """

    pattern: str
    owner: str
    files: int = 0
    bytes: int = 0
    first_ns: int = 0
    last_ns: int = 0

    @property
    def an_hour(self) -> float | None:
        """How many came an hour, on average; None where they were not watched for an hour."""
        span = self.last_ns - self.first_ns
        return None if self.files < 2 or span < _HOUR_NS else (self.files - 1) / (span / _HOUR_NS)


def pattern_of(name: str) -> str:
    """Return a name with `#` for every number in it."""
    return _SERIAL.sub(_MARK, name)


def makers(entries: Iterable[Entry], most: int) -> list[Maker]:
    """Return the commonest name patterns by owner, the most files first; single files make no pattern.

    Args:
        entries: files and folders; folders do not count.
        most: how many to return.
    """
    found: dict[tuple[str, int], Maker] = {}
    for one in entries:
        if one.kind != "file":
            continue
        key = (pattern_of(one.path.rpartition("/")[2]), one.uid)
        maker = found.get(key)
        if maker is None:
            maker = found[key] = Maker(key[0], owner_name(one.uid), 0, 0, one.mtime_ns, one.mtime_ns)
        maker.files += 1
        maker.bytes += one.bytes
        maker.first_ns = min(maker.first_ns, one.mtime_ns)
        maker.last_ns = max(maker.last_ns, one.mtime_ns)
    several = [maker for maker in found.values() if maker.files > 1]
    return sorted(several, key=lambda maker: (-maker.files, -maker.bytes, maker.pattern))[:most]
