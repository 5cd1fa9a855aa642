"""What is planned for one entry: where it goes, under which free name, and the extras of rules."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable, Sequence
from contextlib import suppress

from frugal_sorter.filesystem.extended_attributes import COMMENT, TAGS, read_attribute, split_tags
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, FileRecord, Identity, Place, Unknown, is_inside, place_of
from frugal_sorter.filesystem.status import look_or_none, same_contents, with_sample
from frugal_sorter.filesystem.tree import lexists, lstat
from frugal_sorter.filesystem.volumes import mount_at, volume_of
from frugal_sorter.filesystem.walk import Inside, look_inside
from frugal_sorter.planning.guard import refused_entry, refused_folder, version_control_root
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.reasons import NotDone, Reason, Why, reason_of
from frugal_sorter.rules.fields import FIELDS, Facts
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.placing import target_folder
from frugal_sorter.rules.templates import Filling, Missing, Template, Wording
from frugal_sorter.rules.tree import captures_of
from frugal_sorter.steps.kinds import Details, VerbName
from frugal_sorter.steps.step import ONE_FILE, Count, Step, Witness, folder_of
from frugal_sorter.trash.base import TrashBin
from frugal_sorter.trash.bins import bin_for, home_bin
from frugal_sorter.values import field, frozen, mutable, replace

# Up to this many entries, the trash is asked for each name; above that, it is listed once.
_ASKED_SINGLY = 200


@mutable
class _Taken:
    """The names that are taken in a trash.

    Args:
        trash: which.
        asked: how many names it has been asked for.
        listed: the names of entries and of info files, once both were listed.
    """

    trash: TrashBin
    asked: int = 0
    listed: tuple[frozenset[str], frozenset[str]] | None = None

    def has(self, name: str) -> bool:
        """Return True if an entry, or the info file of one, has a name there."""
        self.asked += 1
        info = self.trash.info_name(name)
        if self.asked == _ASKED_SINGLY and not volume_of(self.trash.dev, self.trash.root).ignores_case:
            with suppress(OSError):  # what cannot be listed may still be asked
                self.listed = _names_in(self.trash.files), _names_in(self.trash.info)
        if self.listed is None:
            return disk.lexists(f"{self.trash.files}/{name}") or disk.lexists(f"{self.trash.info}/{info}")
        return name in self.listed[0] or info in self.listed[1]


def _names_in(folder: str) -> frozenset[str]:
    try:
        return frozenset(disk.listdir(folder))
    except FileNotFoundError:
        return frozenset()


@mutable
class Removals:
    """Chooses for each entry its trash and a name that is free there; nothing is made yet."""

    _bins: dict[int, TrashBin | None] = field(default_factory=dict)
    _taken: dict[str, _Taken] = field(default_factory=dict)
    _given: set[Place] = field(default_factory=set)
    _next: dict[Place, int] = field(default_factory=dict)

    def trash(
        self, rule: str, rule_key: str, record: FileRecord, inside: Inside | Unknown | None = None, witness: Witness | None = None
    ) -> Step:
        """Return the step that moves an entry to the trash of its volume.

        Where none is available there it goes, copied and checked, to the one in the home.

        Args:
            rule: the name of the rule that asks for it.
            rule_key: its digest.
            record: the entry.
            inside: what is in it, for a folder, where that is known.
            witness: what must hold the same bytes.
        """
        details: Details = {}
        if isinstance(inside, Inside):
            details = {"files": inside.files, "bytes": inside.bytes}
        place = record.place
        mount = mount_at(place.folder)
        if mount not in self._bins:
            self._bins[mount] = bin_for(place.folder)
        found = self._bins[mount]
        if found is None:
            found = home_bin()
            details["across"] = True
        if found.top:
            details["top"] = found.top
        target = self._free(place, found)
        return Step(0, "trash", rule, rule_key, place, target, record.identity, details, 0, witness)

    def _free(self, place: Place, trash: TrashBin) -> Place:
        """Return where an entry of a place goes in a trash."""
        wanted = target = Place(trash.files, trash.name_for(place, 1))
        number = self._next.get(wanted, 2)
        taken = self._taken.get(trash.root) or self._taken.setdefault(trash.root, _Taken(trash))
        while target in self._given or taken.has(target.name):
            target, number = Place(trash.files, trash.name_for(place, number)), number + 1
        self._next[wanted] = number
        self._given.add(target)
        return target


def identity_inside(identity: Identity, inside: Inside) -> Identity:
    """Return the identity of a folder, which also changes when something in it does."""
    return identity._replace(inside=inside.digest)


@frozen
class TargetFolder:
    """What is known of a folder that files are to go to.

    Args:
        exists: it is there; otherwise it can be made.
        dev: the device it is on, or will be on.
        problem: why nothing can go there; empty where it can.
        version_control: the root of the tree under version control that it is in.
        through_link: the way to it leads through a symbolic link.
    """

    exists: bool
    dev: int
    problem: str = ""
    version_control: str | None = None
    through_link: bool = False


class TargetFolders:
    """Looks at each target folder once; folders that are missing are made by the plan."""

    def __init__(self) -> None:
        self._known: dict[str, TargetFolder] = {}
        self._made: set[str] = set()
        self._ignoring: dict[str, bool] = {}
        self._spelling: dict[str, str] = {}

    def usable(self, folder: str, base: str) -> str:
        """Return why nothing can go to a folder, or an empty text.

        Args:
            folder: an absolute, normal path.
            base: the `in` folder that the entries were found in.
        """
        known = self._look(folder)
        if known.problem:
            return known.problem
        tree = known.version_control
        if tree is not None and not is_inside(base, tree):
            return f"{tree} is under version control, and frugal does not change it"
        return ""

    def device(self, folder: str) -> int:
        """Return the device that a folder is on, or will be on."""
        return self._look(folder).dev

    def existing(self, folder: str) -> str:
        """Return a folder, or the nearest one above it that exists."""
        while not self._look(folder).exists:
            folder = os.path.dirname(folder)
        return folder

    def ignores_case(self, folder: str) -> bool:
        """Return True if the volume of a folder takes `A` and `a` for the same name."""
        known = self._ignoring.get(folder)
        if known is None:
            known = self._ignoring[folder] = volume_of(self.device(folder), self.existing(folder)).ignores_case
        return known

    def spelled(self, folder: str) -> str:
        """Return a folder as the disk spells it, or as this plan spelled it first, where letter case does not count."""
        if not self.ignores_case(folder):
            return folder
        known = self._spelling.get(key := system.folded(folder))
        if known is None:
            above, name = os.path.split(folder)
            if name:
                above = self.spelled(above)
                name = next((one for one in self._names(above) if system.folded(one) == system.folded(name)), name)
            known = self._spelling[key] = slashed.join(above, name) if name else folder
        return known

    def _names(self, folder: str) -> list[str]:
        try:
            return disk.listdir(folder) if self._look(folder).exists else []
        except OSError:
            return []

    def to_make(self, folder: str) -> list[str]:
        """Return the folders that must be made before a file can go to one, the outermost first.

        Each is returned once: the caller makes them.
        """
        missing: list[str] = []
        while folder not in self._made and not self._look(folder).exists:
            self._made.add(folder)
            missing.append(folder)
            folder = os.path.dirname(folder)
        return missing[::-1]

    def _look(self, folder: str) -> TargetFolder:
        known = self._known.get(folder)
        if known is None:
            known = self._known[folder] = self._inspect(folder)
        return known

    def _inspect(self, folder: str) -> TargetFolder:
        refused = refused_folder(folder)
        parent = os.path.dirname(folder)
        above = self._look(parent) if parent != folder else None
        if above is not None and above.through_link:
            return above
        try:
            found = lstat(folder)
        except FileNotFoundError:
            assert above is not None
            problem = refused or above.problem
            if not problem and (why := volume_of(above.dev, self.existing(parent)).illegal(os.path.basename(folder))):
                problem = f"cannot create {folder}: {why}"
            return TargetFolder(False, above.dev, problem, above.version_control)
        except OSError as error:
            return TargetFolder(False, 0, f"{folder}: {(error.strerror or 'cannot be read').lower()}")
        if stat.S_ISLNK(found.st_mode):
            linked = f"{folder} is a symbolic link of {accounts.owner_name(found.st_uid)}, and it is not followed"
            return TargetFolder(True, found.st_dev, linked, through_link=True)
        if not stat.S_ISDIR(found.st_mode):
            return TargetFolder(True, found.st_dev, f"{folder} is a file, but must be a folder")
        problem = f"{folder} is {refused}" if refused else ""
        return TargetFolder(True, found.st_dev, problem, version_control_root(folder))


_NUMBERED = re.compile(r"_(\d+)(?=\.|$)")


def is_numbered_form(name: str, plain: str) -> bool:
    """Return True if a name is what numbering made of a plain one: `name_2.ext` of `name.ext`."""
    return any(
        not match[1].startswith("0") and int(match[1]) > 1 and system.shortened(plain, f"_{match[1]}") == name
        for match in _NUMBERED.finditer(name)
        if len(match[1]) < 10
    )


class Names:
    """Names that are free in target folders: not on the disk, and not given out in this plan.

    A name that a step of the plan will free is not free: steps may fail.

    Args:
        ignores_case: tells of a folder whether its volume takes `A` and `a` for the same name.
    """

    def __init__(self, ignores_case: Callable[[str], bool] = lambda _folder: False) -> None:
        self._given: set[Place] = set()
        self._next: dict[Place, int] = {}
        self.ignores_case = ignores_case

    def on_disk(self, place: Place) -> bool:
        """Return True if there is something of that name now."""
        return lexists(place.path)

    def give(self, wanted: Place) -> Place:
        """Return a free place, the wanted one or the first free number of it, and keep it."""
        place = wanted
        if not self.is_free(place):
            number = self._next.get(wanted, 2)
            while not self.is_free(place):
                place = Place(wanted.folder, system.shortened(wanted.name, f"_{number}"))
                number += 1
            self._next[wanted] = number
        self._given.add(self._key(place))
        return place

    def take(self, place: Place) -> Place:
        """Keep a place that is taken now and will be free when its turn comes."""
        self._given.add(self._key(place))
        return place

    def is_given(self, place: Place) -> bool:
        """Return True if this plan gave a place out."""
        return self._key(place) in self._given

    def is_free(self, place: Place) -> bool:
        """Return True if nothing of that name is there, or will by this plan."""
        return not self.is_given(place) and not self.on_disk(place)

    def _key(self, place: Place) -> Place:
        return Place(place.folder, system.folded(place.name)) if self.ignores_case(place.folder) else place


@frozen
class Room:
    """Where a newcomer goes, and what must make room for it first."""

    place: Place
    before: list[Step] = field(default_factory=list)


@frozen
class Discard:
    """The newcomer goes to the trash: what is there is newer, or the same as the witness shows."""

    witness: Witness | None


class Clashes:
    """Decides, after the `clash` of a rule, where a newcomer goes whose name is taken.

    Args:
        removals: makes the steps to the trash.
        folders: knows the target folders.
        protected: what is never taken away to make room.
    """

    def __init__(self, removals: Removals, folders: TargetFolders, protected: frozenset[str]) -> None:
        self.names = Names(folders.ignores_case)
        self._removals = removals
        self._protected = protected

    def room(self, rule: Rule, target: Place, newcomer: FileRecord, compare: bool = True) -> Room | Discard | Reason:
        """Return where a newcomer goes, that it is not wanted, or why it stays.

        Args:
            rule: whose `clash` decides.
            target: where it wants to go.
            newcomer: the entry, or what will be made.
            compare: whether it may go to the trash instead.
        """
        # Newcomers of one run are numbered among themselves; the rest looks at what stood there before.
        if self.names.is_given(target):
            return Room(self.names.give(target))
        if _differ_in_case_alone(target, newcomer.place) and self.names.ignores_case(target.folder):
            return Room(self.names.take(target))  # both names are one there
        if rule.clash == "number":
            return Room(self.names.give(target))
        there = look_or_none(target)
        if there is None:
            return Room(self.names.take(target))
        if rule.clash == "skip":
            return Why.NAME_EXISTS(target.name)
        if rule.clash == "same":
            return self._same(target, there, newcomer, compare)
        if rule.clash == "newer" and there.mtime_ns == newcomer.mtime_ns:
            return Room(self.names.give(target))
        if rule.clash == "newer" and there.mtime_ns > newcomer.mtime_ns:
            return Discard(None) if compare else Why.EXISTING_IS_NEWER(target.name)
        return self._replace(rule, target, there)

    def _same(self, target: Place, there: FileRecord, newcomer: FileRecord, compare: bool) -> Room | Discard | Reason:
        one, other = there.identity, newcomer.identity
        if compare and one.kind == other.kind == "file" and one.size == other.size:
            try:
                if same_contents(newcomer.place, target):
                    return Discard(Witness(target, with_sample(there).identity))
            except OSError as error:
                return Why.EXISTING_STAYS(f"{target.name} there cannot be compared ({(error.strerror or 'unreadable').lower()})")
        return Room(self.names.give(target))

    def _replace(self, rule: Rule, target: Place, there: FileRecord) -> Room | Reason:
        if there.identity.kind not in ("file", "folder"):
            return Why.EXISTING_STAYS(f"the existing {target.name} is not a file or folder, so it is not replaced")
        there = with_sample(there)
        if there.identity.kind == "folder":
            refused = refused_entry(target.path)
            if refused or target.path in self._protected:
                return Why.EXISTING_STAYS(f"{target.path} is {refused or 'used by a rule'}, and is not replaced")
            inside = look_inside(target.path)
            if isinstance(inside, Unknown):
                return Why.EXISTING_STAYS(f"cannot read the existing {target.name}: {inside.reason}")
            if inside.version_control:
                return Why.EXISTING_STAYS(f"{target.name} there is not replaced: {Why.VERSION_CONTROL_INSIDE()}")
            there = there._replace(identity=identity_inside(there.identity, inside))
        old = self._removals.trash(rule.name, rule.key, there)
        return Room(self.names.take(target), [old])


def _differ_in_case_alone(one: Place, other: Place) -> bool:
    return one.folder == other.folder and system.folded(one.name) == system.folded(other.name)


@mutable
class Matched:
    """What is planned for one entry.

    Args:
        facts: of the entry, before the run.
        before: steps before its ending.
        late: rules whose link and program come after it.
        attributes: texts as they will be after the steps planned before.
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
    rule: Rule, verb: VerbName, source: Place | None, target: Place | None, was: Identity | None, details: Details | None = None
) -> Step:
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


@mutable
class Destinations:
    """Makes places of templates, and looks whether an entry can go there.

    Args:
        book: the rules.
        folders: the target folders, with those that have to be made.
    """

    book: RuleBook
    folders: TargetFolders
    _resolved: dict[str, str] = field(default_factory=dict)

    def filling(self, rule: Rule, facts: Facts) -> Filling:
        """Return what the templates of a rule are filled with in addition to the facts of an entry."""
        return Filling(self.book.type_folders, captures_of(rule.where, facts), rule.kinds)

    def path(self, rule: Rule, template: Template | None, facts: Facts) -> Place:
        """Return the place that a template of a rule names for an entry.

        Raises:
            NotDone: a value is missing.
        """
        assert template is not None
        segments = template.fill(facts, self.filling(rule, facts))
        if isinstance(segments, Missing):
            raise NotDone(segments.reason)
        folder, name = os.path.split(target_folder(template, segments, facts.base, self.resolve))
        return Place(self.folders.spelled(folder), name)

    def usable(self, folder: str, base: str) -> None:
        """Check that entries of a base folder can go into a folder.

        Raises:
            NotDone: they cannot, and why.
        """
        for away, why in self.book.unmounted.items():
            if is_inside(folder, self.resolve(away)):
                raise NotDone(Why.TARGET_AWAY(why))
        if problem := self.folders.usable(folder, base):
            raise NotDone(Why.TARGET_UNUSABLE(problem))

    def legal(self, target: Place, identity: Identity) -> None:
        """Check that the volume of a target can hold an entry under that name.

        Raises:
            NotDone: it cannot, and why.
        """
        volume = volume_of(self.folders.device(target.folder), self.folders.existing(target.folder))
        if why := volume.illegal(target.name, identity.size):
            raise NotDone(Why.ILLEGAL_NAME(why))

    def resolve(self, path: str) -> str:
        """Return a path of the technician's without symbolic links, looked up once."""
        if path not in self._resolved:
            self._resolved[path] = slashed.realpath(path)
        return self._resolved[path]


@mutable
class Extras:
    """Plans the extras of rules, entry by entry.

    Args:
        destinations: where entries can go.
        clashes: which names are taken.
        has_run: returns whether the rule with a key has run its program for an entry.
    """

    destinations: Destinations
    clashes: Clashes
    has_run: Callable[[str, Identity], bool]
    _made: set[Place] = field(default_factory=set)
    # By file and attribute: what a file of several names has after the steps planned before, through whichever name.
    _given: dict[tuple[int, int, str], str] = field(default_factory=dict)

    def before(self, rule: Rule, entry: Matched) -> None:
        """Plan the extras that come before the ending.

        Raises:
            NotDone: a value is missing, or a place cannot be used.
        """
        extras = rule.extras
        steps: list[Step] = []
        if extras.retag:
            tags = self._tags(rule, extras.retag, entry.facts)
            steps += self._set_attribute(rule, entry, TAGS, self._attribute(entry, TAGS), ",".join(dict.fromkeys(tags)))
        if extras.tag or extras.untag:
            old = self._attribute(entry, TAGS)
            off = {tag.casefold() for tag in self._tags(rule, extras.untag, entry.facts)}
            tags = [tag for tag in split_tags(old) if tag.casefold() not in off]
            has = {tag.casefold() for tag in tags}
            tags += [tag for tag in self._tags(rule, extras.tag, entry.facts) if tag.casefold() not in has]
            steps += self._set_attribute(rule, entry, TAGS, old, ",".join(dict.fromkeys(tags)))
        if extras.comment is not None:
            old = self._attribute(entry, COMMENT)
            comment = _utf8(self._words(rule, [extras.comment], entry.facts)[0])
            steps += self._set_attribute(rule, entry, COMMENT, old, comment)
        if extras.copy is not None:
            steps += self._copy(rule, entry)
        entry.before += steps

    def _tags(self, rule: Rule, wordings: Sequence[Wording], facts: Facts) -> list[str]:
        return [tag for text in self._words(rule, wordings, facts) for tag in split_tags(_utf8(text))]

    def _words(self, rule: Rule, wordings: Sequence[Wording], facts: Facts) -> list[str]:
        around = self.destinations.filling(rule, facts)
        found = []
        for wording in wordings:
            text = wording.fill(facts, around)
            if isinstance(text, Missing):
                raise NotDone(text.reason)
            found.append(text)
        return found

    def _attribute(self, entry: Matched, name: str) -> str:
        if name not in entry.attributes:
            identity = entry.record.identity
            given = self._given.get((identity.dev, identity.ino, name)) if entry.record.nlink > 1 else None
            if given is not None:
                entry.attributes[name] = given
                return given
            try:
                entry.attributes[name] = read_attribute(entry.record.place.path, name)
            except OSError as error:
                raise NotDone(Why.TAGS_UNREADABLE(reason_of(error))) from None
        return entry.attributes[name]

    def note_given(self, record: FileRecord, steps: Sequence[Step]) -> None:
        """Remember what some steps give a file, for its other names: they have it as well."""
        for step in steps if record.nlink > 1 else ():
            if step.verb == "set-attribute":
                self._given[record.identity.dev, record.identity.ino, step.details["attribute"]] = step.details["new"]

    def _set_attribute(self, rule: Rule, entry: Matched, name: str, old: str, new: str) -> list[Step]:
        if _as_kept(name, old) == _as_kept(name, new):
            return []
        entry.attributes[name] = new
        record = entry.record
        details: Details = {"attribute": name, "old": old, "new": new}
        return [step_of(rule, "set-attribute", record.place, None, record.identity, details)]

    def _copy(self, rule: Rule, entry: Matched) -> list[Step]:
        record, facts = entry.record, entry.facts
        target = Place(self.destinations.path(rule, rule.extras.copy, facts).path, record.place.name)
        if target == record.place or is_inside(target.folder, record.place.path):
            return []
        self.destinations.usable(target.folder, facts.base)
        self.destinations.legal(target, record.identity)
        if self._is_copied(target, record):
            return []
        room = self.clashes.room(rule, target, record, compare=False)
        if isinstance(room, Reason):
            raise NotDone(room)
        assert isinstance(room, Room)
        step = step_of(rule, "copy", record.place, room.place, record.identity, weight(record.identity, facts))
        return [*room.before, step]

    def _is_copied(self, target: Place, record: FileRecord) -> bool:
        """Return True if a copy of an entry as it is now is there, also under a numbered name."""
        number, place = 1, target
        while (found := look_or_none(place)) is not None:
            one, other = found.identity, record.identity
            same_time = abs(found.mtime_ns - record.mtime_ns) <= COARSEST_TIME_NS
            if one.kind == other.kind == "file" and one.size == other.size and same_time:
                return True
            if one.kind == other.kind == "folder" and _same_size_inside(place, record.place):
                return True
            number += 1
            place = Place(target.folder, system.shortened(target.name, f"_{number}"))
        return False

    def link(self, rule: Rule, entry: Matched, final: Place) -> list[Step]:
        """Plan the link to an entry, where it is in the end.

        Raises:
            NotDone: a value is missing, or a place cannot be used.
        """
        if rule.extras.link is None:
            return []
        wanted = Place(self.destinations.path(rule, rule.extras.link, entry.facts).path, final.name)
        if wanted == final:
            return []
        self.destinations.usable(wanted.folder, entry.facts.base)
        number, place = 1, wanted
        while lexists(place.path):
            if disk.islink(place.path) and disk.readlink(place.path) == final.path:
                return []
            number += 1
            place = Place(wanted.folder, system.shortened(wanted.name, f"_{number}"))
        place = self.clashes.names.give(wanted)
        return [step_of(rule, "link", final, place, entry.record.identity)]

    def program(self, rule: Rule, entry: Matched, final: Place) -> list[Step]:
        """Plan the program that is run for an entry, where that is in the end.

        Raises:
            NotDone: a value is missing.
        """
        record = entry.record
        if not rule.extras.run or self.has_run(rule.key, record.identity):
            return []
        # Facts are those before the run, except for the name and the place that the program will find.
        makes = [rule.extras.makes] if rule.extras.makes is not None else []
        for name in {name for word in [*rule.extras.run, *makes] for name in word.fields}:
            entry.facts(name)
        told = {name: value for name, value in entry.facts._known.items() if FIELDS[name].cost > 1}
        moved = replace(entry.facts, record=record._replace(place=final), _known=told)
        command = self._words(rule, rule.extras.run, moved)
        if not makes:
            return [step_of(rule, "run", final, None, record.identity, {"command": command})]
        (written,) = self._words(rule, makes, moved)
        if slashed.split_top(slashed.slashed(written))[0] or not all(part.strip(".") for part in written.split("/")):
            raise NotDone(Why.NOT_BELOW_ITS_FOLDER(written))
        made = place_of(f"{final.folder}/{written}")
        if made in self._made or lexists(made.path):
            return []
        self._made.add(made)
        self.destinations.usable(made.folder, entry.facts.base)
        return [step_of(rule, "run-making", final, made, record.identity, {"command": command})]


def _utf8(text: str) -> str:
    """Return a text as others can read it: a name need not be Unicode, a tag must be."""
    return text.encode("utf-8", "backslashreplace").decode()


def _as_kept(name: str, text: str) -> object:
    return split_tags(text) if name == TAGS else text


def _same_size_inside(one: Place, other: Place) -> bool:
    first, second = look_inside(one.path), look_inside(other.path)
    if not isinstance(first, Inside) or not isinstance(second, Inside):
        return False
    return (first.bytes, first.files) == (second.bytes, second.files)
