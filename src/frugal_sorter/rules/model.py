"""Rules as the planner knows them, and the limits of the trash."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple

from frugal_sorter.rules.keys import Do, Ending, Keep
from frugal_sorter.rules.templates import CaptureKind, Template, Wording
from frugal_sorter.rules.tree import MOST_MATCHERS, Matcher, Node
from frugal_sorter.rules.units import Duration, Hours, InvalidValue
from frugal_sorter.values import field, frozen

# Dearer facts would be read from where an entry was, not from where it lies.
_DEAREST = 5
_NO_TIME = Duration(0, 0)
# What a rule file leaves in the trash unless it says otherwise: it is what an undo needs.
WEEK = Duration(0, 7 * 86_400)


@frozen
class TrashLimits:
    """What leaves the trash for good, the oldest first: what is too old, and what is too much.

    Args:
        older_than: what lies in the trash for longer.
        shrink_to: also as much as is needed for all that lies in the trash to have no more bytes than this.
        where: only what a condition is true of, asked of the place and name that an entry had. Without an
            age and a size all of that leaves.
        keep: nothing that came to the trash within this time.
        at_most: with more files than this nothing leaves; None where that is not said.
        line: where it stands in a rule file; 0 in none.
    """

    older_than: Duration | None = None
    shrink_to: int | None = None
    where: Node | None = None
    keep: Duration = _NO_TIME
    at_most: int | None = None
    line: int = field(default=0, compare=False)

    @property
    def goes_by_time(self) -> bool:
        """Whether time alone can make it remove more."""
        dated = self.where is not None and any(leaf.check.changes for leaf in self.where.leaves())
        return self.older_than is not None or dated or self.keep != _NO_TIME

    @property
    def overruled(self) -> str:
        """What `keep` holds back for good of what the age asks for; an empty text for nothing."""
        if self.older_than is None or self.older_than.before(0) <= self.keep.before(0):
            return ""
        older, keep = self.older_than.text, self.keep.text
        return f"`older_than` is {older}, but `keep` holds everything for {keep}: it acts after that only"


def refuse_expensive(node: Node) -> Node:
    """Return a condition that can be asked of the trash.

    Raises:
        InvalidValue: it asks what would have to be read from the file itself.
    """
    for leaf in node.leaves():
        if leaf.on.cost > _DEAREST:
            raise InvalidValue(
                f"`{leaf.on.name}` cannot be asked of what lies in the trash",
                "names, types, sizes, dates and owners can",
            )
    return node


Clash = Literal["number", "skip", "replace", "newer", "same"]
Take = Literal["files", "folders", "items"]


@frozen
class Example:
    """What a technician wrote into the file, to come out as written; see `rules.examples`."""

    line: int
    given: Mapping[str, object]
    becomes: str | None


class DuplicatePolicy(NamedTuple):
    """What becomes of files that hold the same: by what the one that stays is chosen, and where the others go."""

    keep: tuple[Keep, ...]
    do: Do


@frozen
class Extras:
    """What a rule does to an entry besides; all of it is optional.

    Args:
        copy: the folder for a copy.
        link: the folder for a link.
        tag: tags to add.
        untag: tags to take off.
        retag: what its tags become.
        comment: the comment to give.
        run: the program and its arguments.
        makes: the file that it makes, as seen from the folder of the entry.
    """

    copy: Template | None = None
    link: Template | None = None
    tag: tuple[Wording, ...] = ()
    untag: tuple[Wording, ...] = ()
    retag: tuple[Wording, ...] = ()
    comment: Wording | None = None
    run: tuple[Wording, ...] = ()
    makes: Wording | None = None

    @property
    def templates(self) -> list[Template]:
        """The folders among them."""
        return [template for template in (self.copy, self.link) if template is not None]

    @property
    def wordings(self) -> list[Wording]:
        """The texts among them."""
        single = [one for one in (self.comment, self.makes) if one is not None]
        return [*self.tag, *self.untag, *self.retag, *self.run, *single]

    def __bool__(self) -> bool:
        return bool(self.templates or self.wordings)


NO_EXTRAS = Extras()


@frozen
class Rule:
    """One rule as written.

    Args:
        line: where it begins in the file.
        folders: its `in`, absolute; links are not resolved.
        levels: None for all.
        key: a digest of all that decides what the rule does, so that a changed rule is another one.
        kinds: the names that its condition captures.
        during: when it acts; empty for always.
        at_most: more entries than this and it is not carried out; None where the rule does not say.
        ending: what finally becomes of an entry; None where the rule has extras alone, and lets it go on.
        pack: the path of the zip.
        unpack: the folder for what is in an archive.
        other: the folder for entries that have no value for what `move` asks for.
        duplicates: what becomes of files that hold the same.
    """

    name: str
    line: int
    folders: tuple[str, ...]
    where: Node
    where_text: str
    levels: int | None
    hidden: bool
    settle: Duration
    clash: Clash
    move: Template | None
    rename: Template | None
    key: str
    take: Take = "files"
    during: tuple[Hours, ...] = ()
    at_most: int | None = None
    ask: bool = False
    kinds: Mapping[str, CaptureKind] = field(default_factory=dict)
    examples: tuple[Example, ...] = ()
    ending: Ending | None = "leave"
    pack: Template | None = None
    unpack: Template | None = None
    extras: Extras = NO_EXTRAS
    prune: bool = False
    other: Template | None = None
    duplicates: DuplicatePolicy | None = None

    @property
    def targets(self) -> list[Template]:
        """The paths that it puts something at, a new name aside."""
        return [
            one for one in (self.move, self.other, self.pack, self.unpack, *self.extras.templates) if one is not None
        ]

    @property
    def fields(self) -> set[str]:
        """The fields that its targets and texts are filled in from."""
        renames = [self.rename] if self.rename is not None else []
        found = {name for template in (*self.targets, *renames) for name in template.fields}
        return found | {name for wording in self.extras.wordings for name in wording.fields}


@frozen
class RuleBook:
    """All rules of a file, in order; those that are off are left out.

    Args:
        types: suffix to type group.
        warnings: what is probably not meant, though valid; each with its line.
        off: the rules that are switched off; their targets are still no entries.
        lists: the list files that its conditions read, resolved.
        unmounted: folders that must be on a mounted volume, and are not.
        trash: what leaves the trash with every run.
        log: the file that says what was done, for the owner of the machine; empty for none.
        systems: that it is written for; empty for the one that it is read on.
    """

    file: str
    rules: tuple[Rule, ...]
    types: Mapping[str, str]
    type_folders: Mapping[str, str]
    warnings: tuple[str, ...] = ()
    off: tuple[Rule, ...] = ()
    lists: tuple[str, ...] = ()
    unmounted: frozenset[str] = frozenset()
    trash: tuple[TrashLimits, ...] = ()
    log: str = ""
    systems: tuple[str, ...] = ()
    _matchers: dict[tuple[tuple[int, ...], int], Matcher] = field(default_factory=dict)

    @property
    def has_room(self) -> bool:
        """Whether more matchers may be kept; there could be one for every subset of the rules."""
        return len(self._matchers) < MOST_MATCHERS

    def matcher(self, indexes: tuple[int, ...], now_ns: int) -> Matcher:
        """Return what finds, for each file, the first of some rules that is true.

        Args:
            indexes: which rules act in a folder, in the order of the file.
            now_ns: the moment that ages are counted from.
        """
        known = self._matchers.get((indexes, now_ns))
        if known is None:
            if not self.has_room:
                # A process that runs for long asks at one moment after the other; those of the past are of no use.
                for key in [key for key in self._matchers if key[1] != now_ns]:
                    del self._matchers[key]
            known = self._matchers[indexes, now_ns] = Matcher(self, indexes, now_ns)
        return known


def selection(where: Node, hidden: bool, types: Mapping[str, str]) -> RuleBook:
    """Return a book of one rule that selects files and does nothing, for `--where`."""
    rule = Rule("selected", 0, (), where, "", None, hidden, Duration(0, 0), "number", None, None, "")
    return RuleBook("", (rule,), types, {})
