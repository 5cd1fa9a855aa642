"""Steps as the journal keeps them: in blocks of a thousand, a row each, as columns of compressed JSON.

A row a step costs more time than the change that it announces; in blocks all intents of a run are
on the disk in a fraction of that.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import repeat
from typing import Any, NamedTuple

from frugal_sorter.filesystem.record import Identity, Place
from frugal_sorter.steps.kinds import VerbName
from frugal_sorter.steps.step import Details, Step, Witness

STEPS = 1_000


class Touch(NamedTuple):
    """What some steps of a block have in common: their verb, and the numbers of their rule and folders."""

    verb: VerbName
    rule: int
    source_folder: int | None
    target_folder: int | None


def in_blocks(steps: Sequence[Step]) -> Iterator[Sequence[Step]]:
    """Yield steps by the thousand."""
    for first in range(0, len(steps), STEPS):
        yield steps[first : first + STEPS]


def encode(
    steps: Sequence[Step], folders: Mapping[str, int], rules: Mapping[tuple[str, str], int]
) -> tuple[bytes, set[Touch]]:  # fmt: skip
    """Return steps as a blob, and what they touch, by which the blob is found again.

    Args:
        steps: in order, each numbered one more than the one before.
        folders: the number of each folder.
        rules: the number of each rule, by its name and its key.
    """
    # Column by column, as they lie in the blob: alike next to alike packs best.
    verbs = [step.verb for step in steps]
    asked_by = [rules[step.rule, step.rule_key] for step in steps]
    sources = [step.source for step in steps]
    targets = [step.target for step in steps]
    source_folders = [place and folders[place[0]] for place in sources]
    target_folders = [place and folders[place[0]] for place in targets]
    columns = [
        verbs, asked_by, source_folders, [place and place[1] for place in sources],
        target_folders, [place and place[1] for place in targets],
        [step.was for step in steps],
        # Most blocks have none of these.
        *(column if any(column) else None for column in (
            [step.details or None for step in steps], [step.group for step in steps], [step.witness for step in steps],
            [step.of for step in steps],
        )),
    ]  # fmt: skip
    # A row for each combination instead of each step: a thousand steps into one folder are found by one row.
    touched = set(map(Touch._make, set(zip(verbs, asked_by, source_folders, target_folders, strict=True))))
    # The lowest level: names of one folder are alike, and the next level costs more time than it saves room.
    return zlib.compress(json.dumps(columns, separators=(",", ":")).encode("ascii"), 1), touched


def decode(
    blob: bytes, first: int,
    folders_of: Callable[[set[int]], Mapping[int, Any]], rules_of: Callable[[set[int]], Mapping[int, Any]],
) -> list[Step]:  # fmt: skip
    """Return the steps of a blob.

    Args:
        blob: as `encode` returned it.
        first: the number of its first step.
        folders_of: returns the folders of some numbers.
        rules_of: returns the names and keys of the rules of some numbers.
    """
    steps: list[Step] = []
    loaded: list[Any] = json.loads(zlib.decompress(blob))
    folders = folders_of({number for column in (loaded[2], loaded[4]) for number in column if number is not None})
    rules = rules_of(set(loaded[1]))
    # A column that was left out holds nothing for any step.
    columns = [repeat(None) if column is None else column for column in loaded]
    for number, row in enumerate(zip(*columns, strict=False), first):
        verb, rule, source_folder, source_name, target_folder, target_name, was, details, group, witness, of = row
        source = None if source_name is None else Place(folders[source_folder], source_name)
        target = None if target_name is None else Place(folders[target_folder], target_name)
        identity = was and Identity(*was)
        name, key = rules[rule]
        seen_by = witness and Witness(Place(*witness[0]), Identity(*witness[1]))
        steps.append(
            Step(number, verb, name, key, source, target, identity, details or Details(), group or 0, seen_by, of or 0)
        )
    return steps


def kinds(blob: bytes) -> tuple[list[VerbName], Sequence[int]]:
    """Return the verbs of the steps of a blob, and of each the number of the step that it takes back, none where none does.

    Lists of runs ask for no more, and to take a block apart whole takes several times as long.
    """
    loaded: list[Any] = json.loads(zlib.decompress(blob))
    verbs, of = loaded[0], loaded[-1] or ()
    if set(map(type, verbs)) != {str} or not {int, type(None)}.issuperset(map(type, of)):
        raise ValueError("a verb is no text, or a number of a step none")
    return verbs, of


def mentions(blob: bytes, name: str) -> bool:
    """Tell quickly whether some entry in a blob may have a name; False is certain."""
    # As it stands in the JSON, escapes included: most blocks are never taken apart.
    return json.dumps(name).encode("ascii") in zlib.decompress(blob)
