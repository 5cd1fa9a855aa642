"""Which time is believed: a clock that is ahead for one night must not remove or forget anything for good.

A clock is doubted when it is far from the last visit, and believed again when the system says that it is set by a
time server, when a person says so, or when a second day goes on from the first.
"""

from __future__ import annotations

from frugal_sorter.rules.units import DAY_NS, minute_text
from frugal_sorter.values import frozen

# A visit a week is usual, and no clock is set back by a day.
_LEAP_NS, _BACK_NS = 8 * DAY_NS, DAY_NS
_LATER_DAY_NS = DAY_NS // 2
# Visits as far apart as the last two were: a job that comes once a month.
_AS_FAR = 1.25


@frozen
class Clock:
    """What is known of the clock of this machine.

    Args:
        believed_ns: the last moment that was believed.
        doubted_ns: the first moment since that was not; 0 for none.
        passed_ns: how much time has surely passed, counted from the first moment: what is forgotten by age follows it.
        is_set: a time server had set the clock at the last believed moment.
    """

    believed_ns: int
    doubted_ns: int
    passed_ns: int
    is_set: bool


def heard(last: Clock, now_ns: int, is_set: bool, is_confirmed: bool) -> Clock:
    """Return what is known after the clock was looked at; it is doubted where `doubted_ns` is not 0.

    Args:
        last: what was known before.
        now_ns: what it says.
        is_set: whether a time server sets it.
        is_confirmed: a person says that it is right.
    """
    gap_ns = now_ns - last.believed_ns
    since_ns = now_ns - last.doubted_ns
    as_far_ns = max(_LEAP_NS, int(abs(last.doubted_ns - last.believed_ns) * _AS_FAR))
    goes_on = last.doubted_ns > 0 and 0 <= since_ns <= as_far_ns
    is_usual = -_BACK_NS <= gap_ns <= _LEAP_NS
    is_second_day = goes_on and since_ns >= _LATER_DAY_NS
    if not (is_usual or is_second_day or is_confirmed or is_set):
        return Clock(last.believed_ns, last.doubted_ns if goes_on else now_ns, last.passed_ns, last.is_set)
    # Nobody saw the time of a leap pass, unless a person or a time server stands for both of its ends.
    passed_ns = gap_ns if is_usual or is_confirmed or (is_set and last.is_set) else since_ns if is_second_day else 0
    return Clock(now_ns, 0, last.passed_ns + max(passed_ns, 0), is_set)


def doubt_text(clock: Clock) -> str:
    """Return why the clock is not believed; empty where it is."""
    if not clock.doubted_ns:
        return ""
    said, last = minute_text(clock.doubted_ns), minute_text(clock.believed_ns)
    return f"the clock says {said}, but the last visit was at {last}"
