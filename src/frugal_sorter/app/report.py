"""What was done, for the owner of a machine and after a run: from the history, the trash and the disk as they are now."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Collection, Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from frugal_sorter.app.session import Session
from frugal_sorter.errors import FrugalError
from frugal_sorter.execution.earlier_runs import done_in
from frugal_sorter.filesystem.record import is_inside
from frugal_sorter.filesystem.volumes import free_bytes, room_around
from frugal_sorter.journal.database import Visit
from frugal_sorter.journal.journal import Journal
from frugal_sorter.planning.plan import TAKING_BACK, Plan
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.reports.saved import Totals, kept_totals
from frugal_sorter.rules.units import DAY_NS
from frugal_sorter.state import read_input, read_settings, ready_state_folder
from frugal_sorter.steps.kinds import ATTENDING, FINAL, REPLACING
from frugal_sorter.steps.step import NONE, Count, Tally
from frugal_sorter.values import field, mutable

if TYPE_CHECKING:
    from frugal_sorter.app.leftovers import CameBack
    from frugal_sorter.execution.executor import Result


@mutable
class RuleDone:
    """What one rule, or one job, did.

    Args:
        tally: what was done and not taken back.
        last_ns: when it last did something.
    """

    tally: Tally = field(default_factory=Tally)
    last_ns: int = 0


class RuleFile(NamedTuple):
    """A rule file that ran: its path, a digest of its text, and the names of its rules."""

    path: str
    digest: str
    rules: list[str]


@mutable
class Report:
    """What was done in some time.

    Args:
        from_ns: its start, in ns since the epoch.
        to_ns: its end.
        runs: the numbers of the runs that did something.
        done: what was done and not taken back.
        rules: the same by rule.
        taken_back: of how many runs something was taken back.
        freed: bytes that are permanently removed.
        free: bytes free on the volume now, of `total`.
        full_ns: when the volume is full at this pace; None where that cannot be told.
        folders: where entries were put, with how many of them are there now, the most first.
        trashed: entries that are in the trash and can come back, and their bytes.
        trashed_until_ns: when the first of them can no longer.
        before: what the folders held before the first run; None where that was not kept.
        after: and after the last.
        visits: how often somebody or something came, by who.
        troubles: visits that failed or were refused.
        back: programs that are installed again after their leftovers went.
        rule_files: the rule files that ran, each with a digest of its text and the names of its rules.
    """

    from_ns: int
    to_ns: int
    runs: list[int] = field(default_factory=list)
    done: Tally = field(default_factory=Tally)
    rules: dict[str, RuleDone] = field(default_factory=dict)
    taken_back: int = 0
    freed: int = 0
    free: int = 0
    total: int = 0
    full_ns: int | None = None
    folders: list[tuple[str, int]] = field(default_factory=list)
    trashed: tuple[Count, int] = (NONE, 0)
    trashed_until_ns: int | None = None
    before: Totals | None = None
    after: Totals | None = None
    visits: Counter[str] = field(default_factory=Counter)
    troubles: list[Visit] = field(default_factory=list)
    back: list[CameBack] = field(default_factory=list)
    rule_files: list[RuleFile] = field(default_factory=list)

    @property
    def ranked(self) -> list[tuple[str, RuleDone]]:
        """The rules, those that did most first."""

        def order(one: tuple[str, RuleDone]) -> tuple[int, str]:
            return -one[1].tally.all.entries, one[0]

        return sorted(self.rules.items(), key=order)


def report(session: Session, since_ns: int, wanted: Collection[int] | None = None) -> Report:
    """Return what was done since a moment, or in some runs.

    Args:
        session: of the command.
        since_ns: the moment, in ns since the epoch.
        wanted: only these runs; None for all.
    """
    folder, keep_ns = ready_state_folder(), read_settings().keep_days * DAY_NS
    found = Report(since_ns, session.now_ns)
    put = set[str]()
    kept: list[tuple[Totals, Totals]] = []
    trashed, trashed_bytes, near = NONE, 0, ""
    with Journal(folder, write=False) as journal:
        runs = [run for run in journal.runs() if (run.id in wanted if wanted is not None else run.began_ns >= since_ns)]
        if wanted is not None and runs:
            found.from_ns = min(run.began_ns for run in runs)
        of_runs = {run.id for run in runs}
        visits = [
            visit
            for visit in journal.visits()
            if (wanted is None and visit.began_ns >= since_ns) or of_runs.intersection(visit.runs)
        ]
        for run in runs:
            if run.kind in TAKING_BACK or run.kind == "rules":
                continue
            found.taken_back += run.taken_back > 0
            steps = found.done.steps
            for step in done_in(journal, run.id):
                rule = found.rules.setdefault(step.rule or run.kind, RuleDone())
                rule.tally.add([step])
                found.done.add([step])
                rule.last_ns = max(rule.last_ns, run.began_ns)
                near = near or step.place.folder
                if step.verb == "trash" and step.target is not None:
                    if disk.lexists(step.target.path):
                        trashed += step.count
                        trashed_bytes += step.bytes
                        until_ns = run.began_ns + keep_ns
                        found.trashed_until_ns = min(until_ns, found.trashed_until_ns or until_ns)
                elif step.target is not None and step.verb not in FINAL and disk.lexists(step.target.path):
                    put.add(step.target.path)
            if found.done.steps == steps:
                continue
            found.runs.append(run.id)
            if (sums := kept_totals(folder, run.id)) is not None:
                kept.append(sums)
    found.runs.sort()
    _add_visits(found, visits)
    found.trashed, found.folders = (trashed, trashed_bytes), _by_folder(put)
    if kept:
        found.before, found.after = _first_and_last(kept)
        found.full_ns = full_at_ns(found.after.levels, session.now_ns)
    from frugal_sorter.app.leftovers import came_back  # a run that tells what it freed needs none of it

    found.back = came_back()
    found.free, found.total = room_around(near or slashed.expanduser("~"))
    return found


def _add_visits(found: Report, visits: Iterable[Visit]) -> None:
    files = set[str]()
    for visit in visits:
        found.visits[visit.by] += visit.times
        files |= {visit.rules} if visit.rules else set()
        found.freed += visit.freed
        # A person was there and saw what went wrong.
        if visit.is_in_trouble and (visit.driver != "person" or visit.outcome == "interrupted"):
            found.troubles.append(visit)
    found.rule_files = [one for file in sorted(files) if (one := _rule_file(file)) is not None]


def _first_and_last(kept: Sequence[tuple[Totals, Totals]]) -> tuple[Totals, Totals]:
    """Return the sums before the first run and after the last one, of the folders with most files: others do not compare."""
    wanted = max(kept, key=lambda both: both[0].files)[0].levels
    same = [both for both in kept if both[0].levels == wanted]
    return same[0][0], same[-1][1]


def _rule_file(file: str) -> RuleFile | None:
    """Return a rule file as it is now; None where it cannot be read, or has mistakes."""
    from frugal_sorter.rules.load import LARGEST_FILE, read_rules

    try:
        raw = read_input(file, LARGEST_FILE)
        book = read_rules(raw, slashed.Path(file))
    except (OSError, FrugalError):
        return None
    return RuleFile(file, blake2b(raw, digest_size=12).hexdigest(), [rule.name for rule in book.rules])


def _by_folder(paths: Iterable[str]) -> list[tuple[str, int]]:
    counts = Counter(os.path.dirname(path) for path in paths)
    return sorted(counts.items(), key=lambda one: (-one[1], one[0]))


# What a run freed

# What crosses to another volume frees room where it was.
_FREEING = FINAL | REPLACING | {"move-across"}
# Reading larger inventories than these would keep a person waiting.
_MOST_BYTES = 3_000_000


class Freed(NamedTuple):
    """What a run freed.

    Args:
        bytes: how many that are permanently removed, or went to another volume.
        trashed: how many that are in the trash and not freed yet.
        folders: where the bytes were, with how many, the most first.
        free: bytes free on the volume now.
        total: how many there are in all.
    """

    bytes: int
    trashed: int
    folders: Sequence[tuple[str, int]]
    free: int
    total: int


def freed_by(plan: Plan, result: Result) -> Freed | None:
    """Return what a run freed; None where it freed nothing and moved nothing to the trash.

    Args:
        plan: what was to be done.
        result: what became of it.
    """
    if not _FREEING.union({"trash"}) & result.done.keys() or not plan.asked:
        return None
    not_done = {step.id for step, _ in result.not_done}
    freed: Counter[str] = Counter()
    trashed, near = 0, ""
    for step in plan.steps:
        if step.verb in ATTENDING or step.id in not_done:
            continue
        if step.verb == "trash":
            trashed += step.bytes
        elif step.verb in _FREEING:
            freed["the trash" if step.verb == "empty" else _around(plan, step.place.folder)] += step.bytes
        else:
            continue
        near = near or step.place.folder
    return Freed(freed.total(), trashed, freed.most_common(), *room_around(near)) if near else None


def _around(plan: Plan, folder: str) -> str:
    """Return the folder of a plan that another one is in."""
    return max((root for root in plan.roots if is_inside(folder, root)), key=len, default=folder)


def full_at_ns(roots: Iterable[str], now_ns: int) -> int | None:
    """Return when the volume is full at the pace of late; None where that cannot be told.

    Args:
        roots: folders, resolved; the first one with enough saved inventories counts.
        now_ns: the moment.
    """
    # Only where a person waits for the answer: others need not load it.
    from frugal_sorter.reports.forecast import FEWEST_POINTS, Point, outlook_of, trend_of
    from frugal_sorter.reports.saved import kept_of

    for root in roots:
        kept = kept_of(root, now_ns, _MOST_BYTES, sums_alone=True)
        if len(kept) < FEWEST_POINTS:
            continue
        points = [Point(one.made_ns, one.bytes) for one in kept]
        outlook = outlook_of(trend_of(points), points, free_bytes(root), now_ns)
        if outlook.doubt is None and outlook.at_ns is not None:
            return outlook.at_ns
    return None
