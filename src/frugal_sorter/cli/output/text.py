"""Names, sizes, counts, dates and steps as people read them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from typing import Any, TextIO

from frugal_sorter.errors import printable
from frugal_sorter.filesystem.record import Unread
from frugal_sorter.platforms import console, slashed
from frugal_sorter.steps.kinds import KINDS, VerbName
from frugal_sorter.steps.step import Count, Step, Tally

_QUARTER = 900
# Signs that a cell may not begin with, also in full width, which some spreadsheets take for the same.
_FORMULA = frozenset("=+-@\t\r＝＋－＠")


# A name as it is fit for a terminal.
shown = printable


def size_text(size: int) -> str:
    """Return a size as people write it, in units of 1000."""
    if size < 1000:
        return f"{size} B"
    number = float(size)
    for unit in ("kB", "MB", "GB", "TB", "PB"):
        number /= 1000
        if number < 999.95:
            return f"{number:.1f} {unit}" if number < 99.95 else f"{number:.0f} {unit}"
    return f"{number:.0f} PB"


def signed_size_text(size: int) -> str:
    """Return a difference of sizes with its sign."""
    return f"{'+' if size > 0 else '-' if size < 0 else ''}{size_text(abs(size))}"


def share_text(part: int, total: int) -> str:
    """Return a part of a whole in percent, empty where there is no whole."""
    if not total:
        return ""
    return "<1%" if 0 < part < total / 200 else f"{part / total:.0%}"


def count_text(count: int, noun: str, plural: str = "") -> str:
    """Return a count with its noun, such as `1 file` or `2,314 files`."""
    return f"{count:,} {noun if count == 1 else plural or noun + 's'}"


def date_text(ns: int) -> str:
    """Return a moment as a local date (ISO 8601)."""
    return moment_text(ns)[:10]


def moment_text(ns: int) -> str:
    """Return a moment as local date and time, to the minute."""
    try:
        return datetime.fromtimestamp(ns // 1_000_000_000).strftime("%Y-%m-%d %H:%M")
    except (ValueError, OverflowError, OSError):
        return "out of range"


def ago_text(ns: int, now_ns: int) -> str:
    """Return how far a moment is from now, such as `12 days ago` or `in 3 hours`."""
    seconds = abs(now_ns - ns) // 1_000_000_000
    if seconds >= 2 * 86_400 and (days := _days_between(ns, now_ns)):
        return f"in {count_text(days, 'day')}" if ns > now_ns else f"{count_text(days, 'day')} ago"
    for unit, length in (("day", 86_400), ("hour", 3_600), ("minute", 60), ("second", 1)):
        if seconds >= length * (2 if unit == "day" else 1) or unit == "second":
            amount = count_text(seconds // length, unit)
            break
    return f"in {amount}" if ns > now_ns else f"{amount} ago"


def _days_between(one_ns: int, other_ns: int) -> int:
    """Return how many days apart two moments are on a local calendar, 0 beyond it."""
    try:
        one, other = (datetime.fromtimestamp(ns // 1_000_000_000).date() for ns in (one_ns, other_ns))
    except (ValueError, OverflowError, OSError):
        return 0
    return abs((one - other).days)


def iso_text(ns: int) -> str:
    """Return a moment as ISO 8601 with its offset from UTC, for programs."""
    seconds = ns // 1_000_000_000
    quarter, rest = divmod(seconds, _QUARTER)
    try:
        hour, begin, offset = _quarter(quarter)
        if begin + rest >= 3_600:
            return datetime.fromtimestamp(seconds).astimezone().isoformat()
    except (ValueError, OverflowError, OSError):
        return f"{seconds}s"
    return f"{hour}{(begin + rest) // 60:02}:{(begin + rest) % 60:02}{offset}"


@lru_cache(maxsize=1024)
def _quarter(number: int) -> tuple[str, int, str]:
    """Return the date and hour of a quarter of an hour, its first second of that, and its offset from UTC.

    Offsets change at the end of one. It is within an hour, but where, long ago, an offset had odd minutes.
    """
    text = datetime.fromtimestamp(number * _QUARTER).astimezone().isoformat()
    return text[:14], int(text[14:16]) * 60 + int(text[17:19]), text[19:]


def columns(text: str) -> int:
    """Return how many columns of a terminal a text takes: letters of some scripts take two."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


# What stays together in a line: words, what is quoted as code, and a command at the end of a sentence.
_PIECE = re.compile(r"(?<=: )frugal [^;]*;?|(?:`[^`]*`|[^\s`]|`)+")


def breaks(text: str, width: int) -> tuple[list[int], int]:
    """Return where a line is broken to fit a width, between words alone, and by how much the further lines are indented.

    What is longer than a line, such as a path, gets a line of its own.
    """
    indent = min(len(text) - len(text.lstrip()) + 2, width // 2)
    start, room, found = 0, width, list[int]()
    for piece in _PIECE.finditer(text):
        if columns(text[start : piece.end()]) > room and text[start : piece.start()].strip():
            found.append(piece.start())
            start, room = piece.start(), width - indent
    return found, indent


def wrapped(text: str, width: int) -> str:
    """Return some lines as lines that fit a width, the further ones indented."""
    lines = []
    for line in text.split("\n"):
        at, indent = breaks(line, width)
        parts = [line[start:end].rstrip() for start, end in zip([0, *at], at, strict=False)]
        lines.append(("\n" + " " * indent).join([*parts, line[at[-1] if at else 0 :]]))
    return "\n".join(lines)


def width_asked() -> int | None:
    """Return the width that `COLUMNS` asks for; None where it asks for none."""
    said = os.environ.get("COLUMNS", "")
    return int(said) or None if said.isdecimal() else None


def width_of(stream: Any) -> int | None:
    """Return how many columns the terminal of a stream has, or `COLUMNS` gives it; None where it is none."""
    try:
        return (width_asked() or os.get_terminal_size(stream.fileno()).columns or None) if console.is_terminal(stream) else None
    except (ValueError, OSError):
        return None


def cut(text: str, width: int) -> str:
    """Return a text that is cut in the middle to a width in letters: its end often says more than that."""
    if len(text) <= width:
        return text
    tail = (width - 1) // 2
    return f"{text[: width - 1 - tail]}…{text[len(text) - tail :]}"


def below(path: str, base: str) -> str:
    """Return a path as seen from a base folder, where it is below it."""
    if slashed.is_top(base):
        return shown(path)
    if path == base:
        return "."
    prefix = base.rstrip("/") + "/"
    return shown(path[len(prefix) :] if path.startswith(prefix) else path)


def cell_text(text: str) -> str:
    """Return a cell of CSV that no spreadsheet takes for a formula, and that any terminal can show."""
    text = shown(text)
    return f"'{text}" if text[:1] in _FORMULA else text


def held_text(levels: Iterable[int | None]) -> str:
    """Return what is counted of folders that a rule acts in, in words: hidden files too, and down to which level.

    Args:
        levels: of each of them, how many levels were counted; None for all.
    """
    deepest = set(levels)
    if deepest <= {None}:
        return "hidden files too"
    if deepest == {1}:
        return "including hidden files, without subfolders"
    return "including hidden files, down to the levels the rules cover"


def common_base(folders: list[str]) -> str:
    """Return the folder that all of some folders are in."""
    return slashed.common_of(folders)


class PrintableStream:
    """A stream that lets only printable letters and ends of lines through.

    Args:
        stream: where it goes.
    """

    def __init__(self, stream: TextIO) -> None:
        self.stream = stream

    def write(self, text: str) -> int:
        """Write a text, with what is not printable escaped."""
        self.stream.write(printable_lines(text))
        return len(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.stream, name)


def printable_lines(text: str) -> str:
    """Return a text of whole lines with what is not printable escaped; CSV ends its lines with both characters."""
    if text.isascii() and text.replace("\n", "").isprintable():
        return text
    lines = text.split("\n")
    ends = [line.endswith("\r") for line in lines[:-1]]
    escaped = [shown(line[:-1]) + "\r" if end else shown(line) for line, end in zip(lines, ends, strict=False)]
    return "\n".join([*escaped, shown(lines[-1])])


def raw(stream: Any) -> TextIO:
    """Return the stream behind a printable one, for what is not text from outside."""
    behind: TextIO = stream.stream if isinstance(stream, PrintableStream) else stream
    return behind


WORDS = {verb: kind.words for verb, kind in KINDS.items() if kind.words is not None}


def came_back_text(program: str, where: str, run: int) -> str:
    """Return in one line that a program is installed again whose leftovers a run moved to the trash."""
    back = f"Run {run} moved its leftovers to the trash. To restore them: frugal undo {run}"
    return f"{shown(program)} is installed again ({shown(where)}). {back}"


def will_text(steps: Iterable[Step]) -> str:
    """Return in one line what steps would do, the verbs that take away last."""
    tally = Tally(steps)
    order = sorted(WORDS, key=lambda verb: KINDS[verb].last)
    return "; ".join(WORDS[verb].will.format(amount_text(tally, verb)) for verb in order if verb in tally)


def amount_text(tally: Tally, verb: VerbName) -> str:
    """Return the number of entries of one verb, and their size."""
    if verb == "pack":
        return count_text(tally[verb].entries, "new zip")
    size = f" ({size_text(tally.bytes_by[verb])})" if KINDS[verb].sized else ""
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
    """Return the number of entries that are neither files nor folders, which nothing ever touches."""
    said = [count_text(links, "symbolic link")] if links else []
    return [*said, count_text(others, "pipe, socket or device", "pipes, sockets or devices")] if others else said


def stay_text(others: Count) -> str:
    """Return which entries that were looked at stay as they are, for the question."""
    return f"{entries_text(others, other=True)} {'stays' if others.entries == 1 else 'stay'}"


_NAMED = 3


def stray_texts(stray: Sequence[str]) -> list[str]:
    """Return what to say of info files of the trash whose files are gone, and which could not be removed."""
    said = [f"could not remove the trash record {path}, although its file no longer exists" for path in stray[:_NAMED]]
    if len(stray) > _NAMED:
        said.append(f"{count_text(len(stray) - _NAMED, 'more such file')}")
    return [*said, "to remove such records: frugal trash --orphans"] if said else []


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
    """Return a step's entry in one line, with paths relative to a base folder."""
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


def unread_text(unread: Unread) -> str:
    """Return what was not read, and why, in a line without its full stop."""
    return f"Not read: {shown(unread.path)} ({unread.reason})"


def unread_as_json(unread: Unread) -> dict[str, Any]:
    """Return what was not read, and why, as JSON values."""
    reason = unread.reason
    return {"path": unread.path, "reason": reason, "code": reason.code, "by_design": not reason.problem}


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
