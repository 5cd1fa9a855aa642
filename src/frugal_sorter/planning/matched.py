"""What is planned for one entry: where it goes, and the extras of rules."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

from frugal_sorter.filesystem.extended_attributes import COMMENT, TAGS, read_attribute, split_tags
from frugal_sorter.filesystem.foreseen import lexists
from frugal_sorter.filesystem.inside import Inside, look_inside
from frugal_sorter.filesystem.record import COARSEST_TIME_NS, FileRecord, Identity, Place, is_inside, place_of
from frugal_sorter.filesystem.status import look_or_none
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.filesystem.walk import reason_of
from frugal_sorter.planning.targets import Clashes, Room, TargetFolders
from frugal_sorter.platforms import disk, names, slashed
from frugal_sorter.rules.conditions.tree import captures_of
from frugal_sorter.rules.fields import FIELDS, Facts
from frugal_sorter.rules.model import Rule, RuleBook
from frugal_sorter.rules.templates.placing import target_folder
from frugal_sorter.rules.templates.written import Filling, Missing, Template, Wording
from frugal_sorter.steps.kinds import VerbName
from frugal_sorter.steps.step import ONE_FILE, Count, Details, Step, folder_of
from frugal_sorter.values import field, mutable, replace

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
        """Return what the templates of a rule are filled with besides the facts of an entry."""
        return Filling(self.book.type_folders, captures_of(rule.where, facts), rule.kinds)

    def path(self, rule: Rule, template: Template | None, facts: Facts) -> Place:
        """Return the place that a template of a rule names for an entry.

        Raises:
            Kept: a value is missing.
        """
        assert template is not None
        segments = template.fill(facts, self.filling(rule, facts))
        if isinstance(segments, Missing):
            raise Kept(segments.reason, problem=True)
        folder, name = os.path.split(target_folder(template, segments, facts.base, self.resolve))
        return Place(self.folders.spelled(folder), name)

    def usable(self, folder: str, base: str) -> None:
        """Check that entries of a base folder can go into a folder.

        Raises:
            Kept: they cannot, and why.
        """
        if any(is_inside(folder, self.resolve(away)) for away in self.book.unmounted):
            raise Kept("the target is not mounted", problem=True)
        if problem := self.folders.usable(folder, base):
            raise Kept(problem, problem=True)

    def legal(self, target: Place, identity: Identity) -> None:
        """Check that the volume of a target can hold an entry under that name.

        Raises:
            Kept: it cannot, and why.
        """
        volume = volume_of(self.folders.device(target.folder), self.folders.existing(target.folder))
        if why := volume.illegal(target.name, identity.size):
            raise Kept(why, problem=True)

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
        has_run: tells whether the rule with a key has run its program for an entry.
    """

    destinations: Destinations
    clashes: Clashes
    has_run: Callable[[str, Identity], bool]
    _made: set[Place] = field(default_factory=set)
    # By file and attribute: what a file of several names has once the steps so far are done, through whichever name.
    _given: dict[tuple[int, int, str], str] = field(default_factory=dict)

    def before(self, rule: Rule, entry: Matched) -> None:
        """Plan the extras that come before the ending.

        Raises:
            Kept: a value is missing, or a place cannot be used.
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
                raise Kept(text.reason, problem=True)
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
                raise Kept(f"its tags and comment cannot be read: {reason_of(error)}", problem=True) from None
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
        if isinstance(room, str):
            raise Kept(room)
        assert isinstance(room, Room)
        step = step_of(rule, "copy", record.place, room.place, record.identity, weight(record.identity, facts))
        return [*room.before, step]

    def _is_copied(self, target: Place, record: FileRecord) -> bool:
        """Return True if a copy of an entry as it is now lies there, also under a numbered name."""
        number, place = 1, target
        while (found := look_or_none(place)) is not None:
            one, other = found.identity, record.identity
            same_time = abs(found.mtime_ns - record.mtime_ns) <= COARSEST_TIME_NS
            if one.kind == other.kind == "file" and one.size == other.size and same_time:
                return True
            if one.kind == other.kind == "folder" and _same_size_inside(place, record.place):
                return True
            number += 1
            place = Place(target.folder, names.shortened(target.name, f"_{number}"))
        return False

    def link(self, rule: Rule, entry: Matched, final: Place) -> list[Step]:
        """Plan the link to an entry, where it is in the end.

        Raises:
            Kept: a value is missing, or a place cannot be used.
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
            place = Place(wanted.folder, names.shortened(wanted.name, f"_{number}"))
        place = self.clashes.names.give(wanted)
        return [step_of(rule, "link", final, place, entry.record.identity)]

    def program(self, rule: Rule, entry: Matched, final: Place) -> list[Step]:
        """Plan the program that is run for an entry, where that is in the end.

        Raises:
            Kept: a value is missing.
        """
        record = entry.record
        if not rule.extras.run or self.has_run(rule.key, record.identity):
            return []
        # Facts are those before the run, but for the name and the place that the program will find.
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
            raise Kept(f"{written!r} is no path below its folder", problem=True)
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
