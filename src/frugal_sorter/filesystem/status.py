"""What is known of a file: its status, its identity, and who has it open."""

from __future__ import annotations

import base64
import ctypes
import errno
import os
import stat
import struct
import sys
from collections.abc import Callable
from contextlib import suppress
from functools import cache, cached_property
from typing import Any, NamedTuple

from frugal_sorter.filesystem import tree as foreseen
from frugal_sorter.filesystem.record import (
    COARSEST_TIME_NS,
    AsItWas,
    EntryKind,
    FileRecord,
    Identity,
    Listing,
    Place,
    is_inside,
    place_of,
)
from frugal_sorter.filesystem.tree import real_path
from frugal_sorter.filesystem.volumes import births_last, volume_of
from frugal_sorter.platforms import attributes, disk, processes
from frugal_sorter.platforms.system import blake2b

_Inode = tuple[int, int]


class _Found(NamedTuple):
    """The programs by the entries that they have open: by inode, those that write alone, and by path."""

    holders: dict[_Inode, str]
    writers: dict[_Inode, str]
    paths: dict[str, str]


class OpenFiles:
    """Asks the system once, when first asked."""

    def __init__(self) -> None:
        self.unseen = 0

    def holder(self, was: Identity, path: str) -> str | None:
        """Return the program that has an entry open, such as `writer (process 12)`, or None."""
        if processes.ASKED_BY_PATH:
            return processes.holder_of(path, False)
        return self._found.holders.get((was.dev, was.ino))

    def writer(self, was: Identity, path: str) -> str | None:
        """Return the program that has an entry open for writing, or None."""
        if processes.ASKED_BY_PATH:
            return processes.holder_of(path, True)
        return self._found.writers.get((was.dev, was.ino))

    def holder_below(self, folder: str) -> str | None:
        """Return a program that has a file open somewhere below a folder, or None."""
        if processes.ASKED_BY_PATH:
            paths = (f"{at}/{name}" for at, _, names in disk.walk(folder) for name in names)
            return next((who for path in paths if (who := processes.holder_of(path, False))), None)
        return next((who for path, who in self._found.paths.items() if is_inside(path, folder)), None)

    @cached_property
    def _found(self) -> _Found:
        import psutil

        found = _Found({}, {}, {})
        own = os.getpid()
        for process in psutil.process_iter(["name"]):
            # What this program has open itself, such as the log, is in nobody's way.
            if process.pid == own:
                continue
            try:
                opened = process.open_files()
            except (psutil.Error, OSError):
                # Programs of other accounts do not say what they have open; only their number is shown.
                self.unseen += 1
                continue
            for one in opened:
                # By inode, since a program may have opened it by another of its names.
                try:
                    status = disk.stat(one.path)
                except OSError:
                    continue
                who = f"{process.info['name']} (process {process.pid})"
                found.holders[status.st_dev, status.st_ino] = who
                if getattr(one, "mode", "w") != "r":  # not every system tells
                    found.writers[status.st_dev, status.st_ino] = who
                # By path as well: whether a folder is in use is asked of everything below it.
                found.paths[one.path] = who
        return found


BLOCK = 1 << 20
_SAMPLE = 4_096
# Never through a link, and without waiting for the other end of a pipe.
READ = disk.O_RDONLY | disk.O_NOFOLLOW | disk.O_CLOEXEC | disk.O_NONBLOCK

_NO_TRACE = disk.O_NOATIME


def open_to_read(place: Place, dir_fd: int | None = None) -> int:
    """Open a file for reading, never through a link and, where that is allowed, without a trace in its access time.

    Args:
        place: the file.
        dir_fd: a descriptor of its folder; without one its path is used.
    """
    name = real_path(place.path) if dir_fd is None else place.name
    try:
        return disk.open(name, READ | _NO_TRACE, dir_fd=dir_fd)
    except PermissionError:
        return disk.open(name, READ, dir_fd=dir_fd)  # only its owner may read without a trace


def sample_of(place: Place, size: int, dir_fd: int | None = None) -> str:
    """Return a digest of the first and the last 4 KiB of a file.

    Raises:
        OSError: it cannot be read.
    """
    # Head and tail tell files of one size and time apart without reading the gigabytes between.
    descriptor = open_to_read(place, dir_fd)
    try:
        head = disk.pread(descriptor, _SAMPLE, 0)
        tail = disk.pread(descriptor, _SAMPLE, max(0, size - _SAMPLE))
    finally:
        disk.close(descriptor)
    return blake2b(head + b"\0" + tail, digest_size=16).hexdigest()


def digest_of_contents(place: Place) -> str:
    """Return a digest of everything that a file holds (BLAKE2b, RFC 7693, 32 bytes).

    Raises:
        OSError: it cannot be read.
    """
    descriptor = open_to_read(place)
    try:
        digest, at = blake2b(digest_size=32), 0
        while block := disk.pread(descriptor, BLOCK, at):
            digest.update(block)
            at += len(block)
        return str(digest.hexdigest())
    finally:
        disk.close(descriptor)


def with_sample(found: FileRecord, dir_fd: int | None = None) -> FileRecord:
    """Return a record that says WHO a file is also where inode numbers do not last."""
    identity = found.identity
    # What is not carried out need not be known again.
    if identity.kind != "file" or disk.IS_INVENTORY or volume_of(identity.dev, found.place.folder).inodes_last:
        return found
    sample = sample_of(found.place, identity.size, dir_fd)
    return found._replace(identity=identity._replace(sample=sample))


def look_like(place: Place, was: Identity, dir_fd: int | None = None) -> FileRecord:
    """Return the status of an entry, with everything that is needed to compare it to an earlier one.

    Raises:
        OSError: there is none, or it cannot be looked at.
    """
    found = look(place, dir_fd)
    return found if was.sample is None else _sampled(found, dir_fd)


def look_like_or_none(place: Place, was: Identity, dir_fd: int | None = None) -> FileRecord | None:
    """Return what `look_like` does, or None if nothing is there."""
    found = look_or_none(place, dir_fd)
    return found if found is None or was.sample is None else _sampled(found, dir_fd)


def _sampled(found: FileRecord, dir_fd: int | None) -> FileRecord:
    if found.identity.kind != "file":
        return found
    sample = sample_of(found.place, found.identity.size, dir_fd)
    return found._replace(identity=found.identity._replace(sample=sample))


def same_bytes(one: int, other: int, heed: Callable[[], None] = lambda: None) -> bool:
    """Return True if two open files hold the same bytes.

    Args:
        one: a descriptor.
        other: a descriptor.
        heed: called before each block; it raises to stop.
    """
    at = 0
    while True:
        heed()
        # By position: the descriptors may be shared, and their places are left alone.
        mine, theirs = disk.pread(one, BLOCK, at), disk.pread(other, BLOCK, at)
        if mine != theirs:
            return False
        if not mine:
            return True
        at += len(mine)


def same_contents(one: Place, other: Place) -> bool:
    """Return True if two files hold the same bytes.

    Raises:
        OSError: one of them cannot be read.
    """
    first = open_to_read(one)
    try:
        second = open_to_read(other)
        try:
            return disk.fstat(first).st_size == disk.fstat(second).st_size and same_bytes(first, second)
        finally:
            disk.close(second)
    finally:
        disk.close(first)


_AT_SYMLINK_NOFOLLOW = 0x100
_STATX_BASIC_STATS = 0x7FF
_STATX_BTIME = 0x800
_ENCODING = sys.getfilesystemencoding()
# struct statx of statx(2), up to stx_dev_minor.
_WHOLE, _HALVES = struct.Struct("=Q"), struct.Struct("=II")
_BIRTH = struct.Struct("=qI")
_LAYOUT = struct.Struct("=I12xIIIH2xQQ16x" + "qI4x" * 4 + "8xQ")


_KINDS: dict[int, EntryKind] = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}


def kind_of(mode: int) -> EntryKind:
    """Name the kind of entry that a mode describes."""
    return _KINDS.get(stat.S_IFMT(mode), "other")


_tuple: Callable[..., Any] = tuple.__new__


def _record(
    place: Place,
    mode: int,
    dev: int,
    ino: int,
    size: int,
    mtime_ns: int,
    ctime_ns: int,
    born_ns: int | None,
    nlink: int,
    uid: int,
    gid: int,
    atime_ns: int,
) -> FileRecord:
    kind = kind_of(mode)
    lasting_ns = born_ns if born_ns is None or births_last(dev, place.folder) else None
    # As tuples: this is asked for every entry that is planned or changed, and naming the fields takes as long as the call.
    who = (
        (kind, dev, ino, 0, 0, lasting_ns, None, None)
        if kind == "folder"
        else (kind, dev, ino, size, mtime_ns, lasting_ns, None, None)
    )
    identity = _tuple(Identity, who)
    facts = (place, identity, mtime_ns, ctime_ns, mode, nlink, uid, gid, atime_ns, born_ns)
    found: FileRecord = _tuple(FileRecord, facts)
    return found


def _by_lstat(place: Place, dir_fd: int | None) -> FileRecord:
    name = place.path if dir_fd is None else place.name
    return _record_of(place, disk.stat(name, dir_fd=dir_fd, follow_symlinks=False))


def _record_of(place: Place, found: os.stat_result) -> FileRecord:
    born_ns: int | None = getattr(found, "st_birthtime_ns", None)
    if born_ns is None and (birth := getattr(found, "st_birthtime", None)) is not None:
        born_ns = int(birth * 1_000_000_000)
    return _record(
        place,
        found.st_mode,
        found.st_dev,
        found.st_ino,
        found.st_size,
        found.st_mtime_ns,
        found.st_ctime_ns,
        born_ns,
        found.st_nlink,
        found.st_uid,
        found.st_gid,
        found.st_atime_ns,
    )


def record_in(listing: Listing, at: int) -> FileRecord:
    """Return what the columns of a folder say of the file at an index; on Linux its birth is not among it.

    Without sizes and times in the listing it has none.
    """
    if listing.status:
        return _record_of(listing.place(at), listing.status[at])
    return FileRecord(listing.place(at), Identity("file", listing.dev, 0, 0, 0), 0, 0, stat.S_IFREG, 1, 0, 0, 0)


@cache
def _device(halves: int) -> int:
    """Return the number of a device, which statx has in two halves."""
    return disk.device(*_HALVES.unpack(_WHOLE.pack(halves)))


_Look = Callable[[Place, int | None], FileRecord]
_IsAs = Callable[[str, int, Identity], bool]


def _looks_by(call: Any) -> tuple[_Look, _IsAs]:
    """Return `look` and `is_same_file` by statx(2)."""
    wanted = _STATX_BASIC_STATS | _STATX_BTIME
    # Buffers that no call is using; threads may look at the same time.
    free = [ctypes.create_string_buffer(256)]

    def look(place: Place, dir_fd: int | None) -> FileRecord:
        try:
            buffer = free.pop()
        except IndexError:
            buffer = ctypes.create_string_buffer(256)
        if dir_fd is None:
            base, name = -100, place.path
        else:
            base, name = dir_fd, place.name
        if call(base, name.encode(_ENCODING, "surrogateescape"), _AT_SYMLINK_NOFOLLOW, wanted, buffer) != 0:
            code = ctypes.get_errno()
            free.append(buffer)
            raise OSError(code, os.strerror(code), place.path)
        (mask, nlink, uid, gid, mode, ino, size, atime_s, atime_n, born_s, born_n, ctime_s, ctime_n, mtime_s, mtime_n, halves) = (
            _LAYOUT.unpack_from(buffer)
        )
        free.append(buffer)
        born_ns = born_s * 1_000_000_000 + born_n if mask & _STATX_BTIME else None
        return _record(
            place,
            mode,
            _device(halves),
            ino,
            size,
            mtime_s * 1_000_000_000 + mtime_n,
            ctime_s * 1_000_000_000 + ctime_n,
            born_ns,
            nlink,
            uid,
            gid,
            atime_s * 1_000_000_000 + atime_n,
        )

    def is_as(name: str, dir_fd: int, was: Identity) -> bool:
        try:
            buffer = free.pop()
        except IndexError:
            buffer = ctypes.create_string_buffer(256)
        failed = call(dir_fd, name.encode(_ENCODING, "surrogateescape"), _AT_SYMLINK_NOFOLLOW, wanted, buffer)
        code = ctypes.get_errno() if failed else 0
        (mask, _, _, _, mode, ino, size, _, _, born_s, born_n, _, _, mtime_s, mtime_n, halves) = _LAYOUT.unpack_from(buffer)
        free.append(buffer)
        if failed:
            raise OSError(code, os.strerror(code), name)
        born_ns = born_s * 1_000_000_000 + born_n if mask & _STATX_BTIME else None
        return (
            ino == was.ino
            and size == was.size
            and mtime_s * 1_000_000_000 + mtime_n == was.mtime_ns
            and was.born_ns in (None, born_ns)
            and stat.S_ISREG(mode)
            and _device(halves) == was.dev
        )

    return look, is_as


def _birth_by(call: Any) -> Callable[[str], int]:
    """Return `birth_ns` by statx(2)."""
    births = ctypes.create_string_buffer(256)

    def birth(path: str) -> int:
        if call(-100, path.encode(_ENCODING, "surrogateescape"), _AT_SYMLINK_NOFOLLOW, _STATX_BTIME, births) != 0:
            return -1
        seconds, nanoseconds = _BIRTH.unpack_from(births, 80)
        return int(seconds) * 1_000_000_000 + int(nanoseconds)

    return birth


def _is_as(name: str, dir_fd: int, was: Identity) -> bool:
    return _by_lstat(Place("", name), dir_fd).identity == was


def _birth(path: str) -> int:
    try:
        return _by_lstat(Place("", path), None).born_ns or 0
    except OSError:
        return -1


_call = disk.statx()
_look, _is_same_file = _looks_by(_call) if _call else (_by_lstat, _is_as)
_birth_ns = _birth_by(_call) if _call else _birth


def birth_ns(path: str) -> int:
    """Return when an entry was created, in ns since the epoch; 0 where that is not kept, -1 where it is gone."""
    return _birth_ns(path)


def is_same_file(name: str, dir_fd: int, was: Identity, seen_ns: int) -> bool:
    """Return True if a name in an open folder is a certain file, in every number that says WHO and its STATE.

    This is `look` and a comparison, for the many: False says only that a closer look is needed.

    Args:
        name: its name.
        dir_fd: a descriptor of its folder.
        was: the file.
        seen_ns: a moment after which it was seen, in ns since the epoch.

    Raises:
        OSError: there is no such entry, or it cannot be looked at.
    """
    found = disk.stat(name, dir_fd=dir_fd, follow_symlinks=False)
    return is_unchanged(found, was, seen_ns) or _is_same_file(name, dir_fd, was)


def is_unchanged(found: os.stat_result, was: Identity, seen_ns: int) -> bool:
    """Return True if a status that knows no birth is that of a certain file, without having to ask for its birth.

    A number that is given to a new file takes the time of that as the time of its last change, which no
    program can set. So a file whose status has not changed since it was seen is the one that was seen.

    Args:
        found: its status now.
        was: the file.
        seen_ns: a moment after which it was seen, in ns since the epoch.
    """
    return (
        found.st_ino == was.ino
        and found.st_size == was.size
        and found.st_mtime_ns == was.mtime_ns
        and found.st_dev == was.dev
        and found.st_ctime_ns < seen_ns - COARSEST_TIME_NS
        and stat.S_ISREG(found.st_mode)
    )


def look(place: Place, dir_fd: int | None = None) -> FileRecord:
    """Return the status of an entry, a symbolic link itself rather than what it points to.

    Args:
        place: where to look.
        dir_fd: an open descriptor of `place.folder`; without one the path is used.

    Raises:
        OSError: there is no such entry, or it cannot be looked at.
    """
    if disk.IS_INVENTORY or foreseen.current() is not None:
        return _look_ahead(place)
    try:
        return _look(place, dir_fd)
    except OSError as error:
        if error.errno != errno.ENAMETOOLONG or dir_fd is not None:
            raise
    # Below more folders than one call can name.
    folder = disk.open(place.folder, foreseen.PASS)
    try:
        return _look(place, folder)
    finally:
        disk.close(folder)


def _look_ahead(place: Place) -> FileRecord:
    """Return the status of what will be at a place, or of what an inventory has there."""
    view, looking = foreseen.current(), _by_lstat if disk.IS_INVENTORY else _look
    if view is None:
        return looking(place, None)
    folder = os.path.dirname(place.path) if view.is_made(place.path) else ""
    found = _look_ahead(place_of(folder)) if folder else looking(place_of(foreseen.real_path(place.path)), None)
    born_ns = view.born_ns.get(place.path)
    identity = found.identity if born_ns is None else found.identity._replace(born_ns=born_ns)
    return found._replace(place=place, identity=identity, born_ns=born_ns or found.born_ns)


def look_or_none(place: Place, dir_fd: int | None = None) -> FileRecord | None:
    """Return the status of an entry, or None where there is none.

    Raises:
        OSError: it cannot be looked at for another reason than its absence.
    """
    try:
        return look(place, dir_fd)
    except (FileNotFoundError, NotADirectoryError):
        return None


def folder_as_it_is(path: str) -> AsItWas:
    """Return what a folder that is removed must come back with: mode, owner, modification time, attributes.

    Raises:
        OSError: it cannot be looked at.
    """
    found = disk.lstat(path)
    extended = {}
    with suppress(OSError):
        extended = {
            key: base64.b64encode(attributes.getxattr(path, key, follow_symlinks=False)).decode()
            for key in attributes.listxattr(path, follow_symlinks=False)
        }
    return {
        "mode": stat.S_IMODE(found.st_mode),
        "uid": found.st_uid,
        "gid": found.st_gid,
        "mtime_ns": found.st_mtime_ns,
        "attributes": extended,
    }
