"""What a verb is, what the verbs of one run share, and where each is found."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Any, NamedTuple

from frugal_sorter.changes.outcome import NotDone, Outcome
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.platforms import disk
from frugal_sorter.steps.kinds import KINDS, VerbName
from frugal_sorter.steps.step import Step
from frugal_sorter.values import field, mutable

if TYPE_CHECKING:
    from frugal_sorter.changes.descriptors import Descriptors, FolderTime


# Why a step of a killed run has no effect.
INTERRUPTED = "interrupted before it was done"
STOPPED = "the run was stopped before it was done"


class Mark(NamedTuple):
    """The end of a step: why, where it is not DONE, the entry as it is now, and what only its verb knows."""

    step: int
    outcome: Outcome
    reason: str = ""
    now: Identity | None = None
    data: Mapping[str, Any] | None = None


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
        return f".frugal-{self.run}-{step.id}-{self.token}"

    def heed(self) -> None:
        """Give up what takes long when the run is to stop.

        Raises:
            NotDone: it is.
        """
        if self.stop():
            raise NotDone(Outcome.NOT_RUN, STOPPED)


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
        """Tell from the disk how a step of an interrupted run ended; may be called again.

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
        """Return the path of what stands under the private name of a step; empty where nothing does."""
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
        """Take in that a step of an interrupted run was done, before the steps before it are resolved."""

    def catch_up(self) -> None:  # noqa: B027
        """End what lags behind the steps; called before any of them is written down as done."""

    def finish(self) -> None:  # noqa: B027
        """End what was begun, and take back what was made ready for steps that were not done."""


def attempt(verb: Verb, step: Step) -> Mark:
    """Carry a step out; what goes wrong with one entry is a mark.

    As long as something stands under its private name, its end is open, whatever it was that went wrong.
    """
    try:
        return verb.do(step)
    except NotDone as not_done:
        mark = Mark(step.id, not_done.outcome, not_done.reason)
    except OSError as error:
        mark = Mark(step.id, Outcome.FAILED, reason_of(error))
    if mark.outcome is not Outcome.OPEN and (left := verb.left_under_private_name(step)):
        return Mark(step.id, Outcome.OPEN, f"{mark.reason}; {left} stays until the next command that changes files")
    return mark


def verbs_for(context: RunContext) -> Mapping[VerbName, Verb]:
    """Return every verb by its name."""
    return {verb: _made(kind.does, context) for verb, kind in KINDS.items()}


def _made(does: str, context: RunContext) -> Verb:
    module, name = does.split(":")
    made: Verb = getattr(import_module(f"frugal_sorter.steps.{module}"), name)(context)
    return made
