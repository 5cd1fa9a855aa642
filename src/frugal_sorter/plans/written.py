"""What a job without a rule file leaves since a program is writing it."""

from __future__ import annotations

from frugal_sorter.plans.plan import Plan
from frugal_sorter.rules.fields import World


def leave_written(plan: Plan, world: World) -> None:
    """Take out of a plan what programs have open for writing, as far as this account can see, and name it."""
    for step in plan.asked:
        if step.was is None or step.source is None:
            continue
        writer = world.open_files.writer(step.was.dev, step.was.ino)
        if writer is not None:
            plan.left.append(step.left(f"written to by {writer}"))
    written = {left.place for left in plan.left}
    plan.drop(lambda step: step.source in written)
