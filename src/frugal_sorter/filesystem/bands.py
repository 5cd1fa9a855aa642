"""Sizes and ages, roughly: the same words in tables, names and pictures."""

from __future__ import annotations

SIZE_BANDS = ((0, "empty"), (100_000, "up to 100 KB"), (1_000_000, "up to 1 MB"), (10_000_000, "up to 10 MB"),
              (100_000_000, "up to 100 MB"), (1_000_000_000, "up to 1 GB"))  # fmt: skip
LARGEST_BAND = "over 1 GB"
_DAY_NS = 86_400_000_000_000
AGE_BANDS = ((1, "up to 1 day"), (7, "up to 1 week"), (30, "up to 30 days"), (90, "up to 90 days"),
             (365, "up to 1 year"), (1095, "up to 3 years"))  # fmt: skip
OLDEST_BAND, FUTURE_BAND = "over 3 years", "in the future"


def size_band(size: int) -> str:
    """Return the band of a size in bytes."""
    return next((name for limit, name in SIZE_BANDS if size <= limit), LARGEST_BAND)


def age_band(mtime_ns: int, now_ns: int) -> str:
    """Return the band of the age of what was last written at a moment (ns since the epoch)."""
    age_ns = now_ns - mtime_ns
    if age_ns < 0:
        return FUTURE_BAND
    return next((name for days, name in AGE_BANDS if age_ns <= days * _DAY_NS), OLDEST_BAND)


def band_order(name: str) -> int:
    """Return where a band stands in its order, the newest or smallest first."""
    names = [
        FUTURE_BAND,
        *(name for _, name in AGE_BANDS),
        OLDEST_BAND,
        *(name for _, name in SIZE_BANDS),
        LARGEST_BAND,
    ]
    return names.index(name) if name in names else len(names)
