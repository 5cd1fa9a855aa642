"""What an archive holds, read in a child process of its own: see `filesystem.archive`.

Archives are other people's: damaged, hostile, endless. So this module runs in a child with bounded memory
and time, which names the members first, and sends their contents when it is told to. It decides
nothing: whether a name or a size is harmless is for its parent to say.
"""

from __future__ import annotations

import json
import lzma
import os
import stat
import sys
import tarfile
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator
from typing import IO, Any

from frugal_sorter.platforms import processes

MEMORY_BYTES = 1 << 30
BLOCK = 1 << 20
_LONGEST_LINK = 4_096
# A RuntimeError is raised for what is encrypted, and a kind of it for ways to pack that are not known.
_UNREADABLE = (
    zipfile.BadZipFile, tarfile.TarError, zlib.error, lzma.LZMAError, EOFError, ValueError, RuntimeError, KeyError,
    IndexError, OSError, OverflowError,
)  # fmt: skip
Opened = Callable[[], IO[bytes] | None]


def _zip_members(archive: zipfile.ZipFile) -> Iterator[tuple[dict[str, Any], Opened]]:
    for info in archive.infolist():
        # The upper half is the mode of Unix; 0 where the zip was made elsewhere (APPNOTE 4.4.15).
        mode = info.external_attr >> 16
        kind = "folder" if info.is_dir() else "link" if stat.S_ISLNK(mode) else "file"
        if stat.S_IFMT(mode) not in (0, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK):
            kind = "device"
        # Encrypted (APPNOTE 4.4.4).
        if info.flag_bits & 1:
            raise RuntimeError("the archive needs a password")
        link = ""
        if kind == "link":
            with archive.open(info) as file:
                link = file.read(_LONGEST_LINK).decode("utf-8", "surrogateescape")
        try:
            # Dates in a zip have no time zone: they are those of whoever made it, and are taken for ours.
            moment = time.mktime((*info.date_time, 0, 0, -1))
        except (ValueError, OverflowError):
            moment = 0.0
        member = {
            "name": info.filename,
            "kind": kind,
            "size": info.file_size,
            "mode": mode & 0o777 if mode else None,
            "mtime": moment,
            "link": link,
        }
        yield member, lambda info=info: archive.open(info)  # type: ignore[misc]


def _tar_members(tar: tarfile.TarFile) -> Iterator[tuple[dict[str, Any], Opened]]:
    for info in tar:
        kind = "folder" if info.isdir() else "file" if info.isreg() else "link" if info.issym() else "device"
        # A hard link in a tar holds what an earlier member does, and becomes a file of its own.
        if info.islnk():
            kind = "file"
        member = {
            "name": info.name,
            "kind": kind,
            "size": info.size,
            "mode": info.mode & 0o777,
            "mtime": float(info.mtime),
            "link": info.linkname if info.issym() or info.islnk() else "",
        }
        yield member, lambda info=info: tar.extractfile(info)  # type: ignore[misc]


def _say(value: object) -> None:
    sys.stdout.buffer.write(json.dumps(value).encode("ascii") + b"\n")


def _send(members: Iterator[tuple[dict[str, Any], Opened]]) -> None:
    """Name all members, wait for the word, then send the contents of each file in blocks, each after its length."""
    ways = []
    for member, way in members:
        _say(member)
        # One by one: the parent may not want to hear of more.
        sys.stdout.buffer.flush()
        if member["kind"] == "file":
            ways.append(way)
    _say(None)
    sys.stdout.buffer.flush()
    if sys.stdin.buffer.readline() != b"go\n":
        return
    for way in ways:
        file = way()
        if file is None:
            raise ValueError("a hard link in it leads to no file")
        with file:
            while block := file.read(BLOCK):
                sys.stdout.buffer.write(b"%d\n" % len(block) + block)
        sys.stdout.buffer.write(b"0\n")
    sys.stdout.buffer.flush()


def _tar_of(file: IO[bytes]) -> tarfile.TarFile:
    try:
        return tarfile.open(fileobj=file, mode="r:*")
    except tarfile.ReadError:
        # What the library says is a line for each compression that it tried.
        raise ValueError("it is neither a zip nor a tar") from None


def serve() -> None:
    """Read the archive that the first argument hands on; the second one is how many seconds it has."""
    descriptor, seconds = processes.handed_on(sys.argv[1]), int(sys.argv[2])
    processes.limit(MEMORY_BYTES, seconds)
    try:
        with open(descriptor, "rb") as file:
            if zipfile.is_zipfile(file):
                file.seek(0)
                with zipfile.ZipFile(file) as archive:
                    _send(_zip_members(archive))
            else:
                file.seek(0)
                with _tar_of(file) as tar:
                    _send(_tar_members(tar))
    except MemoryError:
        _say({"error": "it needs too much memory"})
    except RecursionError:
        _say({"error": "its links lead in a circle"})
    except _UNREADABLE as error:
        _say({"error": str(error) or type(error).__name__})
    sys.stdout.buffer.flush()
    os._exit(0)
