"""Digests of contents, and comparing two files byte by byte; nothing is changed."""

from __future__ import annotations

from collections.abc import Callable

from frugal_sorter.filesystem.foreseen import real_path
from frugal_sorter.filesystem.record import FileRecord, Identity, Place
from frugal_sorter.filesystem.status import look, look_or_none
from frugal_sorter.filesystem.volumes import volume_of
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.digest import blake2b

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


def with_sample(found: FileRecord, dir_fd: int | None = None) -> FileRecord:
    """Return a record that says WHO a file is also where inode numbers do not last."""
    identity = found.identity
    if identity.kind != "file" or volume_of(identity.dev, found.place.folder).inodes_last:
        return found
    sample = sample_of(found.place, identity.size, dir_fd)
    return found._replace(identity=identity._replace(sample=sample))


def look_like(place: Place, was: Identity, dir_fd: int | None = None) -> FileRecord:
    """Return the status of an entry, with all that is needed to compare it to an earlier one.

    Raises:
        OSError: there is none, or it cannot be looked at.
    """
    found = look(place, dir_fd)
    return found if was.sample is None else _sampled(found, dir_fd)


def look_like_or_none(place: Place, was: Identity, dir_fd: int | None = None) -> FileRecord | None:
    """Return the same as `look_like`, or None where there is no entry."""
    found = look_or_none(place, dir_fd)
    return found if found is None or was.sample is None else _sampled(found, dir_fd)


def _sampled(found: FileRecord, dir_fd: int | None) -> FileRecord:
    if found.identity.kind != "file":
        return found
    sample = sample_of(found.place, found.identity.size, dir_fd)
    return found._replace(identity=found.identity._replace(sample=sample))


def same_bytes(one: int, other: int, heed: Callable[[], None] = lambda: None) -> bool:
    """Tell whether two open files hold the same bytes.

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
    """Tell whether two files hold the same bytes.

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
