"""What is kept beside the journal: the number of the last run, and whether one is open.

The numbers of runs never come again, also where the journal was set aside; and a command that needs no
journal sees by one look whether a run was interrupted.
"""

from __future__ import annotations

from contextlib import suppress

from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.inputs import read_input

_NUMBER, _OPEN = "last-run", "open-runs"


class LastRun:
    """Two small files in the state folder.

    Args:
        folder: the state folder.
    """

    def __init__(self, folder: Path) -> None:
        self._number = folder / _NUMBER
        self._open = folder / _OPEN

    def read(self) -> int:
        """Return the number of the last run, 0 where that is not known."""
        try:
            return int(read_input(self._number, 20))
        except (OSError, ValueError):
            return 0

    def write(self, number: int) -> None:
        """Keep the number of a run; on a full disk the journal alone knows it."""
        with suppress(OSError):
            private = self._number.with_suffix(".new")
            with open(
                disk.open(private, disk.O_WRONLY | disk.O_CREAT | disk.O_TRUNC | disk.O_CLOEXEC, 0o600), "wb"
            ) as file:
                file.write(b"%d" % number)
            private.replace(self._number)

    def open_runs(self, is_open: bool) -> None:
        """Keep whether there is a run that was begun and has not ended."""
        with suppress(OSError):
            if is_open:
                disk.close(disk.open(self._open, disk.O_WRONLY | disk.O_CREAT | disk.O_CLOEXEC, 0o600))
            else:
                self._open.unlink()

    def has_open_runs(self) -> bool:
        """Tell whether there may be a run that was begun and has not ended."""
        return self._open.exists()
