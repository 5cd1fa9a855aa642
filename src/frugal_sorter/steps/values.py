"""Whether a value of a plan or a journal, which others could have written, is of the kind that it should be."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from frugal_sorter.filesystem.record import Identity, Kind
from frugal_sorter.platforms import slashed
from frugal_sorter.state.inputs import is_count, is_flag, is_name, is_number, is_text

__all__ = [
    "IsFit", "is_attributes", "is_base64", "is_command", "is_count", "is_flag", "is_identity", "is_kept", "is_members",
    "is_mode", "is_name", "is_number", "is_owner", "is_path", "is_place", "is_step_that_made", "is_text",
    "is_what_was_lost",
]  # fmt: skip

_KINDS = frozenset(Kind.__args__)  # type: ignore[attr-defined]
_MODES = 0o7777
IsFit = Callable[[Any], bool]


def is_path(value: Any) -> bool:
    return is_name(value) and slashed.is_absolute(value) and not {".", ".."} & set(value.split("/")) and len(value) > 1


def is_mode(value: Any) -> bool:
    return is_count(value) and value <= _MODES


def is_owner(value: Any) -> bool:
    return is_count(value) and value < 1 << 32


def is_attributes(value: Any) -> bool:
    return isinstance(value, dict) and all(is_name(name) and is_base64(one) for name, one in value.items())


def is_base64(value: Any) -> bool:
    from base64 import b64decode

    try:
        b64decode(value, validate=True)
    except (ValueError, TypeError):
        return False
    return True


def is_identity(value: Any) -> bool:
    """Tell whether values are those of an `Identity`."""
    if not isinstance(value, (list, tuple)) or not 5 <= len(value) <= len(Identity._fields):
        return False
    kind, dev, ino, size, mtime_ns, born_ns, inside, sample = (*value, None, None, None)[: len(Identity._fields)]
    return (
        isinstance(kind, str) and kind in _KINDS and all(map(is_count, (dev, ino, size))) and is_number(mtime_ns)
        and (born_ns is None or is_number(born_ns)) and all(one is None or is_text(one) for one in (inside, sample))
    )  # fmt: skip


def is_place(value: Any) -> bool:
    return (
        isinstance(value, (list, tuple)) and len(value) == 2 and all(map(is_name, value))
        and slashed.is_absolute(value[0]) and "/" not in value[1]
    )  # fmt: skip


def is_members(value: Any) -> bool:
    return isinstance(value, list) and all(
        isinstance(one, dict) and is_path(one.get("path")) and is_name(one.get("name")) and is_identity(one.get("was"))
        for one in value
    )


def is_command(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(map(is_text, value)) and bool(value[0])


def is_what_was_lost(value: Any) -> bool:
    known: dict[str, IsFit] = {
        "mode": is_mode, "mtime_ns": is_number, "attributes": is_attributes,
        "owner": lambda both: isinstance(both, list) and len(both) == 2 and all(map(is_owner, both)),
    }  # fmt: skip
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
