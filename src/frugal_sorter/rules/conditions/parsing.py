"""From the text of a condition to its parse tree, which is kept: the parser is slow to start.

Trees are kept in the state folder, private to this user, under the exact text and the digest of
the grammar. A rule file that was read before is read again without the parser.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

from frugal_sorter.errors import StateError
from frugal_sorter.platforms import disk
from frugal_sorter.platforms.digest import blake2b
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.state.folders import ready_state_folder
from frugal_sorter.state.inputs import is_text, read_input, read_json

if TYPE_CHECKING:
    from lark import Lark

_MOST_KEPT, _LARGEST_KEPT = 2_000, 50_000_000


class Token(NamedTuple):
    """A word of a condition: its kind in the grammar, its text, and its column from 1."""

    kind: str
    text: str
    column: int


class Tree(NamedTuple):
    """A part of a condition: which rule of the grammar, its parts, and where it stands in the text."""

    rule: str
    parts: tuple[Tree | Token | None, ...]
    start: int
    end: int

    @property
    def trees(self) -> Iterator[Tree]:
        """The parts that are trees themselves."""
        return (part for part in self.parts if isinstance(part, Tree))


class Unparsed(Exception):
    """A text that is no condition: where it stops making sense, or that it ends too early."""

    def __init__(self, at: int | None) -> None:
        super().__init__(at)
        self.at = at


@lru_cache(maxsize=1)
def _grammar() -> str:
    return Path(__file__).with_name("condition.lark").read_text()


def _folder() -> Path | None:
    try:
        return ready_state_folder()
    except StateError:
        return None


@lru_cache(maxsize=1)
def _parser() -> Lark:
    from lark import Lark

    options: dict[str, Any] = {"parser": "lalr", "lexer": "contextual", "g_regex_flags": 2, "propagate_positions": True}
    folder = _folder()
    try:
        kept = str(folder / "grammar.cache") if folder else ""
        if kept and disk.lexists(kept):
            read_input(kept, _LARGEST_KEPT)  # the library would wait for a pipe in its place
        # Building the tables takes most of a tenth of a second; they are kept for this user alone.
        return Lark(_grammar(), cache=kept or False, **options)
    except OSError:
        return Lark(_grammar(), **options)


def _parse(text: str) -> Tree:
    from lark import Token as LarkToken
    from lark import Tree as LarkTree
    from lark.exceptions import UnexpectedEOF, UnexpectedInput, UnexpectedToken

    def own(part: object) -> Tree | Token | None:
        if isinstance(part, LarkToken):
            return Token(part.type, str(part), part.column or 1)
        if isinstance(part, LarkTree):
            start, end = part.meta.start_pos, part.meta.end_pos
            return Tree(str(part.data), tuple(map(own, part.children)), start, end)
        return None

    try:
        tree = own(_parser().parse(text))
    except UnexpectedInput as error:
        ended = isinstance(error, UnexpectedEOF) or (isinstance(error, UnexpectedToken) and error.token.type == "$END")
        raise Unparsed(None if ended else error.pos_in_stream or 0) from None
    assert isinstance(tree, Tree)
    return tree


class _Kept:
    """The trees of conditions that were read before."""

    def __init__(self) -> None:
        folder = _folder()
        self._path = folder / "conditions.json" if folder else None
        self._digest = blake2b(_grammar().encode(), digest_size=16).hexdigest()
        self._trees: dict[str, Any] = {}
        self._is_new = False
        try:
            found = read_json(self._path, _LARGEST_KEPT, {"grammar": is_text, "trees": {}}) if self._path else {}
            if found.get("grammar") == self._digest:
                self._trees = found["trees"]
        except (OSError, ValueError):
            pass  # it is only a shortcut

    def get(self, text: str) -> Tree | None:
        try:
            return _from_json(self._trees[text])
        except (KeyError, TypeError, ValueError, IndexError):
            return None

    def put(self, text: str, tree: Tree) -> None:
        if len(self._trees) >= _MOST_KEPT:
            self._trees.clear()
        self._trees[text] = _to_json(tree)
        self._is_new = True

    def keep(self) -> None:
        if self._path is None or not self._is_new:
            return
        self._is_new = False
        beside = self._path.with_suffix(f".{os.getpid()}")
        try:
            beside.write_text(json.dumps({"grammar": self._digest, "trees": self._trees}))
            beside.replace(self._path)
        except (OSError, UnicodeEncodeError):
            self._path = None


@lru_cache(maxsize=1)
def _kept() -> _Kept:
    return _Kept()


def _to_json(part: Tree | Token | None) -> Any:
    if isinstance(part, Tree):
        return [part.rule, [_to_json(inner) for inner in part.parts], part.start, part.end]
    return part and {"kind": part.kind, "text": part.text, "column": part.column}


def _part(found: Any) -> Tree | Token | None:
    if isinstance(found, dict):
        return Token(str(found["kind"]), str(found["text"]), int(found["column"]))
    return None if found is None else _from_json(found)


def _from_json(found: Any) -> Tree:
    rule, parts, start, end = found
    return Tree(str(rule), tuple(map(_part, parts)), int(start), int(end))


def depth_of(tree: Tree) -> int:
    """Return how deeply a tree is nested, without recursion."""
    deepest, todo = 0, [(tree, 1)]
    while todo:
        one, depth = todo.pop()
        deepest = max(deepest, depth)
        todo.extend((part, depth + 1) for part in one.trees)
    return deepest


def parse(text: str, deepest: int) -> Tree | None:
    """Return the parse tree of a condition, or None where it is nested too deeply.

    Raises:
        Unparsed: the text is no condition.
    """
    tree = _kept().get(text)
    if tree is None:
        tree = _parse(text)
        if depth_of(tree) > deepest:
            return None
        _kept().put(text, tree)
    return tree


def keep() -> None:
    """Keep the trees that were read since the last time, for the next command."""
    _kept().keep()


def forget() -> None:
    """Forget what this process holds of the state folder, as when that is another one."""
    _parser.cache_clear()
    _kept.cache_clear()
