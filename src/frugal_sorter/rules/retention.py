"""What a rule keeps: the newest few, and one of each day, week, month or year for some time.

Periods go by the calendar and the clock of this machine; weeks are those of ISO 8601. Of a period the first entry is
kept, so that what is kept once stays so until its time is over, whatever comes later.
"""

from __future__ import annotations

import math
import re
from collections.abc import Hashable, Sequence
from datetime import datetime
from typing import Literal, NamedTuple

from frugal_sorter.rules.units import SECOND_NS, Duration, InvalidValue, parse_duration

_Unit = Literal["newest", "all", "day", "week", "month", "year"]
_HINT = 'for example "newest 5", "all for 2 weeks", "one a week for 3 months" or "one a year"'


class Promise(NamedTuple):
    """One thing that is kept.

    Args:
        text: as written.
        unit: of which period one is kept; the newest, or all.
        number: how many of the newest.
        lasting: for how long; None for good.
    """

    text: str
    unit: _Unit
    number: int = 0
    lasting: Duration | None = None


class Promised(NamedTuple):
    """Why an entry is kept, and until when, in ns since the epoch; None where nobody can tell, or for good."""

    promise: Promise
    until_ns: int | None


def parse_promise(text: str) -> Promise:
    """Read what is kept.

    Raises:
        InvalidValue: it is none of the forms.
    """
    word = " ".join(text.lower().split())
    if found := re.fullmatch(r"newest ([0-9]{1,6})", word):
        if int(found[1]) < 1:
            raise InvalidValue(f'"{text}" keeps nothing', 'for example "newest 5"')
        return Promise(word, "newest", int(found[1]))
    if found := re.fullmatch(r"all for (.+)", word):
        return Promise(word, "all", lasting=parse_duration(found[1]))
    if found := re.fullmatch(r"one (?:a|an|each|every|per) (day|week|month|year)(?: for (.+))?", word):
        unit: _Unit = found[1]  # type: ignore[assignment]
        return Promise(word, unit, lasting=parse_duration(found[2]) if found[2] else None)
    raise InvalidValue(f'"{text}" does not say what to keep', _HINT)


def _period(unit: _Unit, moment_ns: int) -> Hashable:
    day = datetime.fromtimestamp(moment_ns // SECOND_NS).date()
    periods: dict[_Unit, Hashable] = {"day": day, "week": day.isocalendar()[:2], "month": (day.year, day.month), "year": day.year}
    return periods[unit]


def _lasting(one: Promised) -> float:
    """Return what is the greater, the longer a promise lasts."""
    # The newest are kept until newer ones come, which nobody can foretell; a date says more.
    if one.promise.unit == "newest":
        return -1
    return math.inf if one.until_ns is None else one.until_ns


def kept_of(moments_ns: Sequence[int], promises: Sequence[Promise], now_ns: int) -> list[Promised | None]:
    """Return for each entry of a group why it is kept, the reason that lasts longest; None where nothing keeps it.

    Args:
        moments_ns: the date of each, in ns since the epoch; of equal ones the first counts as the earlier.
        promises: what is kept.
        now_ns: the moment.
    """
    found: list[Promised | None] = [None] * len(moments_ns)
    order = sorted(range(len(moments_ns)), key=lambda at: moments_ns[at])

    def keep(at: int, promise: Promise) -> None:
        until_ns = None if promise.lasting is None else promise.lasting.from_now(moments_ns[at])
        one, known = Promised(promise, until_ns), found[at]
        if (until_ns is None or until_ns > now_ns) and (known is None or _lasting(one) > _lasting(known)):
            found[at] = one

    for promise in promises:
        if promise.unit == "newest":
            chosen = order[-promise.number :]
        elif promise.unit == "all":
            chosen = order
        else:
            first: dict[Hashable, int] = {}
            for at in order:
                first.setdefault(_period(promise.unit, moments_ns[at]), at)
            chosen = list(first.values())
        for at in chosen:
            keep(at, promise)
    return found
