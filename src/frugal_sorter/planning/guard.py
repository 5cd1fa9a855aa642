"""What is refused whatever a rule says, and which folders are never entered."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from frugal_sorter.filesystem.inside import Inside, look_inside
from frugal_sorter.filesystem.record import is_inside, place_of
from frugal_sorter.filesystem.walk import VERSION_CONTROL
from frugal_sorter.planning.plan import Plan, Refusal
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.rules.keys import REMOVALS
from frugal_sorter.rules.model import Rule
from frugal_sorter.state import for_a_session
from frugal_sorter.steps.kinds import PLANNED, REMOVING, TAKING
from frugal_sorter.steps.step import Step
from frugal_sorter.trash.bins import all_bins, bin_for, home_bin, own_folders, own_trash

UNDER_VERSION_CONTROL = "a tree under version control is in it, which is left whole"


class _System(NamedTuple):
    """What belongs to the system: trees, the places in them where people keep files, and single folders."""

    trees: Sequence[str]
    open_trees: Sequence[str]
    folders: Sequence[str]


@for_a_session
def _system() -> _System:
    return _System(system.trees(), system.open_trees(), system.folders())


def refused_folder(path: str) -> str | None:
    """Return why nothing may be sorted in or into a folder, or None where it may.

    Args:
        path: an absolute path without symbolic links.
    """
    kept = _system()
    if path in kept.folders:
        return "a system folder"
    if any(is_inside(path, tree) for tree in kept.trees) and not any(is_inside(path, tree) for tree in kept.open_trees):
        return "inside a system folder"
    if any(is_inside(path, own) for own in own_folders()):
        return "the tool's own folder"
    parts = path.split("/")
    if any(part == ".Trash" or part.startswith(".Trash-") for part in parts) or is_inside(path, own_trash()):
        return "a trash"
    if not VERSION_CONTROL.isdisjoint(parts):
        return "the own folder of a version control"
    return None


def refused_link(path: str) -> str | None:
    """Return why a folder is not reached: a link on the way is not to be trusted. None where it is reached.

    Args:
        path: an absolute path, resolved by `slashed.realpath`.
    """
    found = slashed.unfollowed(path)
    if found is None:
        return None
    link, owner = found[0], accounts.owner_name(found[1]) or str(found[1])
    what = f"{link} is a link of {owner}, which {accounts.account_name()} does not follow"
    instead = f", or use --for {owner}" if accounts.is_admin() and found[1] and not owner.isdigit() else ""
    return f"{what}; name the folder it leads to{instead}"


@for_a_session
def _homes() -> frozenset[str]:
    """Return the home folders of all accounts."""
    homes = {slashed.realpath(one) for one in (*accounts.homes(), str(Path.home()))}
    return frozenset(one for one in homes if not slashed.is_top(one))


def refused_entry(path: str) -> str | None:
    """Return why a folder may not be taken away as a whole, or None where it may.

    Args:
        path: an absolute path without symbolic links.
    """
    return refused_whole(path) or ("where a volume is mounted" if disk.ismount(path) else None)


def refused_whole(path: str) -> str | None:
    """Return why not all that is in a folder may be taken away, or None where it may.

    Where a volume is mounted is as good a folder as any other, unless it is a home as well.

    Args:
        path: an absolute path without symbolic links.
    """
    if refused := refused_folder(path):
        return refused
    if any(is_inside(home, path) for home in _homes()):
        return "a home folder"
    if any(is_inside(kept, path) for kept in (*own_folders(), own_trash())):
        return "around the tool's own folder or the trash"
    return None


# Below a home: what programs keep there for their user. A folder in one of them can be acted on, all of it not.
_SETTINGS = (".config", ".local", ".local/share", ".local/state", ".local/lib", ".ssh", ".gnupg", ".pki", ".var", ".mozilla")


def refused_removal(path: str, levels: int | None = 1, hidden: bool = False, take: str = "files") -> str | None:
    """Return why a rule may not take away what is in a folder, or None where it may.

    All of a home is not for a rule to take: in a home itself, only the visible files that lie in it directly.

    Args:
        path: the `in` of the rule, absolute and without symbolic links.
        levels: how deep it goes, None for all levels.
        hidden: whether it takes what is hidden.
        take: what it takes.
    """
    if refused := refused_link(path):
        return refused
    if refused := refused_folder(path):
        return f"{path} is {refused}, where nothing is removed"
    for home in _homes():
        below_it = path.removeprefix(home.rstrip("/") + "/")
        if below_it in _SETTINGS and is_inside(path, home):
            return f"{path} holds the settings of programs, where nothing is removed; name the folder in it that is meant"
        if path == home and (levels != 1 or hidden or take != "files"):
            what = f"{path} is a home folder, where nothing is removed but visible files on the first level"
            return f"{what}; name the folder in it that is meant"
        depth = home[len(path.rstrip("/")) :].count("/") if is_inside(home, path) and path != home else 0
        if depth and (levels is None or levels > depth or take != "files"):
            return f"{path} is around a home folder, where nothing is removed; name the folder that is meant"
    return None


def refused_rule(rule: Rule, folder: str) -> str | None:
    """Return why a rule may not act in one of its folders, or None where it may.

    Args:
        rule: the rule.
        folder: the folder, absolute and without symbolic links.
    """
    if refused := refused_link(folder):
        return refused
    if refused := refused_folder(folder):
        return f"{folder} is {refused}, where nothing is sorted"
    if rule.ending in REMOVALS:
        return refused_removal(folder, rule.levels, rule.hidden, rule.take)
    return None


def refuse_guarded(plan: Plan) -> None:
    """Take steps out of a plan that was made elsewhere which no planner of ours would have made.

    Each is named as refused.
    """
    # A plan may have been written by hand, or by another account: no planner of ours is trusted for it.
    for step in list(plan.steps):
        why = _guarded(step)
        if why:
            refusal = Refusal(step.rule or "the plan", f"{step.place.path}: {why}")
            plan.refuse(refusal, lambda one, bad=step: one is bad)  # type: ignore[misc]
            plan.steps = [one for one in plan.steps if one is not step]


def _guarded(step: Step) -> str | None:
    """Return why a step may not be, or None."""
    if step.verb == "empty":
        inside = {folder for one in all_bins() for folder in (one.files, one.info)}
        return None if step.place.folder in inside else f"{step.place.folder} is no trash of this account"
    sides = [place for place in (step.source, None if step.verb == "trash" else step.target) if place]
    members = [place_of(member["path"]) for member in step.details.get("members", ())]
    for place in [*sides, *members]:
        if refused := refused_folder(place.folder):
            return f"{place.folder} is {refused}"
    if step.source is not None and step.was is not None and step.was.kind == "folder" and step.verb != "copy":
        if refused := refused_entry(step.source.path):
            return refused
        held = look_inside(step.source.path) if step.verb in TAKING else None
        if isinstance(held, Inside) and held.version_control:
            return UNDER_VERSION_CONTROL
    if step.verb == "trash":
        assert step.target is not None and step.source is not None and step.was is not None
        known = [home_bin(), bin_for(step.source.folder)]
        if step.target.folder not in [one.files for one in known if one]:
            return f"{step.target.folder} is no trash of this account"
    if step.verb == "hard-link" and step.witness and (refused := refused_folder(step.witness.place.folder)):
        return f"{step.witness.place.folder} is {refused}"
    if step.verb in REMOVING and step.source is not None:
        for home in _homes():
            settings = [f"{home.rstrip('/')}/{name}" for name in _SETTINGS]
            # The rule that such a step stands for is not known: what is hidden in a home, and what settings are, stays.
            if step.source.folder == home and (step.source.name[0] == "." or step.was is None or step.was.kind != "file"):
                return f"{home} is a home folder, where nothing is removed but visible files on the first level"
            if step.source.folder in settings:
                return f"{step.source.folder} holds the settings of programs, where nothing is removed"
    if step.verb not in PLANNED:
        return f"a plan of rules holds no step of the kind {step.verb}"
    return None


class NoEntries:
    """The files that no rule can take: those that the rules are read from, or that are written for them.

    Args:
        paths: of these, absolute and without symbolic links.
    """

    def __init__(self, paths: Iterable[str]) -> None:
        self._names: dict[str, frozenset[str]] = {}
        for folder, name in map(place_of, paths):
            self._names[folder] = self._names.get(folder, _NO_ENTRY) | {name}

    def names_in(self, folder: str) -> frozenset[str]:
        """Return the names of files in a folder that are not entries."""
        return self._names.get(folder, _NO_ENTRY)


# In a linked work tree a file stands for the folder of the version control.
_NO_ENTRY = frozenset({".git"})


def version_control_root(folder: str) -> str | None:
    """Return the root of the tree under version control that a folder lies in, if there is one."""
    while True:
        if any(disk.lexists(slashed.join(folder, mark)) for mark in VERSION_CONTROL):
            return folder
        parent = os.path.dirname(folder)
        if parent == folder:
            return None
        folder = parent
