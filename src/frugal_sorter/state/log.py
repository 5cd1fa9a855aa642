"""The log file in the state folder: what runs did and what went wrong, for whoever looks later."""

from __future__ import annotations

from typing import TYPE_CHECKING

from frugal_sorter.platforms import disk
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
