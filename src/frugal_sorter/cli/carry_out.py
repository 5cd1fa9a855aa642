"""List, ask, do, report: what every command that changes files has in common."""

from __future__ import annotations

import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import FrameType

from frugal_sorter.cli.plan_view import PlanView
from frugal_sorter.cli.screen import Screen
from frugal_sorter.cli.text import count_text
from frugal_sorter.errors import RefusedError
from frugal_sorter.plans.plan import Plan
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.work.executor import Result, changing, execute
from frugal_sorter.work.mark import Outcome

# Above this many lines, what was not done has scrolled away and is named again.
_ON_ONE_SCREEN = 15


def confirm(screen: Screen, question: str, yes: bool) -> bool:
    """Return whether to go on.

    Raises:
        RefusedError: there is nobody to ask, and nobody answered beforehand.
    """
    if yes:
        return True
    if not screen.may_ask():
        raise RefusedError("nothing was changed: there is no terminal to ask on", "add --yes to answer beforehand")
    return screen.ask(question)


@contextmanager
def _signals() -> Iterator[Callable[[], int]]:
    """Turn Ctrl-C and a request to end into a wish that is heeded between two steps."""
    heard: list[int] = []

    def hear(number: int, _: FrameType | None) -> None:
        heard.append(number)

    before = {number: signal.signal(number, hear) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield lambda: heard[0] if heard else 0
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def carry_out(plan: Plan, view: PlanView, screen: Screen) -> tuple[Result, int]:
    """Carry a plan out with a line for each thing done.

    Returns:
        the result, and the signal that stopped it, or 0.
    """
    with changing(ready_state_folder(), plan.kind) as journal, _signals() as heard:
        result = execute(plan, journal, view.show_step, lambda: bool(heard()))
        number = heard() if result.stopped else 0
    screen.line()
    not_done = [(step, mark) for step, mark in result.not_done if mark.outcome != Outcome.LEFT]
    if not_done and result.done > _ON_ONE_SCREEN:
        screen.line("Not done, once more:", style="bold")
        for step, mark in not_done:
            view.show_step(step, mark)
        screen.line()
    return result, number


def summary(result: Result) -> str:
    """Return in one line how much was done and how much was not."""
    parts = [f"{count_text(result.done, 'file')} moved"]
    marks = [mark.outcome for step, mark in result.not_done if step.verb == "move"]
    for outcome, word in ((Outcome.SKIPPED, "skipped"), (Outcome.FAILED, "failed")):
        if outcome in marks:
            parts.append(f"{marks.count(outcome):,} {word}")
    if result.stopped:
        parts.append(f"stopped before the other {marks.count(Outcome.LEFT):,}")
    return ", ".join(parts)
