"""Steps taken out of a plan by what a person sees: by words on the command line, or in an editor."""

from __future__ import annotations

import argparse
import os
import re
from collections.abc import Sequence
from typing import Any

from frugal_sorter.app.rules import leave_out
from frugal_sorter.app.session import Session
from frugal_sorter.cli import visits
from frugal_sorter.cli.options import rules_file
from frugal_sorter.cli.output.plan_view import PlanView
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, shown
from frugal_sorter.cli.output.words import step_text, will_text
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.selection import Keys, by_rule, choose
from frugal_sorter.platforms import programs
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import read_input

_EDITORS, _LARGEST_TEXT = ("nano", "vi"), 1_000_000_000
_HEAD = """\
# The plan, a line for each step. Take a line out, or put a # in front of it, and that step is not done.
# Nothing else can be changed here. Save and leave; then you are asked. With no line left nothing is done.
"""


def add_choosing(parser: argparse.ArgumentParser, edit: bool = True) -> None:
    """Add `--without`, `--save` and `--edit`.

    Args:
        parser: of the command.
        edit: it carries out what it plans, so that a person may edit that first.
    """
    parser.add_argument(
        "--without", metavar="WHAT", nargs="+", default=[],
        help="leave these out: numbers of the list (3-7,12), paths, folders or wildcards",
    )  # fmt: skip
    parser.add_argument(
        "--keep-out", metavar="RULES", nargs="?", const="", default=None,
        help="leave those of --without for good: put rules for it above the others in the rule file",
    )  # fmt: skip
    parser.add_argument(
        "--save", metavar="PLAN", type=Path, help="do nothing; write the plan to a file for `frugal tidy --plan`"
    )
    if edit:
        parser.add_argument(
            "--edit", action="store_true", help="edit the plan in $VISUAL or $EDITOR before it is asked"
        )


def take_out(args: argparse.Namespace, view: PlanView) -> list[Keys]:
    """Take out of a plan what `--without` names, and return rules that leave it alone for good.

    Raises:
        UsageError: it names what is not in the plan.
    """
    words: Sequence[str] = args.without
    if not words:
        return []
    if getattr(args, "yes", False) and any(re.fullmatch(r"[\d,-]+", word) for word in words):
        # Nobody sees the list that they would be numbers of.
        raise UsageError("--without: numbers are those of a list that a person sees", "name paths beside --yes")
    try:
        chosen = choose(view.plan, view.numbers, words, os.getcwd())
    except UsageError as wrong:
        raise UsageError(f"--without {wrong.message}", wrong.hint) from None
    leave_out(view.plan, lambda step: id(step) in chosen.steps, "left out by --without")
    view.changed()
    return list(chosen.rules)


def keep_out(args: argparse.Namespace, screen: Screen, rules: Sequence[Keys]) -> None:
    """Print the rules that leave for good what was left out, or put them into the rule file where `--keep-out` asks for it.

    Raises:
        UsageError: nothing was left out, or the file cannot be changed.
    """
    if args.keep_out is not None:
        if not rules:
            raise UsageError("--keep-out: nothing is left out", "say what with --without")
        if args.keep_out:
            args.rules = Path(args.keep_out)
        elif not hasattr(args, "rules"):
            raise UsageError("--keep-out: this job has no rule file", "name one: --keep-out RULES")
        path = rules_file(args)
        from frugal_sorter.app.rule_file import change, leave_for_good

        result = change(Session.begin(), path, leave_for_good(rules))
        if result.has_problem or not result.done:
            raise UsageError(f"{path}: it could not be changed", f"see `frugal history {result.run}`")
        what = count_text(len(rules), "rule")
        screen.line(f"{what} put above the others in {shown(str(path))}: frugal undo {result.run} takes that back.")
    elif rules:
        screen.line("To leave them for good, put above the other rules (--keep-out does):")
    if rules and args.keep_out is None:
        from frugal_sorter.rules.editing import rule_text

        screen.lines("\n\n".join("\n".join(f"  {line}" for line in rule_text(rule).split("\n")) for rule in rules))


def settle(args: argparse.Namespace, view: PlanView, screen: Screen, left_out: Sequence[Keys]) -> bool:
    """Do with a plan that was shown what was asked for besides: keep entries out, save it, or edit it; tell whether it was saved.

    Args:
        args: of the command.
        view: the plan.
        screen: to print on.
        left_out: the rules that leave for good what `take_out` took out.

    Raises:
        UsageError: it cannot be kept out, saved or edited; nothing is done then.
    """
    keep_out(args, screen, left_out)
    if _save_instead(args, view, screen):
        return True
    if args.edit and view.plan.asked:
        edit(view, screen)
    return False


def _save_instead(args: argparse.Namespace, view: PlanView, screen: Screen) -> bool:
    """Write the plan to a file where `--save` asks for it, and tell whether it did."""
    if args.save is None:
        return False
    from frugal_sorter.planning.plan import save_plan

    save_plan(view.plan, args.save)
    # Nothing was changed, and nothing was left undone: no visit.
    visits.forget()
    screen.line(f"Nothing was changed: {count_text(len(view.plan.asked), 'step')} saved in {shown(str(args.save))}."
                f" `frugal tidy --plan {shown(programs.quote(str(args.save)))}` does it.", style="bold")  # fmt: skip
    return True


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
    struck = {id(steps[at]) for at in gone}
    if struck:
        leave_out(plan, lambda step: id(step) in struck, "taken out in the editor")
        view.changed()
    screen.line(
        f"{count_text(len(struck), 'step')} taken out, {count_text(len(plan.asked), 'step')} left.", style="bold"
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
        words = programs.split(named)
    except ValueError:
        words = []
    if not words:
        raise UsageError("no editor is known", "set VISUAL or EDITOR, or use --without")
    with tempfile.TemporaryDirectory(prefix="frugal-") as folder:
        path = Path(folder) / "plan.txt"
        path.write_text(text, encoding="utf-8", errors="surrogateescape")
        try:
            alone: dict[str, Any] = {} if has_terminal else {"stdin": subprocess.DEVNULL, "start_new_session": True}
            done = subprocess.run([*words, str(path)], check=False, **alone)
        except OSError as error:
            raise UsageError(f"{words[0]}: the editor cannot be started ({error.strerror})", "set VISUAL") from None
        if done.returncode != 0:
            raise UsageError(f"{words[0]} ended with {done.returncode}: nothing was changed", "leave it normally")
        try:
            return read_input(path, _LARGEST_TEXT).decode("utf-8", "surrogateescape")
        except OSError as error:
            raise UsageError(f"the plan cannot be read back ({error.strerror})", "save it under its own name") from None
