"""Packing entries into a new zip, and unpacking archives into a new folder."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator

from frugal_sorter.changes.copier import opened
from frugal_sorter.changes.outcome import CHANGED, NotDone, Outcome
from frugal_sorter.changes.removal import same_as
from frugal_sorter.changes.unpacking import Writer
from frugal_sorter.filesystem.archive import Archive, BadArchive, Member
from frugal_sorter.filesystem.fingerprint import open_to_read
from frugal_sorter.filesystem.record import Place
from frugal_sorter.filesystem.room import free_bytes
from frugal_sorter.filesystem.tree import LIST, below
from frugal_sorter.platforms import disk, kernel, slashed
from frugal_sorter.steps.base import Mark, RunContext
from frugal_sorter.steps.held_entry import ends_of, find
from frugal_sorter.steps.pack import same_stream
from frugal_sorter.steps.parts import Making, finish_part, part_beside
from frugal_sorter.steps.step import Step

MOST_ENTRIES = 50_000
# More than this, and more than so many times its own size, and an archive is taken for a trap.
LARGE_BYTES, MOST_TIMES = 100_000_000, 100
_LONGEST_PATH, _LONGEST_NAME = 4_096, 255


class Unpack(Making):
    """Gets the contents of an archive out into a new folder."""

    def do(self, step: Step) -> Mark:
        source, _, was = ends_of(step)
        source_fd, before = find(self._context, source, was)
        with part_beside(self._context, step) as part:
            disk.mkdir(part.name, 0o700, dir_fd=part.fd)
            part.made()
            with opened(part.name, LIST, part.fd) as folder, open(open_to_read(source, source_fd), "rb") as file:
                descriptor = file.fileno()
                with Writer(folder, disk.fstat(descriptor), self._context.heed) as writer:
                    limit = max(LARGE_BYTES, MOST_TIMES * was.size)
                    room = _Room(min(limit, free_bytes(folder)), f"more than {limit:,} bytes come out of it")
                    for member, blocks in _members(descriptor, self._context.heed, room):
                        writer.write(_inside(member.name), member, blocks)
            find(self._context, source, was)
            if not same_as(before)(disk.stat(source.name, dir_fd=source_fd, follow_symlinks=False)):
                raise NotDone(Outcome.SKIPPED, CHANGED)
            kernel.sync_volume(part.fd)
            made = finish_part(self._context, step, part)
        return Mark(step.id, Outcome.DONE, now=made.identity)


def refuse_unless_archived(context: RunContext, fd: int, name: str, place: Place) -> None:
    """See that all that is in a folder came, byte for byte, out of an archive that is there.

    Args:
        context: of the run.
        fd: a descriptor of the folder that it lies in.
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
                    raise NotDone(Outcome.SKIPPED, f"{member.name} differs from what is in the archive")
                same += member.kind != "folder"
        if same != sum(met.how == "entry" for met in below(folder)):
            raise NotDone(Outcome.SKIPPED, "more is in the folder than in the archive; it stays")


def _is_unpacked(context: RunContext, there: Writer, path: str, member: Member, blocks: Iterable[bytes]) -> bool:
    folder, name = os.path.split(path)
    fd = there.folder(folder)
    if member.kind == "link":
        return disk.readlink(name, dir_fd=fd) == member.link
    with open(open_to_read(Place("", name), fd), "rb") as file:
        return same_stream(context, blocks, file)


class _Room:
    """Counts what comes out, whatever the archive says of itself."""

    def __init__(self, left: int, why: str) -> None:
        self._left = left
        self._why = why

    def take(self, size: int) -> None:
        self._left -= size
        self.refuse(0)

    def refuse(self, size: int) -> None:
        """See that there is room for so many bytes more."""
        if size > self._left:
            raise NotDone(Outcome.FAILED, self._why + ", or there is no room for it")


def _members(
    descriptor: int, heed: Callable[[], None], room: _Room | None
) -> Iterator[tuple[Member, Iterator[bytes]]]:  # fmt: skip
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
    return NotDone(Outcome.FAILED, f"the archive cannot be read ({bad})")


def _inside(name: str) -> str:
    """Return a name of an archive as a path below its folder.

    Raises:
        NotDone: it leads out of it, or is too long.
    """
    parts = name.replace("\\", "/").split("/")
    if name.startswith(("/", "\\")) or ".." in parts or "\0" in name or (len(parts[0]) == 2 and parts[0][1] == ":"):
        raise NotDone(Outcome.FAILED, f"the archive is refused: {name!r} leads out of its folder")
    path = slashed.normpath(name)
    longest = max(len(os.fsencode(part)) for part in path.split("/"))
    if len(os.fsencode(path)) > _LONGEST_PATH or longest > _LONGEST_NAME:
        raise NotDone(Outcome.FAILED, f"the archive is refused: the name {name[:60]!r}… is too long")
    return path


def _checked(members: Iterator[Member], room: _Room | None) -> list[Member]:
    """Return all members of an archive, if it is harmless.

    Raises:
        NotDone: something in it leads out, is no file, or there is too much of it.
    """
    found: dict[str, Member] = {}
    above: set[str] = set()
    links: set[str] = set()
    total = 0
    for member in members:
        if len(found) >= MOST_ENTRIES:
            raise NotDone(Outcome.FAILED, f"the archive is refused: it holds more than {MOST_ENTRIES:,} entries")
        name = _inside(member.name)
        total += member.size
        if room is not None:
            room.refuse(total)
        if member.kind == "device":
            raise NotDone(Outcome.FAILED, f"the archive is refused: {member.name!r} is no file")
        if member.kind == "link":
            links.add(name)
            _inside(slashed.normpath(slashed.join(os.path.dirname(name), member.link)) if member.link else "/")
            if member.link.startswith("/"):
                raise NotDone(Outcome.FAILED, f"the archive is refused: the link {member.name!r} leads out")
        elif member.link:
            _inside(member.link)
        if name in found and (member.kind != "folder" or found[name].kind != "folder"):
            raise NotDone(Outcome.FAILED, f"the archive is refused: it holds {member.name!r} twice")
        if name != ".":
            found.setdefault(name, member)
            folder = os.path.dirname(name)
            while folder and folder not in above:
                above.add(folder)
                folder = os.path.dirname(folder)
    for name in above:
        if name in links:
            raise NotDone(Outcome.FAILED, f"the archive is refused: something lies below the link {name!r}")
        if name in found and found[name].kind != "folder":
            raise NotDone(Outcome.FAILED, f"the archive is refused: something lies below the file {name!r}")
    return list(found.values())
