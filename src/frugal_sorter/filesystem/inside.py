"""What is inside a folder: how much, how new, and a digest that tells whether it changed."""

from __future__ import annotations

import os
import stat
from typing import NamedTuple

from frugal_sorter.filesystem.record import Unknown
from frugal_sorter.filesystem.tree import LIST, below, real_path
from frugal_sorter.filesystem.walk import VERSION_CONTROL, reason_of
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.system import blake2b


class Inside(NamedTuple):
    """All that is below a folder.

    Args:
        bytes: of all files.
        files: how many files, links and devices aside.
        newest_ns: the modification time of the newest file, None where there is no file.
        digest: over the relative path, kind, inode, size and modification time of everything.
        version_control: a tree under version control is in it, or it is one itself.
        changed_ns: when the last of its files and links was changed in any way (ctime).
    """

    bytes: int
    files: int
    newest_ns: int | None
    digest: str
    version_control: bool = False
    changed_ns: int = 0


def look_inside(path: str, dir_fd: int | None = None) -> Inside | Unknown:
    """Look at everything below a folder; nothing is opened but folders, no link is followed.

    Args:
        path: an absolute path, or with `dir_fd` the name of the folder there.
        dir_fd: a descriptor of the folder that it lies in.

    Returns:
        what is there, or why it cannot be known: then nothing may be decided from it.
    """
    try:
        fd = disk.open(path if dir_fd is not None else real_path(path), LIST, dir_fd=dir_fd)
    except OSError as error:
        return Unknown(f"the folder inside cannot be read: {reason_of(error)}")
    total = files = 0
    newest_ns: int | None = None
    repository = False
    changed_ns = 0
    lines: list[bytes] = []
    way = b""
    ways: list[bytes] = []
    try:
        for how, _, text, status in below(fd):
            if how == "leave":
                way = ways.pop()
                continue
            # Bytes throughout: names need not be text, and NUL can stand in none of them.
            name = way + os.fsencode(text)
            repository = repository or text in VERSION_CONTROL
            if how == "enter":
                # A folder's own size and time say nothing of what changed.
                lines.append(b"%s\0d%d" % (name, status.st_ino))
                ways.append(way)
                way = name + b"/"
                continue
            # Times of change are left out: a tag or a link elsewhere changes them, and nothing inside.
            facts = (name, status.st_mode, status.st_ino, status.st_size, status.st_mtime_ns)
            lines.append(b"%s\0%d %d %d %d" % facts)
            changed_ns = max(changed_ns, status.st_ctime_ns)
            if stat.S_ISREG(status.st_mode):
                files += 1
                total += status.st_size
                newest_ns = status.st_mtime_ns if newest_ns is None else max(newest_ns, status.st_mtime_ns)
    except OSError as error:
        # Half a sum is worse than none: a rule would take a folder for small or old that is not.
        return Unknown(f"{os.fsdecode(way[-200:]) or 'the folder'} inside cannot be read: {reason_of(error)}")
    finally:
        disk.close(fd)
    # Sorted, since the order in which a folder names what is in it is nobody's promise.
    digest = blake2b(b"\0\0".join(sorted(lines)), digest_size=16).hexdigest()
    return Inside(total, files, newest_ns, digest, repository, changed_ns)
