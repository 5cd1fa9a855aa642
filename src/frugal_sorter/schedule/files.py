"""The files that a scheduler reads: written whole or not at all, and read back."""

from __future__ import annotations

from contextlib import suppress

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import disk, slashed
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.schedule.scheduler import Piece
from frugal_sorter.state.inputs import read_input

# More than any unit or task holds.
_LARGEST = 1_000_000


def text_of(path: str) -> str | None:
    """Return what stands in a file; None where it cannot be read."""
    try:
        return read_input(path, _LARGEST).decode("utf-8", "surrogateescape")
    except OSError:
        return None


def write_whole(piece: Piece) -> None:
    """Write a file whole or not at all, readable for all, and see that it is what was written.

    Raises:
        StateError: it is not.
    """
    path = Path(slashed.realpath(piece.path))
    private = f"{path}.new"
    flags = disk.O_WRONLY | disk.O_CREAT | disk.O_TRUNC | disk.O_NOFOLLOW | disk.O_CLOEXEC
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with open(disk.open(private, flags, 0o644), "w", encoding="utf-8") as file:
            file.write(piece.text)
            file.flush()
            disk.fchmod(file.fileno(), 0o644)
            disk.fsync(file.fileno())
        disk.replace(private, path)
    except OSError as error:
        with suppress(OSError):
            disk.unlink(private)
        raise StateError(
            f"{path}: it cannot be written ({(error.strerror or 'unknown error').lower()})",
            "free disk space, or run as its owner",
        ) from None
    if text_of(piece.path) != piece.text:
        raise StateError(f"{path}: it is not what was written", "see who else writes there")
