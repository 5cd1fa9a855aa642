"""`frugal duplicates --do`, `--unmark`: choose, list, ask, and carry out."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from frugal_sorter.app.session import Session
from frugal_sorter.cli.carry_out import choose_list_ask_do
from frugal_sorter.cli.options import command_line, refuse_removal
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import below, date_text, shown, size_text
from frugal_sorter.cli.reading import read_where
from frugal_sorter.duplicates.columns import Same
from frugal_sorter.duplicates.planning import Removing, limited, plan_duplicates, plan_unmark
from frugal_sorter.duplicates.which_stays import Choice, LookAlike
from frugal_sorter.planning.plan import Plan


def limited_choices(session: Session, choices: Sequence[Choice], where: str) -> list[Choice]:
    """Return choices of which only those files go that a condition is true of.

    Raises:
        UsageError: it cannot be read.
    """
    node, world = read_where(where), session.world()
    return [limited(choice, node, world) for choice in choices]


def take_away(
    session: Session, screen: Screen, args: argparse.Namespace, folders: Sequence[str], choices: Sequence[Choice], base: str
) -> int:  # fmt: skip
    """Take away what need not stay; a person at a terminal chooses for each group unless the command says which stays."""
    for folder in folders:
        refuse_removal(folder, args.levels, args.hidden)
    decided = args.yes or args.keep is not None or args.keep_in
    if not decided and screen.may_ask():
        choices = _choose_each(screen, choices, base)
    with session.changing("duplicates"):
        removing = Removing(args.do, session.world(), args.across_owners, args.at_most)
        plan = plan_duplicates(choices, removing, command_line(), folders)
    return _carry_out(session, screen, plan, args, " Each is compared with the one that stays once more, byte by byte.")


def unmark(
    session: Session, screen: Screen, args: argparse.Namespace, folders: Sequence[str], alikes: Sequence[LookAlike]
) -> int:  # fmt: skip
    """Take the mark of a copy off names that are copies of nothing."""
    alone = [one for one in alikes if one.kind == "alone"]
    plan = plan_unmark(alone, session.world(), command_line(), folders)
    return _carry_out(session, screen, plan, args, "")


def _carry_out(session: Session, screen: Screen, plan: Plan, args: argparse.Namespace, more: str) -> int:
    screen.line()
    where = f"as {session.account}?{more}"
    return choose_list_ask_do(session, plan, screen, args, lambda view: f"below {shown(view.base)}, {where}")


# Choosing


def _choose_each(screen: Screen, choices: Sequence[Choice], base: str) -> list[Choice]:
    """Ask for each group which one stays."""
    chosen: list[Choice] = []
    wanted = [choice for choice in choices if choice.going]
    for at, choice in enumerate(wanted, 1):
        files = [choice.kept, *choice.going]
        screen.line()
        screen.line(f"Group {at:,} of {len(wanted):,}: {len(files)} × {size_text(choice.group.size)}", style="bold")
        for number_, one in enumerate(files, 1):
            why = f"  {choice.why}" if number_ == 1 else ""
            screen.parts(
                (f"  {number_}  ", "green" if number_ == 1 else ""), (f"{date_text(one.mtime_ns)}  ", "dim"),
                (below(one.path, base), ""), (why, "dim"),
            )  # fmt: skip
        answer = screen.choose(
            f"Keep which? 1 to {len(files)} (Enter: 1), r: 1 here and in all the rest, s: skip, q: stop here",
            [*map(str, range(1, len(files) + 1)), "r", "s", "q"], "1",
        )  # fmt: skip
        if answer == "q":
            break
        if answer == "s":
            continue
        if answer == "r":
            return [*chosen, *wanted[at - 1 :]]
        chosen.append(_kept_instead(choice, files, int(answer) - 1))
    return chosen


def _kept_instead(choice: Choice, files: Sequence[Same], at: int) -> Choice:
    if at == 0:
        return choice
    return choice._replace(kept=files[at], why="chosen", going=[one for one in files if one is not files[at]])
