"""What is inside a folder: how much, how new, and a digest that tells whether it changed."""

from __future__ import annotations

import hashlib
import os
from typing import NamedTuple

from frugal_sorter.files.record import Unknown
from frugal_sorter.files.walk import reason_of


class Inside(NamedTuple):
    """All that is below a folder.

    Args:
        bytes: of all files.
        files: how many files, links and devices aside.
        newest_ns: the modification time of the newest file, None where there is no file.
        digest: over the relative path, kind, inode, size and modification time of everything.
    """

    bytes: int
    files: int
    newest_ns: int | None
    digest: str


def look_inside(path: str) -> Inside | Unknown:
    """Look at everything below a folder; nothing is opened, no link is followed.

    Args:
        path: an absolute path.

    Returns:
        what is there, or why it cannot be known: then nothing may be decided from it.
    """
    root = os.fsencode(path)
    total = files = 0
    newest_ns: int | None = None
    lines: list[bytes] = []
    todo = [b""]
    while todo:
        below = todo.pop()
        try:
            with os.scandir(os.path.join(root, below) if below else root) as entries:
                for entry in entries:
                    status = entry.stat(follow_symlinks=False)
                    name = os.path.join(below, entry.name)
                    if entry.is_dir(follow_symlinks=False):
                        # A folder's own size and time say nothing of what changed.
                        lines.append(b"%s\0d%d" % (name, status.st_ino))
                        todo.append(name)
                        continue
                    facts = (name, status.st_mode, status.st_ino, status.st_size, status.st_mtime_ns)
                    lines.append(b"%s\0%d %d %d %d" % facts)
                    if entry.is_file(follow_symlinks=False):
                        files += 1
                        total += status.st_size
                        newest_ns = status.st_mtime_ns if newest_ns is None else max(newest_ns, status.st_mtime_ns)
        except OSError as error:
            return Unknown(f"{os.fsdecode(below) or 'the folder'} inside cannot be read: {reason_of(error)}")
    digest = hashlib.blake2b(b"\0\0".join(sorted(lines)), digest_size=16).hexdigest()
    return Inside(total, files, newest_ns, digest)
