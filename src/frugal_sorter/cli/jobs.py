"""What every command that changes files has in common: plan, list, ask, do, and say what came of it."""

from __future__ import annotations

import argparse
import os
import re
import signal
import sys
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from itertools import count
from types import FrameType
from typing import TYPE_CHECKING, Any

from frugal_sorter.app.rules import leave_out
from frugal_sorter.app.session import Session
from frugal_sorter.cli.options import LISTING, YES, rules_file
from frugal_sorter.cli.output.plan_view import PlanView, exit_code, freed_texts
from frugal_sorter.cli.output.screen import Progress, Screen
from frugal_sorter.cli.output.text import count_text, done_text, shown, step_text, stray_texts, will_text
from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import Keys, Numbers, by_rule, choose
from frugal_sorter.platforms import disk, processes, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Outcome, Why
from frugal_sorter.state import read_input, read_settings
from frugal_sorter.steps.kinds import ATTENDING, KINDS, LASTING
from frugal_sorter.steps.step import Mark, Step
from frugal_sorter.values import replace

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result

# Above this many lines, what was not done has scrolled away and is named again.
_ON_ONE_SCREEN = 15
# Commands worth repeating.
_OFFERED = frozenset({"tidy", "purge", "sort"})
_EDITORS, _LARGEST_TEXT = ("nano", "vi"), 1_000_000_000
_HEAD = """\
# The plan, one change per line. Delete a line, or put # in front of it, to leave that change out.
# You cannot change anything else here. Save and close; frugal then asks before it starts. If no lines are left, nothing happens.
"""


class Job(ABC):
    """What one command that changes files does; `run_job` asks it for each part, in this order.

    Args:
        args: of the command.
    """

    # Steps can be taken out of its plan, which can be saved and edited (`add_choosing`).
    is_steerable = True
    # A person has already agreed to everything that is left in the plan.
    is_agreed = False

    def __init__(self, args: argparse.Namespace) -> None:
        self.args = args
        # Rules that permanently leave what the owner of the machine wants to keep.
        self.exceptions: list[Keys] = []

    def prepare(self, session: Session, screen: Screen) -> None:  # noqa: B027
        """Print and ask what comes before there is a plan."""

    @abstractmethod
    def plan(self, session: Session) -> Plan:
        """Return what is to be done; nothing is printed or asked."""

    def decide(self, plan: Plan, screen: Screen | None) -> Plan:
        """Return a plan without what a person declines when asked separately, or what nobody can be asked about."""
        return plan

    def numbers(self, plan: Plan) -> Numbers:
        """Return what a person calls the steps of a plan by, to take some out."""
        return Numbers(plan)

    def head(self, view: PlanView) -> None:  # noqa: B027
        """Print what is above the list, whether it is empty or not."""

    def show_nothing(self, view: PlanView) -> None:
        """Print that there is nothing to do."""
        view.show_left()
        view.screen.line("Nothing to do.")

    def show_why(self, view: PlanView, session: Session) -> None:  # noqa: B027
        """Print, where there is nothing to do, what would come near it."""

    def show(self, view: PlanView) -> None:
        """Print the list, and what a person should know before saying yes."""
        view.show(names=not (self.args.yes or self.is_agreed))
        view.screen.line()
        view.warn()

    @abstractmethod
    def question(self, view: PlanView, account: str) -> str:
        """Return what is asked, of the plan as it is then."""

    def conclude(self, view: PlanView, result: Result) -> None:
        """Print what was done."""
        view.screen.line(f"{summary(result)}.", style="bold")

    def way_back(self, result: Result) -> str:
        """Return the lines about taking it back."""
        return take_back_text(result)

    def finish(self, session: Session, screen: Screen) -> None:  # noqa: B027
        """Do what is due with every run, and say so."""

    @property
    def is_incomplete(self) -> bool:
        """Whether there is something outside the plan that a person must know."""
        return False


def run_job(job: Job, session: Session, screen: Screen) -> int:
    """Plan a job, list what it would do, ask, do it, and say what was done; return the exit code."""
    args = job.args
    session = replace(session, digests=getattr(args, "digests", False))
    job.prepare(session, screen)
    with Progress("checked") as progress:
        plan = job.plan(replace(session, on_progress=progress.update))
    if not args.dry_run:
        plan = job.decide(plan, screen)
    elif getattr(args, "keep_out", None) is not None:
        raise UsageError("--dry-run changes nothing, so it cannot be combined with --keep-out", "remove one of them")
    numbers = job.numbers(plan) if job.is_steerable else None
    left_out: list[Keys] = []
    if numbers is not None:
        plan, taken = take_out(args, plan, numbers)
        left_out = [*job.exceptions, *taken]
    session.narrowed(plan)
    view = PlanView(plan, screen, numbers)
    job.head(view)
    if not plan.asked:
        job.show_nothing(view)
        if job.is_steerable:
            keep_out(args, screen, left_out)
        job.show_why(view, session)
        if not args.dry_run:
            job.finish(session, screen)
        return exit_code(plan, job.is_incomplete)
    job.show(view)
    if job.is_steerable:
        keep_out(args, screen, left_out)
        if args.save is not None:
            _save(args, view, session)
            return exit_code(plan, job.is_incomplete)
        if args.edit and not args.dry_run:
            edit(view, screen)
    if args.dry_run:
        screen.line(f"This would {view.totals()}. Nothing was changed (--dry-run).", style="bold")
        return exit_code(plan, job.is_incomplete)
    if not agreed(
        view, screen, lambda: job.question(view, session.account), args.yes or job.is_agreed, job.is_steerable, job.show
    ):
        session.narrowed(view.plan)
        screen.line("Nothing was changed.")
        return 3
    view.change(view.plan.numbered())
    result, number = _show_run(session, view)
    job.conclude(view, result)
    _tell_freed(session, plan, screen, result)
    screen.lines(job.way_back(result), style="bold")
    job.finish(session, screen)
    if getattr(args, "plan", None) is None:
        # A saved plan is done once.
        _offer(session, screen, plan, result)
    return 128 + number if number else exit_code(plan, job.is_incomplete or result.has_problem)


# Asking


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
        raise NobodyToAsk(
            "nothing was changed: frugal cannot ask for confirmation without a terminal", "add --yes to confirm in advance"
        )
    return screen.answer(question, answers)


def agreed(
    view: PlanView,
    screen: Screen,
    question: Callable[[], str],
    yes: bool,
    steerable: bool,
    show: Callable[[PlanView], None] = PlanView.show,
) -> bool:
    """Return whether to carry a plan out; a person may first see all of it, or take steps out of it in an editor.

    Args:
        view: of the plan.
        screen: the terminal.
        question: returns what is asked, of the plan as it is then.
        yes: it was answered beforehand.
        steerable: steps can be taken out.
        show: prints the list.

    Raises:
        NobodyToAsk: there is nobody to ask, and nobody answered beforehand.
    """
    cut = f"{count_text(screen.left_out, 'entry is', 'entries are')} not listed above; l lists all.\n" if screen.left_out else ""
    answers = ["yes", "no", *(["edit"] if steerable else []), *(["list"] if cut else [])]
    while view.plan.asked:
        answer = _answer(screen, cut + question(), yes, answers)
        if answer == "list":
            view.show_whole(show)
            continue
        if answer != "edit":
            return answer == "yes"
        try:
            edit(view, screen)
        except UsageError as wrong:
            # A mistake in the editor does not lose earlier decisions.
            screen.line(f"Note: {shown(wrong.text)}; the plan is unchanged", style="warn")
    return False


# Doing it


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


def _show_run(session: Session, view: PlanView) -> tuple[Result, int]:
    """Carry a plan out with a line for each thing done.

    Returns:
        the result, and the signal that stopped it, or 0.
    """
    # Most calls only look, so that nothing that changes files is loaded for them.
    from frugal_sorter.app.carry_out import carry_out, was_not_done
    from frugal_sorter.steps.moving import lost_text

    screen = view.screen
    with _signals() as heard:
        with Progress("steps done") as progress:
            session = replace(session, on_progress=lambda done, of: progress.update(done, of, "files read"))
            screen.progress, numbers = progress, count(1)

            def show(step: Step, mark: Mark) -> None:
                progress.update(next(numbers), len(view.plan.steps))
                view.show_step(step, mark)

            result = carry_out(session, view.plan, show, lambda: bool(heard()))
        screen.progress = None
        view.show_sums(result.run)
        number = heard() if result.stopped else 0
    screen.line()
    not_done = was_not_done(result)
    if not_done and result.done.steps > _ON_ONE_SCREEN:
        screen.line("Not done:", style="bold")
        for step, mark in not_done:
            view.show_step(step, mark)
        screen.line()
    for dev, (near, kinds) in result.lost.items():
        screen.line(f"Note: {shown(lost_text(near, dev, kinds))}", style="warn")
    for text in stray_texts(result.stray):
        screen.line(f"Note: {shown(text)}", style="warn")
    return result, number


def _tell_freed(session: Session, plan: Plan, screen: Screen, result: Result) -> None:
    """Print what a run freed and how much is free now, if it freed something or moved it to the trash."""
    from frugal_sorter.app.report import freed_by, full_at_ns

    freed = freed_by(plan, result)
    if freed is not None:
        # Only a person wants to know of the future now.
        full_ns = full_at_ns(plan.roots, session.now_ns) if screen.is_terminal else None
        visit = session.visiting.visit if session.visiting is not None else None
        gained = freed.bytes
        if visit is not None and visit.free_before is not None and visit.free_after is not None:
            gained = visit.free_after - visit.free_before
        for line in freed_texts(freed, full_ns, gained):
            screen.line(line)


def _offer(session: Session, screen: Screen, plan: Plan, result: Result) -> None:
    """Print once, after the first run of a kind, how to run it automatically."""
    if plan.kind not in _OFFERED or not result.done or session.visiting is None or session.is_unattended:
        return
    from frugal_sorter.app.carry_out import is_first_of_kind

    if not is_first_of_kind(result):
        return
    words = [slashed.abspath(word) if disk.isfile(word) else word for word in sys.argv[1:] if word not in (*YES, *LISTING)]
    command = f"frugal schedule add {plan.kind} --at {processes.quote('daily 18:00')} -- {processes.join(words)}"
    screen.line(f"To run this every day: {command}", style="dim")


def summary(result: Result) -> str:
    """Return in one line how much was done and how much was not."""
    parts = [done_text(result.done)]
    marks = [mark.outcome for step, mark in result.not_done if step.verb not in ATTENDING]
    for outcome, word in ((Outcome.SKIPPED, "skipped"), (Outcome.FAILED, "failed"), (Outcome.OPEN, "unclear")):
        if outcome in marks:
            parts.append(f"{marks.count(outcome):,} {word}")
    left = marks.count(Outcome.NOT_RUN)
    if result.stopped:
        parts.append(f"stopped with {left:,} left to do")
    elif left:
        parts.append(f"{left:,} left alone")
    text = ", ".join(parts)
    return text[:1].upper() + text[1:]


def take_back_text(result: Result) -> str:
    """Return in one line by which command a run is taken back, and for how long it can be."""
    if not result.done:
        return ""
    if not result.done.keys() - LASTING:
        return "This run cannot be undone."
    until = f"within {read_settings().keep_days} days"
    trash = ", unless the trash is emptied" if "trash" in result.done else ""
    gone = [kind.lasting for verb, kind in KINDS.items() if verb in LASTING and verb in result.done]
    but = f", except for {' and '.join(gone)}" if gone else ""
    return f"Undo {until}{trash}{but}: frugal undo {result.run}"


# Steps taken out by what a person sees


def add_choosing(parser: argparse.ArgumentParser, edit: bool = True) -> None:
    """Add `--without`, `--save` and `--edit`.

    Args:
        parser: of the command.
        edit: it carries out what it plans, so that a person may edit that first.
    """
    parser.add_argument(
        "--without",
        metavar="WHAT",
        nargs="+",
        default=[],
        help="leave these out of the plan: list numbers (3-7,12), paths, folders or wildcards",
    )
    parser.add_argument(
        "--keep-out",
        metavar="RULES",
        nargs="?",
        const="",
        default=None,
        help="leave the --without files alone in future runs too: add `leave` rules at the top of the rule file",
    )
    parser.add_argument(
        "--save", metavar="PLAN", type=Path, help=("change nothing; save the plan to a file for `frugal tidy --plan`")
    )
    parser.add_argument(
        "--page",
        metavar="PAGE",
        type=Path,
        help="with --save: also write a page on which the owner of the machine ticks what stays, for `tidy --approved`",
    )
    if edit:
        parser.add_argument(
            "--digests",
            action="store_true",
            help="read every file before it is moved and keep a digest, so that `frugal verify` can compare the contents",
        )
        parser.add_argument("--edit", action="store_true", help="edit the plan in $VISUAL or $EDITOR before confirming it")


def take_out(args: argparse.Namespace, plan: Plan, numbers: Numbers) -> tuple[Plan, list[Keys]]:
    """Return a plan without what `--without` names, and rules that leave it alone from now on.

    Raises:
        UsageError: it names what is not in the plan.
    """
    words: Sequence[str] = args.without
    if args.page is not None and args.save is None:
        raise UsageError("--page needs --save: what is approved is the saved plan", "add --save PLAN")
    if args.page is not None:
        from frugal_sorter.cli.reading import require_library

        require_library("--page", "jinja2", "reports")
    if not words:
        return plan, []
    if getattr(args, "yes", False) and any(re.fullmatch(r"[\d,-]+", word) for word in words):
        # Nobody sees the list that they would be numbers of.
        raise UsageError(
            "--without: list numbers cannot be used with --yes, because nobody sees the list", "give paths instead of numbers"
        )
    try:
        chosen = choose(plan, numbers, words, os.getcwd())
    except UsageError as wrong:
        raise UsageError(f"--without {wrong.message}", wrong.hint) from None
    return leave_out(plan, lambda step: step.id in chosen.steps, Why.LEFT_OUT()), list(chosen.rules)


# Conditions of more letters than these are not for reading.
_MOST_PRINTED = 1_000


def keep_out(args: argparse.Namespace, screen: Screen, rules: Sequence[Keys]) -> None:
    """Print the rules that from now on leave what was left out, or put them into the rule file where `--keep-out` asks for it.

    Raises:
        UsageError: nothing was left out, or the file cannot be changed.
    """
    if args.keep_out is not None:
        if not rules:
            raise UsageError("--keep-out: no files were left out", "name them with --without")
        if args.keep_out:
            args.rules = Path(args.keep_out)
        elif not hasattr(args, "rules"):
            raise UsageError("--keep-out needs a rule file", "add its name: --keep-out RULES")
        path = rules_file(args)
        from frugal_sorter.app.rule_file import change, leave_for_good

        result = change(Session.begin(), path, leave_for_good(rules))
        if result.has_problem or not result.done:
            raise UsageError(f"{path}: it could not be changed", f"see `frugal history {result.run}`")
        what = count_text(len(rules), "rule")
        screen.line(f"Added {what} at the top of {shown(str(path))}. Undo: frugal undo {result.run}")
    elif sum(len(str(rule["where"])) for rule in rules) > _MOST_PRINTED:
        screen.line("To leave these alone in future runs too, add --keep-out RULES with the name of the rule file.")
    elif rules:
        screen.line(
            "To leave these alone in future runs too, add these rules at the top of the rule file (--keep-out does this for you):"
        )
        from frugal_sorter.rules.editing import rule_text

        screen.lines("\n\n".join("\n".join(f"  {line}" for line in rule_text(rule).split("\n")) for rule in rules))


def write_page(args: argparse.Namespace, session: Session) -> None:
    """Write the page for the owner of the machine, where it is asked for."""
    if args.page is not None:
        from frugal_sorter.cli.output.review import write_review

        write_review(args.page, args.save, session.machine, session.now_ns)


def page_text(args: argparse.Namespace) -> str:
    """Return what to do with the page, and with the answer that comes back."""
    command = processes.join(["frugal", "tidy", "--plan", str(args.save), "--approved", "review.txt"])
    return f"Send {shown(str(args.page))} to the owner of the machine. When the answer is back: {shown(command)}"


def _save(args: argparse.Namespace, view: PlanView, session: Session) -> None:
    """Write the plan to a file."""
    from frugal_sorter.planning.plan import save_plan

    save_plan(view.plan, args.save)
    write_page(args, session)
    session.forget_plan()
    view.screen.line(
        f"Saved a plan of {count_text(len(view.plan.asked), 'change')} to {shown(str(args.save))}; nothing else was changed.",
        style="bold",
    )
    if args.page is not None:
        view.screen.line(page_text(args))
    view.screen.line(f"To apply it: frugal tidy --plan {shown(processes.quote(str(args.save)))}")


def edit(view: PlanView, screen: Screen) -> None:
    """Let a person take steps out of a plan in an editor.

    Raises:
        UsageError: there is no editor, it fails, or something else was changed.
    """
    plan, numbers = view.plan, view.numbers
    text = [*_HEAD.splitlines(), f"# All below {shown(view.base)}"]
    lines, steps = [], []
    for rule, asked in by_rule(plan).items():
        text += ["#", f"# {shown(rule)}: {shown(will_text(asked))}"]
        for step in sorted((step for step in asked if numbers.of(step)), key=numbers.of):
            line = f"{numbers.of(step):>{numbers.width}}  {step.verb:11} {shown(step_text(step, view.base))}"
            lines.append(line)
            steps.append(step)
            text.append(line)
    from frugal_sorter.planning.plan import struck_lines

    gone = struck_lines(lines, _edited("\n".join([*text, ""]), screen.may_ask()))
    struck = {steps[at].id for at in gone}
    if struck:
        view.change(leave_out(plan, lambda step: step.id in struck, Why.STRUCK_OUT()))
    screen.line(
        f"Left out {count_text(len(struck), 'change')}; {count_text(len(view.plan.asked), 'change')} remaining.", style="bold"
    )


def _edited(text: str, has_terminal: bool) -> str:
    """Return a text as a person leaves it in an editor; nobody else can read it meanwhile.

    Without a terminal an editor that wants one must find none, else it would wait for ever for keys that nobody presses.
    """
    # Few ask for an editor, and these are long in loading.
    import subprocess
    import tempfile
    from shutil import which

    named = os.environ.get("VISUAL") or os.environ.get("EDITOR") or ""
    if not named and not has_terminal:
        raise UsageError("--edit: there is no terminal for an editor", "use --without, or --save and edit that file")
    named = named or next(filter(which, _EDITORS), "")
    try:
        words = processes.split(named)
    except ValueError:
        words = []
    if not words:
        raise UsageError("no editor is set", "set VISUAL or EDITOR, or use --without")
    with tempfile.TemporaryDirectory(prefix="frugal-") as folder:
        path = Path(folder) / "plan.txt"
        path.write_text(text, encoding="utf-8", errors="surrogateescape")
        try:
            alone: dict[str, Any] = {} if has_terminal else {"stdin": subprocess.DEVNULL, "start_new_session": True}
            done = subprocess.run([*words, str(path)], check=False, **alone)
        except OSError as error:
            raise UsageError(f"{words[0]}: the editor cannot be started ({error.strerror})", "set VISUAL") from None
        if done.returncode != 0:
            raise UsageError(
                f"{words[0]} exited with {done.returncode}; the plan is unchanged", ("save and quit the editor normally")
            )
        try:
            return read_input(path, _LARGEST_TEXT).decode("utf-8", "surrogateescape")
        except OSError as error:
            raise UsageError(f"cannot read the edited plan ({error.strerror})", "save it without changing its name") from None
