"""What no plan may do: system folders, trees under version control, ceilings, and what does not fit."""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache
from typing import NamedTuple, cast

from frugal_sorter.filesystem.record import Identity, Place, is_inside, place_of, suffix_of
from frugal_sorter.filesystem.status import folder_as_it_is, look
from frugal_sorter.filesystem.tree import current, listdir
from frugal_sorter.filesystem.volumes import free_bytes, keeps_access_times, volume_of
from frugal_sorter.filesystem.walk import VERSION_CONTROL, Inside, look_inside
from frugal_sorter.planning.plan import Note, Plan, Refusal
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reasons import Reason, Why
from frugal_sorter.rules.fields import NOT_KEPT, World
from frugal_sorter.rules.keys import MOST_REMOVALS, REMOVALS
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.units import DAY_NS, minute_text
from frugal_sorter.state import for_a_session
from frugal_sorter.steps.kinds import FINAL, KINDS, PLANNED, REMOVING, TAKING, Details
from frugal_sorter.steps.step import Step
from frugal_sorter.trash.bins import all_bins, bin_for, home_bin, own_folders, own_trash


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
    if any(part in (".Trash", ".Trashes") or part.startswith(".Trash-") for part in parts) or is_inside(path, own_trash()):
        return "a trash"
    if not VERSION_CONTROL.isdisjoint(parts):
        return "the internal folder of a version control system"
    if any(map(system.is_package, parts)):
        return "inside a package, which its program keeps as one thing"
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
    return refused_whole(path) or ("the mount point of a volume" if disk.ismount(path) else None)


def refused_whole(path: str) -> str | None:
    """Return why not everything in a folder may be taken away, or None where it may.

    Where a volume is mounted is as good a folder as any other, unless it is a home as well.

    Args:
        path: an absolute path without symbolic links.
    """
    if refused := refused_folder(path):
        return refused
    if any(is_inside(home, path) for home in _homes()):
        return "a home folder"
    if any(is_inside(kept, path) for kept in (*own_folders(), own_trash())):
        return "a folder that contains frugal's own data or the trash"
    return None


# Below a home: what programs keep there for their user. A folder in one of them can be acted on, all of it not.
_SETTINGS = (".config", ".local", ".local/share", ".local/state", ".local/lib", ".ssh", ".gnupg", ".pki", ".var", ".mozilla")


def refused_removal(path: str, levels: int | None = 1, hidden: bool = False, take: str = "files") -> str | None:
    """Return why a rule may not take away what is in a folder, or None where it may.

    A rule must not take a whole home: in a home itself, only the visible files that are in it directly.

    Args:
        path: the `in` of the rule, absolute and without symbolic links.
        levels: how deep it goes, None for all levels.
        hidden: whether it takes what is hidden.
        take: what it takes.
    """
    if refused := refused_link(path):
        return refused
    if refused := refused_folder(path):
        return f"{path} is {refused}, so frugal removes nothing from it"
    for home in _homes():
        below_it = path.removeprefix(home.rstrip("/") + "/")
        if below_it in (*_SETTINGS, *system.SETTINGS) and is_inside(path, home):
            return f"{path} contains program settings, so frugal removes nothing directly from it; name a folder inside it"
        if path == home and (levels != 1 or hidden or take != "files"):
            what = f"{path} is a home folder, so frugal removes only visible files directly in it"
            return f"{what}; name a folder inside it"
        depth = home[len(path.rstrip("/")) :].count("/") if is_inside(home, path) and path != home else 0
        if depth and (levels is None or levels > depth or take != "files"):
            return f"{path} contains a home folder, so frugal removes nothing from it; name a more specific folder"
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
        return f"{folder} is {refused}, so frugal sorts nothing in it"
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
            refusal = Refusal(step.rule or "the plan", Why.GUARDED(f"{step.place.path}: {why}"))
            plan.refuse(refusal, lambda one, bad=step: one is bad)  # type: ignore[misc]
            plan.steps = [one for one in plan.steps if one is not step]


def _guarded(step: Step) -> str | None:
    """Return why a step may not be, or None."""
    if step.verb == "empty":
        inside = {folder for one in all_bins() for folder in (one.files, one.info)}
        return None if step.place.folder in inside else f"{step.place.folder} is not a trash folder of this account"
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
            return Why.VERSION_CONTROL_INSIDE()
    if step.verb == "trash":
        assert step.target is not None and step.source is not None and step.was is not None
        known = [home_bin(), bin_for(step.source.folder)]
        if step.target.folder not in [one.files for one in known if one]:
            return f"{step.target.folder} is not a trash folder of this account"
    if step.verb == "hard-link" and step.witness and (refused := refused_folder(step.witness.place.folder)):
        return f"{step.witness.place.folder} is {refused}"
    if step.verb in REMOVING and step.source is not None:
        for home in _homes():
            settings = [f"{home.rstrip('/')}/{name}" for name in (*_SETTINGS, *system.SETTINGS)]
            # The rule that such a step stands for is not known: what is hidden in a home, and what settings are, stays.
            if step.source.folder == home and (step.source.name[0] == "." or step.was is None or step.was.kind != "file"):
                return f"{home} is a home folder, so frugal removes only visible files directly in it"
            if step.source.folder in settings:
                return f"{step.source.folder} contains program settings, so frugal removes nothing directly from it"
    if step.verb not in PLANNED:
        return f'a saved plan cannot contain a "{step.verb}" step'
    return None


class NoEntries:
    """The files that no rule can take: those that the rules are read from, or that are written for them."""

    def __init__(self, book: RuleBook) -> None:
        self._names: dict[str, frozenset[str]] = {}
        files = [slashed.realpath(book.file), *book.lists, *([slashed.realpath(book.log)] if book.log else [])]
        for folder, name in map(place_of, files):
            self._names[folder] = self._names.get(folder, _NO_ENTRY) | {name}

    def names_in(self, folder: str) -> frozenset[str]:
        """Return the names of files in a folder that are not entries."""
        return self._names.get(folder, _NO_ENTRY)

    def is_of_rules(self, place: Place) -> bool:
        """Return True if rules are read from a file, or it is written for them."""
        return place.name in self.names_in(place.folder) - _NO_ENTRY


# In a linked work tree a file stands for the folder of the version control.
_NO_ENTRY = frozenset({".git"})


def version_control_root(folder: str) -> str | None:
    """Return the root of the tree under version control that a folder is in, if there is one."""
    while True:
        if any(disk.lexists(slashed.join(folder, mark)) for mark in VERSION_CONTROL):
            return folder
        parent = os.path.dirname(folder)
        if parent == folder:
            return None
        folder = parent


def note_on_opened(rule: Rule, folder: str) -> Note | None:
    """Return what should be known of a rule in a folder about when files were opened; None if it does not ask.

    It is a problem where the volume does not keep that at all, since then the rule cannot act.
    """
    if not any(leaf.on.name == "opened" for leaf in rule.where.leaves()):
        return None
    try:
        keeping = keeps_access_times(folder)
    except OSError:
        return None
    if keeping == "never":
        return Note(f"{folder}: `opened` is unknown: {NOT_KEPT}", True)
    if keeping == "daily":
        what = "this volume records when a file was opened only once a day"
        return Note(f"{folder}: {what}, so the rule may act up to a day late, but never early", False)
    return None


_LONG_NS = 7 * DAY_NS


class Downloads:
    """Downloads that are not complete: a partial file, and the file of its final name beside it.

    Args:
        types: the type of each suffix.
    """

    def __init__(self, types: Mapping[str, str]) -> None:
        self._suffixes = frozenset(suffix for suffix, kind in types.items() if kind == "partial")
        self._named = re.compile(
            rf"\bpartial\b|(?:\.|\bext\b.*\b)(?:{'|'.join(map(re.escape, self._suffixes))})\b", re.IGNORECASE
        )
        self._beside: dict[str, dict[str, str]] = {}

    def are_meant_by(self, condition: str) -> bool:
        """Return True if a condition names partial files by their type or by a suffix of theirs."""
        return self._named.search(condition) is not None

    def waits(self, place: Place) -> Reason | None:
        """Return why a file has to wait for its download; None where it has none."""
        if suffix_of(place.name) in self._suffixes:
            return Why.PARTIAL_DOWNLOAD()
        part = self._parts_in(place.folder).get(place.name)
        return Why.DOWNLOAD_BESIDE(part) if part else None

    def _parts_in(self, folder: str) -> Mapping[str, str]:
        """Return the partial files of a folder by their final names; a browser numbers a second download."""
        known = self._beside.get(folder)
        if known is None:
            known = self._beside[folder] = {}
            with suppress(OSError):
                for name in listdir(folder):
                    if (suffix := suffix_of(name)) in self._suffixes:
                        final = name[: -len(suffix) - 1]
                        known[final] = known[re.sub(r" ?\(\d+\)$", "", final)] = name
        return known


def not_held(plan: Plan, steps: Iterable[Step], holder: Callable[[Identity, str], str | None], why: Why) -> list[Step]:
    """Return the steps whose entries no program holds; those that are held are named as left.

    Args:
        plan: of the steps.
        steps: some of its steps.
        holder: returns the program that holds an entry, by what it is and where.
        why: what the program does with it.
    """
    free = []
    for step in steps:
        who = holder(step.was, step.place.path) if step.was is not None else None
        if who is None:
            free.append(step)
        else:
            plan.not_touched.append(step.not_touched(why(who)))
    return free


def tell_of_long_waits(plan: Plan, since_ns: Callable[[list[str]], Mapping[str, int]]) -> None:
    """Let a person know of what was in use at every visit for a week: nobody else ever would.

    Args:
        plan: what is left in it.
        since_ns: called with everything that waits; returns since when each part does.
    """
    waiting = {one.place.path for one in plan.not_touched if one.reason.kind == "waiting"}
    since = since_ns(sorted(waiting))
    for at, one in enumerate(plan.not_touched):
        began_ns = since.get(one.place.path, plan.made_ns)
        if plan.made_ns - began_ns >= _LONG_NS:
            long = one.reason.reworded(f"{one.reason}, at each run since {minute_text(began_ns)}", "failed")
            plan.not_touched[at] = one._replace(reason=long)


def leave_written(plan: Plan, world: World) -> None:
    """Take out of a plan what programs have open for writing, as far as this account can see, and name it."""
    asked = plan.asked
    free = {step.id for step in not_held(plan, asked, world.open_files.writer, Why.BEING_WRITTEN)}
    plan.drop(lambda step: step.id not in free)


# Room that is never counted on: the file system needs some for itself.
_SLACK_BYTES = 1_000_000


@lru_cache(maxsize=100_000)
def with_parents(folder: str) -> tuple[str, ...]:
    """Return a folder and all above it."""
    found = [folder]
    while (parent := os.path.dirname(folder)) != folder:
        folder = parent
        found.append(folder)
    return tuple(found)


def keep_targets_in_place(plan: Plan) -> None:
    """Leave folders where they are that other entries of this plan go into."""
    target_folders = {step.target.folder for step in plan.asked if step.target}
    targets = {above for folder in target_folders for above in with_parents(folder)}
    going = [step for step in plan.asked if step.was is not None and step.was.kind == "folder" and step.verb != "copy"]
    for step in going:
        if step.source is not None and step.source.path in targets:
            plan.not_touched.append(step.not_touched(Why.RECEIVES_FILES()))
            plan.drop(lambda one, gone=step: one is gone)  # type: ignore[misc]


def keep_apart(plan: Plan) -> None:
    """Check that no entry is taken twice, and nothing inside a folder that makes room for another."""
    owners: dict[str, Step] = {}
    taking = [step for step in plan.asked if step.source and step.verb in ("move", "move-across", "trash", "delete")]
    for step in taking:
        assert step.source is not None
        other = owners.setdefault(step.source.path, step)
        if other is not step and other.group != step.group:
            _drop_for_room(plan, other, step)
    folders = {path for path, step in owners.items() if step.was is not None and step.was.kind == "folder"}
    if not folders:
        return
    for step in taking:
        assert step.source is not None
        around = next((path for path in with_parents(step.source.folder) if path in folders), None)
        if around is not None:
            _drop_for_room(plan, owners[around], step)


def _drop_for_room(plan: Plan, one: Step, other: Step) -> None:
    """Take out of two steps that meet the one that only makes room: its newcomer stays."""
    gives_way = one if _makes_room(plan, one) else other
    for step in plan.drop(lambda step: step is gives_way):
        if step.source is not None and step.verb in ("move", "move-across"):
            plan.not_touched.append(step.not_touched(Why.MAKES_ROOM()))


def _makes_room(plan: Plan, step: Step) -> bool:
    return any(other.group == step.group and other.target == step.source for other in plan.steps if step.group)


def ceilings_of(rules: Iterable[Rule], at_most: int | None) -> dict[str, int | None]:
    """Return for each rule how many files it may take away.

    Args:
        rules: the rules.
        at_most: for all of them, whatever they say.
    """
    return {
        rule.name: at_most if at_most is not None else MOST_REMOVALS if rule.at_most is None else rule.at_most for rule in rules
    }


def enforce_removal_limits(plan: Plan) -> None:
    """Refuse rules that would take away more than they may; the others are carried out."""
    counts: Counter[str] = Counter()
    for step in plan.asked:
        if step.verb in ("trash", "hard-link") or step.verb in FINAL:
            counts[step.rule] += step.files
    for rule, found in counts.items():
        most = plan.ceilings.get(rule, MOST_REMOVALS)
        if most is not None and found > most:
            in_rule = f"`at_most = {found}` in the rule or " if plan.kind == "tidy" else ""
            files = "file" if found == 1 else "files"
            _refuse(plan, rule, Why.TOO_MANY_REMOVALS(found, files, most, in_rule, found))


def hold_moves(plan: Plan, rules: Iterable[Rule]) -> None:
    """Refuse rules that would act on more entries than their `at_most` says."""
    for rule in rules:
        if rule.at_most is None:
            continue
        found = len({step.source for step in plan.asked if step.rule == rule.name and step.verb not in ("trash", "delete")})
        if found > rule.at_most:
            _refuse(plan, rule.name, Why.TOO_MANY(found, rule.at_most))


def _refuse(plan: Plan, rule: str, reason: Reason) -> None:
    plan.refuse(Refusal(rule, reason), lambda step: step.rule == rule)


def leave_unwritable(plan: Plan, existing: Callable[[str], str] = lambda folder: folder) -> None:
    """Leave what would be taken out of, or put into, a folder that this account has no right to write to.

    Args:
        plan: the plan.
        existing: returns the nearest folder that exists.
    """
    is_closed = lru_cache(maxsize=None)(accounts.cannot_change)

    def closed(step: Step) -> str:
        kind = KINDS[step.verb]
        folders = [step.source.folder] if step.source and (kind.takes or kind.replaces) else []
        folders += [existing(step.target.folder)] if step.target and kind.makes else []
        return next(filter(is_closed, folders), "")

    found = {step.id: folder for step in plan.asked if (folder := closed(step))}
    groups = {step.group: found[step.id] for step in plan.asked if step.group and step.id in found}
    for step in plan.drop(lambda step: step.id in found) if found else ():
        if step.source is not None:
            folder = found.get(step.id) or groups[step.group]
            is_volume = is_closed(folder) == "volume"
            plan.not_touched.append(step.not_touched((Why.READ_ONLY if is_volume else Why.CANNOT_WRITE)(folder)))


def hold_space(plan: Plan, device: Callable[[str], int], existing: Callable[[str], str]) -> None:
    """Refuse what would fill a volume: room is looked at for the whole plan before the first byte.

    Args:
        plan: the plan.
        device: returns the device of a target folder.
        existing: returns the nearest folder that exists.
    """
    needed: dict[int, int] = defaultdict(int)
    near: dict[int, str] = {}
    # Within a volume a move needs no room.
    copying = ("move-across", "copy", "pack")
    for step in plan.asked:
        if step.target is not None and step.verb in copying:
            dev = device(step.target.folder)
            near[dev] = existing(step.target.folder)
            needed[dev] += step.bytes if step.verb != "pack" else step.bytes // 2
    for dev, total in needed.items():
        free = free_bytes(near[dev])
        if total + _SLACK_BYTES <= free:
            continue
        top = volume_of(dev, near[dev]).top
        reason = Why.NO_ROOM(total, top, free)
        rules = {
            step.rule: None
            for step in plan.asked
            if step.target is not None and step.verb in copying and device(step.target.folder) == dev
        }
        for rule in rules:
            _refuse(plan, rule, reason)


def prune(plan: Plan, rules: Mapping[str, Rule]) -> None:
    """Add steps that remove the folders which rules leave empty, the innermost first; never an `in`.

    Args:
        plan: the plan, all of whose other steps are known.
        rules: those that remove folders, by name.
    """
    if not rules:
        return
    roots = {slashed.realpath(folder) for rule in rules.values() for folder in rule.folders} | set(plan.roots)
    gone = {step.source.path for step in plan.asked if step.source and step.verb in ("move", "move-across", "trash", "delete")}
    target_folders = {step.target.folder for step in plan.asked if step.target}
    filled = {above for folder in target_folders for above in with_parents(folder)}
    by_rule: dict[str, str] = {}
    for step in plan.asked:
        if step.rule in rules and step.source is not None and step.source.path in gone:
            for folder in with_parents(step.source.folder):
                if folder in roots:
                    break
                by_rule.setdefault(folder, step.rule)
    for folder in sorted(by_rule, key=lambda path: path.count("/"), reverse=True):
        if folder in filled or refused_folder(folder) or disk.ismount(folder):
            continue
        try:
            left = [name for name in listdir(folder) if f"{folder}/{name}" not in gone]
            if left:
                continue
            place, rule = place_of(folder), rules[by_rule[folder]]
            plan.add(
                "remove-folder",
                rule.name,
                rule.key,
                place,
                None,
                look(place).identity,
                cast(Details, folder_as_it_is(folder) if current() is None else {}),
            )
        except OSError:
            continue
        gone.add(folder)
