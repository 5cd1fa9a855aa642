"""`frugal trash --older-than`, `--shrink-to`, `--where`, `--orphans`: remove from the trash for good."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from frugal_sorter.app.session import Session
from frugal_sorter.app.trash import plan_emptying
from frugal_sorter.cli.carry_out import ask_and_do, take_back_text
from frugal_sorter.cli.options import command_line, is_short
from frugal_sorter.cli.output.plan_view import PlanView, exit_code
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, moment_text, shown, size_text
from frugal_sorter.cli.output.words import entries_text, stay_text
from frugal_sorter.cli.reading import read_where
from frugal_sorter.errors import UsageError
from frugal_sorter.planning.emptying import Weighed
from frugal_sorter.planning.plan import Note
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.rules.file.trash_limits import TrashLimits, refuse_expensive
from frugal_sorter.steps.count import total


def asks_to_empty(args: argparse.Namespace) -> bool:
    """Tell whether something is to leave the trash."""
    return bool(args.orphans) or any(one is not None for one in (args.older_than, args.shrink_to, args.where))


def empty(
    session: Session, args: argparse.Namespace, entries: Sequence[Weighed], notes: Sequence[Note]
) -> int:  # fmt: skip
    """List what would leave the trash, ask, and remove it for good."""
    where = None
    if args.where is not None:
        where = read_where(args.where)
        try:
            refuse_expensive(where)
        except InvalidValue as wrong:
            raise UsageError(f"--where: {wrong.message}", wrong.hint) from None
    screen = Screen(is_short(args))
    has_limits = args.older_than is not None or args.shrink_to is not None or where is not None
    limits = TrashLimits(args.older_than, args.shrink_to, where) if has_limits else None
    plan, going, of_runs = plan_emptying(session, entries, limits, args.orphans, command_line(), notes, args.at_most)
    view = PlanView(plan, screen)
    if not plan.asked:
        view.show_left()
        screen.line(f"Nothing leaves the trash: {entries_text(plan.seen)} looked at.")
        for line in _why_nothing(args, entries):
            screen.line(line)
        return exit_code(plan)
    _show(screen, entries, going)
    if of_runs:
        named = ", ".join(str(run) for run in sorted(of_runs))
        count = count_text(sum(of_runs.values()), "of these was", "of these were")
        screen.line()
        runs = "run" if len(of_runs) == 1 else "runs"
        screen.line(
            f"{count} put there by {runs} {named}, which can then not be taken back for them.", style="bold yellow"
        )
    view.show_left()
    screen.line()
    view.warn()
    staying = plan.seen.without(total(one.counted for one in going))
    question = view.question(f"as {session.account}? {stay_text(staying)} in the trash.")
    return ask_and_do(session, plan, view, screen, lambda: question, args.yes, take_back_text, False)


def _show(screen: Screen, entries: Sequence[Weighed], going: Sequence[Weighed]) -> None:
    """Print how much leaves the trash and how much stays, and the names of some of it."""
    freed, held = sum(one.bytes for one in going), sum(one.bytes for one in entries)
    count = entries_text(total(one.counted for one in going))
    screen.parts((f"{count}, {size_text(freed)}, ", "bold"), ("removed from the trash for good", "bold red"))
    screen.line(
        f"  it holds {size_text(held)} in {len(entries):,}, and then {size_text(held - freed)} in {len(entries) - len(going):,}"
    )
    screen.line()
    screen.sample(going, lambda one: screen.line(f"  {_line(one)}"), indent=2)


def _line(one: Weighed) -> str:
    what = {"info": "  (only the note of where it was)", "file": "  (nothing says where it was)", "": ""}
    when = moment_text(one.deleted_ns) if one.deleted_ns else "unknown         "
    name = shown(one.trashed.original or one.trashed.name)
    return f"{when}  {size_text(one.bytes):>9}  {name}{what[one.trashed.orphan]}"


def _why_nothing(args: argparse.Namespace, entries: Sequence[Weighed]) -> list[str]:
    """Return why nothing leaves the trash, limit by limit."""
    known = [one for one in entries if not one.trashed.orphan]
    lines = []
    if args.older_than is not None and known:
        oldest = min(known, key=lambda one: one.deleted_ns)
        lines.append(f"The oldest came there on {moment_text(oldest.deleted_ns)}, within {args.older_than.text}.")
    if args.shrink_to is not None:
        held = sum(one.bytes for one in entries)
        lines.append(f"All of it has {size_text(held)}, which is not more than {size_text(args.shrink_to)}.")
    if args.where is not None and known:
        lines.append("`--where` is true of none of what these limits leave over.")
    if args.orphans:
        lines.append("Nothing there is half an entry.")
    return lines
