"""The visit of this process: who drives it, and the record that its command leaves behind."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from frugal_sorter.errors import FrugalError
from frugal_sorter.platforms import programs, slashed
from frugal_sorter.values import mutable

if TYPE_CHECKING:
    # Only what changes files, or runs by itself, is recorded.
    from frugal_sorter.app.visits import Visiting
    from frugal_sorter.journal.visits import Driver
    from frugal_sorter.planning.plan import Plan

# Each call of one of these is a visit.
CHANGING = frozenset({"tidy", "sort", "purge", "gather", "duplicates", "undo", "trash", "rules", "leftovers"})


@mutable
class _Expected:
    """What is known before a session begins.

    Args:
        driver: who drives this process.
        name: of the schedule or watcher.
        command: the command line, as it is recorded.
        log: the file for the owner, or empty.
        visiting: the visit, once its session has begun.
        is_recorded: whether the command that runs now is one that is recorded.
        is_rehearsal: whether it is only listed what it would do.
    """

    driver: Driver = "person"
    name: str = ""
    command: str = ""
    log: str = ""
    visiting: Visiting | None = None
    is_recorded: bool = False
    is_rehearsal: bool = False


_expected = _Expected()


def drive(driver: Driver, name: str) -> None:
    """Say who drives this process, before its command begins."""
    _expected.driver, _expected.name = driver, name


def is_person() -> bool:
    """Return True if a person started this process."""
    return _expected.driver == "person"


def expect(command: str, line: str) -> None:
    """A command begins.

    Args:
        command: its name.
        line: the whole command line.
    """
    _expected.visiting, _expected.command, _expected.log = None, line, ""
    _expected.is_recorded = command in CHANGING or _expected.driver != "person"


def line_of(words: Sequence[str]) -> str:
    """Return a command with its arguments as it would be typed."""
    return programs.join(["frugal", *words])


def drive_watch() -> None:
    """Say that this process watches: each time that it acts is a visit."""
    _expected.driver, _expected.name = "watch", _expected.name or "watch"
    _expected.is_recorded = not _expected.is_rehearsal


def stop(why: str) -> None:
    """Write down that an unattended process was asked to end."""
    visit = visiting()
    if visit is not None:
        visit.skip(why, "stopped")
    forget()


def forget() -> None:
    """All that is to be recorded of this process is."""
    _expected.is_recorded, _expected.visiting = False, None


def rehearse() -> None:
    """A command is listed and not carried out: what it plans is kept, and nothing is recorded."""
    _expected.is_recorded, _expected.is_rehearsal = True, True


def rehearsed() -> Plan | None:
    """Return what the command that was rehearsed plans to do; None where it plans nothing."""
    _expected.is_recorded = _expected.is_rehearsal = False
    visit, _expected.visiting = _expected.visiting, None
    return visit.plan if visit is not None else None


def skip(why: str) -> None:
    """Write down that a visit had nothing to do by its own rules, such as outside of its hours."""
    visit = visiting()
    assert visit is not None
    visit.skip(why)
    _expected.is_recorded = False


def is_in_trouble() -> bool:
    """Return True if a person must know of what came of the command that has just ended."""
    visit = _expected.visiting.visit if _expected.visiting is not None else None
    return visit is None or visit.is_in_trouble


def log_to(path: str | None) -> None:
    """Say where the owner of the machine wants to read what is done."""
    _expected.log = path or ""


def visiting() -> Visiting | None:
    """Return the visit of the session that begins now; None for a command that is not recorded."""
    if not _expected.is_recorded:
        return None
    from frugal_sorter.app.visits import Visiting

    log = slashed.abspath(_expected.log) if _expected.log else ""
    _expected.visiting = Visiting(_expected.driver, _expected.name, _expected.command, log=log)
    return _expected.visiting


def close(error: BaseException | None, code: int = 0) -> str:
    """Write down what came of the command, where its run did not.

    Args:
        error: what ended it; None where it came to its end.
        code: its exit code.

    Returns:
        why it could not be written down, or an empty text.
    """
    is_unattended = _expected.is_recorded and _expected.driver != "person"
    # What a person mistypes before anything was looked at is no visit.
    visit = None if _expected.is_rehearsal else _expected.visiting or (visiting() if is_unattended else None)
    _expected.is_recorded = False
    if visit is None:
        return ""
    try:
        visit.close(error, code)
    except (FrugalError, OSError) as failed:
        return f"the record of this visit is not complete: {failed}"
    return ""
