"""The folders of a plan as they are, beside how they will be."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

from frugal_sorter.planning.plan import Plan
from frugal_sorter.platforms import disk
from frugal_sorter.steps.kinds import MAKING, TAKING
from frugal_sorter.steps.step import Step
from frugal_sorter.values import field, mutable

Fate = Literal["stays", "new", "goes"]


class Comer(NamedTuple):
    """An entry that will be in a folder: its name there, and the path that it comes from; none where it is made."""

    name: str
    origin: str
    is_folder: bool


@mutable
class FolderOutcome:
    """A folder, now and then.

    Args:
        path: where it is.
        fate: it stays, is made, or goes: removed, or taken as a whole.
        before: how many entries are directly in it now.
        after: how many will be.
        leaving: the entries that leave it, by name, and whether it is a folder.
        coming: those that come.
    """

    path: str
    fate: Fate = "stays"
    before: int = 0
    after: int = 0
    leaving: list[tuple[str, bool]] = field(default_factory=list)
    coming: list[Comer] = field(default_factory=list)


def outcome_of(plan: Plan) -> list[FolderOutcome]:
    """Return each folder that something of a plan happens in, in the order of a tree; nothing but names is read.

    Args:
        plan: what would be done.
    """
    folders: dict[str, FolderOutcome] = {}

    def folder(path: str) -> FolderOutcome:
        if path not in folders:
            count = _count(path)
            folders[path] = FolderOutcome(path, before=count, after=count)
        return folders[path]

    for root in plan.roots:
        folder(root)
    for step in plan.steps:
        _apply(step, folder)
    for found in folders.values():
        found.after += len(found.coming) - len(found.leaving)
    return sorted(folders.values(), key=lambda one: one.path.split("/"))


def _apply(step: Step, folder: Callable[[str], FolderOutcome]) -> None:
    is_folder = step.was is not None and step.was.kind == "folder"
    if step.verb == "make-folder" and step.target is not None:
        folder(step.target.path).fate = "new"
        folder(step.target.folder).coming.append(Comer(step.target.name, "", True))
        return
    if step.verb == "remove-folder":
        folder(step.place.path).fate = "goes"
        folder(step.place.folder).leaving.append((step.place.name, True))
        return
    if step.verb in TAKING and step.source is not None and step.verb not in ("restore", "empty"):
        folder(step.source.folder).leaving.append((step.source.name, is_folder))
    if step.target is not None and step.verb in MAKING and step.verb != "trash":
        folder(step.target.folder).coming.append(Comer(step.target.name, _origin(step), is_folder))


def _origin(step: Step) -> str:
    return step.source.path if step.source is not None else ""


def _count(folder: str) -> int:
    try:
        return len(disk.listdir(folder))
    except OSError:
        return 0
