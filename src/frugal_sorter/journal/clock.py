"""Which time is believed: a clock that is ahead for one night must not remove or forget anything for good.

A clock is doubted when it is far from the last visit, and believed again when the system says that it is set by a
time server, when a person says so, or when a second day goes on from the first.
"""

from __future__ import annotations

from frugal_sorter.rules.units import DAY_NS, minute_text
from frugal_sorter.values import frozen, replace

# A visit a week is usual, and no clock is set back by a day.
_LEAP_NS, _BACK_NS = 8 * DAY_NS, DAY_NS
_LATER_DAY_NS = DAY_NS // 2
# A job can come once a month, and no longer stretch is ever taken for usual.
_MONTH_NS = 35 * DAY_NS


@frozen
class Clock:
    """What is known of the clock of this machine.

    Args:
        believed_ns: the last moment that was believed.
        doubted_ns: the first moment since that was not; 0 for none.
        passed_ns: how much time has surely passed, counted from the first moment: what is forgotten by age follows it.
        is_set: a time server had set the clock at the last believed moment.
        is_monthly: visits were weeks apart and believed: a job that comes once a month.
    """

    believed_ns: int
    doubted_ns: int
    passed_ns: int
    is_set: bool
    is_monthly: bool = False


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
    is_monthly = abs(last.doubted_ns - last.believed_ns) <= _MONTH_NS
    goes_on = last.doubted_ns > 0 and 0 <= since_ns <= (_MONTH_NS if is_monthly else _LEAP_NS)
    is_usual = -_BACK_NS <= gap_ns <= (_MONTH_NS if last.is_monthly else _LEAP_NS)
    is_second_day = goes_on and since_ns >= _LATER_DAY_NS
    if not (is_usual or is_second_day or is_confirmed or is_set):
        return replace(last, doubted_ns=last.doubted_ns if goes_on else now_ns)
    # Nobody saw the time of a leap pass, unless a person or a time server stands for both of its ends.
    passed_ns = gap_ns if is_usual or is_confirmed or (is_set and last.is_set) else since_ns if is_second_day else 0
    is_monthly = last.is_monthly or (is_second_day and since_ns > _LEAP_NS)
    return Clock(now_ns, 0, last.passed_ns + max(passed_ns, 0), is_set, is_monthly)


def doubt_text(clock: Clock) -> str:
    """Return why the clock is not believed; empty where it is."""
    if not clock.doubted_ns:
        return ""
    said, last = minute_text(clock.doubted_ns), minute_text(clock.believed_ns)
    return f"the clock says {said}, but the last visit was at {last}"
