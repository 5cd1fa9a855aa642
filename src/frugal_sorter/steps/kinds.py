"""What the steps of each verb are, one row a verb, and how what was read of them is checked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Annotated, Any, Literal, NamedTuple, TypedDict, get_type_hints

from frugal_sorter.filesystem.record import AsItWas, IsFit, is_attributes, is_identity, is_mode, is_owner, is_place
from frugal_sorter.platforms import slashed
from frugal_sorter.state import is_count, is_flag, is_name, is_number, is_text
from frugal_sorter.values import frozen


def is_path(value: Any) -> bool:
    return is_name(value) and slashed.is_absolute(value) and not {".", ".."} & set(value.split("/")) and len(value) > 1


def is_members(value: Any) -> bool:
    return isinstance(value, list) and all(
        isinstance(one, dict) and is_path(one.get("path")) and is_name(one.get("name")) and is_identity(one.get("was"))
        for one in value
    )


def is_command(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(map(is_text, value)) and bool(value[0])


def is_what_was_lost(value: Any) -> bool:
    known: dict[str, IsFit] = {
        "mode": is_mode,
        "mtime_ns": is_number,
        "attributes": is_attributes,
        "owner": lambda both: isinstance(both, list) and len(both) == 2 and all(map(is_owner, both)),
    }
    return isinstance(value, dict) and all(
        is_text(path) and isinstance(one, dict) and all(key in known and known[key](had) for key, had in one.items())
        for path, one in value.items()
    )


def is_step_that_made(value: Any) -> bool:
    if not isinstance(value, dict) or value.get("verb") not in ("copy", "link", "pack", "unpack", "run-making"):
        return False
    args = value.get("args", {})
    return isinstance(args, dict) and (value["verb"] != "pack" or is_members(args.get("members")))


def is_kept(value: Any) -> bool:
    return isinstance(value, (list, tuple)) and len(value) == 2 and is_place(value[0]) and is_identity(value[1])


# A folder and a name, and the fields of an `Identity`, as JSON has them.
PlaceValues = Sequence[str]
IdentityValues = Sequence[Any]


class Member(TypedDict):
    """An entry that is packed: where it is, its name in the zip, and what it was as planned."""

    path: str
    name: str
    was: IdentityValues


class Details(AsItWas, total=False):
    """What a step has besides the fields of all steps, each with the check of what was read; none where its verb needs none.

    Args:
        files: how many are inside a folder.
        bytes: how many these have.
        across: the entry goes to, or comes from, a trash on another volume.
        top: of the volume with that trash; missing for the trash of the home.
        restore: by path inside the entry, what the other volume could not keep.
        original: where an entry of the trash had been.
        again: the step that made it, as a line.
        entry: what it was made of, or what carries the attribute; its folder and name.
        entry_was: the identity of that.
        kept: the other name of a file with several, and what it was.
        members: what is packed.
        attribute: the name of an extended attribute.
        old: its text before; empty for none.
        new: its text after.
        command: a program and its arguments.
        now_ns: the time of a folder after the run, in ns.
    """

    files: Annotated[int, is_count]
    bytes: Annotated[int, is_count]
    across: Annotated[bool, is_flag]
    top: Annotated[str, is_path]
    restore: Annotated[Mapping[str, Any], is_what_was_lost]
    original: Annotated[str, is_text]
    again: Annotated[Mapping[str, Any], is_step_that_made]
    entry: Annotated[PlaceValues, is_place]
    entry_was: Annotated[IdentityValues, is_identity]
    kept: Annotated[tuple[PlaceValues, IdentityValues] | Sequence[Any], is_kept]
    members: Annotated[Sequence[Member], is_members]
    attribute: Annotated[str, is_name]
    old: Annotated[str, is_text]
    new: Annotated[str, is_text]
    command: Annotated[Sequence[str], is_command]
    now_ns: Annotated[int, is_number]


@cache
def checks() -> Mapping[str, IsFit]:
    """Return for each of these details what tells whether a value that was read can be one."""
    return {name: hint.__metadata__[0] for name, hint in get_type_hints(Details, include_extras=True).items()}


VerbName = Literal[
    "move", "move-across", "trash", "restore", "delete", "empty", "copy", "remove-made", "link", "hard-link",
    "own-file", "pack", "unpack", "set-attribute", "run", "run-making", "make-folder", "remove-folder", "note-times",
    "restore-times",
]  # fmt: skip


class Words(NamedTuple):
    """The words for a verb.

    Args:
        will: what would be done, with a place for the amount.
        done: the word of a step that was done.
        sums: what was done in all, with a place for the count.
        heading: the line above the names of a plan, with places for the source and the target folder.
        becomes: what becomes of one entry, with a place for its target; empty where only the heading says it.
    """

    will: str
    done: str
    sums: str
    heading: str
    becomes: str = ""


@frozen
class Kind:
    """What steps of one verb are.

    Args:
        does: the module of the verb, and the class in it.
        words: its words; None where it only goes with other steps.
        source: it has an entry that is there.
        target: it has a place where something will be.
        was: which kinds of entries it is about; empty where it may name none.
        needs: which details it must have.
        may: which it may have.
        witness: it must name another entry, which stays.
        planned: a planner of rules makes it, so that a plan in a file may hold it.
        takes: it takes the entry from where it was.
        removes: it takes the entry away from people, to the trash or permanently.
        final: what it takes away is permanently removed.
        lasting: what of it nothing takes back, in words; empty where it has an inverse.
        replaces: it puts another file in the place of one.
        makes: it makes something at its target, in a folder that must be there.
        stays: it leaves the folder of its entry as it is.
        sized: it is printed with its size.
        last: it is printed after the others.
    """

    does: str
    words: Words | None
    source: bool = True
    target: bool = True
    was: frozenset[str] = frozenset()
    needs: tuple[str, ...] = ()
    may: tuple[str, ...] = ()
    witness: bool = False
    planned: bool = False
    takes: bool = False
    removes: bool = False
    final: bool = False
    lasting: str = ""
    replaces: bool = False
    makes: bool = False
    stays: bool = False
    sized: bool = False
    last: bool = False


_FILE, _ANY = frozenset({"file"}), frozenset({"file", "folder", "link", "other"})
# How much is inside a folder.
_WEIGHT = ("files", "bytes")
_ACROSS = ("across", "top", "restore")
_AS_IT_WAS = tuple(AsItWas.__annotations__)
_ENTRY = ("entry", "entry_was")
_TEXTS = ("attribute", "old", "new")
_ARROW = "{source} → {target}"

KINDS: Mapping[VerbName, Kind] = {
    "move": Kind(
        "moving:Move", Words("move {}", "moved", "{} moved", _ARROW, "moved to {target}"), was=_ANY, may=_WEIGHT,
        planned=True, takes=True, makes=True, sized=True,
    ),
    "move-across": Kind(
        "moving:MoveAcross",
        Words("move {} to another volume", "moved", "{} moved to another volume", _ARROW, "moved to {target}"),
        was=_ANY, may=(*_WEIGHT, "restore"), planned=True, takes=True, makes=True, sized=True,
    ),
    "trash": Kind(
        "trashing:Trash",
        Words("move {} to the trash", "trashed", "{} moved to the trash", "{source} → the trash", "to the trash"),
        was=_ANY, may=_WEIGHT + _ACROSS, planned=True, takes=True, removes=True, sized=True, last=True,
    ),
    "restore": Kind(
        "trashing:Restore",
        Words("restore {} from the trash", "restored", "{} restored from the trash", "the trash → {target}",
              "restored to {target}"),
        was=_ANY, may=_WEIGHT + _ACROSS, takes=True, makes=True, sized=True,
    ),
    "delete": Kind(
        "removing:Delete",
        Words("permanently delete {}", "deleted", "{} permanently deleted", "{source}: delete permanently",
              "deleted permanently"),
        target=False, was=_ANY, may=_WEIGHT, planned=True, takes=True, removes=True, final=True,
        lasting="what was deleted", sized=True, last=True,
    ),
    "empty": Kind(
        "removing:Empty",
        Words("permanently delete {} from the trash", "removed", "{} permanently deleted from the trash",
              "in the trash: delete permanently", "deleted permanently"),
        target=False, was=_ANY, may=(*_WEIGHT, "original"), planned=True, takes=True,
        final=True, lasting="what was deleted from the trash", sized=True, last=True,
    ),
    "copy": Kind(
        "making:Copy",
        Words("copy {}", "copied", "{} copied", "{source} → copied to {target}", "copied to {target}"),
        was=_ANY, may=_WEIGHT, planned=True, makes=True, stays=True, sized=True,
    ),
    "remove-made": Kind(
        "removing:RemoveMade",
        Words("remove {} that the run created", "removed", "{} removed (created by the run)",
              "{source}: remove what the run created", "removed, because the run that created it was undone"),
        target=False, was=_ANY, needs=("again",), may=_WEIGHT + _ENTRY,
    ),
    "link": Kind(
        "making:Link",
        Words("link to {}", "linked", "{} linked to", "{source} → linked from {target}", "linked from {target}"),
        was=_ANY, planned=True, makes=True, stays=True,
    ),
    "hard-link": Kind(
        "making:HardLink",
        Words("replace {} with hard links", "linked", "{} replaced by hard links", "{source}: replaced by hard links",
              "replaced by a hard link"),
        was=_FILE, may=_AS_IT_WAS + _WEIGHT, witness=True, planned=True, replaces=True, sized=True,
    ),
    "own-file": Kind(
        "making:OwnFile",
        Words("turn {} back into separate copies", "separate", "{} turned back into separate copies",
              "{source}: made files of their own again", "turned back into a separate copy"),
        was=_FILE, may=(*_AS_IT_WAS, *_WEIGHT, "kept"), replaces=True,
    ),
    "pack": Kind(
        "archives:Pack", Words("pack into {}", "packed", "{} written", "packed into {target}", "packed into {target}"),
        source=False, needs=("members",), may=_WEIGHT, planned=True, makes=True,
    ),
    "unpack": Kind(
        "archives:Unpack",
        Words("unpack {}", "unpacked", "{} unpacked", "{source} → unpacked into {target}", "unpacked into {target}"),
        was=_FILE, may=_WEIGHT, planned=True, makes=True, sized=True,
    ),
    "set-attribute": Kind(
        "extras:SetAttribute",
        Words("tag or comment {}", "tagged", "{} tagged or commented", "{source}: tags and comments"),
        target=False, was=_ANY, needs=_TEXTS, may=_ENTRY, planned=True, stays=True,
    ),
    "run": Kind(
        "extras:RunProgram", Words("run a program for {}", "ran", "ran a program for {}", "{source}: programs"),
        target=False, was=_ANY, needs=("command",), planned=True, lasting="what programs did", stays=True,
    ),
    "run-making": Kind(
        "extras:RunMaking",
        Words("run a program that makes {}", "made", "{} created by a program",
              "{source} → a program creates files in {target}", "created by a program: {target}"),
        was=_ANY, needs=("command",), planned=True, makes=True, stays=True,
    ),
    "make-folder": Kind("making:MakeFolder", None, source=False, may=_AS_IT_WAS, planned=True),
    "remove-folder": Kind(
        "removing:RemoveFolder", None, target=False, was=frozenset({"folder"}), may=_AS_IT_WAS, planned=True
    ),
    "note-times": Kind(
        "extras:NoteTimes", None, target=False, was=frozenset({"folder"}), needs=("mtime_ns",)
    ),
    "restore-times": Kind(
        "extras:RestoreTimes", None, target=False, needs=("mtime_ns",), may=("now_ns",)
    ),
}  # fmt: skip


def _which(is_so: Callable[[Kind], bool]) -> frozenset[VerbName]:
    return frozenset(verb for verb, kind in KINDS.items() if is_so(kind))


# Nobody asks for these: they go with other steps.
ATTENDING = _which(lambda kind: kind.words is None)
FINAL = _which(lambda kind: kind.final)
LASTING = _which(lambda kind: bool(kind.lasting))
TAKING = _which(lambda kind: kind.takes)
REMOVING = _which(lambda kind: kind.removes)
REPLACING = _which(lambda kind: kind.replaces)
MAKING = _which(lambda kind: kind.makes)
STAYING = _which(lambda kind: kind.stays)
# What moves, copies or removes no content.
UNSIZED = _which(lambda kind: kind.stays and not kind.sized)
PLANNED = _which(lambda kind: kind.planned)
