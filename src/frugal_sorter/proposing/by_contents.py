"""What files whose names say nothing are told apart by: words of their first lines."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence

from frugal_sorter.proposing.proposal import FEWEST, Group, Seen
from frugal_sorter.rules.file.one_rule import quoted
from frugal_sorter.values import replace

# Of letters, and long enough to be no filler.
_WORD = re.compile(r"[^\W\d_]{4,}")
# What stands so far at the top (characters) is the heading or the letterhead, and says what it is.
_TOP = 200
# A word that stands in more of them tells nothing apart; one that stands below the top elsewhere is no heading.
_MOST_SHARE, _AT_THE_TOP = 0.6, 0.8


def split_by_words(group: Group, texts: Mapping[str, str]) -> list[Group]:
    """Return a group in pieces: those of its files whose first lines share a word, most files first, and what is left.

    Args:
        group: whose names say nothing.
        texts: by name of a file, the text in it, folded; those that were not read are missing.
    """
    left = [one for one in group.files if one.name in texts]
    most, pieces = _MOST_SHARE * len(left), list[Group]()
    while found := _telling_word(left, texts, most):
        word, taken = found
        pieces.append(_of_word(group, word, taken))
        left = [one for one in left if one not in taken]
    gone = {one.name for piece in pieces for one in piece.files}
    rest = [one for one in group.files if one.name not in gone]
    return [*pieces, replace(group, files=rest)] if rest else pieces


def _telling_word(files: Sequence[Seen], texts: Mapping[str, str], most: float) -> tuple[str, list[Seen]] | None:
    """Return the word that heads most of some files and tells them from others, and the files that have it."""
    # Of words that head as many, the one that comes first in the text: a letterhead is above its subject.
    tops = Counter(word for one in files for word in dict.fromkeys(_WORD.findall(texts[one.name][:_TOP])))
    for word, count in tops.most_common():
        taken = [one for one in files if word in texts[one.name]]
        if count >= FEWEST and len(taken) <= most and count >= _AT_THE_TOP * len(taken):
            return word, taken
    return None


def _of_word(group: Group, word: str, taken: Sequence[Seen]) -> Group:
    keys = dict(group.keys)
    keys["name"] = f"{group.keys['name']}, {word}"
    keys["where"] = f"{group.keys['where']} and text has {quoted(word)}"
    keys["move"] = f"{group.keys['move']}/{word.capitalize()}"
    return Group(keys, list(taken), f"with the word {word} at the top", True)
