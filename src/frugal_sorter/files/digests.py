"""Digests of many files with few bytes read: of the first and last block, and of the whole (BLAKE3).

Files are read in the order of their inodes, with two processes and a buffer that is used again. A
file that is not the one that was found any more, or changes while it is read, has no digest.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from blake3 import blake3

from frugal_sorter.files.sharing import in_two

# Up to this size a file is read whole at once: its two ends would be most of it.
WHOLE_BYTES = 16_384
END_BYTES = 4_096
_BUFFER_BYTES = 1 << 20
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK | getattr(os, "O_NOATIME", 0)
_READ_AS_OTHERS = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
# A digest is of the size, too, so that files with the same one have the same size.
_SIZE = struct.Struct("<Q")
# Enough that no two files share one by chance.
_DIGEST_BYTES = 16
_TOLD_EVERY = 500
Told = Callable[[int], None]
# What opening, looking at and closing a file costs, as bytes that could be read meanwhile.
_OPENING_BYTES = 30_000


class Found(NamedTuple):
    """A file as a walk found it: its path, and what says whether it is the same one still."""

    path: str
    dev: int
    ino: int
    size: int
    mtime_ns: int
    ctime_ns: int


class Digest(NamedTuple):
    """What was read of a file: the digest, or why there is none, and how many bytes were read for it."""

    digest: bytes
    problem: str = ""
    bytes: int = 0


def ends_digests(files: Sequence[Found], told: Told) -> list[Digest]:
    """Return for each file a digest of its first and last 4 KiB; of a small one, of the whole."""
    return in_two(files, [_OPENING_BYTES + 2 * END_BYTES] * len(files), _ends, told)


def whole_digests(files: Sequence[Found], told: Told) -> list[Digest]:
    """Return for each file a digest of all its bytes."""
    return in_two(files, [_OPENING_BYTES + one.size for one in files], _wholes, told)


def _ends(files: Iterable[Found], told: Told) -> list[Digest]:
    return _each(files, _digest_ends, told)


def _each(files: Iterable[Found], digest: Callable[[int, int], tuple[bytes, int]], told: Told) -> list[Digest]:
    digests = []
    for done, one in enumerate(files, 1):
        digests.append(_read(one, digest))
        if one.size > _BUFFER_BYTES or not done % _TOLD_EVERY:
            told(done)
    return digests


def _wholes(files: Iterable[Found], told: Told) -> list[Digest]:
    buffer = memoryview(bytearray(_BUFFER_BYTES))

    def digest(descriptor: int, size: int) -> tuple[bytes, int]:
        hasher, done = blake3(_SIZE.pack(size)), 0
        while count := os.readv(descriptor, [buffer]):
            hasher.update(buffer[:count])
            done += count
        return hasher.digest(_DIGEST_BYTES), done

    return _each(files, digest, told)


def _digest_ends(descriptor: int, size: int) -> tuple[bytes, int]:
    if size <= WHOLE_BYTES:
        body = os.read(descriptor, WHOLE_BYTES + 1)
    else:
        body = os.pread(descriptor, END_BYTES, 0) + os.pread(descriptor, END_BYTES, size - END_BYTES)
    return blake3(_SIZE.pack(size) + body).digest(_DIGEST_BYTES), len(body)


def _read(one: Found, digest: Callable[[int, int], tuple[bytes, int]]) -> Digest:
    try:
        try:
            descriptor = os.open(one.path, _READ)
        except PermissionError:
            descriptor = os.open(one.path, _READ_AS_OTHERS)  # only owners may read without a trace
        try:
            found, done = digest(descriptor, one.size)
            now = os.fstat(descriptor)
        finally:
            os.close(descriptor)
    except OSError as error:
        return Digest(b"", (error.strerror or "cannot be read").lower())
    if (now.st_dev, now.st_ino, now.st_size, now.st_mtime_ns, now.st_ctime_ns) != one[1:]:
        return Digest(b"", "changed while it was read", done)
    return Digest(found, "", done)
