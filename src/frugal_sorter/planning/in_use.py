"""What a job without a rule file leaves since a program has it open."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from frugal_sorter.filesystem.record import Identity
from frugal_sorter.planning.plan import Plan
from frugal_sorter.rules.fields import World
from frugal_sorter.steps.step import Step


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


def leave_written(plan: Plan, world: World) -> None:
    """Take out of a plan what programs have open for writing, as far as this account can see, and name it."""
    asked = plan.asked
    free = set(map(id, not_held(plan, asked, world.open_files.writer, "written to by")))
    plan.drop(lambda step: id(step) not in free)
