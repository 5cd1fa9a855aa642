"""List, ask, do, report: what every command that changes files has in common."""

from __future__ import annotations

import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import count
from types import FrameType

from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.cli.output.plan_view import PlanView, exit_code
from frugal_sorter.cli.output.progress import Progress
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import now_ns, shown
from frugal_sorter.cli.output.words import done_text, stray_texts
from frugal_sorter.errors import RefusedError
from frugal_sorter.execution.executor import Result, changing, execute
from frugal_sorter.planning.plan import SUMMED, Plan
from frugal_sorter.reports.totals import forget_totals, keep_totals, take_totals
from frugal_sorter.rules.units import SECOND_NS
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.state.log import open_log
from frugal_sorter.state.settings import read_settings
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.move_across import lost_text
from frugal_sorter.steps.step import ATTENDING, FINAL, Step

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
    folder, settings = ready_state_folder(), read_settings()
    open_log(folder, settings.log)
    oldest_ns = plan.made_ns - settings.keep_days * 86_400 * SECOND_NS
    with changing(folder, plan.kind) as journal, _signals() as heard:
        journal.forget(plan.made_ns, settings.keep_days * 86_400 * SECOND_NS)
        forget_totals(folder, oldest_ns)
        before = take_totals(plan.levels, now_ns()) if plan.kind in SUMMED else None
        with Progress("steps done") as progress:
            screen.progress, told = progress, count(1)

            def show(step: Step, mark: Mark) -> None:
                progress.told(next(told))
                view.show_step(step, mark)

            result = execute(plan, journal, show, lambda: bool(heard()))
        screen.progress = None
        view.show_last_steps()
        number = heard() if result.stopped else 0
        if before is not None:
            keep_totals(folder, result.run, before, take_totals(plan.levels, now_ns()))
    screen.line()
    not_done = [(step, mark) for step, mark in result.not_done if mark.outcome != Outcome.LEFT]
    if not_done and result.done > _ON_ONE_SCREEN:
        screen.line("Not done, once more:", style="bold")
        for step, mark in not_done:
            view.show_step(step, mark)
        screen.line()
    for dev, (near, kinds) in result.lost.items():
        screen.line(f"Note: {shown(lost_text(near, dev, kinds))}", style="yellow")
    for text in stray_texts(result.stray):
        screen.line(f"Note: {shown(text)}", style="yellow")
    return result, number


def ask_and_do(
    plan: Plan, view: PlanView, screen: Screen, question: str, yes: bool, then: Callable[[Result], str]
) -> int:  # fmt: skip
    """Ask, carry a plan out that was listed, and say what was done and what comes next.

    Args:
        plan: what to do.
        view: of the plan.
        screen: the terminal.
        question: what is asked.
        yes: it was answered beforehand.
        then: returns the lines about taking it back.

    Returns:
        the exit code.
    """
    if not confirm(screen, question, yes):
        screen.line("Nothing was changed.")
        return 3
    result, number = carry_out(plan, view, screen)
    screen.line(f"{summary(result)}.", style="bold")
    screen.lines(then(result), style="bold")
    return 128 + number if number else exit_code(plan, result.has_problem)


def summary(result: Result) -> str:
    """Return in one line how much was done and how much was not."""
    parts = [done_text(result.counted)]
    marks = [mark.outcome for step, mark in result.not_done if step.verb not in ATTENDING]
    for outcome, word in ((Outcome.SKIPPED, "skipped"), (Outcome.FAILED, "failed"), (Outcome.OPEN, "unclear")):
        if outcome in marks:
            parts.append(f"{marks.count(outcome):,} {word}")
    left = marks.count(Outcome.LEFT)
    if result.stopped:
        parts.append(f"stopped before the other {left:,}")
    elif left:
        parts.append(f"{left:,} left in use")
    text = ", ".join(parts)
    return text[:1].upper() + text[1:]


def take_back_text(result: Result) -> str:
    """Return in one line by which command a run is taken back, and for how long it can be."""
    lasting = [verb for verb in result.by_verb if verb not in FINAL and verb != "run"]
    if not result.by_verb:
        return ""
    if not lasting:
        return "That cannot be taken back."
    until = f"within {read_settings().keep_days} days"
    trash = ", as long as the trash is not emptied" if "trash" in result.by_verb else ""
    gone = [
        word
        for verb, word in (
            ("delete", "what was deleted"),
            ("empty", "what left the trash"),
            ("run", "what programs did"),
        )
        if verb in result.by_verb
    ]
    but = f", but for {' and '.join(gone)}" if gone else ""
    return f"Take it back {until}{trash}{but}: frugal undo {result.run}"
