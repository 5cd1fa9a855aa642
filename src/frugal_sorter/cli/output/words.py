"""The words for what steps do: before, and when they were done."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from frugal_sorter.cli.output.text import count_text, size_text
from frugal_sorter.steps.count import Count
from frugal_sorter.steps.kinds import KINDS, VerbName
from frugal_sorter.steps.step import Step, Tally

WORDS = {verb: kind.words for verb, kind in KINDS.items() if kind.words is not None}


def will_text(steps: Iterable[Step]) -> str:
    """Return in one line what steps would do, the verbs that take away last."""
    tally = Tally(steps)
    order = sorted(WORDS, key=lambda verb: KINDS[verb].last)
    return "; ".join(WORDS[verb].will.format(amount_text(tally, verb)) for verb in order if verb in tally)


def amount_text(tally: Tally, verb: VerbName) -> str:
    """Return how many entries one verb is about, and how big they are."""
    if verb == "pack":
        return count_text(tally[verb].entries, "new zip")
    size = f", {size_text(tally.bytes_by[verb])}" if KINDS[verb].sized else ""
    return f"{entries_text(tally[verb])}{size}"


def done_text(counts: Mapping[VerbName, Count]) -> str:
    """Return in one line how much was done, by verb."""
    said = []
    for verb, words in WORDS.items():
        if count := counts.get(verb):
            what = count_text(count.entries, "zip") if verb == "pack" else entries_text(count)
            said.append(words.sums.format(what))
    return ", ".join(said) or "nothing done"


def entries_text(count: Count, files: str = "file", other: bool = False) -> str:
    """Return a count of entries as people say it, such as `3 files and 1 folder with 12 files`.

    Args:
        count: the entries.
        files: what the files are called.
        other: say that they are the other ones.
    """
    word = "other " if other else ""
    parts = [count_text(count.files, f"{word}{files}")] if count.files or not count.folders else []
    if count.folders:
        inside = f" with {count_text(count.inside, 'file')}" if count.inside else ""
        parts.append(count_text(count.folders, f"{word}folder") + inside)
    return " and ".join(parts)


def specials_texts(links: int, others: int) -> list[str]:
    """Return what there is besides files and folders, which nothing ever touches."""
    said = [count_text(links, "symbolic link")] if links else []
    return [*said, count_text(others, "pipe, socket or device", "pipes, sockets or devices")] if others else said


def stay_text(others: Count) -> str:
    """Return which entries that were looked at stay as they are, for the question."""
    return f"{entries_text(others, other=True)} {'stays' if others.entries == 1 else 'stay'}"


_NAMED = 3


def stray_texts(stray: Sequence[str]) -> list[str]:
    """Return what to say of info files of the trash whose files are gone, and which could not be removed."""
    said = [f"{path} could not be removed, though its file is no longer in the trash" for path in stray[:_NAMED]]
    if len(stray) > _NAMED:
        said.append(f"{count_text(len(stray) - _NAMED, 'more such file')}")
    return [*said, "`frugal trash --orphans` removes such notes"] if said else []
