"""How fast a folder grows, and when its volume is full: a robust trend over inventories that were kept.

The trend is that of Theil and Sen: the median of the slopes between all pairs of points, with its 95 %
interval (P. K. Sen, 1968, J. Am. Stat. Assoc. 63, 1379). A single odd day does not bend it. After one
clean-up only pairs on the same side of it count, so that emptying a folder is not taken for its
shrinking. A folder that is emptied again and again grows as its peaks do.

A date is given only where the points support it: the first two thirds of them must have predicted the rest.
Otherwise it says what is in the way: most of the growth is a burst, too short a time is seen, or the
interval reaches from soon to never.
"""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Sequence
from itertools import pairwise
from math import sqrt
from statistics import median
from typing import Literal, NamedTuple

from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.status import look
from frugal_sorter.reports.saved import Saved, SavedFile
from frugal_sorter.values import frozen, replace

DAY_NS = 86_400_000_000_000
FEWEST_POINTS = 3
# A fall by more than this share of everything that was ever there is a clean-up, not a fluctuation.
_CLEAN_UP = 0.1
# A line that leaves more than this share of the spread unexplained says little.
_BAD_FIT = 0.5
# Growth below this share of the size over the time seen counts as none.
_FLAT = 0.01
_CLOSEST_NS = DAY_NS // 4
# Within a day nobody knows the days to come.
_SHORTEST_NS = DAY_NS
_SHORTEST_FOR_NEVER_NS = 28 * DAY_NS
# The latest date may be so many times as far away as the earliest one.
_WIDEST = 10
# No growth is known better than to this share of it.
_NARROWEST = 0.1
# The normal distribution stays below this with a probability of 97.5 %.
_NORMAL_975 = 1.959964
# A burst is at least half of all growth, in at most a quarter of the time.
_BURST_SHARE, _BURST_TIME = 0.5, 0.25
_SPACE = 0.05
_MARKS = 12
_YEAR_NS = 360 * DAY_NS
FURTHEST_NS = 100 * 365 * DAY_NS


class Point(NamedTuple):
    """A size in bytes at a moment in ns since the epoch."""

    at_ns: int
    bytes: int


@frozen
class Trend:
    """How a size grows.

    Args:
        per_day: bytes a day; None where there is nothing to tell it from.
        low: the lower end of its 95 % interval; None with fewer than three points.
        high: the upper end.
        points: how many it is made from.
        clean_ups: how many falls are between them; from the second on it is the trend of the peaks before them.
        misfit: the share of the spread that the line leaves unexplained, 0 to 1.
        span_days: over how many days.
        size: the last one, in bytes.
        peaks: the largest sizes before the clean-ups, where there are two or more.
        is_proven: whether the first two thirds of the points foretold the last within their interval.
    """

    per_day: float | None
    low: float | None
    high: float | None
    points: int
    clean_ups: int = 0
    misfit: float = 0.0
    span_days: float = 0.0
    size: int = 0
    peaks: tuple[Point, ...] = ()
    is_proven: bool = False

    @property
    def is_flat(self) -> bool:
        """Whether there is no growth worth a date."""
        largest = max([self.size, 1, *(peak.bytes for peak in self.peaks)])
        return self.per_day is not None and abs(self.per_day) * self.span_days <= _FLAT * largest

    @property
    def emptied_days(self) -> float:
        """After how many days it is emptied, as a rule."""
        return median((later.at_ns - earlier.at_ns) / DAY_NS for earlier, later in pairwise(self.peaks))

    @property
    def is_bad_fit(self) -> bool:
        """Whether a line says little about these points."""
        return self.misfit > _BAD_FIT and not self.is_flat


def trend_of(points: Sequence[Point], apart_ns: int = _CLOSEST_NS) -> Trend:
    """Return the robust trend of some points, in any order; of those closer to each other the last counts."""
    ordered = _apart(sorted(set(points)), apart_ns)
    teeth = _teeth([point.bytes for point in ordered])
    # What grows is what is there before it is emptied; nobody knows yet how high the last tooth becomes.
    peaks = tuple(ordered[end - 1] for _, end in teeth[:-1]) if len(teeth) > 2 else ()
    trend = _line(peaks or ordered, [(0, len(peaks))] if peaks else teeth)
    size = ordered[-1].bytes if ordered else 0
    return replace(
        trend,
        points=len(ordered),
        clean_ups=max(len(teeth) - 1, 0),
        size=size,
        peaks=peaks,
        span_days=(ordered[-1].at_ns - ordered[0].at_ns) / DAY_NS if ordered else 0.0,
        is_proven=_foretold(peaks or ordered),
    )


def _line(points: Sequence[Point], teeth: Sequence[tuple[int, int]]) -> Trend:
    """Return the trend of points in the order of time; only points within a tooth are compared."""
    if len(points) < 2 or points[0].at_ns == points[-1].at_ns:
        return Trend(None, None, None, len(points))
    days = [(point.at_ns - points[0].at_ns) / DAY_NS for point in points]
    sizes = [float(point.bytes) for point in points]
    if len(points) == 2:
        return Trend((sizes[1] - sizes[0]) / days[1], None, None, 2)
    slopes = sorted(
        (sizes[later] - sizes[earlier]) / (days[later] - days[earlier])
        for begin, end in teeth
        for earlier in range(begin, end)
        for later in range(earlier + 1, end)
        if days[later] > days[earlier]
    )
    if not slopes:
        return Trend(None, None, None, len(points))
    slope = median(slopes)
    if len(teeth) > 1:
        # Pairs across a clean-up are missing, which Sen's ranks do not allow for.
        low, high = slopes[round(0.025 * (len(slopes) - 1))], slopes[round(0.975 * (len(slopes) - 1))]
    else:
        low, high = _sen_interval(slopes, days, sizes)
    misfit = max((_misfit(days[b:e], sizes[b:e], slope) for b, e in teeth if e - b > 2), default=0.0)
    # However well the points fit a line, its slope is known to a tenth at best.
    apart = _NARROWEST * abs(slope)
    return Trend(slope, min(low, slope - apart), max(high, slope + apart), len(points), misfit=misfit)


def _foretold(points: Sequence[Point]) -> bool:
    """Return True if the first two thirds of some points foretold when most sizes of the others would be reached."""
    known = points[: (2 * len(points) + 2) // 3]
    if len(known) < FEWEST_POINTS:
        return False
    (at_ns, size), later, right = known[-1], points[len(known) :], 0
    trend = replace(_line(known, _teeth([point.bytes for point in known])), span_days=(at_ns - known[0].at_ns) / DAY_NS)
    for one in later:
        _, earliest_ns, latest_ns = full_at_ns(trend, one.bytes - size, at_ns)
        right += earliest_ns is not None and earliest_ns <= one.at_ns <= (latest_ns or one.at_ns)
    return 2 * right > len(later) > 0


def _apart(ordered: Sequence[Point], apart_ns: int) -> list[Point]:
    """Leave out points that another follows at once: a difference within minutes is not growth."""
    kept: list[Point] = []
    for point in ordered:
        if kept and point.at_ns - kept[-1].at_ns < apart_ns:
            kept.pop()
        kept.append(point)
    return kept


def _teeth(sizes: Sequence[int]) -> list[tuple[int, int]]:
    """Return the spans of points between clean-ups, each as its first index and the one after its last."""
    if not sizes:
        return []
    fall = _CLEAN_UP * max(sizes)
    cuts = [at for at in range(1, len(sizes)) if sizes[at - 1] - sizes[at] > fall]
    falling = sum(sizes[at] < sizes[at - 1] for at in range(1, len(sizes)))
    # What only ever falls has a trend down; teeth rise in between.
    if not cuts or falling == len(sizes) - 1:
        return [(0, len(sizes))]
    return list(zip([0, *cuts], [*cuts, len(sizes)], strict=True))


def _sen_interval(slopes: Sequence[float], days: Sequence[float], sizes: Sequence[float]) -> tuple[float, float]:
    """Return the 95 % interval of a slope by Sen's method, from all slopes in order; equal days and sizes count as ties."""

    def pairs(count: int) -> int:
        return count * (count - 1) * (2 * count + 5)

    ties = sum(pairs(count) for values in (days, sizes) for count in Counter(values).values() if count > 1)
    half = _NORMAL_975 * sqrt((pairs(len(days)) - ties) / 18)
    lower, upper = round((len(slopes) - half) / 2) - 1, round((len(slopes) + half) / 2)
    return slopes[max(lower, 0)], slopes[min(upper, len(slopes) - 1)]


def _misfit(days: Sequence[float], sizes: Sequence[float], slope: float) -> float:
    """Return the spread around the line as a share of the spread of the sizes (median absolute deviations)."""

    def deviation(values: Sequence[float]) -> float:
        middle = median(values)
        return median(abs(value - middle) for value in values)

    spread = deviation(sizes)
    return deviation([size - slope * day for day, size in zip(days, sizes, strict=True)]) / spread if spread else 0.0


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

    # Of a folder that is emptied again and again, its next peak counts.
    free -= max(trend.peaks[-1].bytes - trend.size, 0) if trend.peaks else 0
    soon_ns = now_ns + int(_WIDEST * trend.span_days * DAY_NS)
    likely_ns = at(trend.per_day)
    # Little beside the size may be much beside what is free.
    if trend.is_flat and (likely_ns is None or likely_ns > soon_ns):
        return None, None, None
    earliest_ns, latest_ns = at(trend.high), at(trend.low)
    if likely_ns is None or earliest_ns is None:
        return likely_ns, earliest_ns, latest_ns
    latest_ns = None if latest_ns is None else max(latest_ns, likely_ns + DAY_NS)
    return likely_ns, max(min(earliest_ns, likely_ns - DAY_NS), now_ns), latest_ns


class Burst(NamedTuple):
    """Growth at the end that outweighs all before it: since when, and how many bytes."""

    since_ns: int
    bytes: int


def burst_of(points: Sequence[Point], free: int) -> Burst | None:
    """Return the shortest time up to the last of some points in which half of all growth happened, if it is short.

    Args:
        points: sizes in the order of time, as close to each other as they are known.
        free: bytes that are free; growth that is little beside these and beside the size is none.
    """
    if len(points) < 2:
        return None
    grown = [max(later.bytes - earlier.bytes, 0) for earlier, later in pairwise(points)]
    span_ns, total, recent = points[-1].at_ns - points[0].at_ns, sum(grown), 0
    if total <= min(_FLAT * max(point.bytes for point in points), _SPACE * free):
        return None
    for at in range(len(grown) - 1, -1, -1):
        recent += grown[at]
        if points[-1].at_ns - points[at].at_ns > _BURST_TIME * span_ns:
            return None
        if recent >= _BURST_SHARE * total:
            since_ns = points[at].at_ns
            # At that pace, too, it may never be full.
            matters = free / recent * (points[-1].at_ns - since_ns) < FURTHEST_NS
            return Burst(since_ns, recent) if matters else None
    return None


Doubt = Literal["no points", "short", "burst", "two points", "bad fit", "wide", "few", "not foretold"]


@frozen
class Outlook:
    """When a volume is full if nothing else changes.

    Args:
        at_ns: as the trend says; None for never, not within a hundred years, or where that cannot be told.
        earliest_ns: the earlier end of the interval.
        latest_ns: the later end; None for never.
        doubt: why no date can be told; None where it can.
        burst: the growth at the end that outweighs all before it.
    """

    at_ns: int | None
    earliest_ns: int | None
    latest_ns: int | None
    doubt: Doubt | None = None
    burst: Burst | None = None


def outlook_of(trend: Trend, points: Sequence[Point], free: int, now_ns: int) -> Outlook:
    """Return when a volume is full, or why that cannot be told.

    Args:
        trend: of what grows.
        points: sizes in the order of time, as close to each other as they are known.
        free: bytes that are free now.
        now_ns: the moment.
    """
    burst = burst_of(points, free)
    at_ns, earliest_ns, latest_ns = full_at_ns(trend, free, now_ns)
    doubt: Doubt | None = None
    if trend.per_day is None or len(points) < 2:
        doubt = "short" if len(points) > 1 else "no points"
    elif points[-1].at_ns - points[0].at_ns < _SHORTEST_NS:
        doubt = "short"
    elif burst is not None:
        doubt = "burst"
    elif at_ns is None:
        doubt = "short" if points[-1].at_ns - points[0].at_ns < _SHORTEST_FOR_NEVER_NS else None
    elif trend.high is None:
        doubt = "two points"
    elif trend.is_bad_fit:
        doubt = "bad fit"
    elif earliest_ns is not None and (latest_ns is None or latest_ns - now_ns > _WIDEST * (earliest_ns - now_ns)):
        doubt = "wide"
    elif not trend.is_proven:
        # With so few nothing is left to try it on.
        doubt = "few" if (len(trend.peaks) or trend.points) <= FEWEST_POINTS else "not foretold"
    return Outlook(None if doubt else at_ns, earliest_ns, latest_ns, doubt, burst)


def trends_by_folder(saved: Sequence[Saved]) -> dict[str, Trend]:
    """Return the trend of each subfolder right below, `.` for what is directly in the folder."""
    sums: dict[str, list[int]] = defaultdict(lambda: [0] * len(saved))
    for at, one in enumerate(saved):
        for folder, size in one.by_folder.items():
            sums[folder][at] += size
    return {
        folder: trend_of([Point(one.made_ns, size) for one, size in zip(saved, sizes, strict=True)])
        for folder, sizes in sums.items()
    }


def points_from_dates(now: Saved) -> tuple[list[Point], list[Point]]:
    """Return how much of what is there now was there before: twelve evenly spaced points, and finer ones.

    They begin with the first file, at most a year back. The finer ones are an hour apart in the last day
    and a day apart in the last month. What was deleted since is not seen, so growth told from this is a
    lower bound.

    Args:
        now: what the folder holds.
    """
    came = _came(now)
    if not came:
        return [], []
    since_ns = max(came[0][0], now.made_ns - _YEAR_NS)
    span_ns = now.made_ns - since_ns
    even = [now.made_ns - span_ns * part // _MARKS for part in range(_MARKS, -1, -1)]
    fine = {now.made_ns - hour * DAY_NS // 24 for hour in range(24)} | {now.made_ns - day * DAY_NS for day in range(31)}
    fine |= set(even)
    return _sums(came, even), _sums(came, sorted(mark for mark in fine if mark >= since_ns))


def _sums(came: Sequence[tuple[int, int]], marks: Sequence[int]) -> list[Point]:
    points, total, at = [], 0, 0
    for mark in marks:
        while at < len(came) and came[at][0] <= mark:
            total += came[at][1]
            at += 1
        points.append(Point(mark, total))
    return points


def _came(now: Saved) -> list[tuple[int, int]]:
    """Return when each file came, as far as its dates tell, with its bytes; the first one first.

    A file is there since it was born, and at least since it was written: what was copied here may have been
    written to long before. But where most files were born on one day, and were written before that, the whole
    machine was copied then: for those the birth time means nothing.
    """
    dates = [(_born_ns(now, file), file.mtime_ns, file.bytes) for file in now.files.values()]
    # What was written tomorrow came by a wrong clock; its birth may tell, else it is taken for old.
    past = [min(mtime_ns, birth_ns or mtime_ns) for birth_ns, mtime_ns, _ in dates if mtime_ns <= now.made_ns]
    first_ns = min(past, default=now.made_ns)
    born = Counter(birth_ns // DAY_NS for birth_ns, _, _ in dates if birth_ns is not None)
    busiest = born.most_common(1)[0][0] if born else 0
    days = range(busiest - 1, busiest + 2)  # copying takes its time, and knows no midnight
    that_day = [mtime_ns // DAY_NS for birth_ns, mtime_ns, _ in dates if birth_ns and birth_ns // DAY_NS in days]
    copied = len(that_day) > len(dates) / 2 and sum(day < days[0] for day in that_day) > len(that_day) / 2

    def since(birth_ns: int | None, mtime_ns: int) -> int:
        tells = birth_ns is not None and not (copied and birth_ns // DAY_NS in days)
        at_ns = max(birth_ns, mtime_ns) if birth_ns is not None and tells else mtime_ns
        if at_ns > now.made_ns:
            return birth_ns if tells and birth_ns is not None and birth_ns <= now.made_ns else first_ns
        return at_ns

    return sorted((since(birth_ns, mtime_ns), size) for birth_ns, mtime_ns, size in dates)


def _born_ns(saved: Saved, file: SavedFile) -> int | None:
    try:
        return look(Place(*os.path.split(f"{saved.folder}/{file.path}"))).born_ns
    except OSError:
        return None
