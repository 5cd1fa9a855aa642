"""What programs hold: open files, and downloads that are not complete."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress

from frugal_sorter.filesystem.foreseen import listdir
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.filesystem.types import suffix_of
from frugal_sorter.filesystem.volumes import keeps_access_times
from frugal_sorter.planning.matched import FRESH
from frugal_sorter.planning.plan import Note, Plan
from frugal_sorter.rules.fields import NOT_KEPT, World
from frugal_sorter.rules.model import Rule
from frugal_sorter.rules.units import DAY_NS, minute_text
from frugal_sorter.steps.step import Step


def note_on_opened(rule: Rule, folder: str) -> Note | None:
    """Return what should be known of a rule in a folder about when files were opened; None if it does not ask.

    It is a problem where the volume does not keep that at all, since then the rule cannot act.
    """
    if not any(leaf.on.name == "opened" for leaf in rule.where.leaves()):
        return None
    try:
        keeping = keeps_access_times(folder)
    except OSError:
        return None
    if keeping == "never":
        return Note(f"{folder}: `opened` is unknown: {NOT_KEPT}", True)
    if keeping == "daily":
        what = "the volume notes when a file was opened once a day"
        return Note(f"{folder}: {what}: the rule acts up to a day late, never early", False)
    return None


# How the reasons begin that pass by themselves, as a rule.
_WAITING = ("written to by ", "open in ", FRESH, "a download that ", "its download is ")
_LONG_NS = 7 * DAY_NS


class Downloads:
    """Downloads that are not complete: a partial file, and the file of its final name beside it.

    Args:
        types: the type of each suffix.
    """

    def __init__(self, types: Mapping[str, str]) -> None:
        self._suffixes = frozenset(suffix for suffix, kind in types.items() if kind == "partial")
        self._named = re.compile(
            rf"\bpartial\b|(?:\.|\bext\b.*\b)(?:{'|'.join(map(re.escape, self._suffixes))})\b", re.IGNORECASE
        )
        self._beside: dict[str, dict[str, str]] = {}

    def are_meant_by(self, condition: str) -> bool:
        """Return True if a condition names partial files by their type or by a suffix of theirs."""
        return self._named.search(condition) is not None

    def waits(self, place: Place) -> str:
        """Return why a file has to wait for its download; empty where it has none."""
        if suffix_of(place.name) in self._suffixes:
            return "a download that is not complete"
        part = self._parts_in(place.folder).get(place.name)
        return f"its download is not complete: {part} lies beside it" if part else ""

    def _parts_in(self, folder: str) -> Mapping[str, str]:
        """Return the partial files of a folder by their final names; a browser numbers a second download."""
        known = self._beside.get(folder)
        if known is None:
            known = self._beside[folder] = {}
            with suppress(OSError):
                for name in listdir(folder):
                    if (suffix := suffix_of(name)) in self._suffixes:
                        final = name[: -len(suffix) - 1]
                        known[final] = known[re.sub(r" ?\(\d+\)$", "", final)] = name
        return known


def not_held(
    plan: Plan, steps: Iterable[Step], holder: Callable[[Identity, str], str | None], what: str
) -> list[Step]:  # fmt: skip
    """Return the steps whose entries no program holds; those that are held are named as left.

    Args:
        plan: of the steps.
        steps: some of its steps.
        holder: returns the program that holds an entry, by what it is and where.
        what: what the program does with it, such as `open in`.
    """
    free = []
    for step in steps:
        who = holder(step.was, step.place.path) if step.was is not None else None
        if who is None:
            free.append(step)
        else:
            plan.not_touched.append(step.not_touched(f"{what} {who}"))
    return free


def tell_of_long_waits(plan: Plan, since_ns: Callable[[list[str]], Mapping[str, int]]) -> None:
    """Let a person know of what was in use at every visit for a week: nobody else ever would.

    Args:
        plan: what is left in it.
        since_ns: told of all that waits; returns since when each of it does.
    """
    waiting = {one.place.path for one in plan.not_touched if one.reason.startswith(_WAITING)}
    since = since_ns(sorted(waiting))
    for at, one in enumerate(plan.not_touched):
        began_ns = since.get(one.place.path, plan.made_ns)
        if plan.made_ns - began_ns >= _LONG_NS:
            reason = f"{one.reason}, at each visit since {minute_text(began_ns)}"
            plan.not_touched[at] = one._replace(reason=reason, problem=True)


def leave_written(plan: Plan, world: World) -> None:
    """Take out of a plan what programs have open for writing, as far as this account can see, and name it."""
    asked = plan.asked
    free = set(map(id, not_held(plan, asked, world.open_files.writer, "written to by")))
    plan.drop(lambda step: id(step) not in free)
