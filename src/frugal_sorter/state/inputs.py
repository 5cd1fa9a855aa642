"""Reading whatever this run has not written itself: by one descriptor, of a sane size, nothing but regular files, and checked
against a declared shape."""

from __future__ import annotations

import errno
import json
import os
import stat
from collections.abc import Callable, Iterator
from typing import Any, BinaryIO

from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path

Check = Callable[[os.stat_result], None]
# What a value must be: one of the predicates below, a list of one shape, a tuple of shapes, or the shapes of some keys.
Shape = Any
# Numbers beyond these are no number of an entry; nor do moments beyond the others have a date.
_LARGEST, _LATEST_NS = 1 << 127, 1 << 63
# What is packed weighs at least so much of what comes out of it, after the first megabyte.
_MOST_TIMES = 200


def is_text(value: Any) -> bool:
    return isinstance(value, str) and "\0" not in value


def is_name(value: Any) -> bool:
    return is_text(value) and bool(value)


def is_flag(value: Any) -> bool:
    return isinstance(value, bool)


def is_number(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and abs(value) < _LARGEST


def is_count(value: Any) -> bool:
    return is_number(value) and value >= 0


def is_moment(value: Any) -> bool:
    return is_number(value) and abs(value) < _LATEST_NS


def fits(value: Any, shape: Shape) -> bool:
    """Return True if a value has a shape; other keys of a table do not matter."""
    if isinstance(shape, dict):
        return isinstance(value, dict) and all(key in value and fits(value[key], one) for key, one in shape.items())
    if isinstance(shape, list):
        return isinstance(value, list) and all(fits(one, shape[0]) for one in value)
    if isinstance(shape, tuple):
        return isinstance(value, list) and len(value) == len(shape) and all(map(fits, value, shape))
    return bool(shape(value))


def fitting(text: str | bytes, shape: Shape) -> Any:
    """Return what a text in JSON says.

    Raises:
        ValueError: it is no JSON, or has another shape.
    """
    try:
        value = json.loads(text)
    except RecursionError:
        raise ValueError("nested too deeply") from None
    if not fits(value, shape):
        raise ValueError("not as this version writes it")
    return value


def read_json(path: str | Path, largest: int, shape: Shape) -> Any:
    """Return what a JSON file says.

    Raises:
        OSError: as `read_input`.
        ValueError: as `fitting`.
    """
    return fitting(read_input(path, largest), shape)


def zipped_lines(path: str | Path, longest: int) -> Iterator[str]:
    """Yield the lines of a file that was packed by gzip; what comes out of it is bounded, too.

    Args:
        path: the file.
        longest: how many letters a line may have.

    Raises:
        OSError: as `read_input`.
        ValueError: it is damaged, or a trap.
    """
    import gzip  # few commands need these
    import zlib

    with open_input(path) as raw:
        most = (1 << 20) + _MOST_TIMES * disk.fstat(raw.fileno()).st_size
        try:
            with gzip.open(raw, "rt", encoding="ascii") as file:
                while line := file.readline(longest + 1):
                    most -= len(line)
                    if most < 0 or len(line) > longest:
                        raise ValueError("far more comes out of it than it weighs")
                    yield line
        except (EOFError, zlib.error) as error:
            raise ValueError(str(error)) from None


def read_input(path: str | Path, largest: int, check: Check = lambda _found: None) -> bytes:
    """Return what a file holds.

    What is looked at is what is read: nobody can put another file in its place in between. A pipe, a device or
    an endless file ends it at once.

    Args:
        path: the file; a symbolic link is followed.
        largest: how many bytes it may have.
        check: given the status of the open file; it raises to refuse it.

    Raises:
        OSError: it cannot be read, is no regular file (EINVAL), or is larger (EFBIG).
    """
    with open_input(path, check) as file:
        raw = file.read(largest + 1)
    if len(raw) > largest:
        raise OSError(errno.EFBIG, f"larger than {largest:,} bytes", str(path))
    return raw


def open_input(path: str | Path, check: Check = lambda _found: None) -> BinaryIO:
    """Open a regular file to read it; see `read_input`.

    Raises:
        OSError: it cannot be read, or is no regular file (EINVAL).
    """
    descriptor = disk.open(path, disk.O_RDONLY | disk.O_NONBLOCK | disk.O_CLOEXEC | disk.O_NOCTTY)
    try:
        found = disk.fstat(descriptor)
        if stat.S_ISDIR(found.st_mode):
            raise IsADirectoryError(errno.EISDIR, "it is a folder", str(path))
        if not stat.S_ISREG(found.st_mode):
            raise OSError(errno.EINVAL, "it is no regular file", str(path))
        check(found)
        return open(descriptor, "rb")
    except BaseException:
        disk.close(descriptor)
        raise
