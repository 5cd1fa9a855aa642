"""How steps are said, before they are done and after."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from frugal_sorter.cli.output.text import below, count_text, shown, size_text
from frugal_sorter.steps.kinds import KINDS, VerbName
from frugal_sorter.steps.step import Count, Step, Tally

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


def step_will_text(step: Step, base: str) -> str:
    """Return in one line what a step would do, and where to; paths as seen from a base folder."""
    target = below(step.target.path, base) if step.target is not None else ""
    if step.verb == "set-attribute":
        return attribute_text(step)
    if step.verb in ("run", "run-making"):
        return f"run {' '.join(map(shown, step.details['command']))}"
    words = KINDS[step.verb].words
    return words.becomes.format(target=target) if words is not None and words.becomes else step.verb


def step_text(step: Step, base: str) -> str:
    """Return in one line what a step is about, paths as seen from a base folder."""
    path = below(step.place.path, base)
    if step.verb == "empty":
        return shown(step.details.get("original", step.place.name))
    if step.verb == "remove-folder":
        return f"the folder {path}"
    if step.verb == "set-attribute":
        return f"{path}: {attribute_text(step)}"
    if step.verb == "run":
        return f"{path}: {' '.join(map(shown, step.details['command']))}"
    if step.verb == "pack":
        return f"{path}, from {count_text(len(step.details['members']), 'entry', 'entries')}"
    if step.source is None or step.target is None or step.verb in ("trash", "hard-link", "own-file"):
        return path
    source = "the trash" if step.verb == "restore" else path
    return f"{source} → {below(step.target.path, base)}"


def attribute_text(step: Step) -> str:
    old, new = shown(step.details["old"]), shown(step.details["new"])
    what = "comment" if step.details["attribute"].endswith("comment") else "tags"
    if not new:
        return f"{what} {old!r} taken off"
    return f"{what} {old!r} → {new!r}" if old else f"{what} {new!r}"


def step_as_json(step: Step) -> dict[str, Any]:
    """Return what every command says of a step."""
    told: dict[str, Any] = {
        "id": step.id,
        "verb": step.verb,
        "rule": step.rule,
        "source": step.source and step.source.path,
        "target": step.target and step.target.path,
        "bytes": step.bytes if step.was or "bytes" in step.details else None,
        "group": step.group or None,
    }
    if step.verb == "pack":
        told["members"] = [member["path"] for member in step.details["members"]]
    for key in ("command", "attribute", "old", "new"):
        if key in step.details:
            told[key] = step.details[key]
    return told
