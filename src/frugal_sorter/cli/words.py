"""The words for what steps do: before, and when they were done."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from frugal_sorter.cli.text import count_text, size_text
from frugal_sorter.plans.plan import Step, VerbName


class Words(NamedTuple):
    """How a verb is said.

    Args:
        will: what would be done, with a place for the amount.
        done: the word of a step that was done.
        sums: what was done in all, with a place for the count.
    """

    will: str
    done: str
    sums: str


WORDS: Mapping[VerbName, Words] = {
    "move": Words("move {}", "moved", "{} moved"),
    "move-across": Words("move {} to another volume", "moved", "{} moved to another volume"),
    "trash": Words("put {} into the trash", "trashed", "{} put into the trash"),
    "restore": Words("bring {} back from the trash", "restored", "{} brought back from the trash"),
    "delete": Words("delete {} for good", "deleted", "{} deleted for good"),
    "empty": Words("remove {} from the trash for good", "removed", "{} removed from the trash for good"),
    "copy": Words("copy {}", "copied", "{} copied"),
    "remove-made": Words("remove {} that the run made", "removed", "{} removed that the run had made"),
    "link": Words("link to {}", "linked", "{} linked to"),
    "hard-link": Words("replace {} by hard links", "linked", "{} replaced by hard links"),
    "own-file": Words("make {} of their own again", "separate", "{} made of their own again"),
    "pack": Words("pack into {}", "packed", "{} written"),
    "unpack": Words("unpack {}", "unpacked", "{} unpacked"),
    "set-attribute": Words("tag or comment {}", "tagged", "{} tagged or commented"),
    "run": Words("run a program for {}", "ran", "a program run for {}"),
}
_LAST: tuple[VerbName, ...] = ("trash", "delete", "empty")
# Those that are told with their size; the rest is not about bytes.
_SIZED = frozenset({"move", "move-across", "trash", "restore", "delete", "empty", "copy", "hard-link", "unpack"})


def amount_text(steps: Iterable[Step], verb: VerbName) -> str:
    """Return how many files or folders steps of one verb are about, and how big they are."""
    # An entry can have several steps of one kind, such as one for its tags and one for its comment.
    steps = list({step.source or step.target: step for step in steps}.values())
    if verb == "pack":
        return count_text(len(steps), "new zip")
    folders = sum(step.was is not None and step.was.kind == "folder" for step in steps)
    files = len(steps) - folders
    parts = [count_text(files, "file")] if files or not folders else []
    if folders:
        inside = sum(step.files for step in steps if step.was is not None and step.was.kind == "folder")
        held = f" with {count_text(inside, 'file')}" if any("files" in step.args for step in steps) else ""
        parts.append(count_text(folders, "folder") + held)
    size = f", {size_text(sum(step.bytes for step in steps))}" if verb in _SIZED else ""
    return " and ".join(parts) + size


def will_text(steps: Iterable[Step]) -> str:
    """Return in one line what steps would do, the verbs that take away last."""
    by_verb: dict[VerbName, list[Step]] = defaultdict(list)
    for step in steps:
        if step.verb in WORDS:
            by_verb[step.verb].append(step)
    order = [verb for verb in WORDS if verb not in _LAST] + list(_LAST)
    said = [WORDS[verb].will.format(amount_text(by_verb[verb], verb)) for verb in order if by_verb[verb]]
    return "; ".join(said)


def done_text(counts: Mapping[VerbName, int]) -> str:
    """Return in one line how much was done, by verb."""
    said = []
    for verb, words in WORDS.items():
        if count := counts.get(verb, 0):
            noun = "zip" if verb == "pack" else "entry" if verb in (*_LAST, "remove-made") else "file"
            said.append(words.sums.format(count_text(count, noun, "entries" if noun == "entry" else "")))
    return ", ".join(said) or "nothing done"
