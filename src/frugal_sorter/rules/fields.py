"""The one registry of fields: the condition language and the placeholders read it."""

from __future__ import annotations

import os
import unicodedata
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from frugal_sorter.files.record import FileRecord
from frugal_sorter.files.types import OTHER, stem_of, suffix_of

FieldKind = Literal["text", "word", "size", "number", "date", "flag"]


@dataclass(frozen=True, slots=True)
class Unknown:
    """A fact that may exist but could not be had, and why."""

    reason: str


Fact = str | int | bool | None | Unknown


@dataclass(frozen=True, slots=True)
class World:
    """All that is not on the disk. Time is handed down, so that any moment can be previewed.

    `now_ns` is in nanoseconds since the epoch.
    """

    now_ns: int
    machine: str = ""
    user: str = ""


@dataclass(slots=True)
class Facts:
    """The facts of one entry, each fetched once and only when asked for.

    Args:
        record: what its status says.
        base: the `in` folder that it was found in.
        types: suffix to type group.
        world: what is not on the disk.
    """

    record: FileRecord
    base: str
    types: Mapping[str, str]
    world: World
    _known: dict[str, Fact] = field(default_factory=dict)

    def __call__(self, name: str) -> Fact:
        """Return one fact by the name of its field."""
        if name not in self._known:
            self._known[name] = FIELDS[name].get(self)
        return self._known[name]


@dataclass(frozen=True, slots=True)
class Field:
    """One thing that can be asked of an entry.

    `source` is the same fact as an expression over the columns of a listing, in the generated
    matcher; `uses` names the other variables in it. `cost` orders tests: 1 is the name, 3 a
    status call. Words are texts that are always in lower case.
    """

    name: str
    kind: FieldKind
    cost: int
    summary: str
    get: Callable[[Facts], Fact]
    source: str
    uses: tuple[str, ...] = ()


def fold(text: str) -> str:
    """Return a text for comparing: without case, and one form for each accented letter.

    Case folding and composition after the Unicode standard, sections 3.13 and 3.11.
    """
    if text.isascii():
        return text.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", text).casefold())


def depth_below(base: str, folder: str) -> int:
    """Return how deep below a base folder the entries of a folder lie; 1 is directly in it."""
    if folder == base:
        return 1
    return folder[len(base.rstrip("/")) :].count("/") + 1


def folder_name(folder: str) -> str:
    """Return the name of a folder, given its path; the root is `/`."""
    return os.path.basename(folder) or "/"


def _name(facts: Facts) -> str:
    return facts.record.place.name


FIELDS: dict[str, Field] = {
    one.name: one
    for one in (
        Field("name", "text", 1, "the whole name, with its suffix", _name, "name"),
        Field("stem", "text", 1, "the name without its suffix", lambda f: stem_of(_name(f)), "stem_of(name)"),
        Field(
            "ext", "word", 1, "the suffix in lower case, without the dot; tar.gz is one",
            lambda f: suffix_of(_name(f)), "suffix_of(name)",
        ),
        Field(
            "type", "word", 1, "the type group of the suffix, such as image or spreadsheet",
            lambda f: f.types.get(suffix_of(_name(f)), OTHER), "type_of(ext, 'other')", ("ext",),
        ),
        Field("path", "text", 1, "the absolute path", lambda f: f.record.place.path, "prefix + name"),
        Field(
            "folder", "text", 1, "the name of the folder it lies in",
            lambda f: folder_name(f.record.place.folder), "folder_name",
        ),
        Field(
            "depth", "number", 1, "how deep below `in`; 1 is directly in it",
            lambda f: depth_below(f.base, f.record.place.folder), "depth",
        ),
        Field("hidden", "flag", 1, "the name starts with a dot", lambda f: _name(f).startswith("."), "name[0] == '.'"),
        Field("everything", "flag", 0, "true of every entry", lambda _: True, "True"),
        Field("size", "size", 3, "the size in bytes", lambda f: f.record.identity.size, "size"),
        Field("empty", "flag", 3, "a file of 0 bytes", lambda f: f.record.identity.size == 0, "size == 0", ("size",)),
        Field("modified", "date", 3, "when its contents were last written", lambda f: f.record.mtime_ns, "modified"),
    )
}  # fmt: skip
# Variables that the loop over a listing sets by itself, and those that need a status call.
LOOP_VARIABLES = frozenset({"name", "prefix", "folder_name", "size", "modified"})
STATUS_VARIABLES = frozenset({"size", "modified"})
