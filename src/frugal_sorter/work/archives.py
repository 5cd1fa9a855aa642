"""Packing entries into a new zip, and unpacking archives into a new folder."""

from __future__ import annotations

import hashlib
import lzma
import os
import stat
import tarfile
import time
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import IO

from frugal_sorter.files.fingerprint import open_to_read
from frugal_sorter.files.record import Identity, Place
from frugal_sorter.files.status import look
from frugal_sorter.files.volumes import free_bytes
from frugal_sorter.plans.plan import Step
from frugal_sorter.work.copies import finish_part, part_beside, settle_made, take_back_made
from frugal_sorter.work.entry import ends_of, find, is_same_inside
from frugal_sorter.work.mark import CHANGED, Job, Mark, NotDone, Outcome
from frugal_sorter.work.rename import sync_volume

MOST_ENTRIES = 50_000
# More than this, and more than so many times its own size, and an archive is taken for a trap.
LARGE_BYTES, MOST_TIMES = 100_000_000, 100
_BLOCK = 1 << 20
# A RuntimeError is raised for what is encrypted, and a kind of it for ways to pack that are not known.
_UNREADABLE = (
    zipfile.BadZipFile, tarfile.TarError, zlib.error, lzma.LZMAError, EOFError, ValueError, RuntimeError,
)  # fmt: skip
_EARLIEST, _LATEST = (1980, 1, 1, 0, 0, 0), (2107, 12, 31, 23, 59, 58)


class Pack:
    """Writes entries into a new zip, reads every one back, and only then gives the zip its name."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        with part_beside(self._job, step) as (fd, part):
            descriptor = os.open(
                part.name, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666, dir_fd=fd
            )
            with open(descriptor, "w+b") as file:
                digests: dict[str, bytes] = {}
                with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False) as archive:
                    for member in step.args["members"]:
                        self._add(archive, member, digests)
                file.flush()
                os.fsync(file.fileno())
                with zipfile.ZipFile(file) as archive:
                    self._read_back(archive, digests)
            made = finish_part(self._job, step, fd, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def _add(self, archive: zipfile.ZipFile, member: dict[str, object], digests: dict[str, bytes]) -> None:
        path, name = str(member["path"]), str(member["name"])
        place = Place(*os.path.split(path))
        was = Identity(*member["was"])  # type: ignore[misc]
        try:
            fd, before = find(self._job, place, was)
            for inner, below in _with_inside(place, name):
                self._write(archive, inner, below, fd if inner == place else None, digests)
            _, after = find(self._job, place, was)
        except NotDone as not_done:
            raise NotDone(not_done.outcome, f"{path}: {not_done.reason}") from None
        if (was.kind == "file" and before.ctime_ns != after.ctime_ns) or not is_same_inside(place, was):
            raise NotDone(Outcome.SKIPPED, f"{path}: {CHANGED}")

    def _write(
        self, archive: zipfile.ZipFile, place: Place, name: str, fd: int | None, digests: dict[str, bytes]
    ) -> None:  # fmt: skip
        found = look(place, fd)
        moment = time.localtime(max(found.mtime_ns // 1_000_000_000, 0))[:6]
        info = zipfile.ZipInfo(_zip_name(name), min(max(moment, _EARLIEST), _LATEST))
        info.external_attr = (found.mode & 0xFFFF) << 16
        info.compress_type = zipfile.ZIP_DEFLATED
        digest = hashlib.blake2b()
        if stat.S_ISDIR(found.mode):
            info.filename += "/"
            info.external_attr |= 0x10
            info.compress_type = zipfile.ZIP_STORED
            archive.writestr(info, b"")
        elif stat.S_ISLNK(found.mode):
            target = os.fsencode(os.readlink(place.path))
            digest.update(target)
            archive.writestr(info, target)
        elif stat.S_ISREG(found.mode):
            info.file_size = found.identity.size
            with open(open_to_read(place, fd), "rb") as source, archive.open(info, "w") as sink:
                while block := source.read(_BLOCK):
                    digest.update(block)
                    sink.write(block)
        else:
            raise NotDone(Outcome.FAILED, f"{place.path} is neither file, folder nor link")
        digests[info.filename] = digest.digest()

    def _read_back(self, archive: zipfile.ZipFile, digests: dict[str, bytes]) -> None:
        names = archive.namelist()
        if len(names) != len(digests):
            raise NotDone(Outcome.FAILED, "the zip did not come out as it was written")
        for name in names:
            digest = hashlib.blake2b()
            with archive.open(name) as member:
                while block := member.read(_BLOCK):
                    digest.update(block)
            if digest.digest() != digests.get(name):
                raise NotDone(Outcome.FAILED, f"{name} did not come out of the zip as it went in")

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return settle_made(self._job, step, note, repair)

    def back(self, step: Step, mark: Mark) -> Step:
        return take_back_made(step, mark)


def _zip_name(name: str) -> str:
    # What is not Unicode has no place in a zip that others read; its bytes are shown instead.
    return os.fsencode(name).decode("utf-8", "backslashreplace")


def _with_inside(place: Place, name: str) -> Iterator[tuple[Place, str]]:
    yield place, name
    if os.path.isdir(place.path) and not os.path.islink(place.path):
        for inner in sorted(os.listdir(place.path)):
            yield from _with_inside(Place(place.path, inner), f"{name}/{inner}")


@dataclass(frozen=True, slots=True)
class Member:
    """One entry of an archive: its name, what it is, its mode and time, and where a link leads."""

    name: str
    kind: str
    size: int
    mode: int
    mtime: float
    link: str
    key: object


class Unpack:
    """Gets the contents of an archive out into a new folder."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        source_fd, _ = find(self._job, source, was)
        with part_beside(self._job, step) as (fd, part):
            os.mkdir(part.name, 0o777, dir_fd=fd)
            with open(open_to_read(source, source_fd), "rb") as file:
                try:
                    self._unpack(file, was.size, part.path)
                except _UNREADABLE as error:
                    why = str(error) or type(error).__name__
                    raise NotDone(Outcome.FAILED, f"the archive cannot be read ({why})") from None
            find(self._job, source, was)
            sync_volume(fd)
            made = finish_part(self._job, step, fd, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def _unpack(self, file: IO[bytes], size: int, folder: str) -> None:
        limit = max(LARGE_BYTES, MOST_TIMES * size)
        room = _Room(min(limit, free_bytes(folder)), f"more than {limit:,} bytes come out of it")
        if zipfile.is_zipfile(file):
            file.seek(0)
            with zipfile.ZipFile(file) as archive:
                members = _checked(_zip_members(archive))
                for member in members:
                    _extract(member, folder, archive.open(member.name) if member.kind != "folder" else None, room)
        else:
            file.seek(0)
            with tarfile.open(fileobj=file, mode="r:*") as tar:
                members = _checked(_tar_members(tar))
                for member in members:
                    opened = tar.extractfile(member.key) if member.kind == "file" else None  # type: ignore[arg-type]
                    _extract(member, folder, opened, room)
        for member in reversed(members):
            if member.kind == "folder":
                path = os.path.join(folder, member.name)
                with suppress(OSError):
                    os.chmod(path, (member.mode & 0o777) | 0o700)
                    os.utime(path, (member.mtime, member.mtime))

    def settle(self, step: Step, note: Mark | None, repair: bool) -> Mark:
        return settle_made(self._job, step, note, repair)

    def back(self, step: Step, mark: Mark) -> Step:
        return take_back_made(step, mark)


class _Room:
    """Counts what comes out, whatever the archive says of itself."""

    def __init__(self, left: int, why: str) -> None:
        self._left = left
        self._why = why

    def take(self, size: int) -> None:
        self._left -= size
        if self._left < 0:
            raise NotDone(Outcome.FAILED, self._why + ", or there is no room for it")


def _zip_members(archive: zipfile.ZipFile) -> Iterator[Member]:
    for info in archive.infolist():
        mode = info.external_attr >> 16
        kind = "folder" if info.is_dir() else "link" if stat.S_ISLNK(mode) else "file"
        if stat.S_IFMT(mode) not in (0, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK):
            kind = "device"
        if info.flag_bits & 1:
            raise NotDone(Outcome.FAILED, "the archive needs a password")
        link = (
            archive.read(info).decode("utf-8", "surrogateescape") if kind == "link" and info.file_size < 5_000 else ""
        )
        moment = time.mktime((*info.date_time, 0, 0, -1))
        yield Member(info.filename, kind, info.file_size, mode, moment, link, info)


def _tar_members(tar: tarfile.TarFile) -> Iterator[Member]:
    for info in tar:
        kind = "folder" if info.isdir() else "file" if info.isreg() else "link" if info.issym() else "device"
        if info.islnk():
            kind = "file"
            _inside(info.linkname)
        yield Member(info.name, kind, info.size, info.mode, info.mtime, info.linkname if kind == "link" else "", info)


def _inside(name: str) -> str:
    """Return a name of an archive as a path below its folder.

    Raises:
        NotDone: it leads out of it.
    """
    parts = name.replace("\\", "/").split("/")
    if name.startswith(("/", "\\")) or ".." in parts or "\0" in name or (len(parts[0]) == 2 and parts[0][1] == ":"):
        raise NotDone(Outcome.FAILED, f"the archive is refused: {name!r} leads out of its folder")
    return os.path.normpath(name)


def _checked(members: Iterator[Member]) -> list[Member]:
    """Return all members of an archive, if it is harmless.

    Raises:
        NotDone: something in it leads out, is no file, or there is too much of it.
    """
    found: dict[str, Member] = {}
    links: set[str] = set()
    for member in members:
        if len(found) >= MOST_ENTRIES:
            raise NotDone(Outcome.FAILED, f"the archive is refused: it holds more than {MOST_ENTRIES:,} entries")
        name = _inside(member.name)
        if member.kind == "device":
            raise NotDone(Outcome.FAILED, f"the archive is refused: {member.name!r} is no file")
        if member.kind == "link":
            links.add(name)
            _inside(os.path.normpath(os.path.join(os.path.dirname(name), member.link)) if member.link else "/")
            if member.link.startswith("/"):
                raise NotDone(Outcome.FAILED, f"the archive is refused: the link {member.name!r} leads out")
        if name in found and member.kind != "folder":
            raise NotDone(Outcome.FAILED, f"the archive is refused: it holds {member.name!r} twice")
        if name != ".":
            found.setdefault(name, member)
    for name in found:
        above = os.path.dirname(name)
        while above:
            if above in links:
                raise NotDone(Outcome.FAILED, f"the archive is refused: {name!r} lies below a link")
            above = os.path.dirname(above)
    return list(found.values())


def _extract(member: Member, folder: str, opened: IO[bytes] | None, room: _Room) -> None:
    path = os.path.join(folder, _inside(member.name))
    if member.kind == "folder":
        os.makedirs(path, exist_ok=True)
        return
    os.makedirs(os.path.dirname(path), exist_ok=True)
    if member.kind == "link":
        os.symlink(member.link, path)
        return
    if opened is None:
        raise NotDone(Outcome.FAILED, f"{member.name!r} cannot be read")
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666)
    with opened, open(descriptor, "wb") as file:
        while block := opened.read(_BLOCK):
            room.take(len(block))
            file.write(block)
        if member.mode & 0o111:
            os.fchmod(file.fileno(), stat.S_IMODE(os.fstat(file.fileno()).st_mode) | (member.mode & 0o111))
        file.flush()
        with suppress(OSError, OverflowError):
            os.utime(file.fileno(), (member.mtime, member.mtime))
