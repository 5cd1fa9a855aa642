"""Schedules: set up, looked at with what the scheduler itself says, paused and removed; and whether all is well."""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from contextlib import suppress

import frugal_sorter
from frugal_sorter.errors import FrugalError, UsageError
from frugal_sorter.journal.database import Visit
from frugal_sorter.journal.journal import Journal
from frugal_sorter.platforms import accounts, disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.load import load_rules
from frugal_sorter.rules.units import SECOND_NS, minute_text
from frugal_sorter.schedule.scheduler import (
    SCHEDULERS,
    Entry,
    Remembered,
    Scheduler,
    State,
    check_entry,
    refuse_cannot,
    scheduler_of,
)
from frugal_sorter.state import distrusted, ready_state_folder
from frugal_sorter.values import frozen, replace

# A scheduler that is asleep, or busy with others, may be so much later than it said.
_LATE_SECONDS = 300
_BOOT_SECONDS = 600


@frozen
class Looked:
    """A schedule, as it is remembered, as its scheduler has it, and what came of it.

    Args:
        entry: as it was set up.
        state: what the scheduler itself says.
        visits: what it did, the last one first.
        next_ns: when it comes next; None where no clock tells, or it is off.
        troubles: what is wrong, each with what to do.
    """

    entry: Entry
    state: State
    visits: Sequence[Visit]
    next_ns: int | None
    troubles: Sequence[str]

    @property
    def word(self) -> str:
        """Its state in a word or two."""
        if not self.entry.at:
            return "not set up here"
        if not self.entry.command:
            return "damaged"
        if not self.entry.on:
            return "paused"
        if not self.state.is_there:
            return "gone"
        if not self.state.is_on:
            return "turned off"
        return "has problems" if self.troubles else "on"


def interpreter() -> str:
    """Return the absolute path of the Python that runs this, by which a schedule starts it again."""
    return slashed.abspath(sys.executable)


def refuse_unsafe(entry: Entry, scheduler: Scheduler) -> None:
    """Check that others can change nothing that a schedule starts, and that its scheduler starts just that.

    Raises:
        UsageError: something of that is not so.
    """
    check_entry(entry)
    refuse_cannot(scheduler, entry)
    scheduler.verify(entry)
    for path in (entry.interpreter, entry.rules):
        if not path:
            continue
        if not disk.isfile(path):
            raise UsageError(f"file not found: {path}", "name an existing file")
    for path, who in _distrusted(entry):
        raise UsageError(f"{path}: others can change what the schedule starts: {who}", "chmod go-w it, and check its owner")


def other_owners(entry: Entry) -> list[str]:
    """Return the accounts in whose folders root would act by a schedule of its own."""
    if not accounts.is_admin() or not accounts.HAVE_MODES:
        return []
    folders = {slashed.join(entry.folder, word) for word in entry.command[1:]}
    if entry.rules:
        folders |= {folder for rule in load_rules(Path(entry.rules)).rules for folder in rule.folders}
    owners = {disk.stat(folder).st_uid for folder in folders if disk.isdir(folder)} - {0}
    return sorted(accounts.owner_name(owner) or str(owner) for owner in owners)


def add(entry: Entry, scheduler: Scheduler) -> Entry:
    """Set a schedule up, and return it.

    Raises:
        UsageError: there is one of that name.
        StateError: the scheduler does not take it; nothing of it is left.
    """
    remembered = Remembered(ready_state_folder())
    if remembered.has(entry.name):
        raise UsageError(f"schedule {entry.name!r} already exists", f"`frugal schedule remove {entry.name}` first")
    entry = replace(entry, scheduler=scheduler.name, since_ns=time.time_ns())
    # First remembered: what is in the scheduler and not here, nobody would ever check.
    remembered.keep(entry)
    try:
        scheduler.install(entry)
    except BaseException:
        remembered.forget(entry.name)
        raise
    return entry


def turn(name: str, on: bool) -> Entry:
    """Pause a schedule, or let it go on; what is missing of it is written again."""
    remembered = Remembered(ready_state_folder())
    entry = remembered.get(name)
    turned = replace(entry, on=on, since_ns=time.time_ns())
    scheduler_of(entry.scheduler).turn(turned, on)
    remembered.keep(turned)
    return turned


def remove(name: str) -> Entry:
    """Take a schedule out of its scheduler, and forget it."""
    remembered = Remembered(ready_state_folder())
    marked = [] if remembered.has(name) else [one for one in _marked() if one.name == name]
    entry = marked[0] if marked else remembered.get(name)
    scheduler_of(entry.scheduler).remove(entry)
    remembered.forget(name)
    return entry


def run_now(name: str) -> tuple[Entry, int, Visit | None]:
    """Start a schedule as its scheduler would, and return its exit code and its visit."""
    folder = ready_state_folder()
    entry = Remembered(folder).get(name)
    before = _visits(folder, name)
    code = scheduler_of(entry.scheduler).run(entry)
    after = _visits(folder, name)
    is_new = after and (not before or (after[0].id, after[0].times) != (before[0].id, before[0].times))
    return entry, code, after[0] if is_new else None


def look_at_all(now_ns: int) -> list[Looked]:
    """Return all schedules of this account, each with its state."""
    folder, found = ready_state_folder(), []
    known = Remembered(folder).names()
    for name in known:
        try:
            found.append(look_at(name, now_ns))
        except FrugalError as error:
            # One that is damaged is shown as that, and hides none of the others.
            found.append(Looked(Entry(name, "?", (), "", ""), State(False), (), None, (error.text,)))
    return found + [_look_at_unremembered(folder, entry) for entry in _marked() if entry.name not in known]


def _marked() -> list[Entry]:
    """Return what the schedulers of this machine have under our mark: a lost state folder does not stop them."""
    found: list[Entry] = []
    for scheduler in map(scheduler_of, SCHEDULERS):
        with suppress(FrugalError):
            found += scheduler.marked() if scheduler.is_here() else []
    return found


def _look_at_unremembered(folder: Path, entry: Entry) -> Looked:
    """Return a schedule that was set up by `--print` or before the state was lost: its visits tell how it goes."""
    visits = _visits(folder, entry.name)
    troubles = _of_last(visits, State(True))
    if not visits:
        troubles = [
            f"{entry.scheduler} has it, and it has left no record here: its state was lost, or it has not run yet;"
            f" `frugal schedule remove {entry.name}` takes it out"
        ]
    elif _usual_ns(visits) and time.time_ns() - visits[0].began_ns > 2 * _usual_ns(visits) + _LATE_SECONDS * SECOND_NS:
        last = minute_text(visits[0].began_ns)
        troubles.append(f"overdue: the last was at {last}; see what {entry.scheduler} says of it")
    return Looked(entry, State(True, True), visits, None, tuple(troubles))


def _usual_ns(visits: Sequence[Visit]) -> int:
    """Return how far apart visits are, as a rule; 0 where that cannot be told."""
    times = sum(visit.times for visit in visits)
    return (visits[0].began_ns - visits[-1].first_ns) // (times - 1) if times > 1 else 0


def look_at(name: str, now_ns: int) -> Looked:
    """Return one schedule with its state.

    Raises:
        UsageError: there is none of that name.
    """
    folder = ready_state_folder()
    return _look(folder, Remembered(folder).get(name), now_ns)


def _visits(folder: Path, name: str) -> list[Visit]:
    with Journal(folder, write=False) as journal:
        found = [one for one in journal.visits(name) if one.driver != "person"]
    return found[::-1]


def _look(folder: Path, entry: Entry, now_ns: int) -> Looked:
    try:
        state = scheduler_of(entry.scheduler).state(entry)
    except FrugalError as error:
        state = State(False, trouble=(error.text,))
    troubles: list[str] = []
    visits: list[Visit] = []
    try:
        visits = _visits(folder, entry.name)
    except FrugalError as error:
        troubles.append(error.text)
    next_ns = None
    if entry.on and state.is_on:
        next_ns = state.next_ns or entry.when.next_after(now_ns)
    if not entry.on:
        troubles.append(f"paused; to resume it: frugal schedule resume {entry.name}")
    troubles += [*state.trouble, *_of_files(entry), *_of_time(entry, state, visits, now_ns), *_of_last(visits, state)]
    return Looked(entry, state, visits, next_ns, tuple(dict.fromkeys(troubles)))


def _of_files(entry: Entry) -> list[str]:
    """Return what is wrong with what it starts."""
    troubles = []
    if not disk.isfile(entry.interpreter):
        troubles.append(
            f"the program that starts it, {entry.interpreter}, no longer exists; reinstall "
            "frugal-sorter, then remove and add the schedule"
        )
    if not disk.isdir(entry.folder):
        troubles.append(
            f"the folder it runs in, {entry.folder}, no longer exists; remove the schedule and add it from another folder"
        )
    rules = entry.rules
    if rules:
        try:
            load_rules(Path(rules))
        except FrugalError as error:
            troubles.append(error.text)
    troubles += [f"{path}: others can change it: {who}; chmod go-w it" for path, who in _distrusted(entry)]
    return troubles


def _distrusted(entry: Entry) -> list[tuple[str, str]]:
    """Return what a schedule starts that others can change, each with who and where."""
    asked = [path for path in (entry.interpreter, entry.rules, frugal_sorter.__file__) if path]
    return [(path, who) for path in asked if (who := distrusted(path))]


def _of_time(entry: Entry, state: State, visits: Sequence[Visit], now_ns: int) -> list[str]:
    """Return whether it should have come and did not."""
    last = visits[0] if visits else None
    if last is not None and last.began_ns > now_ns + _LATE_SECONDS * SECOND_NS:
        return ["its last run is in the future, so the clock was probably set back; check the system time"]
    if not entry.on or not state.is_on or (last is not None and last.outcome == "running"):
        return []
    known_ns = max(entry.since_ns, last.began_ns if last is not None else 0)
    late_ns = (_LATE_SECONDS + entry.seconds(entry.spread) + entry.seconds(entry.limit)) * SECOND_NS
    due_ns = entry.when.next_after(known_ns)
    if entry.when.kind == "start-up":
        due_ns = _booted_ns() + _BOOT_SECONDS * SECOND_NS
        due_ns = None if due_ns < known_ns else due_ns
    if due_ns is None or due_ns + late_ns > now_ns:
        return []
    said = f"the last run was at {minute_text(last.began_ns)}" if last is not None else "it has never run"
    return [
        f"overdue: it was due at {minute_text(due_ns)}, but {said}. The machine may have been off. To run it now: "
        f"frugal schedule run {entry.name}"
    ]


def _of_last(visits: Sequence[Visit], state: State) -> list[str]:
    """Return what came of the last visit, if somebody should know of it."""
    if not visits:
        return [f"the scheduler says: {state.last}"] if state.last else []
    last = visits[0]
    if last.is_in_trouble:
        what = "partly done" if last.outcome == "done" else last.outcome
        why = f": {last.reason}" if last.reason else ""
        return [f"{what} at {minute_text(last.began_ns)}{why}"]
    if state.last:
        return [f"the scheduler says: {state.last}; `frugal history --by {last.name}` lists its runs"]
    return []


def _booted_ns() -> int:
    """Return when this machine was started, in ns since the epoch; 0 where that is not known (proc(5))."""
    try:
        with open("/proc/stat", encoding="ascii") as lines:
            return next(int(line.split()[1]) for line in lines if line.startswith("btime")) * SECOND_NS
    except (OSError, StopIteration, ValueError):
        return 0


def is_lingering(account: str) -> bool:
    """Return True if systemd runs the units of an account also while it is not logged on (loginctl(1))."""
    return disk.exists(f"/var/lib/systemd/linger/{account}")
