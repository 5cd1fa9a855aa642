"""An entry that rules match: what is planned for it so far, and why it is left as it is."""

from __future__ import annotations

from frugal_sorter.filesystem.inside import Inside
from frugal_sorter.filesystem.record import FileRecord, Identity, Place
from frugal_sorter.rules.fields import Facts
from frugal_sorter.rules.model import Rule
from frugal_sorter.steps.count import ONE_FILE, Count, folder_of
from frugal_sorter.steps.details import Details
from frugal_sorter.steps.kinds import VerbName
from frugal_sorter.steps.step import Step
from frugal_sorter.values import field, mutable

FRESH = "written to a moment ago"


class Kept(Exception):
    """An entry is left as it is, and why; without a reason it is at home."""

    def __init__(self, reason: str = "", problem: bool = False) -> None:
        super().__init__(reason)
        self.reason = reason
        self.problem = problem


@mutable
class Matched:
    """What is planned for one entry.

    Args:
        facts: of the entry, before the run.
        before: steps before its ending.
        late: rules whose link and program come after it.
        attributes: texts as they will be once the steps so far are done.
    """

    facts: Facts
    before: list[Step] = field(default_factory=list)
    late: list[Rule] = field(default_factory=list)
    attributes: dict[str, str] = field(default_factory=dict)

    @property
    def record(self) -> FileRecord:
        """What its status says."""
        return self.facts.record


def step_of(
    rule: Rule, verb: VerbName, source: Place | None, target: Place | None, was: Identity | None,
    details: Details | None = None,
) -> Step:  # fmt: skip
    """Return a step that a rule asks for; it gets its number when it becomes part of a plan."""
    return Step(0, verb, rule.name, rule.key, source, target, was, details or {})


def weight(identity: Identity, facts: Facts) -> Details:
    """Return how many files and bytes a folder holds; a file is itself."""
    if identity.kind != "folder" or not isinstance(facts.inside, Inside):
        return {}
    return {"files": facts.inside.files, "bytes": facts.inside.bytes}


def count_of(facts: Facts) -> Count:
    """Return an entry as it is counted."""
    if facts.record.identity.kind != "folder":
        return ONE_FILE
    return folder_of(facts.inside.files if isinstance(facts.inside, Inside) else 0)
