"""What a rule about `opened` cannot know on the volume of a folder."""

from __future__ import annotations

from frugal_sorter.filesystem.volumes import keeps_access_times
from frugal_sorter.planning.plan import Note
from frugal_sorter.rules.fields import NOT_KEPT
from frugal_sorter.rules.model import Rule


def note_on_opened(rule: Rule, folder: str) -> Note | None:
    """Return what should be known of a rule in a folder about when files were opened; None if it does not ask.

    It is a problem where the volume does not keep that at all, since then the rule cannot act.
    """
    if not any(leaf.on.name == "opened" for leaf in rule.where.leaves()):
        return None
    try:
        keeping = keeps_access_times(folder)
    except OSError:
        return None
    if keeping == "never":
        return Note(f"{folder}: `opened` is unknown: {NOT_KEPT}", True)
    if keeping == "daily":
        what = "the volume notes when a file was opened once a day"
        return Note(f"{folder}: {what}: the rule acts up to a day late, never early", False)
    return None
