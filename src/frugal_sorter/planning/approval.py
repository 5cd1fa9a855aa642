"""The answer of the owner of a machine to a saved plan: what stays as it is, who says so, and when."""

from __future__ import annotations

from datetime import datetime
from itertools import pairwise
from typing import NamedTuple

from frugal_sorter.errors import UsageError
from frugal_sorter.planning.plan import LARGEST_FILE
from frugal_sorter.planning.selection import ranges_of
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.state import decoded, read_input

FORMAT = "Answer to a frugal plan, format 1"
# Its lines after the first, in this order.
FIELDS = ("Plan", "From", "On", "Changes", "Stays")
NOTHING = "nothing"
_LARGEST, _LONGEST_NAME = 1_000_000, 200


class Approval(NamedTuple):
    """What an owner answered.

    Args:
        by: the name that was typed.
        at_ns: when, in ns since the epoch, by the clock of that computer.
        stays: the numbers of what stays, as ranges such as `3-7,12`; empty for nothing.
        kept: how many these are.
        changes: how many changes were shown.
    """

    by: str
    at_ns: int
    stays: str
    kept: int
    changes: int


def digest_of(plan: Path) -> str:
    """Return what tells a saved plan from every other one.

    Raises:
        UsageError: it cannot be read.
    """
    try:
        return blake2b(read_input(plan, LARGEST_FILE), digest_size=16).hexdigest()
    except OSError as error:
        why = (error.strerror or "").lower()
        raise UsageError(f"{plan}: the plan cannot be read ({why})", "`frugal preview --save` makes one") from None


def read_approval(path: Path, plan: Path, changes: int) -> Approval:
    """Read an answer.

    Args:
        path: of the file that the page saved.
        plan: of the plan that it must be about.
        changes: how many changes that has.

    Raises:
        UsageError: it is no answer, is damaged, or is about another plan; says in which line.
    """
    again = "save the answer on the page again"
    try:
        text = decoded(read_input(path, _LARGEST))
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(
            f"{path}: the answer cannot be read ({getattr(error, 'strerror', None) or 'not a text'})", again
        ) from None
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    if not lines or lines[0] != FORMAT:
        raise UsageError(f"{path}:1: not the answer to a plan", "name the file that the page of `--page` saved")
    found: dict[str, str] = {}
    for number, line in enumerate(lines[1:], 2):
        name, colon, value = line.partition(":")
        if not colon or number - 2 >= len(FIELDS) or name != FIELDS[number - 2] or not value.strip():
            raise UsageError(f"{path}:{number}: this line of the answer was changed", again)
        found[name] = value.strip()
    if len(found) < len(FIELDS):
        raise UsageError(f"{path}: the answer is not whole", again)
    if found["Plan"] != digest_of(plan) or found["Changes"] != str(changes):
        raise UsageError(f"{path}: this is the answer to another plan than {plan}", "name the plan that the page was made from")
    by = found["From"]
    if len(by) > _LONGEST_NAME or not by.isprintable():
        raise UsageError(f"{path}:3: this is not a name", again)
    try:
        at_ns = int(datetime.fromisoformat(found["On"]).timestamp()) * 1_000_000_000
    except (ValueError, OverflowError):
        raise UsageError(f"{path}:4: this is not a date", again) from None
    stays = "" if found["Stays"] == NOTHING else found["Stays"]
    ranges = ranges_of(stays)
    in_order = [number for one in ranges for number in (one.first, one.last)]
    # Each number once, and none that was not on the page.
    is_rising = all(one < other or (one == other and at % 2 == 0) for at, (one, other) in enumerate(pairwise(in_order)))
    if (stays and not ranges) or not is_rising or (in_order and not 1 <= in_order[0] <= in_order[-1] <= changes):
        raise UsageError(f"{path}:6: {stays[:60]!r} are not numbers of the plan, in order", again)
    return Approval(by, at_ns, stays, sum(one.last - one.first + 1 for one in ranges), changes)
