"""What a step of each verb must have; a plan or a journal that others could have written is held to it."""

from __future__ import annotations

import base64
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from frugal_sorter.filesystem.record import Identity, Kind
from frugal_sorter.steps.step import Step, VerbName

_KINDS = frozenset(Kind.__args__)  # type: ignore[attr-defined]
# Numbers beyond these are no number of an entry, and no mode.
_LARGEST, _MODES = 1 << 127, 0o7777
_IsFit = Callable[[Any], bool]


@dataclass(frozen=True)
class Shape:
    """What a step of a verb must have.

    Args:
        source: it has an entry that is there.
        target: it has a place where something will be.
        was: which kinds of entries it is about; empty where it may name none.
        args: what it must be told besides.
        may: what it may be told besides.
        witness: whether it must name another entry.
    """

    source: bool = True
    target: bool = True
    was: frozenset[str] = frozenset()
    args: Mapping[str, _IsFit] = field(default_factory=dict)
    may: Mapping[str, _IsFit] = field(default_factory=dict)
    witness: bool = False


def _text(value: Any) -> bool:
    return isinstance(value, str) and "\0" not in value


def _name(value: Any) -> bool:
    return _text(value) and bool(value)


def _path(value: Any) -> bool:
    return _name(value) and value.startswith("/") and not {".", ".."} & set(value.split("/")) and len(value) > 1


def _flag(value: Any) -> bool:
    return isinstance(value, bool)


def _number(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and abs(value) < _LARGEST


def _count(value: Any) -> bool:
    return _number(value) and value >= 0


def _mode(value: Any) -> bool:
    return _count(value) and value <= _MODES


def _owner(value: Any) -> bool:
    return _count(value) and value < 1 << 32


def _attributes(value: Any) -> bool:
    return isinstance(value, dict) and all(_name(name) and _bytes(one) for name, one in value.items())


def _bytes(value: Any) -> bool:
    try:
        base64.b64decode(value, validate=True)
    except (ValueError, TypeError):
        return False
    return True


def is_identity(value: Any) -> bool:
    """Tell whether values are those of an `Identity`."""
    if not isinstance(value, (list, tuple)) or not 5 <= len(value) <= len(Identity._fields):
        return False
    kind, dev, ino, size, mtime_ns, born_ns, inside, sample = (*value, None, None, None)[: len(Identity._fields)]
    return (
        isinstance(kind, str) and kind in _KINDS and all(map(_count, (dev, ino, size))) and _number(mtime_ns)
        and (born_ns is None or _number(born_ns)) and all(one is None or _text(one) for one in (inside, sample))
    )  # fmt: skip


def _place(value: Any) -> bool:
    return (
        isinstance(value, (list, tuple)) and len(value) == 2 and all(map(_name, value))
        and value[0].startswith("/") and "/" not in value[1]
    )  # fmt: skip


def _members(value: Any) -> bool:
    return isinstance(value, list) and all(
        isinstance(one, dict) and _path(one.get("path")) and _name(one.get("name")) and is_identity(one.get("was"))
        for one in value
    )


def _command(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(map(_text, value)) and bool(value[0])


def _lost(value: Any) -> bool:
    known: dict[str, _IsFit] = {
        "mode": _mode, "mtime_ns": _number, "attributes": _attributes,
        "owner": lambda both: isinstance(both, list) and len(both) == 2 and all(map(_owner, both)),
    }  # fmt: skip
    return isinstance(value, dict) and all(
        _text(path) and isinstance(one, dict) and all(key in known and known[key](had) for key, had in one.items())
        for path, one in value.items()
    )


def _again(value: Any) -> bool:
    if not isinstance(value, dict) or value.get("verb") not in ("copy", "link", "pack", "unpack"):
        return False
    args = value.get("args", {})
    return isinstance(args, dict) and (value["verb"] != "pack" or _members(args.get("members")))


def _kept(value: Any) -> bool:
    return isinstance(value, (list, tuple)) and len(value) == 2 and _place(value[0]) and is_identity(value[1])


_FILE, _ANY = frozenset({"file"}), frozenset({"file", "folder", "link", "other"})
_TAKEN = frozenset({"file", "folder"})
_WEIGHT: dict[str, _IsFit] = {"files": _count, "bytes": _count}
_ACROSS: dict[str, _IsFit] = {"across": _flag, "top": _path, "restore": _lost}
_AS_IT_WAS: dict[str, _IsFit] = {
    "mode": _mode, "uid": _owner, "gid": _owner, "mtime_ns": _number, "atime_ns": _number, "attributes": _attributes,
}  # fmt: skip
_ENTRY: dict[str, _IsFit] = {"entry": _place, "entry_was": is_identity}
_TEXTS: dict[str, _IsFit] = {"attribute": _name, "old": _text, "new": _text}

SHAPES: Mapping[VerbName, Shape] = {
    "move": Shape(was=_ANY, may=_WEIGHT),
    "move-across": Shape(was=_ANY, may={**_WEIGHT, "restore": _lost}),
    "trash": Shape(was=_ANY, may={**_WEIGHT, **_ACROSS}),
    "restore": Shape(was=_ANY, may={**_WEIGHT, **_ACROSS}),
    "delete": Shape(target=False, was=_ANY, may=_WEIGHT),
    "empty": Shape(target=False, was=_ANY, may={**_WEIGHT, "original": _text, "note": _text}),
    "copy": Shape(was=_ANY, may=_WEIGHT),
    "remove-made": Shape(target=False, was=_ANY, args={"again": _again}, may=_ENTRY),
    "link": Shape(was=_ANY),
    "hard-link": Shape(target=True, was=_FILE, may={**_AS_IT_WAS, **_WEIGHT}, witness=True),
    "own-file": Shape(target=True, was=_FILE, may={**_AS_IT_WAS, **_WEIGHT, "kept": _kept}),
    "pack": Shape(source=False, args={"members": _members}, may=_WEIGHT),
    "unpack": Shape(was=_FILE, may=_WEIGHT),
    "set-attribute": Shape(target=False, was=_ANY, args=_TEXTS, may=_ENTRY),
    "run": Shape(target=False, was=_ANY, args={"command": _command}),
    "make-folder": Shape(source=False, may=_AS_IT_WAS),
    "remove-folder": Shape(target=False, was=frozenset({"folder"}), may=_AS_IT_WAS),
    "note-times": Shape(target=False, was=frozenset({"folder"}), args={"mtime_ns": _number}),
    "restore-times": Shape(target=False, args={"mtime_ns": _number}, may={"now_ns": _number}),
}


def refuse_malformed(step: Step) -> None:
    """See that a step has all that its verb needs, and nothing that its verb does not know.

    Raises:
        ValueError: it does not; says what is wrong.
    """
    shape = SHAPES[step.verb]
    if (step.source is not None) != shape.source:
        raise ValueError(f"a step to {step.verb} {'needs' if shape.source else 'has no'} source")
    if (step.target is not None) != shape.target:
        raise ValueError(f"a step to {step.verb} {'needs' if shape.target else 'has no'} target")
    for place in (step.source, step.target, step.witness and step.witness.place):
        if place is not None and not (_name(place.name) and "/" not in place.name):
            raise ValueError(f"{place.path!r} is no place of an entry")
    if shape.was and (step.was is None or not is_identity(step.was) or step.was.kind not in shape.was):
        raise ValueError(f"a step to {step.verb} must say what its entry was")
    if shape.witness and step.witness is None:
        raise ValueError(f"a step to {step.verb} must name what stays")
    if step.witness is not None and not is_identity(step.witness.identity):
        raise ValueError("what stays is not described as an entry")
    for key, is_fit in shape.args.items():
        if key not in step.args or not is_fit(step.args[key]):
            raise ValueError(f"a step to {step.verb} needs a proper `{key}`")
    for key, value in step.args.items():
        fit = shape.args.get(key) or shape.may.get(key)
        if fit is None or not fit(value):
            raise ValueError(f"`{key}` is not what a step to {step.verb} can have there")
