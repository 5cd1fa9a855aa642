"""Packing entries into a new zip."""

from __future__ import annotations

import os
import stat
import time
import zipfile
from collections.abc import Iterable, Iterator, Mapping
from typing import IO, Any, NamedTuple

from frugal_sorter.changes.copier import opened
from frugal_sorter.changes.descriptors import NEW_FILE
from frugal_sorter.changes.outcome import CHANGED, NotDone, Outcome
from frugal_sorter.changes.removal import same_as
from frugal_sorter.changes.rights import Narrowing
from frugal_sorter.filesystem.fingerprint import open_to_read
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.platforms import accounts, disk
from frugal_sorter.platforms.digest import blake2b
from frugal_sorter.steps.base import Mark, RunContext
from frugal_sorter.steps.held_entry import find, is_same_inside
from frugal_sorter.steps.parts import Making, finish_part, part_beside
from frugal_sorter.steps.step import Step

_BLOCK = 1 << 20


_EARLIEST, _LATEST = (1980, 1, 1, 0, 0, 0), (2107, 12, 31, 23, 59, 58)
_LATEST_SECONDS = 4_354_819_198  # the same, for clocks


class Packed(NamedTuple):
    """An entry that goes, or went, into a zip: a descriptor of its folder, its name there, and that in the zip."""

    fd: int
    name: str
    packed: str
    status: os.stat_result


class Pack(Making):
    """Writes entries into a new zip, reads every one back, and only then gives the zip its name."""

    def do(self, step: Step) -> Mark:
        rights = Narrowing()
        with part_beside(self._context, step) as part:
            descriptor = disk.open(part.name, NEW_FILE, 0o600, dir_fd=part.fd)
            with open(descriptor, "w+b") as file:
                part.made()
                digests: dict[str, bytes] = {}
                with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False) as archive:
                    for member in step.details["members"]:
                        self._add(archive, member, digests, rights)
                file.flush()
                disk.fsync(descriptor)
                with zipfile.ZipFile(file) as archive:
                    self._read_back(archive, digests)
                rights.give(descriptor, 0o666 & ~accounts.umask())
                disk.fsync(descriptor)
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def _add(
        self, archive: zipfile.ZipFile, member: Mapping[str, Any], digests: dict[str, bytes], rights: Narrowing
    ) -> None:  # fmt: skip
        path, was = member["path"], Identity(*member["was"])
        place = Place(*os.path.split(path))
        try:
            fd, before = find(self._context, place, was)
            for one in _with_inside(fd, place.name, member["name"]):
                self._write(archive, one, digests, rights)
            find(self._context, place, was)
        except NotDone as not_done:
            raise NotDone(not_done.outcome, f"{path}: {not_done.reason}") from None
        found = disk.stat(place.name, dir_fd=fd, follow_symlinks=False)
        if (was.kind == "file" and not same_as(before)(found)) or not is_same_inside(fd, place.name, was):
            raise NotDone(Outcome.SKIPPED, f"{path}: {CHANGED}")

    def _write(
        self, archive: zipfile.ZipFile, one: Packed, digests: dict[str, bytes], rights: Narrowing
    ) -> None:  # fmt: skip
        found = one.status
        moment = time.localtime(min(max(found.st_mtime_ns // 1_000_000_000, 0), _LATEST_SECONDS))[:6]
        info = zipfile.ZipInfo(one.packed, min(max(moment, _EARLIEST), _LATEST))
        info.external_attr = (found.st_mode & 0xFFFF) << 16
        info.compress_type = zipfile.ZIP_DEFLATED
        digest = blake2b()
        if stat.S_ISDIR(found.st_mode):
            info.filename += "/"
            info.external_attr |= 0x10
            info.compress_type = zipfile.ZIP_STORED
            rights.folder(found)
            archive.writestr(info, b"")
        elif stat.S_ISLNK(found.st_mode):
            target = os.fsencode(disk.readlink(one.name, dir_fd=one.fd))
            digest.update(target)
            archive.writestr(info, target)
        elif stat.S_ISREG(found.st_mode):
            info.file_size = found.st_size
            with open(open_to_read(Place("", one.name), one.fd), "rb") as source, archive.open(info, "w") as sink:
                rights.file(source.fileno())
                while block := source.read(_BLOCK):
                    self._context.heed()
                    digest.update(block)
                    sink.write(block)
        else:
            raise NotDone(Outcome.FAILED, f"{one.name} is neither file, folder nor link")
        digests[info.filename] = digest.digest()

    def _read_back(self, archive: zipfile.ZipFile, digests: dict[str, bytes]) -> None:
        names = archive.namelist()
        if len(names) != len(digests):
            raise NotDone(Outcome.FAILED, "the zip did not come out as it was written")
        for name in names:
            digest = blake2b()
            with archive.open(name) as member:
                while block := member.read(_BLOCK):
                    self._context.heed()
                    digest.update(block)
            if digest.digest() != digests.get(name):
                raise NotDone(Outcome.FAILED, f"{name} did not come out of the zip as it went in")


def _zip_name(name: str) -> str:
    # What is not Unicode has no place in a zip that others read; its bytes are shown instead.
    return os.fsencode(name).decode("utf-8", "backslashreplace")


def _with_inside(fd: int, name: str, packed: str) -> Iterator[Packed]:
    """Yield an entry of an open folder and all that is in it, with their names in the zip."""
    found = disk.stat(name, dir_fd=fd, follow_symlinks=False)
    yield Packed(fd, name, _zip_name(packed), found)
    if not stat.S_ISDIR(found.st_mode):
        return
    way = [packed]
    with opened(name, LIST, fd) as folder:
        for met in below(folder):
            if met.how == "leave":
                way.pop()
                continue
            yield Packed(met.fd, met.name, _zip_name("/".join([*way, met.name])), met.status)
            if met.how == "enter":
                way.append(met.name)


def refuse_unless_packed(context: RunContext, fd: int, name: str, members: Iterable[Mapping[str, Any]]) -> None:
    """See that all that a zip holds lies, byte for byte, where it was packed from.

    Args:
        context: of the run.
        fd: a descriptor of the folder of the zip.
        name: its name there.
        members: what went into it, as the step has it.

    Raises:
        NotDone: something of it is not there as it is in the zip.
        OSError: the zip, or something of that, cannot be read.
    """
    with open(open_to_read(Place("", name), fd), "rb") as file, zipfile.ZipFile(file) as archive:
        left = set(archive.namelist())
        for member in members:
            place = Place(*os.path.split(member["path"]))
            folder, _ = context.descriptors.entry(place)
            for one in _with_inside(folder, place.name, member["name"]):
                if stat.S_ISDIR(one.status.st_mode):
                    left.discard(one.packed + "/")
                elif one.packed in left and _is_packed(context, archive, one):
                    left.discard(one.packed)
        if left:
            raise NotDone(Outcome.SKIPPED, f"{min(left)} is only in the zip by now; it stays")


def _is_packed(context: RunContext, archive: zipfile.ZipFile, one: Packed) -> bool:
    """Tell whether an entry holds what the zip holds of it."""
    with archive.open(one.packed) as member:
        if stat.S_ISLNK(one.status.st_mode):
            return os.fsencode(disk.readlink(one.name, dir_fd=one.fd)) == member.read()
        if not stat.S_ISREG(one.status.st_mode):
            return False
        with open(open_to_read(Place("", one.name), one.fd), "rb") as file:
            return same_stream(context, iter(lambda: member.read(_BLOCK), b""), file)


def same_stream(context: RunContext, blocks: Iterable[bytes], file: IO[bytes]) -> bool:
    """Tell whether blocks are all that a file holds."""
    for block in blocks:
        context.heed()
        if file.read(len(block)) != block:
            return False
    return not file.read(1)
