"""Walking trees: what is in each folder, and what is inside one."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import nullcontext
from itertools import islice
from typing import Generic, NamedTuple, TypeVar

from frugal_sorter.filesystem import tree as foreseen
from frugal_sorter.filesystem.record import Listing, Unknown, Unread
from frugal_sorter.filesystem.tree import LIST, below, real_path
from frugal_sorter.platforms import disk, slashed, system
from frugal_sorter.platforms.system import blake2b
from frugal_sorter.reasons import Why, reason_of

Context = TypeVar("Context")
Found = TypeVar("Found")

# Counting alone holds at most this many entries of a folder at a time.
COUNTED_AT_ONCE = 20_000
# A folder with one of these is the root of a tree under version control.
VERSION_CONTROL = frozenset({".git", ".hg", ".svn", ".bzr", "_darcs", ".fossil", "CVS"})


Pick = Callable[[Listing], Sequence[int]]


def unread_for(path: str, error: OSError) -> Unread:
    """Return why a folder was not read; what is mounted in a tree is left out by design."""
    if error.errno == errno.EPERM and system.is_private(path):
        return Unread(path, Why.PRIVATE())
    if error.errno == errno.EXDEV:
        return Unread(path, Why.ON_OTHER_VOLUME())
    return Unread(path, reason_of(error))


def read_folder(path: str, status: bool, dev: int | None = None, pick: Pick | None = None, hidden: bool = False) -> Listing:
    """Read one folder into columns, as `read_parts` does, in one part."""
    (listing,) = read_parts(path, status, dev, pick, hidden=hidden)
    return listing


def read_parts(
    path: str, status: bool, dev: int | None = None, pick: Pick | None = None, most: int | None = None, hidden: bool = False
) -> Iterator[Listing]:
    """Read one folder into columns, in parts where it is large: a file of it takes some 800 bytes.

    Args:
        path: an absolute path.
        status: whether sizes and times are wanted; without them no file is looked at singly.
        pick: returns the indexes of the files that matter, given a listing of names alone; the
            others are dropped before any file is looked at.
        dev: the device that may not be left.
        most: how many entries make a part; None for all of the folder.
        hidden: what an attribute hides, whatever its name, is read as well.

    Raises:
        OSError: the folder cannot be opened, is a link by now (ELOOP) or is on another volume (EXDEV).
    """
    view = foreseen.current()
    descriptor = disk.open(path if view is None else _nearest(view, path), LIST)
    try:
        own = disk.fstat(descriptor)
        # From the open folder: a mount or a link may have come between the listing above and now.
        if dev is not None and own.st_dev != dev:
            raise OSError(errno.EXDEV, "on another volume", path)
        listing = Listing(path, own.st_dev)
        with disk.scandir(descriptor) if view is None else nullcontext(view.entries(path)) as there:
            entries: Iterator[disk.Entry | foreseen.Moved] = iter(there)
            if disk.HAS_HIDING_ATTRIBUTE and not hidden:
                shown, left = disk.hidden_among(there)
                entries = iter(shown)
                listing.unread += [Unread(slashed.join(path, name), Why.HIDDEN_ATTRIBUTE()) for name in left]
            while True:
                seen = _read(listing, entries if most is None else islice(entries, most), status, pick)
                if seen or not listing.further:
                    yield listing
                if most is None or seen < most:
                    return
                listing = Listing(path, own.st_dev, further=True)
    finally:
        disk.close(descriptor)


def _read(listing: Listing, entries: Iterable[disk.Entry | foreseen.Moved], status: bool, pick: Pick | None) -> int:
    """Fill a listing with some entries, and return how many they were."""
    files: list[disk.Entry | foreseen.Moved] = []
    for entry in entries:
        # The kind comes with the name: no file is looked at for it.
        if entry.is_file(follow_symlinks=False):
            files.append(entry)
        elif entry.is_dir(follow_symlinks=False):
            listing.folders.append(entry.name)
        elif entry.is_symlink():
            listing.links.append(entry.name)
        else:
            listing.others.append(entry.name)
    seen = len(files) + len(listing.folders) + len(listing.links) + len(listing.others)
    listing.names = [entry.name for entry in files]
    # A linked work tree has a file named .git in place of the folder.
    listing.version_control = not VERSION_CONTROL.isdisjoint(listing.folders) or ".git" in listing.names
    if pick is not None:
        picked = pick(listing)
        if len(picked) < len(files):
            files = [files[index] for index in picked]
            listing.names = [entry.name for entry in files]
    if status:
        _fill(listing, files)
    # The order of a plan is the order of names, on every file system and every day.
    listing.folders.sort()
    return seen


def _nearest(view: foreseen.View, path: str) -> str:
    """Return the folder on the disk whose volume a foreseen one is on."""
    while (real := view.real(path)) is None:
        if not view.is_made(path):
            raise FileNotFoundError(errno.ENOENT, "No such file or directory", path)
        path = os.path.dirname(path)
    return real


def _fill(listing: Listing, files: Sequence[disk.Entry | foreseen.Moved]) -> None:
    """Look at every file, all at once where none fails and singly where one does."""
    try:
        found = [entry.stat(follow_symlinks=False) for entry in files]
    except OSError:
        found, kept = [], []
        for entry in files:
            try:
                found.append(entry.stat(follow_symlinks=False))
            except OSError as error:
                listing.unread.append(Unread(slashed.join(listing.folder, entry.name), reason_of(error)))
            else:
                kept.append(entry)
        files = kept
    if len(files) < len(listing.names):
        listing.names = [entry.name for entry in files]
    listing.status = found


class Reader(Generic[Context]):
    """Reads the folders of a tree, one after the other, and stays on the volume of the first.

    Args:
        status: whether sizes and times are wanted.
        descend: called for each subfolder with the listing that it is in, its name and the context there; returns the
            context below, or None to leave the subfolder alone.
        pick: chooses the files that matter by their names; see `read_parts`.
        most: into how many entries at a time a folder is read, where it need not be known as a whole; None for all.
        hidden: what an attribute hides is read as well.
    """

    def __init__(
        self,
        status: bool,
        descend: Callable[[Listing, str, Context], Context | None],
        pick: Callable[[Listing, Context], Sequence[int]] | None = None,
        most: int | None = None,
        hidden: bool = False,
    ) -> None:
        self._hidden = hidden
        self._status, self._descend, self._pick, self._most = status, descend, pick, most
        # Known once the first folder was read.
        self._dev: int | None = None

    def read(self, path: str, context: Context) -> Listing:
        """Read one folder as a whole.

        Raises:
            OSError: it cannot be read, or is on another volume than the first (EXDEV).
        """
        listing = read_folder(path, self._status, self._dev, self._picking(context), self._hidden)
        # The volume of the first folder; whatever is mounted further down is left to its own owner.
        self._dev = listing.dev
        return listing

    def parts(self, path: str, context: Context) -> Iterator[Listing]:
        """Read one folder a part at a time; there is at least one.

        Raises:
            OSError: as `read`, also after the first part.
        """
        for listing in read_parts(path, self._status, self._dev, self._picking(context), self._most, self._hidden):
            self._dev = listing.dev
            yield listing

    def _picking(self, context: Context) -> Pick | None:
        pick = self._pick
        return None if pick is None else lambda names: pick(names, context)

    def below(self, listing: Listing, context: Context) -> list[tuple[str, Context]]:
        """Return the subfolders of a folder that was read, each with its context; the last is to be read next."""
        prefix = listing.folder if listing.folder.endswith("/") else listing.folder + "/"
        found = []
        for name in reversed(listing.folders):
            context_below = self._descend(listing, name, context)
            if context_below is not None:
                found.append((prefix + name, context_below))
        return found


def working(
    reader: Reader[Context],
    handle: Callable[[Listing, Context, Found], None],
    note: Callable[[Found, Unread], None],
    must_read: str = "",
) -> Callable[[tuple[str, Context], Found], tuple[list[tuple[str, Context]], int]]:
    """Return what `parallel.work_through` does with each folder: read it, hand it on, and go into what is below it.

    Args:
        reader: of the tree.
        handle: processes a folder that was read, or a part of it, with its context, and adds to what was found.
        note: adds a path that could not be read to what was found.
        must_read: a folder whose error is raised instead.
    """

    def work(folder: tuple[str, Context], found: Found) -> tuple[list[tuple[str, Context]], int]:
        path, context = folder
        below: list[tuple[str, Context]] = []
        files = 0
        parts = reader.parts(path, context)
        while True:
            try:
                listing = next(parts, None)
            except OSError as error:
                # The folder that a person named: if it cannot be read, that is the answer, not a remark on a list.
                if path == must_read:
                    raise
                note(found, unread_for(path, error))
                break
            if listing is None:
                break
            for failed in listing.unread:
                note(found, failed)
            handle(listing, context, found)
            below += reader.below(listing, context)
            files += len(listing.names)
        return below, files

    return work


def walk(
    root: str,
    context: Context,
    status: bool,
    descend: Callable[[Listing, str, Context], Context | None],
    unread: Callable[[Unread], None],
    hidden: bool = False,
) -> Iterator[tuple[Listing, Context]]:
    """Read a folder and what is below it, a listing at a time; only one is held.

    Args:
        root: an absolute path without symbolic links.
        context: what the caller wants to know at the root, such as a level.
        status: whether sizes and times are wanted.
        descend: see `Reader`.
        unread: called with each path that could not be read.
        hidden: what an attribute hides is read as well.

    Yields:
        each listing with its context, parents first, subfolders in the order of their names.

    Raises:
        OSError: the root itself cannot be read.
    """
    reader = Reader(status, descend, hidden=hidden)
    listing, left = reader.read(root, context), list[tuple[str, Context]]()
    while True:
        for failed in listing.unread:
            unread(failed)
        yield listing, context
        left += reader.below(listing, context)
        while True:
            if not left:
                return
            path, context = left.pop()
            try:
                listing = reader.read(path, context)
                break
            except OSError as error:
                unread(unread_for(path, error))


class Inside(NamedTuple):
    """Everything that is below a folder.

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
        dir_fd: a descriptor of the folder that it is in.

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
            # Bytes throughout: names need not be text, and none of them can have a NUL.
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
