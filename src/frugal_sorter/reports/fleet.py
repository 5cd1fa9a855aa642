"""Many machines in one view: who is silent, in trouble or nearly full, whose rules differ, and what they hold alike.

A report comes from another machine, so that nothing in it is believed before its shape was checked, and no field can make
another report unreadable.
"""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from frugal_sorter.filesystem.record import Unread
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.reasons import Why, reason_of
from frugal_sorter.reports.saved import each_saved, load
from frugal_sorter.state import fits, fitting, is_count, is_text, read_input

SUFFIX = ".json"
# A report of a machine with a hundred rule files has some 200 kB.
_LARGEST, _MOST_FILES = 4_000_000, 100_000
_WEEK_NS, _SECOND_NS = 7 * 86_400_000_000_000, 1_000_000_000
_FORMATS = (1, 2)
# Under this share a machine counts as nearly full.
_SCARCE = 0.1


def _is_moment(value: Any) -> bool:
    return is_text(value) and _ns(value) is not None


def _is_moment_or_none(value: Any) -> bool:
    return value is None or _is_moment(value)


def _ns(text: str) -> int | None:
    try:
        moment = datetime.fromisoformat(text)
        return int(moment.timestamp()) * _SECOND_NS if moment.tzinfo is not None else None
    except (ValueError, OverflowError, OSError):
        return None


_TROUBLE = {"began": _is_moment, "by": is_text, "outcome": is_text, "reason": is_text}
_SHAPE = {
    "format": lambda value: value in _FORMATS,
    "to": _is_moment,
    "freed": is_count,
    "free": is_count,
    "total": is_count,
    "full": _is_moment_or_none,
    "rules": [{"rule": is_text}],
    "troubles": [_TROUBLE],
}
_RULE_FILE = {"path": is_text, "digest": is_text, "rules": [is_text]}


class Machine(NamedTuple):
    """What one machine reported.

    Args:
        name: of the machine; that of the file where the report does not say.
        to_ns: when it reported, in ns since the epoch.
        free: bytes free on its volume.
        total: bytes of it in all.
        full_ns: when it will be full, None where that cannot be said.
        freed: bytes freed in the time of the report.
        troubles: how many visits went wrong.
        last_trouble: what the last of them says.
        idle: rules that did nothing in that time, with the name of their file.
        digests: of its rule files, by name.
        differs: rule files whose text is another one than on most machines that have one of that name.
    """

    name: str
    to_ns: int
    free: int
    total: int
    full_ns: int | None
    freed: int
    troubles: int
    last_trouble: str
    idle: tuple[str, ...]
    digests: Mapping[str, str]
    differs: tuple[str, ...] = ()

    def is_silent(self, now_ns: int) -> bool:
        """Return True if it has not reported for a week."""
        return now_ns - self.to_ns > _WEEK_NS

    @property
    def is_nearly_full(self) -> bool:
        """Whether less than a tenth of its volume is free."""
        return self.free < _SCARCE * self.total

    def rank(self, now_ns: int) -> tuple[bool, bool, bool, int, str]:
        """Return what it is sorted by: those that need a person come first."""
        return not self.is_silent(now_ns), not self.troubles, not self.is_nearly_full, self.full_ns or 1 << 63, self.name


def read_machines(folder: str, unread: Callable[[Unread], None]) -> list[Machine]:
    """Return what the machines of a folder reported, a file each; of a machine with several, the last.

    Args:
        folder: an absolute path; files that end in `.json` are reports.
        unread: called with each that cannot be read, or is not one.

    Raises:
        OSError: the folder cannot be read.
    """
    found: dict[str, Machine] = {}
    for name in sorted(disk.listdir(folder))[:_MOST_FILES]:
        if not name.endswith(SUFFIX):
            continue
        path = slashed.join(folder, name)
        try:
            one = _machine(fitting(read_input(path, _LARGEST), _SHAPE), name.removesuffix(SUFFIX))
        except OSError as error:
            unread(Unread(path, reason_of(error)))
        except ValueError:
            unread(Unread(path, Why.NO_REPORT()))
        else:
            if one.name not in found or found[one.name].to_ns < one.to_ns:
                found[one.name] = one
    return _compared(list(found.values()))


def _machine(report: Mapping[str, Any], file: str) -> Machine:
    named = report.get("machine")
    # Reports of versions before have none.
    listed = report.get("rule_files")
    files = [one for one in listed if fits(one, _RULE_FILE)] if isinstance(listed, list) else []
    acted = {one["rule"] for one in report["rules"]}
    idle = tuple(f"{os.path.basename(one['path'])}: {rule}" for one in files for rule in one["rules"] if rule not in acted)
    troubles = report["troubles"]
    last = f"{troubles[-1]['by']}: {troubles[-1]['reason'] or troubles[-1]['outcome']}" if troubles else ""
    to_ns, full = _ns(report["to"]), report["full"]
    assert to_ns is not None
    return Machine(
        named if isinstance(named, str) and named else file,
        to_ns,
        report["free"],
        report["total"],
        None if full is None else _ns(full),
        report["freed"],
        len(troubles),
        last,
        idle,
        {os.path.basename(one["path"]): one["digest"] for one in files},
    )


def _compared(machines: Sequence[Machine]) -> list[Machine]:
    """Return the machines, each with the rule files that differ from those of most."""
    by_name: dict[str, Counter[str]] = defaultdict(Counter)
    for one in machines:
        for name, digest in one.digests.items():
            by_name[name][digest] += 1
    # Where there are as many of one as of another, nobody can say which of them differs: both are named.
    usual = {name: _commonest(counts) for name, counts in by_name.items()}
    return [
        one._replace(differs=tuple(sorted(name for name, digest in one.digests.items() if digest != usual[name])))
        for one in machines
    ]


def _commonest(counts: Counter[str]) -> str:
    (first, most), *rest = counts.most_common(2)
    return "" if rest and rest[0][1] == most else first


def idle_everywhere(machines: Iterable[Machine]) -> list[str]:
    """Return the rules that did nothing on any of the machines that have them."""
    have: Counter[str] = Counter()
    idle: Counter[str] = Counter()
    for one in machines:
        idle.update(set(one.idle))
        have.update({name.partition(": ")[0]: 1 for name in one.digests})
    return sorted(rule for rule, count in idle.items() if count == have[rule.partition(": ")[0]])


# Smaller files are alike everywhere, and fill no disk.
LEAST_BYTES = 1_000_000


class Alike(NamedTuple):
    """A file that is on several machines, by its name and size.

    Args:
        name: of the file.
        bytes: the size of one.
        machines: on how many machines it is.
        copies: how many of it there are on all of them.
    """

    name: str
    bytes: int
    machines: int
    copies: int

    @property
    def all_bytes(self) -> int:
        """What all copies take."""
        return self.bytes * self.copies


class Alone(NamedTuple):
    """What is on one machine alone: its name, and how many files of how many bytes; of these the largest is named."""

    machine: str
    files: int
    bytes: int
    largest: str


class Compared(NamedTuple):
    """What many machines hold: their names, what is alike on several, the most bytes first, and what each holds alone."""

    machines: tuple[str, ...]
    alike: tuple[Alike, ...]
    alone: tuple[Alone, ...]


def compare_machines(folder: str, unread: Callable[[Unread], None]) -> Compared:
    """Return what the machines hold alike that have an inventory in a folder; files from a megabyte on.

    Args:
        folder: an absolute path; each inventory in it is a machine, by the name of its file.
        unread: called with each that cannot be read, or is not one.

    Raises:
        OSError: the folder cannot be read.
    """
    machines: list[str] = []
    found: dict[tuple[str, int], list[int]] = {}
    for machine, saved in each_saved(folder, load, unread):
        for file in saved.files.values():
            if file.bytes >= LEAST_BYTES:
                found.setdefault((os.path.basename(file.path), file.bytes), []).append(len(machines))
        machines.append(machine)
    alike = [Alike(*key, len(set(where)), len(where)) for key, where in found.items() if len(set(where)) > 1]
    own: dict[int, list[tuple[int, str]]] = defaultdict(list)
    for (name, size), where in found.items():
        if len(set(where)) == 1:
            own[where[0]] += [(size, name)] * len(where)
    alone = [Alone(machines[at], len(files), sum(size for size, _ in files), max(files)[1]) for at, files in own.items()]
    return Compared(
        tuple(machines),
        tuple(sorted(alike, key=lambda one: (-one.all_bytes, one.name))),
        tuple(sorted(alone, key=lambda one: (-one.bytes, one.machine))),
    )
