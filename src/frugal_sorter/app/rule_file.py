"""Rule files themselves: what their rules have done, and changes to them, which can be taken back like any other."""

from __future__ import annotations

import stat
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from frugal_sorter.app.carry_out import carry_out
from frugal_sorter.app.session import Session
from frugal_sorter.errors import RefusedError, UsageError
from frugal_sorter.execution.earlier_runs import done_in
from frugal_sorter.filesystem.record import place_of
from frugal_sorter.filesystem.status import look, with_sample
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.guard import refused_folder
from frugal_sorter.planning.matched import Removals
from frugal_sorter.planning.plan import Plan
from frugal_sorter.planning.selection import Keys
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import reason_of
from frugal_sorter.rules.editing import RuleText, rule_text
from frugal_sorter.rules.load import LARGEST_FILE, read_rules
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.state import keep_new, read_input, ready_state_folder, refuse_distrusted
from frugal_sorter.steps.step import Step, Tally
from frugal_sorter.values import field, mutable

if TYPE_CHECKING:
    from frugal_sorter.execution.executor import Result

# What the steps of a change have instead of the name of a rule.
CHANGE = "the rule file"


@mutable
class RuleRecord:
    """A rule, and what it has done.

    Args:
        rule: it.
        is_on: it acts.
        done: what it did and was not taken back.
        last_ns: when it last did; None for never.
        now: how many entries it would act on now; None where that was not asked.
    """

    rule: Rule
    is_on: bool
    done: Tally = field(default_factory=Tally)
    last_ns: int | None = None
    now: int | None = None


def rules_of(book: RuleBook) -> list[RuleRecord]:
    """Return all rules of a book in the order of the file, those that are off too."""
    found = [*(RuleRecord(rule, True) for rule in book.rules), *(RuleRecord(rule, False) for rule in book.off)]
    return sorted(found, key=lambda one: one.rule.line)


def look_back(records: Sequence[RuleRecord], file: str) -> tuple[int | None, dict[str, Tally]]:
    """Add what rules did in all runs that are known.

    Args:
        records: the rules.
        file: their rule file, as it is in the history.

    Returns:
        when the first of these runs was, None for no run; and what rules of names did that are not in the file now.
    """
    gone: dict[str, Tally] = {}
    by_name = {record.rule.name: record for record in records}
    first_ns: int | None = None
    with Journal(ready_state_folder(), write=False) as journal:
        for run in journal.runs():
            if run.origin != file or run.kind != "tidy":
                continue
            first_ns = run.began_ns if first_ns is None else min(first_ns, run.began_ns)
            for step in done_in(journal, run.id):
                if (record := by_name.get(step.rule)) is not None:
                    record.done.add([step])
                    record.last_ns = max(record.last_ns or 0, run.began_ns)
                else:
                    gone.setdefault(step.rule, Tally()).add([step])
    return first_ns, gone


def leave_for_good(rules: Sequence[Keys]) -> Callable[[RuleText], bytes]:
    """Return the change that puts rules above all others of a rule file."""
    return lambda text: text.added([rule_text(rule) for rule in rules], first=True)


def change(session: Session, path: Path, how: Callable[[RuleText], bytes]) -> Result:
    """Change a rule file; the one that was there goes to the trash, from where `frugal undo` brings it back.

    Args:
        session: of the command.
        path: the file.
        how: returns its new text.

    Raises:
        UsageError: it cannot be read, has a mistake, or would get one; nothing is changed.
        RefusedError: it is where nothing is changed.
    """
    place = place_of(slashed.realpath(path))
    try:
        raw = read_input(place.path, LARGEST_FILE, lambda _: refuse_distrusted(path))
    except OSError as error:
        raise UsageError(f"cannot read the rule file {path} ({reason_of(error)})", "name another one") from None
    read_rules(raw, path)
    try:
        new = how(RuleText(raw))
    except UsageError as wrong:
        raise UsageError(f"{path}: {wrong.message}", wrong.hint) from None
    read_rules(new, path)
    if refused := refused_folder(place.folder):
        raise RefusedError(f"{place.folder} is {refused}, so frugal changes nothing in it", "edit the file by hand")
    with session.changing("rules"):
        plan = _plan(session, place.path, new)
        session.planned(plan, str(path))
    return carry_out(session, plan, lambda _step, _mark: None)


def _plan(session: Session, path: str, new: bytes) -> Plan:
    record = with_sample(look(place_of(path)))
    mode = stat.S_IMODE(disk.stat(path).st_mode)
    source = with_sample(look(place_of(str(keep_new(ready_state_folder(), new, mode)))))
    plan = Plan("rules", session.now_ns, path, rules=[CHANGE], matched={CHANGE})
    copied = Step(0, "copy", CHANGE, "", source.place, record.place, source.identity, {"bytes": source.identity.size})
    plan.add_group([Removals().trash(CHANGE, "", record), copied])
    return plan
