"""A command as it would run now, planned and not carried out: what a schedule is set up for is seen before."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
from collections.abc import Sequence
from typing import NamedTuple

from frugal_sorter.cli import visits
from frugal_sorter.cli.carry_out import NobodyToAsk
from frugal_sorter.cli.command import Command
from frugal_sorter.cli.output.words import will_text
from frugal_sorter.cli.parser import Parser
from frugal_sorter.steps.kinds import FINAL, REMOVING


class Rehearsed(NamedTuple):
    """What a command would do now.

    Args:
        text: in words.
        removals: how many files it would take away.
        refused: which rules would not be carried out, and why.
        problems: what else a person should know of beforehand.
    """

    text: str
    removals: int
    refused: Sequence[str]
    problems: Sequence[str]


def parsed_command(words: Sequence[str]) -> tuple[Command, argparse.Namespace]:
    """Return the module of a command, and its arguments as it reads them.

    Raises:
        UsageError: it cannot read them.
    """
    module: Command = importlib.import_module(f"frugal_sorter.cli.commands.{words[0]}")
    parser = Parser(prog=f"frugal {words[0]}", allow_abbrev=False)
    module.add_arguments(parser)
    return module, parser.parse_args(list(words[1:]))


def rehearse(words: Sequence[str], at_most: int | None = None) -> Rehearsed:
    """Plan what a command would do now, print nothing, and do nothing.

    Args:
        words: its name and its arguments.
        at_most: how many files it may take away, where its arguments do not say.

    Raises:
        FrugalError: it could not run at all.
    """
    module, parsed = parsed_command(words)
    name = words[0]
    if name == "watch":
        # What it would do first is what a tidy would.
        return rehearse(["tidy", str(parsed.rules)], at_most)
    parsed.yes = False
    if at_most is not None and getattr(parsed, "at_most", 0) is None:
        parsed.at_most = at_most
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
        return Rehearsed("nothing to do", 0, (), ())
    refused = [f"{one.rule}: {one.reason}" for one in plan.refused]
    removals = sum(step.files for step in plan.asked if step.verb in REMOVING | FINAL)
    return Rehearsed(will_text(plan.asked) or "nothing to do", removals, refused, plan.problems)
