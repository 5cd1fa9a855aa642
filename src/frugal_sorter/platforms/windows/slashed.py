r"""Paths of Windows: inside `C:/Users/maren`, outside `\\?\C:\Users\maren`, so that any name and length can be reached."""

from __future__ import annotations

import ctypes
import ntpath
import os
import re
import sys
from collections.abc import Sequence
from pathlib import PurePath, WindowsPath

assert sys.platform == "win32"

from frugal_sorter.platforms.windows import api

_LONGEST = 32_768
_LONG, _LONG_SHARE = "\\\\?\\", "\\\\?\\UNC\\"
_DRIVE = re.compile(r"[A-Za-z]:[/\\]")
Named = str | PurePath


class Path(WindowsPath):
    """A path that is written with slashes."""

    def __str__(self) -> str:
        return super().__str__().replace("\\", "/")


def slashed(path: Named) -> str:
    """Return a path that a person wrote, or the system gave, as the program has it."""
    text = str(path)
    if text.startswith(_LONG_SHARE):
        text = "\\\\" + text[len(_LONG_SHARE) :]
    elif text.startswith(_LONG):
        text = text[len(_LONG) :]
    text = text.replace("\\", "/")
    return text[0].upper() + text[1:] if _DRIVE.match(text) else text


def native(path: Named) -> str:
    """Return a path as the system takes it."""
    text = str(path)
    if text.startswith(_LONG) or not ntpath.isabs(text):
        return text
    text = text.replace("/", "\\")
    if len(text) > 3:
        text = text.rstrip("\\")
    return _LONG_SHARE + text[2:] if text.startswith("\\\\") else _LONG + text


def is_absolute(path: Named) -> bool:
    """Return True if a path says where it begins, with its drive or share."""
    text = str(path)
    return bool(_DRIVE.match(text)) or (text[:2] in ("//", "\\\\") and bool(ntpath.splitdrive(text)[0]))


def is_top(path: str) -> bool:
    """Return True if a path is one that nothing is above: a drive or a share."""
    return ntpath.dirname(path) == path


def split_top(path: str) -> tuple[str, str]:
    """Return the top of a path, empty where it has none, and the rest."""
    if not is_absolute(path):
        return "", path
    drive, rest = ntpath.splitdrive(path)
    return f"{drive}/", rest.lstrip("/")


def common_of(folders: Sequence[str]) -> str:
    """Return the folder that all of some folders are in, `/` where there is none."""
    try:
        return slashed(ntpath.commonpath(folders))
    except ValueError:
        return "/"  # nothing, or several drives


def top_and_names(path: str) -> tuple[str, list[str]]:
    """Return the top of an absolute path, and the names on the way down."""
    top, rest = split_top(path)
    return top, [name for name in rest.split("/") if name]


def join(first: Named, *more: Named) -> str:
    """Join parts of a path; an absolute one begins anew. What only looks like a drive (`0: kiln`) is a name."""
    joined = slashed(first)
    for part in map(slashed, more):
        if is_absolute(part):
            joined = part
        else:
            joined = f"{joined.rstrip('/')}/{part}" if joined else part
    return joined


def normpath(path: Named) -> str:
    """Return a path without `.`, `..` and doubled slashes."""
    return slashed(ntpath.normpath(slashed(path)))


def abspath(path: Named) -> str:
    """Return a path from its drive on."""
    text = slashed(path)
    if is_absolute(text):
        return normpath(text)  # the system would take the dots off the ends of names
    return slashed(ntpath.abspath(text))


def unfollowed(path: str) -> tuple[str, int] | None:
    """Return None: `realpath` has the system resolve every link here, whoever made it."""
    return None


def realpath(path: Named) -> str:
    """Return a path without links, in the letters that the disk has, as far as it is there."""
    at = full = abspath(path)
    missing: list[str] = []
    while True:
        handle = api.create_file(native(at), api.READ_ATTRIBUTES, api.SHARE_ALL, None, api.OPEN_EXISTING, api.ALSO_FOLDERS, None)
        if handle != api.INVALID:
            try:
                return join(final_path(handle), *reversed(missing))
            except OSError:
                return full
            finally:
                api.close_handle(handle)
        if is_top(at):
            return full
        missing.append(ntpath.basename(at))
        at = ntpath.dirname(at)


def final_path(handle: int) -> str:
    """Return the path of what is open.

    Raises:
        OSError: the system does not say.
    """
    text = ctypes.create_unicode_buffer(_LONGEST)
    api.check(api.final_path(handle, text, len(text), 0))
    return slashed(text.value)


def relpath(path: Named, start: Named | None = None) -> str:
    """Return a path from another folder on, absolute where it is on another drive."""
    try:
        return slashed(ntpath.relpath(abspath(path), abspath(start if start is not None else os.getcwd())))
    except ValueError:
        return abspath(path)


def unclear(path: str) -> str:
    """Return what to write instead of a path that means another folder each time; empty for any other."""
    text = slashed(path)
    if re.match(r"[A-Za-z]:(?!/)", text):
        return f"{text[:2].upper()}/{text[2:]}"
    return f"C:{text}" if text.startswith("/") and not text.startswith("//") else ""


def expanduser(path: Named) -> str:
    """Return a path with the home folder in place of `~`."""
    return slashed(ntpath.expanduser(str(path)))
