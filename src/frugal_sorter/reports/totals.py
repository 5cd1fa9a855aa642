"""What the folders of a run held before and after it, in sums: kept without anyone asking for it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from typing import Any, NamedTuple

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.filesystem.types import OTHER, TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reports.inventory import InventoryCounter
from frugal_sorter.reports.saved import Saved


@dataclass(slots=True)
class Totals:
    """Files and bytes by type in some folders at a moment.

    Args:
        made_ns: the moment, in ns since the epoch.
        levels: the folders, each with how deep it was counted, None for all levels.
        types: by type, the files and their bytes.
    """

    made_ns: int
    levels: dict[str, int | None]
    types: dict[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def files(self) -> int:
        """All files."""
        return sum(files for files, _ in self.types.values())

    @property
    def bytes(self) -> int:
        """All bytes."""
        return sum(size for _, size in self.types.values())


def take_totals(levels: Mapping[str, int | None], made_ns: int) -> Totals:
    """Count what some folders hold, hidden files too; what lies in two of them is counted once.

    Args:
        levels: absolute, resolved folders, each with how deep to count.
        made_ns: the moment to write down.
    """
    outermost = {
        folder: deep for folder, deep in levels.items()
        if not any(other != folder and is_inside(folder, other) for other in levels)
    }  # fmt: skip
    totals = Totals(made_ns, outermost)
    for folder, deep in outermost.items():
        with suppress(OSError):  # a folder that is missing holds nothing
            for count in InventoryCounter(deep, hidden=True).take([folder]).counts():
                files, size = totals.types.get(count.key, (0, 0))
                totals.types[count.key] = (files + count.files, size + count.bytes)
    return totals


def _path(folder: Path, run: int) -> Path:
    return folder / "totals" / f"run-{run}.json"


def keep_totals(folder: Path, run: int, before: Totals, after: Totals) -> None:
    """Keep what the folders of a run held; on a full disk they are done without.

    Args:
        folder: the state folder.
        run: its number.
        before: what they held before it.
        after: and after it.
    """
    path = _path(folder, run)
    with suppress(OSError):
        path.parent.mkdir(mode=0o700, exist_ok=True)
        path.write_text(json.dumps({"before": asdict(before), "after": asdict(after)}), "ascii")


def forget_totals(folder: Path, before_ns: int) -> None:
    """Forget what was kept before a moment."""
    with suppress(OSError):
        for path in (folder / "totals").iterdir():
            if path.stat().st_mtime_ns < before_ns:
                path.unlink()


def kept_totals(folder: Path, run: int) -> tuple[Totals, Totals] | None:
    """Return what the folders of a run held before and after it, if that was kept."""
    try:
        kept = json.loads(_path(folder, run).read_text("ascii"))
        before, after = map(_read, (kept["before"], kept["after"]))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise UsageError(f"{_path(folder, run)}: cannot be read ({type(error).__name__})", "remove it") from None
    return before, after


def _read(one: Mapping[str, Any]) -> Totals:
    types = {key: (int(files), int(size)) for key, (files, size) in one["types"].items()}
    return Totals(int(one["made_ns"]), dict(one["levels"]), types)


class TypeChange(NamedTuple):
    """How much there was of a type, and how much there is: files and bytes, before and after."""

    type: str
    files_before: int
    files_after: int
    bytes_before: int
    bytes_after: int

    @property
    def difference(self) -> int:
        """By how many bytes it grew."""
        return self.bytes_after - self.bytes_before


def compare_totals(first: Totals, second: Totals) -> list[TypeChange]:
    """Return by type how two sums differ, the largest difference first; what is the same is there, too."""
    changes = [
        TypeChange(
            key,
            first.types.get(key, (0, 0))[0], second.types.get(key, (0, 0))[0],
            first.types.get(key, (0, 0))[1], second.types.get(key, (0, 0))[1],
        )
        for key in first.types.keys() | second.types.keys()
    ]  # fmt: skip
    return sorted(changes, key=lambda one: (-abs(one.difference), -one.bytes_after, one.type))


def totals_of(saved: Saved) -> Totals:
    """Return the sums of an inventory that was kept whole."""
    totals = Totals(saved.made_ns, {saved.folder: None})
    for one in saved.files.values():
        key = TYPE_OF_SUFFIX.get(suffix_of(one.path.rpartition("/")[2]), OTHER)
        files, size = totals.types.get(key, (0, 0))
        totals.types[key] = (files + 1, size + one.bytes)
    return totals
