"""How fast a folder grows, and when its volume is full: a robust trend over inventories that were kept.

The trend is that of Theil and Sen, the median of the slopes between all pairs of points (SciPy,
`scipy.stats.theilslopes`), with its 95 % interval: a single odd day does not bend it. Clean-ups in
between make a saw-tooth; then only pairs between two clean-ups count, so that emptying a folder
is not taken for its shrinking.
"""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from frugal_sorter.files.record import Place
from frugal_sorter.files.status import look
from frugal_sorter.reports.saved import Saved, SavedFile

DAY_NS = 86_400_000_000_000
FEWEST_POINTS = 3
# A fall by more than this share of all that was ever there is a clean-up, not a fluctuation.
_CLEAN_UP = 0.1
# A line that leaves more than this share of the spread unexplained says little.
_BAD_FIT = 0.5
# Growth below this share of the size over the time seen counts as none.
_FLAT = 0.01
_CLOSEST_NS = DAY_NS // 4
FURTHEST_NS = 100 * 365 * DAY_NS


class Point(NamedTuple):
    """A size in bytes at a moment in ns since the epoch."""

    at_ns: int
    bytes: int


@dataclass(frozen=True, slots=True)
class Trend:
    """How a size grows.

    Args:
        per_day: bytes a day; None where there is nothing to tell it from.
        low: the lower end of its 95 % interval; None with fewer than three points.
        high: the upper end.
        points: how many it is made from.
        clean_ups: how many falls lie between them, which it leaves out.
        misfit: the share of the spread that the line leaves unexplained, 0 to 1.
    """

    per_day: float | None
    low: float | None
    high: float | None
    points: int
    clean_ups: int = 0
    misfit: float = 0.0
    span_days: float = 0.0
    size: int = 0

    @property
    def is_flat(self) -> bool:
        """Whether there is no growth worth a date."""
        return self.per_day is not None and abs(self.per_day) * self.span_days <= _FLAT * max(self.size, 1)

    @property
    def is_bad_fit(self) -> bool:
        """Whether a line says little about these points."""
        return self.misfit > _BAD_FIT and not self.is_flat


def trend_of(points: Sequence[Point]) -> Trend:
    """Return the robust trend of some points, in any order; of those close to each other the last counts."""
    ordered = _apart(sorted(set(points)))
    if len(ordered) < 2 or ordered[0].at_ns == ordered[-1].at_ns:
        return Trend(None, None, None, len(ordered), size=ordered[-1].bytes if ordered else 0)
    import numpy as np
    from scipy.stats import theilslopes

    days = np.array([(point.at_ns - ordered[0].at_ns) / DAY_NS for point in ordered])
    sizes = np.array([float(point.bytes) for point in ordered])
    span, last = float(days[-1]), ordered[-1].bytes
    if len(ordered) == 2:
        return Trend(float((sizes[1] - sizes[0]) / span), None, None, 2, 0, 0.0, span, last)
    teeth = _teeth(sizes.tolist())
    clean_ups = len(teeth) - 1
    if clean_ups:
        slopes = np.array([
            (sizes[later] - sizes[earlier]) / (days[later] - days[earlier])
            for begin, end in teeth for earlier in range(begin, end) for later in range(earlier + 1, end)
            if days[later] > days[earlier]
        ])  # fmt: skip
        if not len(slopes):
            return Trend(None, None, None, len(ordered), clean_ups, 0.0, span, last)
        slope, (low, high) = float(np.median(slopes)), (float(value) for value in np.quantile(slopes, [0.025, 0.975]))
        misfit = max((_misfit(days[b:e], sizes[b:e], slope) for b, e in teeth if e - b > 2), default=0.0)
    else:
        slope, _, low, high = (float(value) for value in theilslopes(sizes, days, 0.95))
        misfit = _misfit(days, sizes, slope)
    return Trend(slope, low, high, len(ordered), clean_ups, misfit, span, last)


def _apart(ordered: Sequence[Point]) -> list[Point]:
    """Leave out points that another follows at once: a difference within minutes is no growth."""
    kept: list[Point] = []
    for point in ordered:
        if kept and point.at_ns - kept[-1].at_ns < _CLOSEST_NS:
            kept.pop()
        kept.append(point)
    return kept


def _teeth(sizes: Sequence[float]) -> list[tuple[int, int]]:
    """Return the spans of points between clean-ups, each as its first index and the one after its last."""
    fall = _CLEAN_UP * max(sizes)
    cuts = [at for at in range(1, len(sizes)) if sizes[at - 1] - sizes[at] > fall]
    falling = sum(sizes[at] < sizes[at - 1] for at in range(1, len(sizes)))
    # What only ever falls has a trend down; teeth rise in between.
    if not cuts or falling == len(sizes) - 1:
        return [(0, len(sizes))]
    return list(zip([0, *cuts], [*cuts, len(sizes)], strict=True))


def _misfit(days: object, sizes: object, slope: float) -> float:
    """Return the spread around the line as a share of the spread of the sizes (median absolute deviations)."""
    import numpy as np

    x, y = np.asarray(days), np.asarray(sizes)
    residuals = y - slope * x
    spread = float(np.median(np.abs(y - np.median(y))))
    return float(np.median(np.abs(residuals - np.median(residuals)))) / spread if spread else 0.0


def full_at_ns(trend: Trend, free: int, now_ns: int) -> tuple[int | None, int | None, int | None]:
    """Return when a volume is full if nothing else changes: as the trend says, at the earliest, at the latest.

    None stands for never, or not within a hundred years.

    Args:
        trend: of what grows.
        free: bytes that are free now.
        now_ns: the moment.
    """

    def at(per_day: float | None) -> int | None:
        if per_day is None or per_day <= 0 or free / per_day * DAY_NS > FURTHEST_NS:
            return None
        return now_ns + int(free / per_day * DAY_NS)

    if trend.is_flat:
        return None, None, None
    return at(trend.per_day), at(trend.high), at(trend.low)


def trends_by_folder(saved: Sequence[Saved]) -> dict[str, Trend]:
    """Return the trend of each subfolder right below, `.` for what lies directly in the folder."""
    sums: dict[str, list[int]] = defaultdict(lambda: [0] * len(saved))
    for at, one in enumerate(saved):
        for file in one.files.values():
            head, slash, _ = file.path.partition("/")
            sums[head if slash else "."][at] += file.bytes
    return {
        folder: trend_of([Point(one.made_ns, size) for one, size in zip(saved, sizes, strict=True)])
        for folder, sizes in sums.items()
    }


def points_from_dates(now: Saved, months: int = 12) -> list[Point]:
    """Return how much of what is there now was there before, month by month, by birth and modification dates.

    What was deleted since is not seen, so growth told from this is a lower bound.

    Args:
        now: what the folder holds.
        months: how far to go back, in months of 30 days.
    """
    came = sorted((_born_ns(now, file), file.bytes) for file in now.files.values())
    marks = [now.made_ns - month * 30 * DAY_NS for month in range(months, -1, -1)]
    points, total, at = [], 0, 0
    for mark in marks:
        while at < len(came) and came[at][0] <= mark:
            total += came[at][1]
            at += 1
        points.append(Point(mark, total))
    return points


def _born_ns(saved: Saved, file: SavedFile) -> int:
    """Return since when a file is there at least: what was copied here may have been written to long before."""
    try:
        born_ns = look(Place(*os.path.split(f"{saved.folder}/{file.path}"))).identity.born_ns
    except OSError:
        born_ns = None
    return file.mtime_ns if born_ns is None else max(born_ns, file.mtime_ns)
