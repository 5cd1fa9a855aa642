"""Owner, mode and attributes of what was made; rights never widen.

Set-id bits lend the rights of an owner to whoever runs the file. So they are given only to what
belongs to the account and group that they were meant for.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping
from contextlib import suppress

from frugal_sorter.platforms import accounts, attributes, disk


def give_owner(fd: int, uid: int, gid: int) -> bool:
    """Give an open entry an owner and a group, as far as this account may; tell whether it has both."""
    found = disk.fstat(fd)
    if (found.st_uid, found.st_gid) == (uid, gid):
        return True
    for owner in ((uid, gid), (-1, gid)):
        try:
            disk.fchown(fd, *owner)
            break
        except OSError:
            continue
    found = disk.fstat(fd)
    return (found.st_uid, found.st_gid) == (uid, gid)


def give_mode(fd: int, mode: int, uid: int, gid: int) -> bool:
    """Give an open entry a mode, without the set-id bits that were meant for another owner; tell whether it has it.

    Args:
        fd: its descriptor.
        mode: the permission bits.
        uid: the owner that they were meant for.
        gid: the group that they were meant for.
    """
    found = disk.fstat(fd)
    allowed = mode
    if found.st_uid != uid:
        allowed &= ~stat.S_ISUID
    # On a folder the bit only says that what is made in it gets its group.
    if found.st_gid != gid and not stat.S_ISDIR(found.st_mode):
        allowed &= ~stat.S_ISGID
    if stat.S_IMODE(found.st_mode) != allowed:
        try:
            disk.fchmod(fd, allowed)
        except OSError:
            return False
    return stat.S_IMODE(disk.fstat(fd).st_mode) == mode


def attributes_of(fd: int) -> dict[str, bytes]:
    """Return the extended attributes of an open entry, access lists among them."""
    try:
        return {name: attributes.getxattr(fd, name) for name in attributes.listxattr(fd)}
    except OSError:
        return {}


def give_attributes(fd: int, given: Mapping[str, bytes]) -> dict[str, bytes]:
    """Give an open entry attributes, and return those that its volume refuses."""
    refused = {}
    for name, value in given.items():
        try:
            attributes.setxattr(fd, name, value)
        except OSError:
            refused[name] = value
    return refused


_CLASSES = (0o070, 0o007)


class Narrowing:
    """What several files allow together: the mode of what is made of them is never wider than any of theirs.

    What this account makes of the files of one other owner belongs to that one, as far as this account may.
    """

    def __init__(self) -> None:
        self._allowed = 0o777
        self._owners: set[tuple[int, int]] = set()

    def file(self, fd: int) -> None:
        """Take in an open file whose contents go into what is made."""
        self.status(disk.fstat(fd))
        # With an access list the bits of the group say only what it allows at most.
        if any(name.startswith("system.posix_acl") for name in attributes_of(fd)):
            self._allowed &= ~0o070

    def status(self, found: os.stat_result) -> None:
        """Take in the status of a file whose contents go into what is made."""
        self._take(found, 0o044)

    def folder(self, found: os.stat_result) -> None:
        """Take in a folder that files lie in: who may not enter it may not read them."""
        self._take(found, 0o011)

    def _take(self, found: os.stat_result, needed: int) -> None:
        self._owners.add((found.st_uid, found.st_gid))
        for group in _CLASSES:
            if not found.st_mode & needed & group:
                self._allowed &= ~group

    def give(self, fd: int, mode: int) -> None:
        """Give an open entry a mode as far as all allow it, and their owner if they have one."""
        uids, gids = {uid for uid, _ in self._owners}, {gid for _, gid in self._owners}
        if len(uids) == 1 and accounts.is_admin():
            give_owner(fd, min(uids), min(gids) if len(gids) == 1 else -1)
        allowed = self._allowed
        if gids != {disk.fstat(fd).st_gid}:
            # Its group is another one than theirs, so that it may do no more than everybody.
            allowed &= ~0o070 | (allowed & 0o007) << 3
        with suppress(PermissionError):  # some volumes know no modes
            disk.fchmod(fd, mode & allowed)
