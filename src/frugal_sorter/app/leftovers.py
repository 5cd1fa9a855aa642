"""Moving what a program left behind to the trash, and finding that again once the program is back."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from shutil import which

from frugal_sorter.app.session import Session
from frugal_sorter.errors import StateError
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.filesystem.status import with_sample
from frugal_sorter.journal.journal import Journal
from frugal_sorter.leftovers.installed import joined, likeness
from frugal_sorter.leftovers.search import Found
from frugal_sorter.planning.guard import refused_entry, refused_folder
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.to_trash import Removals, identity_inside
from frugal_sorter.platforms import slashed
from frugal_sorter.schedule.cron import crontab_of_account
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.steps.step import ONE_FILE, Count, NotTouched, folder_of


def rule_of(program: str) -> str:
    """Return what the steps of a run have in place of the name of a rule."""
    return f"leftovers of {program}"


def plan_trashing(session: Session, program: str, found: Sequence[Found], origin: str) -> Plan:
    """Plan to move what a program left behind to the trash; what is doubtful is left.

    Args:
        session: of the command.
        program: its name.
        found: what there is of it.
        origin: the command line.
    """
    rule = rule_of(program)
    with session.changing("leftovers"):
        plan = Plan("leftovers", session.now_ns, origin, rules=[rule], matched={rule}, seen=Count(len(found)))
        removals = Removals()
        for one in found:
            place = one.record.place
            problem = refused_entry(one.path) if one.inside is not None else refused_folder(place.folder)
            if not one.is_sure or problem:
                counted = ONE_FILE if one.inside is None else folder_of(one.inside.files)
                plan.not_touched.append(NotTouched(place, rule, problem or one.why, bool(problem), counted))
                continue
            record = with_sample(one.record)
            if one.inside is not None:
                record = record._replace(identity=identity_inside(record.identity, one.inside))
            plan.add_group([removals.trash(rule, "", record, one.inside)])
    return session.planned(plan)


def crontab_lines(program: str, note: Callable[[Unread], None]) -> list[tuple[int, str]]:
    """Return the lines of this account's crontab in which a program is named, each with its number; they are only shown.

    Args:
        program: its name.
        note: told where the crontab cannot be read.
    """
    if which("crontab") is None:
        return []
    try:
        lines = crontab_of_account().decode(errors="replace").splitlines()
    except StateError as error:
        note(Unread("the crontab", str(error)))
        return []
    return [
        (number, line) for number, line in enumerate(lines, 1)
        if not line.lstrip().startswith("#")
        and any(likeness(os.path.basename(word.strip("'\"();&|")), program)[0] == "sure" for word in line.split())
    ]  # fmt: skip


def trashed_before(program: str) -> int | None:
    """Return the last run that moved something of a program to the trash and was not taken back; None for no run."""
    with Journal(ready_state_folder(), write=False) as journal:
        for run in reversed(journal.runs()):
            if run.kind != "leftovers" or run.undone_by is not None:
                continue
            rules = {step.rule for step, _ in journal.steps(run.id)}
            if any(joined(rule) == joined(rule_of(program)) for rule in rules):
                return run.id
    return None


def home() -> str:
    """Return the home of this account, resolved."""
    return slashed.realpath(slashed.expanduser("~"))
