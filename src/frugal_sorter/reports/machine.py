"""Full inventories: everything that rules can ask of a machine, so that they can be tried elsewhere."""

from __future__ import annotations

import errno
import os
import re
import stat
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import Any

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.contents import Contents
from frugal_sorter.filesystem.extended_attributes import COMMENT, ORIGIN, TAGS, read_attribute
from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, Unknown, is_inside, place_of, storable_ns, suffix_of
from frugal_sorter.filesystem.status import look
from frugal_sorter.filesystem.tree import LIST
from frugal_sorter.platforms import accounts, disk, slashed, system, volumes
from frugal_sorter.platforms.elsewhere import Known, Machine, MountKnown
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.platforms.volume_values import Room
from frugal_sorter.reports.saved import Saved, lines_of
from frugal_sorter.state import fits, is_count, is_flag, is_moment, is_name, is_text
from frugal_sorter.trash.bins import home_bin
from frugal_sorter.values import frozen

# What is read inside files, and in which types of them; never their text.
INSIDE = {"taken": ("image",), "label": ("audio", "video", "document"), "mime": (), "mislabelled": ()}
Entry = list[Any]
_ZONE = re.compile(r"(?!.*\.\.)[A-Za-z<][\w+\-<>,.:/]*")
_FOUND = {
    "taken": lambda value: value is None or is_moment(value),
    "label": {"title": is_text, "artist": is_text, "album": is_text},
    "mime": is_text,
    "mislabelled": is_flag,
}


def _or_none(shape: Callable[[Any], bool]) -> Callable[[Any], bool]:
    return lambda value: value is None or shape(value)


def _is_absolute(value: Any) -> bool:
    return is_name(value) and slashed.is_absolute(value) and slashed.normpath(value) == value


def _of_texts(value: Any) -> bool:
    return isinstance(value, dict) and all(is_text(one) for one in value.values())


def _is_environment(value: Any) -> bool:
    # A zone is the name of a file for the system: none outside of its own folder.
    return _of_texts(value) and set(value) <= set(system.TELLING) and bool(_ZONE.fullmatch(value.get("TZ", "UTC")))


def _is_inside(value: Any) -> bool:
    """Return True if it says what was found in a file, or why nothing was, as `contents` does."""
    return isinstance(value, dict) and all(
        fact in _FOUND
        and isinstance(one, dict)
        and (("value" in one and fits(one["value"], _FOUND[fact])) or ("value" not in one and fits(one, {"unknown": is_text})))
        for fact, one in value.items()
    )


_MACHINE = {
    "system": is_text,
    "name": is_text,
    "account": is_text,
    "uid": is_count,
    "gid": is_count,
    "admin": is_flag,
    "home": _is_absolute,
    "environment": _is_environment,
    "places": _of_texts,
    "homes": [is_text],
    "owners": _of_texts,
    "mounts": [
        (
            is_count,
            _is_absolute,
            is_text,
            _or_none(lambda one: one in ("always", "daily", "never")),
            _or_none(is_count),
            _or_none(is_count),
            _or_none(is_count),
        )
    ],
    "inside": is_flag,
    "runs": is_count,
}
# What follows the columns of every inventory: mode, times of change, opening and birth, names, owner and group, and the rest.
_STATUS = (is_count, is_moment, is_moment, _or_none(is_moment), is_count, is_count, is_count)
_REST = {
    "link": is_text,
    "closed": lambda value: value in ("", "rights", "volume"),
    "unread": is_count,
    "attributes": _of_texts,
    "whole": is_flag,
    "inside": _is_inside,
}


class _Taker:
    """Writes down a folder, with what is around it."""

    def __init__(self, folder: str, looks_inside: bool) -> None:
        self.folder, self._contents = folder, Contents() if looks_inside else None
        self.owners: set[int] = {accounts.user_id()}

    def entries(self) -> Iterator[Entry]:
        """Yield each entry as a line: first, by absolute paths, what is around the folder, then what is in it."""
        yield from self._around()
        yield self._line(self.folder, self.folder)
        waiting = [self.folder]
        dev = disk.lstat(self.folder).st_dev
        while waiting:
            folder = waiting.pop()
            try:
                with disk.scandir(folder) as found:
                    names = sorted(one.name for one in found)
            except OSError:
                continue  # its own line says so
            for name in names:
                path = slashed.join(folder, name)
                with suppress(OSError):  # gone meanwhile
                    line = self._line(path, slashed.relpath(path, self.folder))
                    yield line
                    if stat.S_ISDIR(line[6]) and line[5] == dev:
                        waiting.append(path)
        if self._contents is not None:
            self._contents.close()

    def _around(self) -> Iterator[Entry]:
        """Yield the folders above, the home and its trash, each with the names in it: they decide where a newcomer can go."""
        trash = home_bin()
        around = [self.folder, str(Path.home()), trash.files, trash.info]
        folders = {str(above) for path in around for above in Path(path).parents} | set(around[1:])
        told: set[str] = set()
        # A folder comes before what is in it.
        for folder in sorted(one for one in folders if not is_inside(one, self.folder)):
            names: list[str] = []
            with suppress(OSError):
                names = sorted(disk.listdir(folder))
            for path in (folder, *(slashed.join(folder, name) for name in names)):
                if path in told or is_inside(path, self.folder):
                    continue
                told.add(path)
                with suppress(OSError):
                    yield self._line(path, path, path in folders)

    def _line(self, path: str, named: str, is_whole: bool = True) -> Entry:
        one = look(place_of(path))
        who, mode = one.identity, one.mode
        self.owners.add(one.uid)
        status = disk.lstat(path)
        rest: dict[str, Any] = {} if is_whole else {"whole": False}
        if stat.S_ISLNK(mode):
            rest["link"] = disk.readlink(path)
        elif stat.S_ISDIR(mode):
            if closed := accounts.cannot_change(path):
                rest["closed"] = closed
            try:
                disk.close(disk.open(path, LIST))
            except OSError as error:
                rest["unread"] = error.errno or errno.EIO
        if is_whole and not stat.S_ISLNK(mode):
            found = {name: text for name in (TAGS, COMMENT, ORIGIN) if (text := _attribute(path, name))}
            rest |= {"attributes": found} if found else {}
        if is_whole and self._contents is not None and who.kind == "file":
            rest["inside"] = self._inside(path)
        born_ns = None if one.born_ns is None else storable_ns(one.born_ns)
        times = (one.ctime_ns, one.atime_ns)
        return [
            named,
            status.st_size,
            disk.used_bytes(status),
            storable_ns(one.mtime_ns),
            who.ino,
            who.dev,
            mode,
            *map(storable_ns, times),
            born_ns,
            one.nlink,
            one.uid,
            one.gid,
            rest,
        ]

    def _inside(self, path: str) -> dict[str, Any]:
        assert self._contents is not None
        group, found = TYPE_OF_SUFFIX.get(suffix_of(os.path.basename(path)), ""), {}
        for fact, types in INSIDE.items():
            if not types or group in types:
                value = self._contents.read(fact, path)
                found[fact] = {"unknown": value.reason} if isinstance(value, Unknown) else {"value": value}
        return found


def _attribute(path: str, name: str) -> str:
    try:
        return read_attribute(path, name)
    except OSError:
        return ""


def _mount(one: volumes.Mount) -> list[Any]:
    asked: list[Any] = []
    for ask in (volumes.read_times, lambda top: volumes.room(top).free, lambda top: volumes.room(top).total, volumes.free_names):
        try:
            asked.append(ask(one.top))
        except OSError:
            asked.append(None)
    return [one.dev, one.top, one.kind, *asked]


def take(
    folder: str, looks_inside: bool, runs: int, on_progress: Callable[[int, int], None]
) -> Iterator[list[Any] | dict[str, Any]]:
    """Yield what a full inventory says, the first line first.

    Args:
        folder: absolute and resolved.
        looks_inside: files are opened, to write down what rules can ask for inside them.
        runs: how many runs the tool has made on this machine.
        on_progress: called with how many entries were looked at.

    Raises:
        OSError: the folder cannot be read at all.
    """
    taker, lines = _Taker(folder, looks_inside), list[Entry]()
    for line in taker.entries():
        lines.append(line)
        on_progress(len(lines), 0)
    tops = [
        one
        for one in volumes.mounts()
        if is_inside(one.top, folder) or is_inside(folder, one.top) or is_inside(home_bin().root, one.top)
    ]
    places = {}
    for name in system.NAMED:
        places[name] = system.named_folder(name)
    yield {
        "machine_facts": {
            "system": system.NAME,
            "name": accounts.machine_name(),
            "account": accounts.account_name(),
            "uid": accounts.user_id(),
            "gid": accounts.group_id(),
            "admin": accounts.is_admin(),
            "home": str(Path.home()),
            "environment": system.variables(),
            "places": places,
            "homes": accounts.homes(),
            "owners": {str(uid): accounts.owner_name(uid) or "" for uid in sorted(taker.owners)},
            "mounts": [_mount(one) for one in tops],
            "inside": looks_inside,
            "runs": runs,
        }
    }
    yield from lines


@frozen
class FullInventory:
    """A full inventory.

    Args:
        saved: its head.
        machine: the machine that it was taken on.
        looked_inside: files were opened for it.
        runs: how many runs there were on that machine before.
    """

    saved: Saved
    machine: Machine
    looked_inside: bool
    runs: int


def read(path: Path) -> FullInventory:
    """Read a full inventory.

    Raises:
        UsageError: it cannot be read, is not a full one, or says what cannot be; says in which line.
    """
    lines = lines_of(path)
    saved, head = next(lines)
    if "machine_facts" not in head:
        what = f"{path}: this inventory holds only sizes and dates"
        raise UsageError(what, "make a full one on that machine: `frugal inventory FOLDER --save NAME --full`")
    facts = head["machine_facts"]
    number = 1
    try:
        if not fits(facts, _MACHINE) or not _is_absolute(saved.folder) or not all(key.isdecimal() for key in facts["owners"]):
            raise ValueError("not as this version writes it")
        if facts["system"] != system.NAME:
            raise UsageError(f"{path}: taken on {facts['system']}", f"it can be used on {facts['system']} alone")
        mounts = [
            MountKnown(dev, top, kind, keeping, None if free is None or total is None else Room(free, total), names)
            for dev, top, kind, keeping, free, total, names in facts["mounts"]
        ]
        entries: dict[str, Known] = {}
        for _, line in lines:
            number += 1
            at, known = _known(line, saved.folder)
            above = os.path.dirname(at)
            if at in entries or (not slashed.is_top(at) and not (above in entries and stat.S_ISDIR(entries[above].st_mode))):
                raise ValueError(f"{at!r} is where it cannot be")
            entries[at] = known
        if saved.folder not in entries or not stat.S_ISDIR(entries[saved.folder].st_mode):
            raise ValueError("the folder itself is missing")
    except ValueError as error:
        what = f"{path}:{number}: not a frugal inventory, or damaged ({error})"
        raise UsageError(what, "make a new one with `frugal inventory FOLDER --save NAME --full`") from None
    names = {int(uid): name for uid, name in facts["owners"].items()}
    machine = Machine(
        facts["name"],
        facts["account"],
        facts["uid"],
        facts["gid"],
        facts["admin"],
        facts["home"],
        facts["environment"],
        facts["places"] | dict.fromkeys(set(system.NAMED) - set(facts["places"]), facts["home"]),
        facts["homes"],
        names,
        mounts,
        saved.folder,
        entries,
    )
    return FullInventory(saved, machine, facts["inside"], facts["runs"])


def _known(line: list[Any], folder: str) -> tuple[str, Known]:
    """Return the path of an entry and what is known of it.

    Raises:
        ValueError: it is not what this version writes.
    """
    named, size, used, mtime_ns, ino, dev, *status, rest = line
    if not fits(status, _STATUS) or not isinstance(rest, dict) or not set(rest) <= set(_REST):
        raise ValueError("not as this version writes it")
    if not all(fits(value, _REST[key]) for key, value in rest.items()):
        raise ValueError("not as this version writes it")
    mode, ctime_ns, atime_ns, born_ns, nlink, uid, gid = status
    at = named if slashed.is_absolute(named) else slashed.join(folder, named)
    if slashed.normpath(at) != at:
        raise ValueError(f"{named!r} is not a plain path")
    return at, Known(
        mode, size, used // disk.BLOCK_BYTES, mtime_ns, ino, dev, ctime_ns, atime_ns, born_ns, nlink, uid, gid, **rest
    )
