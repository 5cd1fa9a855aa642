"""A plan as text for an editor: lines that are struck are not done, and nothing else may be changed."""

from __future__ import annotations

from collections.abc import Sequence

from frugal_sorter.errors import UsageError

_SHOWN = 60


def struck_lines(written: Sequence[str], edited: str) -> set[int]:
    """Return which of the lines that were written are gone, or are comments now; by index.

    Args:
        written: the lines, each another one; what begins with `#` besides them is a comment.
        edited: what came back.

    Raises:
        UsageError: something else was changed; says in which line.
    """
    at = {line.rstrip(): index for index, line in enumerate(written)}
    left: dict[int, int] = {}
    # What an editor of another system does to the ends of lines is no change.
    for number, line in enumerate(edited.removeprefix("\ufeff").replace("\r\n", "\n").split("\n"), 1):
        text = line.rstrip()
        if not text or text.lstrip().startswith("#"):
            continue
        index = at.get(text)
        if index is None:
            near = text if len(text) <= _SHOWN else f"{text[: _SHOWN - 1]}…"
            raise UsageError(
                f"line {number} of the plan was changed ({near.strip()!r})",
                "lines can only be taken out; for anything else change the rule",
            )
        if index in left:
            raise UsageError(f"line {number} of the plan stands in line {left[index]} already", "leave each line once")
        left[index] = number
    return set(range(len(written))) - left.keys()
