"""List, ask, do, report: what every command that changes files has in common."""

from __future__ import annotations

import argparse
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from itertools import count
from types import FrameType
from typing import TYPE_CHECKING

from frugal_sorter.app.carry_out import carry_out, freed_by, full_at_ns, is_first_of_kind, was_not_done
from frugal_sorter.app.session import Session
from frugal_sorter.changes.outcome import Outcome
from frugal_sorter.cli.choosing import edit, settle, take_out
from frugal_sorter.cli.output.plan_view import PlanView, exit_code, freed_texts
from frugal_sorter.cli.output.screen import Progress, Screen
from frugal_sorter.cli.output.text import shown
from frugal_sorter.cli.output.words import done_text, stray_texts
from frugal_sorter.cli.visits import is_person
from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import Numbers
from frugal_sorter.platforms import disk, programs, slashed
from frugal_sorter.state.settings import read_settings
from frugal_sorter.steps.base import Mark
from frugal_sorter.steps.kinds import ATTENDING, KINDS, LASTING
from frugal_sorter.steps.moving import lost_text
from frugal_sorter.steps.step import Step

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result

# Above this many lines, what was not done has scrolled away and is named again.
_ON_ONE_SCREEN = 15
# What is worth doing again and again.
_OFFERED = frozenset({"tidy", "purge", "sort"})


class NobodyToAsk(RefusedError):
    """There is no terminal to ask on, and nobody answered beforehand."""


def confirm(screen: Screen, question: str, yes: bool) -> bool:
    """Return whether to go on.

    Raises:
        NobodyToAsk: there is nobody to ask, and nobody answered beforehand.
    """
    return _answer(screen, question, yes, ("yes", "no")) == "yes"


def _answer(screen: Screen, question: str, yes: bool, answers: Sequence[str]) -> str:
    if yes:
        return "yes"
    if not screen.may_ask():
        raise NobodyToAsk("nothing was changed: there is no terminal to ask on", "add --yes to answer beforehand")
    return screen.answer(question, answers)


def agreed(view: PlanView, screen: Screen, question: Callable[[], str], yes: bool, steerable: bool) -> bool:
    """Return whether to carry a plan out; a person may first take steps out of it in an editor.

    Args:
        view: of the plan.
        screen: the terminal.
        question: returns what is asked, of the plan as it is then.
        yes: it was answered beforehand.
        steerable: steps can be taken out.

    Raises:
        NobodyToAsk: there is nobody to ask, and nobody answered beforehand.
    """
    answers = ("yes", "no", "edit") if steerable else ("yes", "no")
    while view.plan.asked:
        answer = _answer(screen, question(), yes, answers)
        if answer != "edit":
            return answer == "yes"
        try:
            edit(view, screen)
        except UsageError as wrong:
            # What was decided so far is not lost with a slip in the editor.
            screen.line(f"Note: {shown(wrong.text)}; the plan is as it was", style="yellow")
    return False


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


def show_run(session: Session, plan: Plan, view: PlanView, screen: Screen) -> tuple[Result, int]:
    """Carry a plan out with a line for each thing done.

    Returns:
        the result, and the signal that stopped it, or 0.
    """
    with _signals() as heard:
        with Progress("steps done") as progress:
            screen.progress, numbers = progress, count(1)

            def show(step: Step, mark: Mark) -> None:
                progress.update(next(numbers))
                view.show_step(step, mark)

            result = carry_out(session, plan, show, lambda: bool(heard()))
        screen.progress = None
        view.show_last_steps()
        number = heard() if result.stopped else 0
    screen.line()
    not_done = was_not_done(result)
    if not_done and result.done.steps > _ON_ONE_SCREEN:
        screen.line("Not done, once more:", style="bold")
        for step, mark in not_done:
            view.show_step(step, mark)
        screen.line()
    for dev, (near, kinds) in result.lost.items():
        screen.line(f"Note: {shown(lost_text(near, dev, kinds))}", style="yellow")
    for text in stray_texts(result.stray):
        screen.line(f"Note: {shown(text)}", style="yellow")
    return result, number


def choose_list_ask_do(
    session: Session, plan: Plan, screen: Screen, args: argparse.Namespace, rest: Callable[[PlanView], str]
) -> int:  # fmt: skip
    """Take out of a plan what `--without` names, save it where that is asked for, or go on with `list_ask_do`.

    Args:
        session: of the command.
        plan: what to do.
        screen: the terminal.
        args: of the command.
        rest: returns the rest of the question, after what would be done.

    Returns:
        the exit code.
    """
    view = PlanView(plan, screen, Numbers(plan))
    left_out = take_out(args, view)
    if args.save is not None and plan.asked:
        view.show()
        screen.line()
    if settle(args, view, screen, left_out):
        return exit_code(plan)
    return list_ask_do(session, plan, view, screen, rest(view), args.yes, take_back_text, steerable=True)


def list_ask_do(
    session: Session, plan: Plan, view: PlanView, screen: Screen, rest: str, yes: bool, then: Callable[[Result], str],
    nothing: str = "Nothing to do.", steerable: bool = False,
) -> int:  # fmt: skip
    """List what would be done, and go on with `ask_and_do`, which says what the others are.

    Args:
        rest: of the question, after what would be done.
        steerable: steps can be taken out.
        nothing: what to say where there is nothing to do.
    """
    session.planned(plan)
    if not plan.asked:
        view.show_left()
        screen.line(nothing)
        return exit_code(plan)
    view.show(names=not yes)
    screen.line()
    view.warn()
    return ask_and_do(session, plan, view, screen, lambda: view.question(rest), yes, then, steerable)


def ask_and_do(
    session: Session, plan: Plan, view: PlanView, screen: Screen, question: Callable[[], str], yes: bool,
    then: Callable[[Result], str], steerable: bool = True,
) -> int:  # fmt: skip
    """Ask, carry a plan out that was listed, and say what was done and what comes next.

    Args:
        session: of the command.
        plan: what to do.
        view: of the plan.
        screen: the terminal.
        question: returns what is asked, of the plan as it is then.
        yes: it was answered beforehand.
        then: returns the lines about taking it back.
        steerable: steps can be taken out.

    Returns:
        the exit code.
    """
    if not agreed(view, screen, question, yes, steerable):
        screen.line("Nothing was changed.")
        return 3
    result, number = show_run(session, plan, view, screen)
    screen.line(f"{summary(result)}.", style="bold")
    tell_freed(session, plan, screen, result)
    screen.lines(then(result), style="bold")
    _offer(session, screen, plan, result)
    return 128 + number if number else exit_code(plan, result.has_problem)


def tell_freed(session: Session, plan: Plan, screen: Screen, result: Result) -> None:
    """Say what a run freed and how much is free now, where it freed something or moved it to the trash."""
    freed = freed_by(plan, result)
    if freed is not None:
        # Only a person wants to know of the future now.
        full_ns = full_at_ns(plan.roots, session.now_ns) if screen.is_terminal else None
        for line in freed_texts(freed, full_ns):
            screen.line(line)


def _offer(session: Session, screen: Screen, plan: Plan, result: Result) -> None:
    """Say once, after the first run of a kind, how it runs by itself."""
    if plan.kind not in _OFFERED or not result.done or session.visiting is None or not is_person():
        return
    if not is_first_of_kind(result):
        return
    words = [slashed.abspath(word) if disk.isfile(word) else word for word in sys.argv[1:] if word != "--yes"]
    command = f"frugal schedule add {plan.kind} --at {programs.quote('daily 18:00')} -- {programs.join(words)}"
    screen.line(f"To have it done by itself: {command}", style="dim")


def summary(result: Result) -> str:
    """Return in one line how much was done and how much was not."""
    parts = [done_text(result.done)]
    marks = [mark.outcome for step, mark in result.not_done if step.verb not in ATTENDING]
    for outcome, word in ((Outcome.SKIPPED, "skipped"), (Outcome.FAILED, "failed"), (Outcome.OPEN, "unclear")):
        if outcome in marks:
            parts.append(f"{marks.count(outcome):,} {word}")
    left = marks.count(Outcome.NOT_RUN)
    if result.stopped:
        parts.append(f"stopped before the other {left:,}")
    elif left:
        parts.append(f"{left:,} left in use")
    text = ", ".join(parts)
    return text[:1].upper() + text[1:]


def take_back_text(result: Result) -> str:
    """Return in one line by which command a run is taken back, and for how long it can be."""
    if not result.done:
        return ""
    if not result.done.keys() - LASTING:
        return "That cannot be taken back."
    until = f"within {read_settings().keep_days} days"
    trash = ", as long as the trash is not emptied" if "trash" in result.done else ""
    gone = [kind.lasting for verb, kind in KINDS.items() if verb in LASTING and verb in result.done]
    but = f", but for {' and '.join(gone)}" if gone else ""
    return f"Take it back {until}{trash}{but}: frugal undo {result.run}"
