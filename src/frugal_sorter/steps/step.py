"""One step of a plan: what is known of it, how it is counted, how it is written to a file, and what its verb is."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Any, NamedTuple, cast

from frugal_sorter.filesystem.record import Identity, Place, is_identity, place_of
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.reasons import NotDone, Outcome, Reason, Why, reason_of
from frugal_sorter.state import is_name
from frugal_sorter.steps.kinds import KINDS, UNSIZED, Details, VerbName, checks
from frugal_sorter.values import field, mutable

if TYPE_CHECKING:
    from frugal_sorter.changes.descriptors import Descriptors, FolderTime


class Count(NamedTuple):
    """How many entries there are.

    Args:
        files: entries that are files, or anything else but a folder.
        folders: entries that are folders, each taken or left as a whole.
        inside: the files inside these folders.
    """

    files: int = 0
    folders: int = 0
    inside: int = 0

    @property
    def entries(self) -> int:
        """Files and folders, without what is inside these."""
        return self.files + self.folders

    def __add__(self, other: Count) -> Count:  # type: ignore[override]  # not as tuples are joined
        """Return both together."""
        return Count(self.files + other.files, self.folders + other.folders, self.inside + other.inside)

    def without(self, other: Count) -> Count:
        """Return what is left of this without another count that is part of it."""
        return Count(max(self.files - other.files, 0), max(self.folders - other.folders, 0), max(self.inside - other.inside, 0))


NONE = Count()
ONE_FILE = Count(1)


def total(counts: Iterable[Count]) -> Count:
    """Return several counts together."""
    found = NONE
    for one in counts:
        found += one
    return found


def folder_of(files: int) -> Count:
    """Return one folder with a number of files inside."""
    return Count(0, 1, files)


class Witness(NamedTuple):
    """An entry that must be there and hold the same bytes when the turn of a step comes."""

    place: Place
    identity: Identity


@mutable
class Step:
    """One change to one entry.

    Args:
        id: its number within the plan, from 1.
        verb: what is done.
        rule: the name of the rule that asks for it; empty for what only goes with other steps.
        rule_key: the digest of that rule.
        source: where the entry is; None for a folder that is made.
        target: where it will be; None for a folder that is removed.
        was: the entry as planned; None for what is made.
        details: what only this verb needs.
        group: steps of one group follow each other, and are done whole or put back whole; 0 is none.
        witness: what must still be there, the same byte for byte.
        of: in an undo, the step of the run that it takes back; 0 where it only goes with others.
    """

    id: int
    verb: VerbName
    rule: str
    rule_key: str
    source: Place | None
    target: Place | None
    was: Identity | None
    details: Details = field(default_factory=Details)
    group: int = 0
    witness: Witness | None = None
    of: int = 0

    @property
    def place(self) -> Place:
        """The path of the step's entry: where it is, or will be."""
        place = self.source or self.target
        assert place is not None
        return place

    @property
    def about(self) -> Place | None:
        """The entry that it serves: for what was made of an entry, that one; None for a zip, which is made of several."""
        if self.details and (entry := self.details.get("entry")) is not None:
            return Place(*entry)
        return None if self.verb == "remove-made" else self.source

    @property
    def files(self) -> int:
        """How many files it takes away, for ceilings: those inside a folder count, and a folder is one at least."""
        return max(int(self.details.get("files", 1)), 1)

    def not_touched(self, reason: Reason) -> NotTouched:
        """Return that its entry is left alone, and why."""
        return NotTouched(self.place, self.rule, reason, self.count)

    @property
    def is_folder(self) -> bool:
        """Whether its entry is a folder."""
        return self.was is not None and self.was.kind == "folder"

    @property
    def count(self) -> Count:
        """Its entry."""
        if not self.is_folder:
            return ONE_FILE
        # A step that only goes with others, such as a tag, does not know what is inside.
        return folder_of(int(self.details.get("files", 0)))

    @property
    def bytes(self) -> int:
        """The size of its entry, in bytes."""
        return int(self.details.get("bytes", self.was.size if self.was else 0))


class Tally(dict[VerbName, Count]):
    """What some steps did: the entries by verb, and all of them, where one with several steps is counted once.

    Attributes:
        all: the entries that were there before; a zip that is made of them is not one.
        bytes: how large these are, without those that only got a tag, a link or a program.
        steps: how many steps that were.
        bytes_by: the sizes by verb.
    """

    def __init__(self, steps: Iterable[Step] = ()) -> None:
        super().__init__()
        self.all, self.bytes, self.steps = NONE, 0, 0
        self.bytes_by: dict[VerbName, int] = {}
        # The last entry: where it was and is, what was done with it, and what of it is counted.
        self._places: tuple[Place | None, ...] = ()
        self._verbs: tuple[VerbName, ...] = ()
        self._inside, self._is_sized = 0, False
        self.add(steps)

    def add(self, steps: Iterable[Step]) -> None:
        """Add more steps, in order; those about one entry follow each other."""
        # Counted in plain numbers, since there can be a million; folders are rare, and few steps have details.
        files, entries, sizes = dict[VerbName, int](), 0, self.bytes_by
        places, verbs, inside, is_sized = self._places, self._verbs, self._inside, self._is_sized
        for step in steps:
            verb, was = step.verb, step.was
            about, size = (step.about, step.bytes) if step.details or was is None else (step.source, was.size)
            is_folder = was is not None and was.kind == "folder"
            self.steps += 1
            if about is None or about not in places:
                places, verbs, inside, is_sized = (about,), (), 0, about is None
                if is_folder:
                    self.all += NONE if about is None else Count(folders=1)
                else:
                    entries += about is not None
            places += (step.target,)
            if not is_sized and verb not in UNSIZED:
                is_sized = True
                self.bytes += size
            if verb not in verbs:
                verbs += (verb,)
                self.setdefault(verb, NONE)  # in the order in which they are met
                sizes[verb] = sizes.get(verb, 0) + size
                if is_folder:
                    self[verb] += step.count
                else:
                    files[verb] = files.get(verb, 0) + 1
            # A tag does not know how much is inside its folder; what moves that does.
            if is_folder and step.count.inside > inside and about is not None:
                self.all += Count(inside=step.count.inside - inside)
                inside = step.count.inside
        self._places, self._verbs, self._inside, self._is_sized = places, verbs, inside, is_sized
        for verb, number in files.items():
            self[verb] += Count(number)
        self.all += Count(entries)


class NotTouched(NamedTuple):
    """An entry that a rule claims and that is left alone all the same; if that is a problem, the run ends with 1."""

    place: Place
    rule: str
    reason: Reason
    counted: Count = ONE_FILE


_VERBS = frozenset(VerbName.__args__)  # type: ignore[attr-defined]


def step_as_line(step: Step) -> dict[str, Any]:
    """Return a step as JSON values, with everything that is needed to carry it out."""
    line: dict[str, Any] = {"id": step.id, "verb": step.verb}
    if step.rule:
        line |= {"rule": step.rule, "key": step.rule_key}
    if step.source:
        line["source"] = step.source.path
    if step.target:
        line["target"] = step.target.path
    if step.group:
        line["group"] = step.group
    if step.was:
        line["was"] = list(step.was)
    if step.details:
        # Plans in files, and steps that journals name within others, have had this key from the first format on.
        line["args"] = dict(step.details)
    if step.witness:
        line["witness"] = {"path": step.witness.place.path, "was": list(step.witness.identity)}
    return line


def step_of_line(line: Mapping[str, Any]) -> Step:
    """Return the step that a line holds.

    Raises:
        ValueError, KeyError, TypeError: it holds none.
    """
    if line["verb"] not in _VERBS:
        raise ValueError(f"unknown verb {line['verb']!r}")
    witness = line.get("witness")
    step = Step(
        int(line["id"]),
        line["verb"],
        str(line.get("rule", "")),
        str(line.get("key", "")),
        _place(line.get("source")),
        _place(line.get("target")),
        _identity(line.get("was")),
        cast(Details, dict(line.get("args", {}))),
        int(line.get("group", 0)),
        Witness(proper_place(witness["path"]), _sure_identity(witness["was"])) if witness else None,
    )
    refuse_malformed(step)
    return step


def _place(path: object) -> Place | None:
    return None if path is None else proper_place(path)


def proper_place(path: object) -> Place:
    if not isinstance(path, str) or not slashed.is_absolute(path) or slashed.normpath(path) != path or "\0" in path:
        raise ValueError(f"{path!r} is not an absolute path")
    return place_of(path)


def _identity(values: object) -> Identity | None:
    return None if values is None else _sure_identity(values)


def _sure_identity(values: object) -> Identity:
    if not is_identity(values):
        raise ValueError("the identity of the entry is damaged")
    return Identity(*cast(list[Any], values))


def refuse_malformed(step: Step) -> None:
    """Check that a step has everything that its verb needs, and nothing that its verb does not know.

    Raises:
        ValueError: it does not; says what is wrong.
    """
    kind = KINDS[step.verb]
    if (step.source is not None) != kind.source:
        raise ValueError(f"a step to {step.verb} {'needs' if kind.source else 'has no'} source")
    if (step.target is not None) != kind.target:
        raise ValueError(f"a step to {step.verb} {'needs' if kind.target else 'has no'} target")
    for place in (step.source, step.target, step.witness and step.witness.place):
        if place is not None and not (is_name(place.name) and "/" not in place.name):
            raise ValueError(f"{place.path!r} is not a place of an entry")
    if kind.was and (step.was is None or not is_identity(step.was) or step.was.kind not in kind.was):
        raise ValueError(f"a step to {step.verb} must describe its entry")
    if kind.witness and step.witness is None:
        raise ValueError(f"a step to {step.verb} must name what stays")
    if step.witness is not None and not is_identity(step.witness.identity):
        raise ValueError("what stays is not described as an entry")
    details: Mapping[str, object] = step.details
    for key in kind.needs:
        if key not in details or not checks()[key](details[key]):
            raise ValueError(f"a step to {step.verb} needs a proper `{key}`")
    for key, value in details.items():
        if key not in (*kind.needs, *kind.may) or not checks()[key](value):
            raise ValueError(f"`{key}` is not what a step to {step.verb} can have there")


class Mark(NamedTuple):
    """The end of a step: why, where it is not DONE, the entry as it is now, and what only its verb knows."""

    step: int
    outcome: Outcome
    reason: str = ""
    now: Identity | None = None
    data: Mapping[str, Any] | None = None

    @property
    def why(self) -> Why | None:
        """The row of its reason; None where it has none, or an older version wrote it down."""
        return self.reason.why if isinstance(self.reason, Reason) else None

    @property
    def code(self) -> str:
        """The code of its reason, or an empty text."""
        return self.why.code if self.why is not None else ""


def left_undone(step: Step, reason: Reason) -> Mark:
    """Return the mark of a step that was not done, or whose end is not known."""
    return Mark(step.id, reason.outcome, reason)


# How every private name begins.
PRIVATE = ".frugal-"


@mutable
class RunContext:
    """What the verbs of one run share.

    Args:
        descriptors: the open folders.
        run: its number.
        began_ns: when it began.
        planned_ns: when its plan was begun, before anything was looked at for it; 0 where that is not known.
        token: what makes the private names of this run its own; nobody can guess it before one is there.
        note: writes a NOTED mark down; durably, where it says so.
        stop: asked during long work; when it says so, what was begun is given up.
        dated_ns: the moment that is written beside what goes to the trash; 0 for now.
        now_at: while an interrupted run is recovered, where later steps have put entries, and as what.
        became: the same for places, and what earlier steps have made of the entries that came there.
        removed: filled in: the paths of unfinished parts that were removed.
        stray: filled in: entries that left the trash, and whose info files could not be removed.
        making: filled in: for each folder that was made, by its step, the time that the folder around it had.
    """

    descriptors: Descriptors
    run: int = 0
    began_ns: int = 0
    planned_ns: int = 0
    token: str = ""
    note: Callable[[Mark, bool], None] = lambda _mark, _durable: None
    stop: Callable[[], bool] = lambda: False
    dated_ns: int = 0
    now_at: dict[Place, tuple[Place, Identity | None]] = field(default_factory=dict)
    became: dict[Place, Identity] = field(default_factory=dict)
    removed: list[str] = field(default_factory=list)
    stray: list[Place] = field(default_factory=list)
    making: dict[int, FolderTime] = field(default_factory=dict)

    def private(self, step: Step) -> str:
        """Return the only name under which a step may leave something unfinished, beside its final place."""
        return f"{PRIVATE}{self.run}-{step.id}-{self.token}"

    def heed(self) -> None:
        """Raise where the run is to stop, in the middle of long work.

        Raises:
            NotDone: it is.
        """
        if self.stop():
            raise NotDone(Why.STOPPED())


class Verb(ABC):
    """One kind of change: doing it, finding out after a crash whether it was done, and its inverse.

    Args:
        context: what the verbs of one run share.
    """

    def __init__(self, context: RunContext) -> None:
        self._context = context

    @abstractmethod
    def do(self, step: Step) -> Mark:
        """Carry a step out.

        Raises:
            NotDone, OSError: it was not done, and nothing of it is left.
        """

    @abstractmethod
    def resolve_after_crash(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        """Find out from the disk how a step of an interrupted run ended; may be called again.

        Args:
            step: a step without a mark.
            note: what it wrote down last.
            repair: also put right what is half done.

        Raises:
            NotDone, OSError: that cannot be told, or not be put right; the step stays open.
        """

    @abstractmethod
    def inverse(self, step: Step, mark: Mark) -> Step | None:
        """Return the step that takes a done one back, or None where nothing can.

        Its `was` is what must be there; the undo planner looks whether it is.
        """

    def left_under_private_name(self, step: Step) -> str:
        """Return the path of what is under the private name of a step; empty where nothing does."""
        for folder in dict.fromkeys(place.folder for place in (step.target, step.source) if place):
            aside = Place(folder, self._context.private(step))
            try:
                disk.stat(aside.name, dir_fd=self._context.descriptors.folder(folder), follow_symlinks=False)
            except OSError:
                continue
            return aside.path
        return ""

    # What a run tells every verb; most have nothing to do then.

    def prepare(self, steps: Sequence[Step]) -> None:  # noqa: B027
        """Make ready what steps of this verb need; called once before the first step of a run."""

    def was_done(self, step: Step, mark: Mark) -> None:  # noqa: B027
        """Note that a step of an interrupted run was done, before the steps before it are resolved."""

    def catch_up(self) -> None:  # noqa: B027
        """End what lags behind the steps; called before any of them is written down as done."""

    def finish(self) -> None:  # noqa: B027
        """End what was begun, and take back what was made ready for steps that were not done."""


def attempt(verb: Verb, step: Step) -> Mark:
    """Carry a step out; what goes wrong with one entry is a mark.

    As long as something is under its private name, its outcome is open, whatever went wrong.
    """
    try:
        return verb.do(step)
    except NotDone as not_done:
        reason = not_done.reason
    except OSError as error:
        reason = reason_of(error)
    if reason.outcome is not Outcome.OPEN and (left := verb.left_under_private_name(step)):
        reason = Why.LEFT_BEHIND(reason, left)
    return left_undone(step, reason)


def verbs_for(context: RunContext) -> Mapping[VerbName, Verb]:
    """Return every verb by its name."""
    return {verb: _made(kind.does, context) for verb, kind in KINDS.items()}


def _made(does: str, context: RunContext) -> Verb:
    module, name = does.split(":")
    made: Verb = getattr(import_module(f"frugal_sorter.steps.{module}"), name)(context)
    return made
