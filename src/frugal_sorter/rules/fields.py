"""The one registry of fields: conditions, placeholders, `explain` and the reference read it."""

from __future__ import annotations

import errno
import os
import re
import stat
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cache
from typing import Literal

from frugal_sorter.filesystem import extended_attributes as attributes
from frugal_sorter.filesystem.contents import Contents
from frugal_sorter.filesystem.record import OTHER, FileRecord, Unknown, stem_of, suffix_of
from frugal_sorter.filesystem.status import OpenFiles
from frugal_sorter.filesystem.tree import lexists, real_path
from frugal_sorter.filesystem.volumes import keeps_access_times
from frugal_sorter.filesystem.walk import Inside
from frugal_sorter.platforms import slashed
from frugal_sorter.rules.units import DAY_NS
from frugal_sorter.values import field, frozen, mutable

FieldKind = Literal["text", "word", "texts", "size", "number", "date", "flag"]
Fact = str | int | bool | tuple[str, ...] | None | Unknown


class Between(int):
    """A date that is known only to be between itself and `until`, both in ns since the epoch."""

    until: int

    def __new__(cls, first: int, until: int) -> Between:
        """Keep both ends; the first is the value."""
        made = super().__new__(cls, first)
        made.until = until
        return made


def latest_of(date_ns: int) -> int:
    """Return the latest that a date may be, for what must not be taken for older than it is."""
    return date_ns.until if isinstance(date_ns, Between) else date_ns


@frozen
class World:
    """Everything that is not in the entry itself. Time is handed down, so that any moment can be previewed.

    Args:
        now_ns: the moment that ages are counted from, in ns since the epoch.
        machine: the name of this machine.
        user: the account that acts.
        arrived: when the tool itself put an entry where it is, or None.
        open_files: what other programs have open.
        contents: reads what is inside files.
        on_progress: called now and then with how many entries were checked, and 0 for not knowing how many there are.
    """

    now_ns: int
    machine: str = ""
    user: str = ""
    arrived: Callable[[FileRecord], int | None] = lambda _record: None
    open_files: OpenFiles = field(default_factory=OpenFiles)
    contents: Contents = field(default_factory=Contents)
    on_progress: Callable[[int, int], None] = lambda _count, _of: None


@mutable
class Facts:
    """The facts of one entry, each fetched once and only when asked for.

    Args:
        record: what its status says.
        base: the `in` folder that it was found in.
        types: suffix to type group.
        world: what is not in the entry.
        inside: of a folder, what is in it.
    """

    record: FileRecord
    base: str
    types: Mapping[str, str]
    world: World
    inside: Inside | Unknown | None = None
    _known: dict[str, Fact] = field(default_factory=dict)

    def __call__(self, name: str) -> Fact:
        """Return one fact by the name of its field."""
        if name not in self._known:
            try:
                self._known[name] = FIELDS[name].get(self)
            except OSError as error:
                self._known[name] = Unknown(_reason(error))
        return self._known[name]

    @property
    def name(self) -> str:
        """The name of the entry."""
        return self.record.place.name

    @property
    def suffix(self) -> str:
        """Its suffix; a folder has none."""
        return "" if self.record.identity.kind == "folder" else suffix_of(self.name)

    @property
    def below(self) -> str:
        """Its path below `in`."""
        return self.record.place.path[len(self.base.rstrip("/")) + 1 :]


@frozen
class Field:
    """One thing that can be asked of an entry.

    Args:
        name: as written in conditions and placeholders.
        kind: what its values are; words are texts that are always in lower case.
        cost: orders tests: 1 the name, 3 a status call, 5 a closer look, 20 opening the file.
        summary: what it says, for the reference.
        get: fetches it for one entry; may raise OSError.
        source: the same as an expression over the columns of a listing; empty if it needs `get`.
        uses: the other variables in `source`.
        extra: the library that it needs, by its module.
    """

    name: str
    kind: FieldKind
    cost: int
    summary: str
    get: Callable[[Facts], Fact]
    source: str = ""
    uses: tuple[str, ...] = ()
    library: str = ""


_WILD = frozenset("*?[")


def fold(text: str) -> str:
    """Return a text for comparing: without case, and one form for each accented letter.

    Case folding and composition after the Unicode standard, sections 3.13 and 3.11.
    """
    if text.isascii():
        return text.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", text).casefold())


def is_wild(text: str) -> bool:
    """Return True if a text holds wildcards: `*`, `?` or `[`."""
    return not _WILD.isdisjoint(text)


def is_like(text: str, wild: str) -> bool:
    """Return True if wildcards stand for a text, whatever the case of its letters, as `like` in a rule has it."""
    return fnmatchcase(fold(text), fold(wild))


def depth_below(base: str, folder: str) -> int:
    """Return how deep below a base folder the entries of a folder are; 1 is directly in it."""
    if folder == base:
        return 1
    return folder[len(base.rstrip("/")) :].count("/") + 1


def folder_name(folder: str) -> str:
    """Return the name of a folder, given its path; the root is `/`."""
    return os.path.basename(folder) or "/"


def _reason(error: OSError) -> str:
    if error.errno in (errno.ENOTSUP, errno.EOPNOTSUPP):
        return "not supported by this file system"
    return (error.strerror or "cannot be read").lower()


def _stem(facts: Facts) -> Fact:
    return facts.name if facts.record.identity.kind == "folder" else stem_of(facts.name)


def _size(facts: Facts) -> Fact:
    if facts.record.identity.kind != "folder":
        return facts.record.identity.size
    return facts.inside.bytes if isinstance(facts.inside, Inside) else facts.inside


def _empty(facts: Facts) -> Fact:
    if facts.record.identity.kind != "folder":
        return facts.record.identity.size == 0
    return facts.inside.files == 0 if isinstance(facts.inside, Inside) else facts.inside


def _modified(facts: Facts) -> Fact:
    if facts.record.identity.kind != "folder":
        return facts.record.mtime_ns
    if not isinstance(facts.inside, Inside):
        return facts.inside
    # A folder is as old as the newest file in it; an empty one as old as itself.
    return facts.record.mtime_ns if facts.inside.newest_ns is None else facts.inside.newest_ns


def _created(facts: Facts) -> Fact:
    born_ns = facts.record.born_ns
    return Unknown("this file system does not record creation times") if born_ns is None else born_ns


NOT_KEPT = "this volume does not record when files are opened (mounted with noatime)"


def _opened(facts: Facts) -> Fact:
    record = facts.record
    keeping = keeps_access_times(record.place.folder)
    if keeping == "never":
        return Unknown(NOT_KEPT)
    # Where it is noted once a day, the first opening after a change is noted still.
    if keeping == "daily" and record.atime_ns > max(record.mtime_ns, record.ctime_ns):
        return Between(record.atime_ns, max(min(record.atime_ns + DAY_NS, facts.world.now_ns), record.atime_ns))
    return record.atime_ns


def _arrived(facts: Facts) -> Fact:
    put_ns = facts.world.arrived(facts.record)
    return facts.record.ctime_ns if put_ns is None else put_ns


def _latest(facts: Facts) -> Fact:
    """Return the latest of the three dates; a birth time that is not kept is none of them."""
    modified, created, arrived = (facts(name) for name in ("modified", "created", "arrived"))
    if isinstance(modified, Unknown):
        return modified
    return max(date for date in (modified, created, arrived) if isinstance(date, int))


def _owner(facts: Facts) -> Fact:
    from frugal_sorter.platforms import accounts  # needed only where a rule asks

    return accounts.owner_name(facts.record.uid) or Unknown("this system does not record it for files")


def holder_of(facts: Facts) -> str | None:
    """Return the program that has an entry open."""
    return facts.world.open_files.holder(facts.record.identity, facts.record.place.path)


# The marks that file managers and browsers give to copies, in the languages that they speak.
_COPY = (
    "copy|kopie|copie|copia|cópia|kopia|kopi|kopio|kópia|másolat|kopija|kopya|копия|копія|копие|αντίγραφο|副本|复制|複製|"
    "コピー|복사본|نسخة|bản sao|salinan|kopiya"
)
_ANOTHER = (
    "another|weitere|autre|otra|altra|outra|andere|nog een|ytterligare en|inna|druhá|další|другая|ещё одна|"
    "\\d+(?:st|nd|rd|th|\\.|e|ère|ème|ª|º|°|:a)?"
)
_COPY_MARK = (
    # A year in brackets is not a count; nor is a count of more than three digits.
    rf"(?: ?\((?P<n>[1-9]\d{{0,2}})\)|(?: ?[-–—_] ?| |)(?:{_COPY})(?: ?\(?\d{{1,3}}\)?)?"
    rf"| ?[(（](?:(?:{_ANOTHER}) )?(?:{_COPY})(?: \d{{1,3}})?[)）])$"
)
_COPY_PREFIX = (
    r"(?:copy(?: \(\d{1,3}\))? of|kopie von|copie de|copia de|copia di|cópia de|kopie van|kopia av|kopi av|kopi af|kopie"
    r"|копия|kopia) +(?=.)(?!\.)"
)


@cache
def _ignoring_case(pattern: str) -> re.Pattern[str]:
    # The long ones take longer to read than most commands need for their rules: only where a name is asked for its mark.
    return re.compile(pattern, re.IGNORECASE)


# One of them is in each mark, in small letters; none has an s, since there is another small one (ſ).
_PARTS_OF_MARKS = ("(", "op", "óp", "olat", "коп", "ντίγ", "副本", "复制", "複製", "コピ", "복사", "نسخ", "n ao", "bản", "alinan")


def may_be_marked(names: Sequence[str]) -> bool:
    """Return quickly whether one of some names may have the mark of a copy; False is certain."""
    text = "\n".join(names).lower()
    return any(part in text for part in _PARTS_OF_MARKS)


def unmarked_name(name: str) -> str | None:
    """Return the name without one mark that a file manager or a browser gives a copy, or None without a mark.

    A copy of a copy has two marks: without one it is named as what it was made of.
    """
    if not may_be_marked([name]):
        return None
    stem = stem_of(name)
    before = _ignoring_case(_COPY_PREFIX).match(name)
    if before is not None:
        return name[before.end() :]
    match = _ignoring_case(_COPY_MARK).search(stem)
    if match is None or not match.start() or not stem[: match.start()].strip():
        return None
    # Letters alone that end as a mark does, such as "photocopy", have none.
    if stem[match.start()].isalnum() and stem[match.start() - 1].isalnum():
        return None
    return stem[: match.start()] + name[len(stem) :]


def _copy_named(facts: Facts) -> Fact:
    original = unmarked_name(facts.name)
    # What the first copy was made of may be gone while that of the copy's copy is there, and the other way round.
    while original is not None:
        if lexists(slashed.join(facts.record.place.folder, original)):
            return True
        original = unmarked_name(original)
    return False


def _attribute(name: str) -> Callable[[Facts], Fact]:
    return lambda facts: attributes.read_attribute(facts.record.place.path, name)


def _inside_file(fact: str, groups: frozenset[str], without: Fact) -> Callable[[Facts], Fact]:
    """Return what fetches a fact that only files of some types have; others are not opened for it."""

    def get(facts: Facts) -> Fact:
        if facts.record.identity.kind == "folder" or (groups and facts.types.get(facts.suffix) not in groups):
            return without
        value: Fact = facts.world.contents.read(fact, real_path(facts.record.place.path))
        return value

    return get


def _label(part: str) -> Callable[[Facts], Fact]:
    def get(facts: Facts) -> Fact:
        if facts.types.get(facts.suffix) not in _LABELLED and facts.suffix != "pdf":
            return ""
        found = facts.world.contents.read("label", real_path(facts.record.place.path))
        return found if isinstance(found, Unknown) else found[part]

    return get


_PHOTOS = frozenset({"image"})
_LABELLED = frozenset({"audio", "video"})
_ANY = frozenset[str]()

FIELDS: dict[str, Field] = {
    one.name: one
    for one in (
        Field("name", "text", 1, "the full name, including the extension", lambda f: f.name, "name"),
        Field("stem", "text", 1, "the name without its extension", _stem, "stem_of(name)"),
        Field("ext", "word", 1, "the extension, in lower case and without the dot; `tar.gz` counts as one", lambda f: f.suffix,
              "suffix_of(name)"),
        Field("type", "word", 1, "the type group of the suffix, such as image or spreadsheet",
              lambda f: f.types.get(f.suffix, OTHER), "type_of(ext, 'other')", ("ext",)),
        Field("path", "text", 1, "the absolute path", lambda f: f.record.place.path, "prefix + name"),
        Field("folder", "text", 1, "the name of the folder it is in",
              lambda f: folder_name(f.record.place.folder), "folder_name"),
        Field("depth", "number", 1, "how deep below `in`; 1 is directly in it",
              lambda f: depth_below(f.base, f.record.place.folder), "depth"),
        Field("size", "size", 3, "its size; for a folder, the size of everything in it", _size, "size"),
        Field("modified", "date", 3, "when its contents last changed; for a folder, the date of its newest file", _modified,
              "modified"),
        Field("created", "date", 5, "when it was created, if the file system records that", _created),
        Field("opened", "date", 5, "when it was last opened; unknown if the volume does not record that", _opened),
        Field("arrived", "date", 5, "when it arrived in this folder; may be later than the true date, never earlier", _arrived),
        Field("latest", "date", 5, "the latest of modified, created and arrived", _latest),
        Field("owner", "text", 5, "the account that owns it", _owner),
        Field("tag", "texts", 8, "its tags, as stored by desktop programs",
              lambda f: attributes.split_tags(str(_attribute(attributes.TAGS)(f)))),
        Field("comment", "text", 8, "its comment, as stored by desktop programs", _attribute(attributes.COMMENT)),
        Field("origin", "text", 8, "the web address it came from", _attribute(attributes.ORIGIN)),
        Field("taken", "date", 20, "when a photo was taken (Exif)", _inside_file("taken", _PHOTOS, None), library="PIL"),
        Field("title", "text", 20, "the title of a recording or a PDF", _label("title"), library="mutagen"),
        Field("artist", "text", 20, "the artist of a recording, the author of a PDF", _label("artist"),
              library="mutagen"),
        Field("album", "text", 20, "the album of a recording", _label("album"), library="mutagen"),
        Field("mime", "text", 20, "the media type of its contents", _inside_file("mime", _ANY, ""), library="puremagic"),
        Field("text", "text", 40, "the text inside a text file or a PDF", _inside_file("text", _ANY, ""),
              library="pypdf"),
        Field("everything", "flag", 0, "true of every entry", lambda _: True, "True"),
        Field("hidden", "flag", 1, "the name starts with a dot", lambda f: f.name.startswith("."), "name[0] == '.'"),
        Field("empty", "flag", 3, "a file of 0 bytes, or a folder with no files in it", _empty, "size == 0", ("size",)),
        Field("readonly", "flag", 5, "nobody may write to it",
              lambda f: not stat.S_IMODE(f.record.mode) & 0o222),
        Field("linked", "flag", 5, "a file with more than one name (hard links)",
              lambda f: f.record.identity.kind == "file" and f.record.nlink > 1),
        Field("copy-named", "flag", 6, 'named like a copy ("plan (2).pdf") next to the original ("plan.pdf")',
              _copy_named),
        Field("in use", "flag", 10, "a program has it open, as far as this user can see",
              lambda f: holder_of(f) is not None),
        Field("mislabelled", "flag", 20, "its contents do not match its extension",
              _inside_file("mislabelled", _ANY, False), library="puremagic"),
    )
}  # fmt: skip
# Variables that a column of the listing holds, and which cost a status call for each file.
STATUS_VARIABLES = frozenset({"size", "modified"})
NAME_COST = 1
