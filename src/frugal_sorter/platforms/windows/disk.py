"""The calls on files and folders, with descriptors of open folders.

An open folder is a handle that nobody shares for deletion: while it is open, it and the folders above it keep their
names, so that a name in it is reached by its path.
"""

from __future__ import annotations

import ctypes
import errno
import msvcrt
import ntpath
import os
import stat as modes
import sys
from collections.abc import Iterable, Iterator, Sequence
from ctypes import wintypes
from os import O_APPEND, O_CREAT, O_EXCL, O_RDONLY, O_RDWR, O_TRUNC, O_WRONLY
from types import TracebackType
from typing import Any, TypeVar

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api
from frugal_sorter.platforms.windows.accounts import account_key
from frugal_sorter.platforms.windows.slashed import Named, final_path, native, slashed, top_and_names

# Bits that the C library does not use.
O_DIRECTORY, O_PATH, O_NOFOLLOW = 1 << 24, 1 << 25, 1 << 26
O_CLOEXEC = os.O_NOINHERIT
O_NOATIME = O_NOCTTY = O_NONBLOCK = 0
BLOCK_BYTES = 512
# Whether an attribute can hide an entry, whatever its name.
HAS_HIDING_ATTRIBUTE = True
_CLUSTER_BYTES = 4_096
# From 1601 to 1970, in 100 ns.
_EPOCH = 116_444_736_000_000_000
# Such a reparse point stands for another place; all others are files that something else keeps.
_STANDS_FOR = 0x20000000
_63_BITS = (1 << 63) - 1
# DACL_SECURITY_INFORMATION and PROTECTED_DACL_SECURITY_INFORMATION (winnt.h).
_OWN_LIST = 0x80000004

One = TypeVar("One")
_folders: dict[int, str] = {}


def path_of(descriptor: int) -> str:
    """Return the path of what is open.

    Raises:
        OSError: the system does not say.
    """
    if (known := _folders.get(descriptor)) is not None:
        return known
    return final_path(msvcrt.get_osfhandle(descriptor))


def _full(path: Named | int, dir_fd: int | None) -> str:
    if isinstance(path, int):
        return path_of(path)
    text = slashed(path)
    if dir_fd is None or ntpath.isabs(text):
        return text
    folder = path_of(dir_fd)
    if text == ".":
        return folder
    return ntpath.dirname(folder) if text == ".." else f"{folder.rstrip('/')}/{text}"


def _handle(path: str, access: int, share: int, disposition: int = api.OPEN_EXISTING, flags: int = 0) -> int:
    handle: int = api.check(api.create_file(native(path), access, share, None, disposition, flags, None), path)
    return handle


def open(path: Named, flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
    """Open a file or folder; see open(2). With O_NOFOLLOW a link is refused (ELOOP).

    Raises:
        OSError: it cannot be opened; EBUSY where another program does not share it.
    """
    full = _full(path, dir_fd)
    if flags & (O_DIRECTORY | O_PATH):
        return _descend(full) if flags & O_PATH and dir_fd is None else _open_folder(full)
    how = flags & (O_WRONLY | O_RDWR)
    access = {O_RDONLY: api.GENERIC_READ, O_WRONLY: api.GENERIC_WRITE}.get(how, api.GENERIC_READ | api.GENERIC_WRITE)
    return _descriptor(full, flags, access | api.READ_ATTRIBUTES, api.SHARE_ALL)


def open_alone(name: str, flags: int, fd: int) -> int:
    """Open a file of an open folder for reading, while nobody has it open for writing; until it is closed nobody can.

    Raises:
        OSError: EBUSY where somebody has, or does not share it.
    """
    return _descriptor(_full(name, fd), flags, api.GENERIC_READ, api.SHARE_READ | api.SHARE_DELETE)


def _descriptor(full: str, flags: int, access: int, share: int) -> int:
    if flags & O_CREAT:
        disposition = api.CREATE_NEW if flags & O_EXCL else api.CREATE_ALWAYS if flags & O_TRUNC else api.OPEN_ALWAYS
    else:
        disposition = api.TRUNCATE_EXISTING if flags & O_TRUNC else api.OPEN_EXISTING
    itself = api.THE_LINK_ITSELF if flags & O_NOFOLLOW else 0
    handle = _handle(full, access, share, disposition, api.NORMAL | itself)
    try:
        found = _tag(handle, full)
        if flags & O_NOFOLLOW and _is_link(found.attributes, found.tag):
            raise OSError(errno.ELOOP, "a link", full)
        if not flags & (O_WRONLY | O_RDWR) and found.attributes & api.ELSEWHERE:
            raise OSError(errno.ENOTSUP, "kept in a cloud, from which it would be fetched", full)
        descriptor = msvcrt.open_osfhandle(handle, flags & (O_APPEND | O_WRONLY | O_RDWR) | os.O_NOINHERIT)
    except OSError:
        api.close_handle(handle)
        raise
    _folders.pop(descriptor, None)
    return descriptor


def _descend(full: str) -> int:
    """Open each folder on the way to one: what is open cannot be swapped, and a link on the way is noticed."""
    way, names = top_and_names(full)
    descriptor = _open_folder(way)
    for name in names:
        way = f"{way.rstrip('/')}/{name}"
        try:
            below = _open_folder(way)
        finally:
            close(descriptor)
        descriptor = below
    return descriptor


def _open_folder(full: str) -> int:
    access, itself = api.LIST_FOLDER | api.READ_ATTRIBUTES, api.ALSO_FOLDERS | api.THE_LINK_ITSELF
    handle = _handle(full, access, api.SHARE_READ | api.SHARE_WRITE, flags=itself)
    try:
        found = _tag(handle, full)
        if _is_link(found.attributes, found.tag):
            raise OSError(errno.ELOOP, "a link", full)
        if not found.attributes & api.DIRECTORY:
            raise OSError(errno.ENOTDIR, "not a folder", full)
        descriptor = msvcrt.open_osfhandle(handle, O_RDONLY | os.O_NOINHERIT)
    except OSError:
        api.close_handle(handle)
        raise
    _folders[descriptor] = full
    return descriptor


def close(descriptor: int) -> None:
    """Close what is open."""
    _folders.pop(descriptor, None)
    os.close(descriptor)


# Looking


def _tag(handle: int, name: str) -> api.TagInfo:
    found = api.TagInfo()
    api.check(api.get_info(handle, api.TAG, ctypes.byref(found), ctypes.sizeof(found)), name)
    return found


def _is_link(attributes: int, tag: int) -> bool:
    return bool(attributes & api.REPARSE_POINT and tag & _STANDS_FOR)


def _status(handle: int, name: str) -> os.stat_result:
    """Return the status of an open entry; its time of change is that of the system, which no program sets."""
    basic, standard, ids, tag = api.BasicInfo(), api.StandardInfo(), api.IdInfo(), _tag(handle, name)
    for kind, info in ((api.BASIC, basic), (api.STANDARD, standard)):
        api.check(api.get_info(handle, kind, ctypes.byref(info), ctypes.sizeof(info)), name)
    if api.get_info(handle, api.ID, ctypes.byref(ids), ctypes.sizeof(ids)):
        dev, ino = ids.volume, ids.id[0] ^ ids.id[1]
    else:
        old = api.HandleInfo()
        api.check(api.get_handle_info(handle, ctypes.byref(old)), name)
        dev, ino = old.volume, old.id_high << 32 | old.id_low
    if _is_link(basic.attributes, tag.tag):
        mode = modes.S_IFLNK | 0o777
    elif basic.attributes & api.DIRECTORY:
        mode = modes.S_IFDIR | 0o777
    else:
        mode = modes.S_IFREG | (0o444 if basic.attributes & api.READONLY else 0o666)
    times = [(moment - _EPOCH) * 100 for moment in (basic.accessed, basic.written, basic.changed)]
    born_ns = (basic.created - _EPOCH) * 100 if api.KEEPS_BIRTHS else None
    seconds = [moment // 1_000_000_000 for moment in times]
    size = 0 if modes.S_ISDIR(mode) else standard.size
    more = {
        "st_atime_ns": times[0], "st_mtime_ns": times[1], "st_ctime_ns": times[2], "st_birthtime_ns": born_ns,
        "st_atime": times[0] / 1e9, "st_mtime": times[1] / 1e9, "st_ctime": times[2] / 1e9,
        "st_file_attributes": basic.attributes, "st_reparse_tag": tag.tag,
    }  # fmt: skip
    # What fits into the columns of a database.
    who = (mode, ino & _63_BITS, dev & _63_BITS, standard.links, 0, 0, size)
    return os.stat_result((*who, *seconds[:3]), more)


def stat(path: Named | int, *, dir_fd: int | None = None, follow_symlinks: bool = True) -> os.stat_result:
    """Return the status of an entry.

    Raises:
        OSError: there is none, or it cannot be looked at.
    """
    if isinstance(path, int):
        return fstat(path)
    full = _full(path, dir_fd)
    itself = 0 if follow_symlinks else api.THE_LINK_ITSELF
    handle = _handle(full, api.READ_ATTRIBUTES, api.SHARE_ALL, flags=api.ALSO_FOLDERS | itself)
    try:
        return _status(handle, full)
    finally:
        api.close_handle(handle)


def lstat(path: Named, *, dir_fd: int | None = None) -> os.stat_result:
    """Return the status of an entry, of a link itself."""
    return stat(path, dir_fd=dir_fd, follow_symlinks=False)


def fstat(descriptor: int) -> os.stat_result:
    """Return the status of what is open."""
    return _status(msvcrt.get_osfhandle(descriptor), "")


def lexists(path: Named) -> bool:
    """Return True if there is an entry, also a link that leads nowhere."""
    return _mode(path, False) is not None


def exists(path: Named) -> bool:
    """Return True if there is an entry."""
    return _mode(path, True) is not None


def isdir(path: Named) -> bool:
    """Return True if there is a folder, or a link to one."""
    return modes.S_ISDIR(_mode(path, True) or 0)


def isfile(path: Named) -> bool:
    """Return True if there is a file, or a link to one."""
    return modes.S_ISREG(_mode(path, True) or 0)


def islink(path: Named) -> bool:
    """Return True if there is a link."""
    return modes.S_ISLNK(_mode(path, False) or 0)


def _mode(path: Named, follow: bool) -> int | None:
    try:
        return stat(path, follow_symlinks=follow).st_mode
    except (OSError, ValueError):
        return None


def ismount(path: Named) -> bool:
    """Return True if a volume begins at a folder."""
    full = slashed(path)
    above = ntpath.dirname(full)
    try:
        return above == full or lstat(full).st_dev != lstat(above).st_dev
    except OSError:
        return False


def access(
    path: Named, mode: int, *, dir_fd: int | None = None, effective_ids: bool = False, follow_symlinks: bool = True
) -> bool:
    """Return True if this account may read, write or enter an entry, as far as its attributes say."""
    return os.access(native(_full(path, dir_fd)), mode)


class Entry:
    """A name in a folder, as `os.DirEntry`; a junction is a link, and a file in a cloud is a file."""

    def __init__(self, folder: str, found: os.DirEntry[str]) -> None:
        self.name, self.path = found.name, f"{folder.rstrip('/')}/{found.name}"
        # The listing has both: nothing is opened for them.
        status = found.stat(follow_symlinks=False)
        self._attributes, self._tag = status.st_file_attributes, status.st_reparse_tag

    @property
    def is_hidden(self) -> bool:
        """Whether its attribute hides it."""
        return bool(self._attributes & api.HIDDEN)

    def is_symlink(self) -> bool:
        return _is_link(self._attributes, self._tag)

    def is_dir(self, *, follow_symlinks: bool = True) -> bool:
        if self.is_symlink():
            return follow_symlinks and isdir(self.path)
        return bool(self._attributes & api.DIRECTORY)

    def is_file(self, *, follow_symlinks: bool = True) -> bool:
        if self.is_symlink():
            return follow_symlinks and isfile(self.path)
        return not self._attributes & api.DIRECTORY

    def stat(self, *, follow_symlinks: bool = True) -> os.stat_result:
        return stat(self.path, follow_symlinks=follow_symlinks)


class _Entries:
    """The names in a folder, as `os.scandir` gives them."""

    def __init__(self, folder: str) -> None:
        self._folder = folder
        try:
            self._found = os.scandir(native(folder))
        except OSError as error:
            raise api.error_of(error.winerror or 0, folder) from None

    def __iter__(self) -> Iterator[Entry]:
        for one in self._found:
            yield Entry(self._folder, one)

    def __enter__(self) -> _Entries:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._found.close()


def scandir(path: Named | int = ".") -> _Entries:
    """Return the names in a folder.

    Raises:
        OSError: it cannot be read.
    """
    return _Entries(_full(path, None))


def listdir(path: Named | int = ".") -> list[str]:
    """Return the names in a folder.

    Raises:
        OSError: it cannot be read.
    """
    with scandir(path) as entries:
        return [one.name for one in entries]


def walk(top: Named) -> Iterator[tuple[str, list[str], list[str]]]:
    """Yield a folder and those below it, each with its folders and files."""
    for folder, folders, files in os.walk(native(top)):
        yield slashed(folder), folders, files


def hidden_among(entries: Iterable[One]) -> tuple[list[One], list[str]]:
    """Return the entries of a folder that no attribute hides, and the names of those that one does."""
    shown, hidden = list[One](), list[str]()
    for one in entries:
        if isinstance(one, Entry) and one.is_hidden:
            hidden.append(one.name)
        else:
            shown.append(one)
    return shown, hidden


def used_bytes(found: os.stat_result) -> int:
    """Return about how many bytes an entry takes on its disk: its size in clusters of the usual 4 KiB."""
    return -(-found.st_size // _CLUSTER_BYTES) * _CLUSTER_BYTES


def blocks_of(found: os.stat_result) -> int:
    """Return about how many blocks of 512 bytes an entry takes on its disk."""
    return used_bytes(found) // BLOCK_BYTES


# Reading and writing


def _at(place: int) -> api.Overlapped:
    return api.Overlapped(offset=place & 0xFFFFFFFF, offset_high=place >> 32)


def pread(descriptor: int, count: int, at: int) -> bytes:
    """Read from a place of an open file.

    Raises:
        OSError: it cannot be read.
    """
    buffer, done = ctypes.create_string_buffer(count), ctypes.c_uint32()
    handle = msvcrt.get_osfhandle(descriptor)
    if not api.read_file(handle, buffer, count, ctypes.byref(done), ctypes.byref(_at(at))):
        code = ctypes.get_last_error()
        if code != api.END_OF_FILE:
            raise api.error_of(code)
    return buffer.raw[: done.value]


def pwrite(descriptor: int, data: bytes, at: int) -> int:
    """Write to a place of an open file.

    Raises:
        OSError: it cannot be written.
    """
    done = ctypes.c_uint32()
    handle = msvcrt.get_osfhandle(descriptor)
    api.check(api.write_file(handle, bytes(data), len(data), ctypes.byref(done), ctypes.byref(_at(at))))
    return done.value


def readv(descriptor: int, buffers: Sequence[bytearray | memoryview]) -> int:
    """Read into a buffer."""
    (buffer,) = buffers
    data = os.read(descriptor, len(buffer))
    buffer[: len(data)] = data
    return len(data)


def next_data(descriptor: int, at: int, size: int) -> tuple[int, int] | None:
    """Return where the next bytes of a file that are not a hole begin and end."""
    return at, size


def copy_range(source: int, target: int, count: int, at: int) -> int:
    """Let the system copy bytes: not available on Windows."""
    return 0


def forget_cached(descriptor: int) -> None:
    """Drop a file's contents from the system's memory: not available on Windows."""


def reserve(descriptor: int, size: int) -> None:
    """Reserve this many bytes of the disk for an open empty file.

    Raises:
        OSError: ENOSPC.
    """
    pwrite(descriptor, bytes(size), 0)


def fsync(descriptor: int) -> None:
    """Wait until what was written is on the disk; the names in a folder are the business of the system."""
    if descriptor not in _folders:
        os.fsync(descriptor)


# Changing


def mkdir(path: Named, mode: int = 0o777, *, dir_fd: int | None = None) -> None:
    """Make a folder, with the rights of the one that it is in.

    Raises:
        OSError: EEXIST where the name is taken.
    """
    full = _full(path, dir_fd)
    api.check(api.create_directory(native(full), None), full)


def hide(name: str, fd: int) -> None:
    """Hide an entry of an open folder, as what belongs to the system.

    Raises:
        OSError: it is not there, or cannot be changed.
    """
    full = _full(name, fd)
    api.check(api.set_attributes(native(full), api.HIDDEN | api.SYSTEM), full)


def make_private(name: str, fd: int) -> None:
    """Let nobody into a folder but this account, the administrators and the system, nor to what will be in it.

    Raises:
        OSError: it is not there, or its volume keeps no such lists.
    """
    full, found = _full(name, fd), ctypes.c_void_p()
    advapi = ctypes.WinDLL("advapi32", use_last_error=True)
    # A protected list: nothing is inherited from the folders above ([MS-DTYP] 2.5.1).
    rights = "".join(f"(A;OICI;FA;;;{who})" for who in ("SY", "BA", account_key()))
    api.check(advapi.ConvertStringSecurityDescriptorToSecurityDescriptorW(f"D:P{rights}", 1, ctypes.byref(found), None), full)
    try:
        api.check(advapi.SetFileSecurityW(native(full), wintypes.DWORD(_OWN_LIST), found), full)
    finally:
        api.KERNEL.LocalFree(found)


def rmdir(path: Named, *, dir_fd: int | None = None) -> None:
    """Remove an empty folder.

    Raises:
        OSError: it is not empty, or open in another program.
    """
    _removed(_full(path, dir_fd), api.remove_directory)


def unlink(path: Named, *, dir_fd: int | None = None) -> None:
    """Remove a file or link; one that may only be read as well, as on other systems.

    Raises:
        OSError: EBUSY where it is open in another program.
    """
    full = _full(path, dir_fd)
    found = api.get_attributes(native(full))
    is_folder = found != 0xFFFFFFFF and found & api.DIRECTORY and found & api.REPARSE_POINT
    _removed(full, api.remove_directory if is_folder else api.delete_file)


def _removed(full: str, remove: ctypes._FuncPointer) -> None:
    name = native(full)
    found = api.get_attributes(name)
    protected = found != 0xFFFFFFFF and found & api.READONLY
    if protected:
        api.set_attributes(name, found & ~api.READONLY or api.NORMAL)
    try:
        api.persistently(lambda: remove(name), full)
    except OSError:
        if protected:
            api.set_attributes(name, found)
        raise


def replace(source: Named, target: Named, *, src_dir_fd: int | None = None, dst_dir_fd: int | None = None) -> None:
    """Rename an entry, over what may have its new name.

    Raises:
        OSError: it cannot be renamed.
    """
    rename(_full(source, src_dir_fd), _full(target, dst_dir_fd), 1)


def rename(old: str, new: str, how: int) -> None:
    """Rename an entry within its volume.

    Args:
        old: its path.
        new: its path afterwards.
        how: 1 to replace what is there, 0 to refuse that.

    Raises:
        OSError: EEXIST where the name is taken, EXDEV where it is on another volume, EBUSY where it is open.
    """
    try:
        api.persistently(lambda: api.move_file(native(old), native(new), how), old, new)
    except PermissionError:
        # The system says that of a folder on another volume, too.
        if lstat(ntpath.dirname(old)).st_dev != lstat(ntpath.dirname(new)).st_dev:
            raise api.error_of(api.NOT_SAME_DEVICE, old, new) from None
        raise


def link(
    source: Named, target: Named, *, src_dir_fd: int | None = None, dst_dir_fd: int | None = None, follow_symlinks: bool = True
) -> None:
    """Add a second name to a file.

    Raises:
        OSError: EEXIST where the name is taken.
    """
    old, new = _full(source, src_dir_fd), _full(target, dst_dir_fd)
    api.check(api.create_hard_link(native(new), native(old), None), new)


def symlink(source: str, target: Named, *, dir_fd: int | None = None) -> None:
    """Make a symbolic link; only an administrator may, unless the machine is set up for developers.

    Raises:
        OSError: EPERM where this account may not.
    """
    try:
        os.symlink(source.replace("/", "\\"), native(_full(target, dir_fd)))
    except OSError as error:
        raise api.error_of(error.winerror or 0, str(target)) from None


def readlink(path: Named, *, dir_fd: int | None = None) -> str:
    """Return where a link leads."""
    return slashed(os.readlink(native(_full(path, dir_fd))))


def utime(
    path: Named | int,
    times: tuple[float, float] | None = None,
    *,
    ns: tuple[int, int] | None = None,
    dir_fd: int | None = None,
    follow_symlinks: bool = True,
) -> None:
    """Set when an entry was last read and written.

    Raises:
        OSError: it may not be set.
    """
    if ns is None:
        assert times is not None
        ns = int(times[0] * 1_000_000_000), int(times[1] * 1_000_000_000)
    accessed, written = (moment // 100 + _EPOCH for moment in ns)
    if min(accessed, written) <= 0:
        raise OSError(errno.EINVAL, "before the year 1601, which this system does not know")
    _describe(_full(path, dir_fd), api.BasicInfo(accessed=accessed, written=written), follow_symlinks)


def fchmod(descriptor: int, mode: int) -> None:
    """Let an open file be written to or not; nothing else of a mode is known here."""
    if descriptor in _folders:
        return
    full = path_of(descriptor)
    before = fstat(descriptor).st_file_attributes
    after = before & ~api.READONLY if mode & 0o200 else before | api.READONLY
    if after != before:
        _describe(full, api.BasicInfo(attributes=after or api.NORMAL), False)


def _describe(full: str, info: api.BasicInfo, follow: bool) -> None:
    """Set times and attributes; what is 0 stays as it is."""
    itself = 0 if follow else api.THE_LINK_ITSELF
    handle = _handle(full, api.WRITE_ATTRIBUTES | api.READ_ATTRIBUTES, api.SHARE_ALL, flags=api.ALSO_FOLDERS | itself)
    try:
        api.check(api.set_info(handle, api.BASIC, ctypes.byref(info), ctypes.sizeof(info)), full)
    finally:
        api.close_handle(handle)


def fchown(descriptor: int, uid: int, gid: int) -> None:
    """Set the owner of an open file: here a file belongs to the account that made it."""


# Leases: a file that is open unshared for writing; nobody else can open it to write until it is closed.

CAN_LEASE = True


def lease(descriptor: int) -> None:
    """Lease an open file: it is, since it was opened."""


def is_broken(descriptor: int) -> bool:
    """Return True if somebody waits to write: who tries is refused instead."""
    return False


def rename_exclusively(source_fd: int, source: str, target_fd: int, target: str) -> None:
    """Rename an entry of one open folder into another, never over anything.

    Raises:
        OSError: EEXIST where the name is taken.
    """
    rename(_full(source, source_fd), _full(target, target_fd), 0)


def sync_volume(descriptor: int) -> None:
    """Wait for a volume: only an administrator may ask for that; its journal keeps names in order."""


def sync_folder(descriptor: int) -> None:
    """Wait for the names in a folder: that cannot be asked for."""


def statx() -> Any | None:
    """Return nothing: a status has its birth."""
    return None


def device(major: int, minor: int) -> int:
    """Return the number of a device, as a status has it."""
    return 0
