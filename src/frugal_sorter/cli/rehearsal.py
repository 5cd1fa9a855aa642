"""A command as it would run now, planned and not carried out: what a schedule is set up for is seen before."""

from __future__ import annotations

import importlib
import os
import sys
from collections.abc import Sequence
from typing import NamedTuple

from frugal_sorter.cli import visits
from frugal_sorter.cli.carry_out import NobodyToAsk
from frugal_sorter.cli.output.words import will_text
from frugal_sorter.cli.parser import Parser
from frugal_sorter.steps.kinds import FINAL, REMOVING


class Rehearsed(NamedTuple):
    """What a command would do now.

    Args:
        text: in words.
        removals: how many files it would take away.
        problems: what a person should know of beforehand.
    """

    text: str
    removals: int
    problems: Sequence[str]


def rehearse(words: Sequence[str]) -> Rehearsed:
    """Plan what a command would do now, print nothing, and do nothing.

    Args:
        words: its name and its arguments.

    Raises:
        FrugalError: it could not run at all.
    """
    name = words[0]
    module = importlib.import_module(f"frugal_sorter.cli.commands.{name}")
    parser = Parser(prog=f"frugal {name}", allow_abbrev=False)
    module.add_arguments(parser)
    parsed = parser.parse_args(list(words[1:]))
    if name == "watch":
        # What it would do first is what a tidy would.
        return rehearse(["tidy", *(word for word in words[1:2] if not word.startswith("-"))])
    parsed.yes = False
    if hasattr(parsed, "short"):
        parsed.short, parsed.list_all = True, False
    before = sys.stdin, sys.stdout
    visits.rehearse()
    try:
        with open(os.devnull, "r+", encoding="utf-8", errors="replace") as nobody:
            sys.stdin = sys.stdout = nobody
            module.run(parsed)
    except NobodyToAsk:
        pass
    finally:
        sys.stdin, sys.stdout = before
        plan = visits.rehearsed()
    if plan is None:
        return Rehearsed("nothing to do", 0, ())
    problems = [f"{one.rule}: {one.reason}" for one in plan.refused] + [
        note.text for note in plan.notes if note.problem
    ]
    removals = sum(step.files for step in plan.asked if step.verb in REMOVING | FINAL)
    return Rehearsed(will_text(plan.asked) or "nothing to do", removals, problems)
