"""New versions of rule files, until they stand in the place of the old ones; kept so that a change can be done again."""

from __future__ import annotations

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.slashed import Path

_FOLDER = "rule-files"


def keep_new(folder: Path, raw: bytes, mode: int) -> Path:
    """Write a new version of a rule file, and return where it is.

    Args:
        folder: the state folder.
        raw: what stands in it.
        mode: its rights.

    Raises:
        StateError: it cannot be written.
    """
    import hashlib  # here alone: each run looks for versions that are too old

    path = folder / _FOLDER / f"{hashlib.sha256(raw).hexdigest()[:32]}-{mode:o}.toml"
    private = path.with_suffix(".new")
    try:
        path.parent.mkdir(mode=0o700, exist_ok=True)
        with open(private, "wb") as file:
            disk.fchmod(file.fileno(), mode)
            file.write(raw)
            file.flush()
            disk.fsync(file.fileno())
        private.replace(path)
    except OSError as error:
        raise StateError(f"{path.parent}: cannot be written ({error.strerror})", "free disk space there") from None
    return path
