"""Packing entries into a new zip, and unpacking archives."""

from __future__ import annotations

import os
import stat
import time
import zipfile
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import IO, Any, NamedTuple

from frugal_sorter.changes.copier import Narrowing, opened
from frugal_sorter.changes.descriptors import NEW_FILE, Descriptors
from frugal_sorter.changes.removal import same_as
from frugal_sorter.filesystem.contents import Archive, BadArchive, Member
from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.filesystem.status import open_to_read
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.filesystem.volumes import free_bytes, volume_of
from frugal_sorter.platforms import accounts, disk, slashed, system
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.reasons import NotDone, Outcome, Why
from frugal_sorter.steps.parts import Making, ends_of, find, finish_part, is_same_inside, part_beside
from frugal_sorter.steps.step import Mark, RunContext, Step
from frugal_sorter.values import replace

_MOST_OPEN = 64


class Writer:
    """Writes members of an archive below an open folder that this run has made.

    Nobody but this account may go into a folder before all is written; then each gets its own mode, as far as the
    archive itself could be read.

    Args:
        fd: a descriptor of the folder; it is not closed.
        archive: the status of the archive.
        heed: called before each block; it raises to give up.
    """

    def __init__(self, fd: int, archive: os.stat_result, heed: Callable[[], None] = lambda: None) -> None:
        self._fd = fd
        self._heed = heed
        self._rights = Narrowing()
        self._rights.status(archive)
        self._mask = 0o777 & ~accounts.umask()
        self._modes: dict[str, tuple[int, float | None]] = {}
        self._open: OrderedDict[str, int] = OrderedDict()

    def __enter__(self) -> Writer:
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        try:
            if kind is None and self._modes:
                self._finish_folders()
        finally:
            while self._open:
                disk.close(self._open.popitem()[1])

    def folder(self, path: str) -> int:
        """Return a descriptor of a folder below, good until others have been asked for.

        Raises:
            OSError: it is not there, or is a link by now.
        """
        return self._folder(path, make=False)

    def _folder(self, path: str, make: bool) -> int:
        if not path:
            return self._fd
        if path in self._open:
            self._open.move_to_end(path)
            return self._open[path]
        known, missing = path, []
        while known and known not in self._open:
            known, _, last = known.rpartition("/")
            missing.append(last)
        fd = os.dup(self._open[known] if known else self._fd)
        for name in reversed(missing):
            known = f"{known}/{name}" if known else name
            try:
                if make and known not in self._modes:
                    with suppress(FileExistsError):
                        disk.mkdir(name, 0o700, dir_fd=fd)
                    self._modes[known] = 0o777, None
                below = disk.open(name, LIST, dir_fd=fd)
            finally:
                disk.close(fd)
            fd = below
        self._open[path] = fd
        while len(self._open) > _MOST_OPEN:
            disk.close(self._open.popitem(last=False)[1])
        return fd

    def write(self, path: str, member: Member, blocks: Iterable[bytes]) -> None:
        """Write one member.

        Args:
            path: where, below the folder; known to be harmless.
            member: what it is.
            blocks: its contents.

        Raises:
            OSError: it cannot be written.
        """
        if member.kind == "folder":
            self._folder(path, make=True)
            self._modes[path] = 0o777 if member.mode is None else member.mode | 0o700, member.mtime
            return
        above, name = os.path.split(path)
        fd = self._folder(above, make=True)
        if member.kind == "link":
            disk.symlink(member.link, name, dir_fd=fd)
            return
        descriptor = disk.open(name, NEW_FILE, 0o600, dir_fd=fd)
        with open(descriptor, "wb") as file:
            for block in blocks:
                self._heed()
                file.write(block)
            file.flush()
            mode = 0o666 if member.mode is None else member.mode | 0o600
            self._rights.give(descriptor, mode & self._mask)
            with suppress(OSError, OverflowError, ValueError):
                disk.utime(descriptor, (member.mtime, member.mtime))

    def _finish_folders(self) -> None:
        """Set modes and times of the folders, the innermost first."""
        way: list[str] = []
        for met in below(self._fd):
            if met.how == "enter":
                way.append(met.name)
            elif met.how == "leave":
                mode, mtime = self._modes.get("/".join(way), (0o777, None))
                way.pop()
                with opened(met.name, LIST, met.fd) as folder:
                    self._give(folder, mode, mtime)
        self._give(self._fd, 0o777, None)

    def _give(self, fd: int, mode: int, mtime: float | None) -> None:
        self._rights.give(fd, (mode & self._mask) | 0o700)
        if mtime is not None:
            with suppress(OSError, OverflowError, ValueError):
                disk.utime(fd, (mtime, mtime))


_BLOCK = 1 << 20


_EARLIEST, _LATEST = (1980, 1, 1, 0, 0, 0), (2107, 12, 31, 23, 59, 58)
_LATEST_SECONDS = 4_354_819_198  # the same, for clocks


@contextmanager
def _many_folders(context: RunContext) -> Iterator[RunContext]:
    """Yield a context with open folders of its own: more are asked for than are kept, and the step needs those that it has."""
    with Descriptors() as own:
        yield replace(context, descriptors=own)


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
                with (
                    zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False) as archive,
                    _many_folders(self._context) as context,
                ):
                    for member in step.details["members"]:
                        self._add(context, archive, member, digests, rights)
                file.flush()
                disk.fsync(descriptor)
                with zipfile.ZipFile(file) as archive:
                    self._read_back(archive, digests)
                rights.give(descriptor, 0o666 & ~accounts.umask())
                disk.fsync(descriptor)
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)

    def _add(
        self,
        context: RunContext,
        archive: zipfile.ZipFile,
        member: Mapping[str, Any],
        digests: dict[str, bytes],
        rights: Narrowing,
    ) -> None:
        path, was = member["path"], Identity(*member["was"])
        place = Place(*os.path.split(path))
        try:
            fd, before = find(context, place, was)
            for one in _with_inside(fd, place.name, member["name"]):
                self._write(archive, one, digests, rights)
            find(context, place, was)
        except NotDone as not_done:
            raise NotDone(not_done.reason.reworded(f"{path}: {not_done.reason}")) from None
        found = disk.stat(place.name, dir_fd=fd, follow_symlinks=False)
        if (was.kind == "file" and not same_as(before)(found)) or not is_same_inside(fd, place.name, was):
            raise NotDone(Why.CHANGED().reworded(f"{path}: {Why.CHANGED()}"))

    def _write(self, archive: zipfile.ZipFile, one: Packed, digests: dict[str, bytes], rights: Narrowing) -> None:
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
            raise NotDone(Why.NO_KIND_OF_ENTRY(one.name))
        digests[info.filename] = digest.digest()

    def _read_back(self, archive: zipfile.ZipFile, digests: dict[str, bytes]) -> None:
        names = archive.namelist()
        if len(names) != len(digests):
            raise NotDone(Why.ZIP_NOT_AS_WRITTEN())
        for name in names:
            digest = blake2b()
            with archive.open(name) as member:
                while block := member.read(_BLOCK):
                    self._context.heed()
                    digest.update(block)
            if digest.digest() != digests.get(name):
                raise NotDone(Why.ZIP_MEMBER_DIFFERS(name))


def _zip_name(name: str) -> str:
    # What is not Unicode has no place in a zip that others read; its bytes are shown instead.
    return os.fsencode(name).decode("utf-8", "backslashreplace")


def _with_inside(fd: int, name: str, packed: str) -> Iterator[Packed]:
    """Yield an entry of an open folder and everything in it, with their names in the zip."""
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
    """Check that everything in a zip is, byte for byte, where it was packed from.

    Args:
        context: of the run.
        fd: a descriptor of the folder of the zip.
        name: its name there.
        members: what went into it, as the step has it.

    Raises:
        NotDone: something of it is not there as it is in the zip.
        OSError: the zip, or something of that, cannot be read.
    """
    with (
        open(open_to_read(Place("", name), fd), "rb") as file,
        zipfile.ZipFile(file) as archive,
        _many_folders(context) as inside,
    ):
        left = set(archive.namelist())
        for member in members:
            place = Place(*os.path.split(member["path"]))
            folder, _ = inside.descriptors.entry(place)
            for one in _with_inside(folder, place.name, member["name"]):
                if stat.S_ISDIR(one.status.st_mode):
                    left.discard(one.packed + "/")
                elif one.packed in left and _is_packed(context, archive, one):
                    left.discard(one.packed)
        if left:
            raise NotDone(Why.ONLY_IN_ZIP(min(left)))


def _is_packed(context: RunContext, archive: zipfile.ZipFile, one: Packed) -> bool:
    """Return True if an entry holds what the zip holds of it."""
    with archive.open(one.packed) as member:
        if stat.S_ISLNK(one.status.st_mode):
            return os.fsencode(disk.readlink(one.name, dir_fd=one.fd)) == member.read()
        if not stat.S_ISREG(one.status.st_mode):
            return False
        with open(open_to_read(Place("", one.name), one.fd), "rb") as file:
            return same_stream(context, iter(lambda: member.read(_BLOCK), b""), file)


def same_stream(context: RunContext, blocks: Iterable[bytes], file: IO[bytes]) -> bool:
    """Return True if a file holds nothing but blocks."""
    for block in blocks:
        context.heed()
        if file.read(len(block)) != block:
            return False
    return not file.read(1)


MOST_ENTRIES = 50_000
# More than this, and more than so many times its own size, and an archive is taken for a trap.
LARGE_BYTES, MOST_TIMES = 100_000_000, 100
_LONGEST_PATH, _LONGEST_NAME = 4_096, 255


class Unpack(Making):
    """Gets the contents of an archive out into a new folder."""

    def do(self, step: Step) -> Mark:
        source, target, was = ends_of(step)
        source_fd, before = find(self._context, source, was)
        with part_beside(self._context, step) as part:
            disk.mkdir(part.name, 0o700, dir_fd=part.fd)
            part.made()
            with opened(part.name, LIST, part.fd) as folder, open(open_to_read(source, source_fd), "rb") as file:
                descriptor = file.fileno()
                with Writer(folder, disk.fstat(descriptor), self._context.heed) as writer:
                    ignores_case = volume_of(disk.fstat(folder).st_dev, target.folder).ignores_case
                    limit = max(LARGE_BYTES, MOST_TIMES * was.size)
                    room = _Room(min(limit, free_bytes(folder)), f"more than {limit:,} bytes come out of it", ignores_case)
                    for member, blocks in _members(descriptor, self._context.heed, room):
                        writer.write(_inside(member.name), member, blocks)
            find(self._context, source, was)
            if not same_as(before)(disk.stat(source.name, dir_fd=source_fd, follow_symlinks=False)):
                raise NotDone(Why.CHANGED())
            disk.sync_volume(part.fd)
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)


def refuse_unless_archived(context: RunContext, fd: int, name: str, place: Place) -> None:
    """Check that everything in a folder came, byte for byte, out of an archive that is there.

    Args:
        context: of the run.
        fd: a descriptor of the folder that it is in.
        name: its name there.
        place: where the archive is.

    Raises:
        NotDone: something in it is not in the archive as it is there.
        OSError: one of the two cannot be read.
    """
    archive_fd, _ = context.descriptors.entry(place)
    same = 0
    with opened(name, LIST, fd) as folder:
        with open(open_to_read(place, archive_fd), "rb") as file, Writer(folder, disk.fstat(file.fileno())) as there:
            for member, blocks in _members(file.fileno(), context.heed, None):
                if member.kind != "folder" and not _is_unpacked(context, there, _inside(member.name), member, blocks):
                    raise NotDone(Why.DIFFERS_FROM_ARCHIVE(member.name))
                same += member.kind != "folder"
        if same != sum(met.how == "entry" for met in below(folder)):
            raise NotDone(Why.MORE_THAN_ARCHIVE())


def _is_unpacked(context: RunContext, there: Writer, path: str, member: Member, blocks: Iterable[bytes]) -> bool:
    folder, name = os.path.split(path)
    fd = there.folder(folder)
    if member.kind == "link":
        return disk.readlink(name, dir_fd=fd) == member.link
    with open(open_to_read(Place("", name), fd), "rb") as file:
        return same_stream(context, blocks, file)


class _Room:
    """Counts what comes out, whatever the archive says of itself, and knows which names are one name there."""

    def __init__(self, left: int, why: str, ignores_case: bool) -> None:
        self._left = left
        self._why = why
        self._ignores_case = ignores_case
        self._names: dict[str, str] = {}

    def refuse_alike(self, name: str) -> None:
        """Check that no other name is the same one where letter case does not count."""
        other = self._names.setdefault(system.folded(name), name) if self._ignores_case else name
        if other != name:
            raise NotDone(Why.ARCHIVE_REFUSED(f"{other!r} and {name!r} are one name on this volume"))

    def take(self, size: int) -> None:
        self._left -= size
        self.refuse(0)

    def refuse(self, size: int) -> None:
        """Check that there is room for this many more bytes."""
        if size > self._left:
            raise NotDone(Why.ARCHIVE_TOO_LARGE(self._why))


def _members(descriptor: int, heed: Callable[[], None], room: _Room | None) -> Iterator[tuple[Member, Iterator[bytes]]]:
    """Yield the members of an archive that turned out to be harmless, each with its contents in blocks.

    Raises:
        NotDone: it is not, or it cannot be read.
    """
    try:
        with Archive(descriptor, heed) as archive:
            members = _checked(archive.members(), room)
            contents = archive.contents()
            for member in members:
                yield member, _blocks(contents, room) if member.kind == "file" else iter(())
    except BadArchive as bad:
        raise _unreadable(bad) from None


def _blocks(contents: Iterator[bytes], room: _Room | None) -> Iterator[bytes]:
    try:
        while block := next(contents, b""):
            if room is not None:
                room.take(len(block))
            yield block
    except BadArchive as bad:
        raise _unreadable(bad) from None


def _unreadable(bad: BadArchive) -> NotDone:
    return NotDone(Why.ARCHIVE_UNREADABLE(bad))


def _inside(name: str) -> str:
    """Return a name of an archive as a path below its folder.

    Raises:
        NotDone: it leads out of it, or is too long.
    """
    parts = name.replace("\\", "/").split("/")
    if name.startswith(("/", "\\")) or ".." in parts or "\0" in name or (len(parts[0]) == 2 and parts[0][1] == ":"):
        raise NotDone(Why.ARCHIVE_REFUSED(f"{name!r} points outside its folder"))
    path = slashed.normpath(name)
    longest = max(len(os.fsencode(part)) for part in path.split("/"))
    if len(os.fsencode(path)) > _LONGEST_PATH or longest > _LONGEST_NAME:
        raise NotDone(Why.ARCHIVE_REFUSED(f"the name {name[:60]!r}… is too long"))
    return path


def _checked(members: Iterator[Member], room: _Room | None) -> list[Member]:
    """Return all members of an archive, if it is harmless.

    Raises:
        NotDone: something in it leads out, is not a file, or there is too much of it.
    """
    found: dict[str, Member] = {}
    above: set[str] = set()
    links: set[str] = set()
    total = 0
    for member in members:
        if len(found) >= MOST_ENTRIES:
            raise NotDone(Why.ARCHIVE_REFUSED(f"it contains more than {MOST_ENTRIES:,} files and folders"))
        name = _inside(member.name)
        total += member.size
        if room is not None:
            room.refuse(total)
            room.refuse_alike(name)
        if member.kind == "device":
            raise NotDone(Why.ARCHIVE_REFUSED(f"{member.name!r} is not a file"))
        if member.kind == "link":
            links.add(name)
            _inside(slashed.normpath(slashed.join(os.path.dirname(name), member.link)) if member.link else "/")
            if member.link.startswith("/"):
                raise NotDone(Why.ARCHIVE_REFUSED(f"the link {member.name!r} leads out"))
        elif member.link:
            _inside(member.link)
        if name in found and (member.kind != "folder" or found[name].kind != "folder"):
            raise NotDone(Why.ARCHIVE_REFUSED(f"it contains {member.name!r} twice"))
        if name != ".":
            found.setdefault(name, member)
            folder = os.path.dirname(name)
            while folder and folder not in above:
                above.add(folder)
                folder = os.path.dirname(folder)
    for name in above:
        if name in links:
            raise NotDone(Why.ARCHIVE_REFUSED(f"it contains files below the symbolic link {name!r}"))
        if name in found and found[name].kind != "folder":
            raise NotDone(Why.ARCHIVE_REFUSED(f"it contains files below the file {name!r}"))
    return list(found.values())
