"""What a run freed, in words."""

from __future__ import annotations

from collections.abc import Sequence

from frugal_sorter.app.freed import Freed
from frugal_sorter.cli.output.text import below, common_base, date_text, share_text, shown, size_text

_NAMED = 3


def freed_texts(freed: Freed, full_ns: int | None) -> list[str]:
    """Return in lines what was freed, what was not so far, and when the volume is full.

    Args:
        freed: what a run freed.
        full_ns: when the volume is full; None where that cannot be told.
    """
    said = []
    if freed.bytes:
        share = share_text(freed.free, freed.total)
        room = f"{size_text(freed.free)} of {size_text(freed.total)} ({share}) are free now"
        said.append(f"Freed {size_text(freed.bytes)}{_where(freed.folders)}; {room}.")
    if freed.trashed:
        are = "lies" if freed.trashed == 1 else "lie"
        said.append(
            f"{size_text(freed.trashed)} {are} in the trash, not freed yet: `frugal trash` shows it and empties it."
        )
    if full_ns is not None:
        said.append(f"At this pace the volume is full on {date_text(full_ns)}.")
    return said


def _where(folders: Sequence[tuple[str, int]]) -> str:
    if len(folders) == 1:
        return f" from {shown(folders[0][0])}"
    base = common_base([folder for folder, _ in folders if folder != "the trash"])
    parts = [f"{below(folder, base)} {size_text(size)}" for folder, size in folders[:_NAMED]]
    return f" ({', '.join(parts)}{', …' if len(folders) > _NAMED else ''})"
