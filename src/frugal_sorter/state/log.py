"""Logs: the one that a command was asked for, and the one that the owner of the machine reads."""

from __future__ import annotations

import errno
import os
import stat
from contextlib import suppress
from datetime import datetime
from types import TracebackType
from typing import TYPE_CHECKING

from frugal_sorter.errors import printable
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.slashed import Path

if TYPE_CHECKING:
    import logging


FILE_NAME = "frugal.log"
_LARGEST_BYTES, _OLD_FILES = 1_000_000, 3


def log() -> logging.Logger:
    """Return where the lines of this program go."""
    # Loaded with the first line: a run that finds nothing to do writes none.
    import logging

    return logging.getLogger("frugal_sorter")


def open_log(folder: Path, level: str) -> None:
    """Send the lines of this program to its log file from now on; a full one is put aside and a new one begun.

    Args:
        folder: the state folder.
        level: from which level on, `off` for nothing.
    """
    import logging
    from logging.handlers import RotatingFileHandler

    logger = log()
    logger.propagate = False
    if logger.handlers:
        return
    if level == "off":
        logger.addHandler(logging.NullHandler())
        return

    class OwnFile(RotatingFileHandler):
        """Only this account may read it; that it cannot be written stops nothing."""

        def _open(self):  # type: ignore[no-untyped-def]
            return open(disk.open(self.baseFilename, disk.O_WRONLY | disk.O_CREAT | disk.O_APPEND, 0o600), "a", encoding="utf-8",
                        errors="backslashreplace")  # fmt: skip

        def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802
            """On a full disk the log is the least that is missed."""

    try:
        handler = OwnFile(folder / FILE_NAME, maxBytes=_LARGEST_BYTES, backupCount=_OLD_FILES, delay=False)
    except OSError:
        logger.addHandler(logging.NullHandler())
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(process)d %(levelname)s %(message)s"))
    logger.addHandler(handler)
    logger.setLevel(level.upper())


# Then it goes on in a new file, and the one before is kept beside it.
_LARGEST = 1_000_000


class OwnerLog:
    """A text file that grows; whoever may read its folder may read it.

    Args:
        path: where it is; it is made where it is missing.

    Raises:
        OSError: it cannot be written, or something else than a file stands there.
    """

    def __init__(self, path: str) -> None:
        folder, name = os.path.split(slashed.abspath(path))
        # Never through a link that another account could have put there, and never into a pipe that nobody reads.
        path = slashed.join(slashed.realpath(folder), name)
        with suppress(OSError):
            if disk.lstat(path).st_size > _LARGEST:
                disk.replace(path, f"{path}.old")
        flags = disk.O_WRONLY | disk.O_APPEND | disk.O_NOFOLLOW | disk.O_NONBLOCK | disk.O_CLOEXEC
        try:
            self._fd = disk.open(path, flags)
        except FileNotFoundError:
            self._fd = disk.open(path, flags | disk.O_CREAT | disk.O_EXCL, 0o644)
            disk.fchmod(self._fd, 0o644)
        if not stat.S_ISREG(disk.fstat(self._fd).st_mode):
            disk.close(self._fd)
            raise OSError(errno.EINVAL, "it is no regular file", path)

    def __enter__(self) -> OwnerLog:
        return self

    def __exit__(
        self, _type: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None
    ) -> None:
        disk.close(self._fd)

    def line(self, text: str) -> None:
        """Write one line with the time of now; whatever a name holds, it stays one line.

        Raises:
            OSError: it cannot be written.
        """
        now = datetime.now().isoformat(" ", "seconds")
        os.write(self._fd, f"{now}  {printable(text)}\n".encode())
