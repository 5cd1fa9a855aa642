"""What a run freed, from where, and how much is free now."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.filesystem.volumes import free_bytes, room_around
from frugal_sorter.planning.plan import Plan
from frugal_sorter.steps.kinds import ATTENDING, FINAL, REPLACING

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result

# What crosses to another volume frees room where it was.
_FREEING = FINAL | REPLACING | {"move-across"}
# Reading larger inventories than these would keep a person waiting.
_MOST_BYTES = 3_000_000


class Freed(NamedTuple):
    """What a run freed.

    Args:
        bytes: how many that are gone for good, or to another volume.
        trashed: how many that lie in the trash and are not freed so far.
        folders: where the bytes were, with how many, the most first.
        free: bytes free on the volume now.
        total: of so many.
    """

    bytes: int
    trashed: int
    folders: Sequence[tuple[str, int]]
    free: int
    total: int


def freed_by(plan: Plan, result: Result) -> Freed | None:
    """Return what a run freed; None where it freed nothing and moved nothing to the trash.

    Args:
        plan: what was to be done.
        result: what became of it.
    """
    if not _FREEING.union({"trash"}) & result.done.keys() or not plan.asked:
        return None
    not_done = {step.id for step, _ in result.not_done}
    freed: Counter[str] = Counter()
    trashed, near = 0, ""
    for step in plan.steps:
        if step.verb in ATTENDING or step.id in not_done:
            continue
        if step.verb == "trash":
            trashed += step.bytes
        elif step.verb in _FREEING:
            freed["the trash" if step.verb == "empty" else _around(plan, step.place.folder)] += step.bytes
        else:
            continue
        near = near or step.place.folder
    return Freed(freed.total(), trashed, freed.most_common(), *room_around(near)) if near else None


def _around(plan: Plan, folder: str) -> str:
    """Return the folder of a plan that another one lies in."""
    return max((root for root in plan.roots if is_inside(folder, root)), key=len, default=folder)


def full_at_ns(roots: Iterable[str], now_ns: int) -> int | None:
    """Return when the volume is full at the pace of late; None where that cannot be told.

    Args:
        roots: folders, resolved; the first counts of which inventories enough are kept.
        now_ns: the moment.
    """
    # Only where a person waits for the answer: others need not load it.
    from frugal_sorter.reports.forecast import FEWEST_POINTS, Point, outlook_of, trend_of
    from frugal_sorter.reports.saved import kept_of

    for root in roots:
        kept = kept_of(root, now_ns, _MOST_BYTES)
        if len(kept) < FEWEST_POINTS:
            continue
        points = [Point(one.made_ns, one.bytes) for one in kept]
        outlook = outlook_of(trend_of(points), points, free_bytes(root), now_ns)
        if outlook.doubt is None and outlook.at_ns is not None:
            return outlook.at_ns
    return None
